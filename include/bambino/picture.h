/* Pictures outside a stream: a still of a camera that delivers H.264 alone. */
#ifndef BAMBINO_PICTURE_H
#define BAMBINO_PICTURE_H

#include <stddef.h>
#include <stdint.h>

#include "bambino/err.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Makes a JPEG image of a key frame: an access unit with its parameter sets (ITU-T H.264 annex B). quality: 1 to 100.
 * *written gets its size in bytes. BMB_BAD_DATA: it cannot be decoded; BMB_NO_ROOM; BMB_UNSUPPORTED: built without
 * openh264 or libjpeg-turbo. */
bmb_err bmb_picture_of_h264(const void *unit, size_t size, int quality, void *out, size_t room, size_t *written);

#ifdef __cplusplus
}
#endif
#endif
