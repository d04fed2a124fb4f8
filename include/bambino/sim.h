/* Simulated cameras: they draw the club's model railway, or play a recorded clip.
 *
 * Each camera runs on a thread of its own, as an encoder in hardware would, and calls the port's `wake` when a frame is
 * ready. Every drawn picture carries a machine-readable strip in its bottom rows; see bmb_strip_read().
 */
#ifndef BAMBINO_SIM_H
#define BAMBINO_SIM_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum bmb_sim_kind {
    BMB_SIM_DRAWN = 0, /* draws and encodes; needs an encoder in the build */
    BMB_SIM_CLIP       /* plays a file: JPEG images one after the other, or an H.264 Annex B stream */
} bmb_sim_kind;

typedef enum bmb_sim_view { BMB_VIEW_STATION = 0, BMB_VIEW_YARD, BMB_VIEW_CAB, BMB_VIEW_COUNT } bmb_sim_view;

/* A sensor, as a board description has it. */
#define BMB_SIM_MODES 12
typedef struct bmb_sim_sensor {
    char model[40];
    uint32_t identity; /* what it answers on I2C */
    bmb_mode_row modes[2 * BMB_SIM_MODES];
    uint8_t mode_count[BMB_CODEC_COUNT]; /* those of JPEG stand first */
    bmb_range controls[BMB_CONTROL_COUNT];
} bmb_sim_sensor;

typedef struct bmb_sim_camera {
    const char *name;
    bmb_sim_kind kind;
    bmb_sim_view view;            /* drawn */
    bmb_codec codec;              /* drawn */
    const char *clip;             /* clip: path of the file */
    uint32_t clip_mfps;           /* clip: its frame rate */
    uint8_t streams;              /* drawn: how many at a time, of either codec, 4 at most; 0, 1: one, of `codec` */
    const bmb_sim_sensor *sensor; /* drawn: what it can do; NULL: everything. Must stay as long as the camera */
} bmb_sim_camera;

typedef struct bmb_sim bmb_sim;

/* false: this library was built without simulation (BAMBINO_SIM); it creates no camera then, and loads no board. */
bool bmb_sim_there(void);

/* Creates the cameras and attaches them to port->cameras; port->wake must be set. The specifications are copied. A clip
 * that cannot be read is a camera that is missing: *missing (may be NULL) gets its index, BMB_NOT_FOUND or BMB_BAD_DATA
 * is returned and nothing is created. BMB_UNSUPPORTED: drawn, but built without
 * the encoder; or built without simulation, and count is not 0. */
bmb_err bmb_sim_create(const bmb_sim_camera *cameras, size_t count, bmb_port *port, bmb_sim **out, size_t *missing);
/* The mode nearest to `asked` that a drawn camera without a sensor's description can have: the same, where it is
 * possible. 128x96 to 1920x1080, both sides even; 1 to 60 frames a second. */
bmb_mode bmb_sim_nearest(const bmb_mode *asked);
/* Stops all threads. Frames still out become invalid. */
void bmb_sim_destroy(bmb_sim *self);

/* Faults to try a device with. They act at once and last until undone. */
typedef enum bmb_sim_fault {
    BMB_FAULT_NONE = 0,
    BMB_FAULT_STALL,     /* no more frames */
    BMB_FAULT_UNPLUGGED, /* stops delivering, and start fails */
    BMB_FAULT_TRUNCATE,  /* every frame is cut off in its middle */
    BMB_FAULT_GARBLE,    /* bytes in the middle of every frame are overwritten */
    BMB_FAULT_WIRING,    /* as unplugged, in the driver's words: wrong pins … */
    BMB_FAULT_OTHER,     /* … another sensor … */
    BMB_FAULT_SUPPLY     /* … or a supply that is too weak */
} bmb_sim_fault;
bmb_err bmb_sim_break(bmb_sim *self, size_t camera, bmb_sim_fault fault);

/* What the strip in a picture says. */
typedef struct bmb_strip {
    uint32_t frame;      /* counts from 0 when the camera is created */
    uint64_t capture_us; /* Unix time in microseconds, in steps of 100 */
} bmb_strip;

/* Reads the strip from the luma plane of a decoded picture at its original size. BMB_BAD_DATA: no strip, or its
 * checksum is wrong. */
bmb_err bmb_strip_read(const uint8_t *luma, size_t stride, uint16_t width, uint16_t height, bmb_strip *out);
/* Draws it. Rows are counted from the bottom; width at least 128, height at least 64. */
void bmb_strip_draw(uint8_t *luma, size_t stride, uint16_t width, uint16_t height, const bmb_strip *strip);
/* Rows that the strip takes at this height. */
uint16_t bmb_strip_rows(uint16_t height);

#ifdef __cplusplus
}
#endif
#endif
