/* Cameras of a program's own.
 *
 * A feeder is a camera whose frames the program hands in: from an encoder's callback, a file, another library.
 *
 *     static uint8_t memory[BMB_FEEDER_MEMORY(64 * 1024)];      for frames of up to so many bytes
 *     bmb_feeder *yard = bmb_feeder_create(memory, sizeof memory, &port, "yard", &mode);
 *     port.cameras = bmb_feeder_cameras(yard);                  before bmb_open()
 *     …
 *     bmb_feeder_put(yard, jpeg, size, 0, true);                whenever there is one, from any one thread
 *
 * Drivers that are there already are joined with others by bmb_cameras_join(). Both are portable C11 and allocate
 * nothing; handing frames in needs atomic words, and no lock.
 */
#ifndef BAMBINO_FEEDER_H
#define BAMBINO_FEEDER_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_feeder bmb_feeder;

#define BMB_FEEDER_FRAMES 4u /* that can wait or be out at a time: enough for borrowed storage */
#define BMB_FEEDER_MEMORY(frame_max) (2048u + BMB_FEEDER_FRAMES * ((size_t)(frame_max) + 64u))

/* memory: aligned for any type, the feeder's as long as it is used. port: must stay, its `wake` is called when a frame
 * is there. name: copied, at most BMB_NAME_MAX - 1 bytes. mode: the only one that it has. NULL: the memory is too small
 * for frames of a kilobyte. */
bmb_feeder *bmb_feeder_create(void *memory, size_t size, const bmb_port *port, const char *name, const bmb_mode *mode);
bmb_cameras bmb_feeder_cameras(bmb_feeder *self);

/* Hands a frame in, which is copied. One thread or interrupt handler may do so, and it never waits. capture_us: on the
 * port's clock; 0: now. key: can be decoded without those before it. BMB_AGAIN: the frames that are waiting were not
 * taken yet, this one is lost; BMB_NO_ROOM: it is too large; BMB_NOT_FOUND: the camera is stopped, nobody wants any. */
bmb_err bmb_feeder_put(bmb_feeder *self, const void *data, size_t size, uint64_t capture_us, bool key);
/* Has a key frame been asked for since this was last called? */
bool bmb_feeder_key_wanted(bmb_feeder *self);

/* Several drivers as one: their cameras are numbered one behind the other. */
#define BMB_JOINED_MOST 8u
typedef struct bmb_joined {
    bmb_cameras part[BMB_JOINED_MOST];
    size_t count;
} bmb_joined;

/* Adds a driver to those that are joined already (zeroed: none), and returns them as one; *joined must stay. More than
 * BMB_JOINED_MOST are left out. */
bmb_cameras bmb_cameras_join(bmb_joined *joined, const bmb_cameras *more);

#ifdef __cplusplus
}
#endif
#endif
