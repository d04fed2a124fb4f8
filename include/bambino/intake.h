/* Cameras whose pictures come as a stream of bytes: from a program that captures, a named pipe, a file, standard input,
 * or a socket. JPEG images one behind the other, an H.264 byte stream (ITU-T H.264 annex B), or raw pictures.
 *
 * A thread for each camera reads and cuts it into pictures, which leave byte for byte as they came; raw ones are
 * encoded, and further streams of a JPEG camera are made of its pictures (smaller sizes, H.264).
 */
#ifndef BAMBINO_INTAKE_H
#define BAMBINO_INTAKE_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum bmb_intake_format {
    BMB_INTAKE_AUTO = 0, /* JPEG or H.264, as its first bytes say */
    BMB_INTAKE_JPEG,
    BMB_INTAKE_H264,
    BMB_INTAKE_I420, /* raw: width, height and the order of samples have to be said */
    BMB_INTAKE_NV12,
    BMB_INTAKE_YUYV,
    BMB_INTAKE_UYVY,
    BMB_INTAKE_GREY,
    BMB_INTAKE_RGB24,
    BMB_INTAKE_FORMATS
} bmb_intake_format;

typedef struct bmb_intake_camera {
    const char *name;
    /* One of these two. program: a command with its arguments, apart by blanks; quotes "…" and '…' keep blanks, a
     * backslash the next character. No shell reads it unless `shell` says so. */
    const char *program;
    bool shell;
    /* "-": standard input; "tcp://HOST:PORT": connects there; "udp://ADDRESS:PORT": datagrams that come there; else the
     * path of a named pipe or a file, which is played at its rate again and again. */
    const char *input;
    bmb_intake_format format;
    uint16_t width, height; /* raw; else 0 */
    uint32_t mfps;          /* pictures per 1000 s that are expected; 0: 15000 */
} bmb_intake_camera;

typedef struct bmb_intake bmb_intake;

/* Starts reading, so that size and codec are known, and waits up to so long for that. A camera of which nothing has
 * come by then has no modes yet. The texts are copied. BMB_NO_MEMORY, BMB_LIMIT, BMB_BAD_ARG (raw without a size,
 * neither or both of program and input). */
bmb_err bmb_intake_create(const bmb_port *port, const bmb_intake_camera *cameras, size_t count, uint32_t wait_ms,
                          bmb_intake **out);
bmb_cameras bmb_intake_cameras(bmb_intake *self);
/* Ends programs that were started. */
void bmb_intake_destroy(bmb_intake *self);

/* "auto", "jpeg", …; NULL when out of range. */
const char *bmb_intake_format_name(bmb_intake_format format);

#ifdef __cplusplus
}
#endif
#endif
