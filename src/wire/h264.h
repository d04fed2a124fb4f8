/* The structure of an H.264 access unit in Annex B form (ITU-T H.264 annex B, 7.3.1, 7.3.2): where its NAL units are,
 * and what its parameter sets say. No slice is decoded.
 */
#ifndef BMB_WIRE_H264_H
#define BMB_WIRE_H264_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/err.h"

#define BMB_H264_UNITS 32u /* NAL units in one access unit; encoders on boards write 1 to 16 slices */
#define BMB_H264_SPS_MAX 128u
#define BMB_H264_PPS_MAX 64u

typedef enum bmb_nal_type {
    BMB_NAL_SLICE = 1,
    BMB_NAL_IDR = 5,
    BMB_NAL_SEI = 6,
    BMB_NAL_SPS = 7,
    BMB_NAL_PPS = 8,
    BMB_NAL_DELIMITER = 9,
    BMB_NAL_FILLER = 12
} bmb_nal_type;

typedef struct bmb_nal {
    uint32_t at, size; /* without start code; from the access unit's first byte */
} bmb_nal;

/* The units that a receiver needs: delimiters and filler are left out. */
typedef struct bmb_h264_facts {
    uint16_t count;
    bool key;     /* an IDR picture */
    bool picture; /* at least one slice */
    bool sets;    /* SPS and PPS are in it */
    bmb_nal unit[BMB_H264_UNITS];
} bmb_h264_facts;

/* The parameter sets last seen; size 0: none yet. */
typedef struct bmb_h264_sets {
    uint16_t sps_size, pps_size;
    uint8_t sps[BMB_H264_SPS_MAX];
    uint8_t pps[BMB_H264_PPS_MAX];
} bmb_h264_sets;

/* What an SPS says. */
typedef struct bmb_sps {
    uint8_t profile, constraints, level; /* the three bytes of profile-level-id */
    uint16_t width, height;              /* after cropping */
    uint32_t mfps;                       /* frames per 1000 s; 0: not said */
    /* Where two flags stand, in bits behind the three bytes above, emulation prevention removed: whether there is
     * usability information, and in it whether there is timing; timing_at 0: there is none to have it; both
     * 0: nothing can be added. */
    uint16_t vui_at, timing_at;
} bmb_sps;

/* BMB_BAD_DATA: no start code at the beginning, an empty unit, or a forbidden bit. BMB_NO_ROOM: more units than
 * BMB_H264_UNITS. */
bmb_err bmb_h264_parse(const uint8_t *data, size_t size, bmb_h264_facts *out);
/* Keeps copies of the access unit's parameter sets; ones that are too large are passed over. true: they
 * are others than before. */
bool bmb_h264_keep_sets(const uint8_t *data, const bmb_h264_facts *facts, bmb_h264_sets *sets);
/* `data` begins with the NAL unit's header byte. */
bmb_err bmb_sps_parse(const uint8_t *data, size_t size, bmb_sps *out);

static inline bmb_nal_type bmb_nal_type_of(uint8_t header)
{
    return (bmb_nal_type)(header & 31);
}

#endif
