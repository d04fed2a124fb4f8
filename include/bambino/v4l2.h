/* Cameras of a Linux kernel: its video capture devices (V4L2).
 *
 *     bmb_linux_create(&system, &port);
 *     const bmb_v4l2_camera front = { .name = "front" };                  the first camera that there is
 *     bmb_v4l2_create(system, &port, &front, 1, &cameras);
 *     port.cameras = bmb_v4l2_cameras(cameras);                           before bmb_open(); or bmb_cameras_join()
 *     …
 *     bmb_v4l2_destroy(cameras);                                          after bmb_close(), before bmb_linux_destroy()
 *
 * What a camera delivers as JPEG or H.264 is passed on as it is, out of the driver's own buffers; everything else is
 * encoded on a thread (libjpeg-turbo, openh264, where the build has them). Each camera has several streams, of any size
 * that it has and in either codec; they are made of one format that the camera is set to, chosen so that least has to
 * be encoded. A camera may be absent when it is created, or go and come back: it is found again by what it was named
 * by, first where it was before. An input at which no signal arrives is looked at on and on: until one does, `start`
 * says BMB_NO_SIGNAL.
 */
#ifndef BAMBINO_V4L2_H
#define BAMBINO_V4L2_H

#include "bambino/linux.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_v4l2 bmb_v4l2;

typedef struct bmb_v4l2_camera {
    const char *name;   /* in the port: at most BMB_NAME_MAX - 1 bytes */
    const char *device; /* a path, which may be a symbolic link; a bus address, as `bmb_v4l2_found` tells it; or a part
                           of the card's name, in any case. NULL: the first that no other camera has */
} bmb_v4l2_camera;

/* The texts are copied. port: must stay; its clock and `wake` are used. BMB_NO_MEMORY, BMB_LIMIT. A camera that is not
 * there is no failure. */
bmb_err bmb_v4l2_create(bmb_linux *system, const bmb_port *port, const bmb_v4l2_camera *cameras, size_t count,
                        bmb_v4l2 **out);
bmb_cameras bmb_v4l2_cameras(bmb_v4l2 *self);
/* Which video input of a device that has several (HDMI, composite …) is captured: its number, or a part of its name, in
 * any case. Without this call it is the one that is in use. The text is copied. Before bmb_open(). camera: its place in
 * the list it was created from. BMB_NOT_FOUND: no such camera. A device without that input is as one that is absent:
 * its trouble says so. */
bmb_err bmb_v4l2_input(bmb_v4l2 *self, size_t camera, const char *input);
void bmb_v4l2_destroy(bmb_v4l2 *self);

/* A capture device of this machine. */
typedef struct bmb_v4l2_device {
    char path[64], card[33], bus[33], driver[17];
    bmb_err err; /* BMB_OK: it can be used; BMB_DENIED, BMB_IN_USE …: why it could not be looked at; BMB_NO_SIGNAL:
                    nothing arrives at its input; BMB_UNSUPPORTED: it is the end of a sensor pipeline, which a
                    program has to set up */
    char formats[96]; /* what it delivers, such as "MJPEG, YUYV" */
    bmb_mode begin;   /* a mode to begin with: the largest up to 1280x720 that it compresses itself, or up to 640x480 */
    char trouble[400]; /* BMB_DENIED, BMB_NO_SIGNAL, BMB_UNSUPPORTED: a sentence that says what to do; else "" */
} bmb_v4l2_device;

/* The index-th capture device, in the order of their numbers; nodes that capture no pictures are left out.
 * BMB_NOT_FOUND: there are no more. */
bmb_err bmb_v4l2_found(size_t index, bmb_v4l2_device *out);

/* What a camera of `self` (NULL: there is none) is and does just now; camera: its place in the list it was created
 * from.
 */
typedef struct bmb_v4l2_state {
    bool there;
    char path[64], card[33], bus[33], driver[17];
    char format[16]; /* what it is set to while it captures, such as "MJPEG"; "": it does not */
    uint16_t width, height;
    uint32_t mfps;
    uint64_t frames; /* taken from the driver since it was created */
    uint64_t lost;   /* gaps in the driver's count: it dropped them */
    uint64_t bad;    /* flagged as damaged by the driver, or too short */
    uint64_t copied; /* bytes of pictures that were copied to be passed on: only where a camera leaves out tables */
    uint32_t starts; /* how often it was started */
} bmb_v4l2_state;
bmb_err bmb_v4l2_state_get(bmb_v4l2 *self, size_t camera, bmb_v4l2_state *out);
/* What arrives at the video input of a camera, as a line for people, such as "HDMI 1: 1920x1080 at 60/s; inputs: 0 HDMI
 * 1 (in use), 1 Composite". BMB_NOT_FOUND: it is a camera without inputs to choose, or absent. */
bmb_err bmb_v4l2_input_text(bmb_v4l2 *self, size_t camera, char *out, size_t room);
/* What arrives at the video input of a camera, as a line for people, such as "HDMI 1: 1920x1080 at 60/s; inputs: 0 HDMI
 * 1 (in use), 1 Composite". BMB_NOT_FOUND: it is a camera without inputs to choose, or absent. */
bmb_err bmb_v4l2_input_text(bmb_v4l2 *self, size_t camera, char *out, size_t room);
/* The index-th control of the driver that has no name of ours, as a line for people: name, range, value.
 * BMB_NOT_FOUND: no more. */
bmb_err bmb_v4l2_control_text(bmb_v4l2 *self, size_t camera_number, size_t index, char *out, size_t room);

#ifdef __cplusplus
}
#endif
#endif
