/* What a camera can do, what it is asked to do, and the frames that it delivers.
 *
 * These types are shared by the port, which describes and drives cameras, and by the programs that choose modes and
 * turn controls. All sizes are in pixels, all times in microseconds of the port's clock unless a name says otherwise.
 */
#ifndef BAMBINO_CAMERA_H
#define BAMBINO_CAMERA_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

#define BMB_NAME_MAX 24 /* bytes of a camera's or feed's name, its ending NUL included */

typedef enum bmb_codec {
    BMB_CODEC_JPEG = 0, /* each frame is one JPEG image (ITU-T T.81) */
    BMB_CODEC_H264,     /* each frame is one access unit, Annex B byte stream (ITU-T H.264) */
    BMB_CODEC_COUNT
} bmb_codec;

/* What a driver found out about a camera that does not work. */
typedef enum bmb_camera_fault {
    BMB_CAMERA_FAULT_NONE = 0,
    BMB_CAMERA_FAULT_SILENT, /* nothing answers on its I2C bus: ribbon not seated, no power */
    BMB_CAMERA_FAULT_WIRING, /* I2C answers nothing that makes sense, or no pixel clock, HSYNC, VSYNC: wrong pins */
    BMB_CAMERA_FAULT_OTHER,  /* another sensor answers than the one that is expected */
    BMB_CAMERA_FAULT_SUPPLY  /* it goes away under load: the supply is too weak */
} bmb_camera_fault;

/* A camera's controls. Their numbers are part of the framed protocol and of saved settings: new ones come last. Each
 * has a unit of its own; the ranges that one camera offers stand in its bmb_camera_info. Where a driver has another
 * scale for brightness to sharpness and gain than the one below, its own counts. */
typedef enum bmb_control {
    BMB_CONTROL_QUALITY = 0,  /* JPEG quality, 1 (smallest) .. 100 (best) */
    BMB_CONTROL_KBPS,         /* encoder bit rate, kbit/s; H.264 only */
    BMB_CONTROL_KEY_MS,       /* time between key frames, ms; H.264 only */
    BMB_CONTROL_FLIP_H,       /* 0, 1: left and right exchanged */
    BMB_CONTROL_FLIP_V,       /* 0, 1: top and bottom exchanged; with FLIP_H a rotation by 180 degrees */
    BMB_CONTROL_BRIGHTNESS,   /* -100 .. 100, 0: as the sensor gives it */
    BMB_CONTROL_CONTRAST,     /* -100 .. 100 */
    BMB_CONTROL_SATURATION,   /* -100 (grey) .. 100 */
    BMB_CONTROL_SHARPNESS,    /* -100 (soft) .. 100 */
    BMB_CONTROL_ROTATE,       /* 0, 180 degrees; with the flips it adds to them */
    BMB_CONTROL_EXPOSURE_US,  /* exposure time, us; 0: automatic, with its gain */
    BMB_CONTROL_GAIN,         /* per cent of the sensor's least gain; counts with a fixed exposure time only */
    BMB_CONTROL_WHITE_K,      /* colour temperature of the light, K; 0: automatic (V4L2: white balance temperature) */
    BMB_CONTROL_FLICKER,      /* mains whose flicker is filtered: 0 (none), 50, 60 Hz (V4L2: power line frequency) */
    BMB_CONTROL_NIGHT,        /* 0, 1: grey and bright, for infrared light */
    BMB_CONTROL_ILLUMINATION, /* light of the camera's own, 0 .. 100 per cent */
    BMB_CONTROL_FOCUS,        /* the driver's unit; 0: automatic */
    BMB_CONTROL_ZOOM,         /* the driver's unit, as the five below */
    BMB_CONTROL_PAN,
    BMB_CONTROL_TILT,
    BMB_CONTROL_HUE,
    BMB_CONTROL_GAMMA,
    BMB_CONTROL_BACKLIGHT, /* brightens what stands before a bright background */
    BMB_CONTROL_PROFILE,   /* of a camera's own H.264: profile_idc 66 (baseline), 77 (main), 100 (high); H.264 A.2 */
    BMB_CONTROL_COUNT
} bmb_control;

/* The control's name as configuration files and JSON spell it, for example "flip-h". NULL when out of range. */
const char *bmb_control_name(bmb_control control);
/* "jpeg", "h264"; NULL when out of range. */
const char *bmb_codec_name(bmb_codec codec);

typedef struct bmb_range {
    int32_t least, most, step, preset; /* values are least + n * step; step 0: the camera does not have this control */
} bmb_range;

/* Size and rate of a stream. */
typedef struct bmb_mode {
    bmb_codec codec;
    uint16_t width, height; /* pixels */
    uint32_t mfps;          /* frames per 1000 s: 15 per second is 15000, so that 7.5 and 29.97 have a place */
} bmb_mode;

/* One entry of a camera's list: a size, and the rates possible at it. */
typedef struct bmb_mode_row {
    bmb_codec codec;
    uint16_t width, height;
    uint32_t mfps_most; /* any rate from 1000 (one per second) up to this */
} bmb_mode_row;

typedef struct bmb_camera_info {
    char name[BMB_NAME_MAX];
    char model[40];            /* what the sensor or clip calls itself; UTF-8 */
    const bmb_mode_row *modes; /* owned by the port, valid until the port is closed */
    uint8_t mode_count;
    uint8_t stream;     /* which of its camera's streams this is, counted from 0; see bmb_cameras in port.h */
    uint8_t buffers;    /* frames that the driver can have out at a time; 0: not told. Bounds borrowed reels */
    uint8_t encodes;    /* codecs that this processor makes of its pictures, a bit for each; 0: none, or not told */
    uint32_t frame_max; /* largest frame that the driver delivers, bytes; 0: not told */
    bmb_range controls[BMB_CONTROL_COUNT];
} bmb_camera_info;

/* A frame as a camera hands it over. `data` belongs to the driver until release. */
typedef struct bmb_camera_frame {
    const uint8_t *data;
    size_t size;         /* bytes */
    uint64_t capture_us; /* when the exposure ended, on the port's clock */
    bool key;            /* decodable on its own; every JPEG is */
    uintptr_t cookie;    /* the driver's own mark, handed back on release */
    uint32_t number;     /* of this frame among those that the camera made for this stream, from 1 on: what is missing
                            between two of them it left out. 0: the driver does not tell */
} bmb_camera_frame;

#ifdef __cplusplus
}
#endif
#endif
