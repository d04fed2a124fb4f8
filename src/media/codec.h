/* What differs by codec stands here, in one table: a new codec is one file in wire/, one row in wire's tables of
 * framers, and one row here.
 */
#ifndef BMB_MEDIA_CODEC_H
#define BMB_MEDIA_CODEC_H

#include "bambino/camera.h"
#include "bambino/options.h"
#include "wire/frame.h"
#include "wire/h264.h"
#include "wire/rtp.h"

/* What is remembered of a track's frames. */
typedef struct bmb_codec_state {
#if BMB_WITH_H264
    bmb_h264_sets sets; /* H.264 */
#endif
    bmb_jpeg_rtp refusal; /* JPEG: why RTP cannot carry the newest frame */
} bmb_codec_state;

/* What a frame turned out to be. */
typedef struct bmb_arrival {
    const uint8_t *data;
    uint32_t size;  /* without padding behind it */
    uint32_t added; /* bytes that `fill` adds: parameter sets before it for late comers, or an end marker behind it */
    bool key;       /* can be decoded without those before it */
    bool news;      /* descriptions say something else from now on */
    bool repaired;  /* its start was cut off, or its end marker is to be added */
    void *facts;    /* facts_size bytes */
} bmb_arrival;

typedef struct bmb_codec_row {
    bmb_codec codec;
    size_t facts_size; /* of one frame's facts, found once for all viewers */
    bool in_order;     /* frames need those before them: each is sent, in order, from a key frame on; else the newest */
    bool steered;      /* the quality of each frame can be set, which holds a bit rate */
    uint8_t rtp_type;  /* RFC 3551, or dynamic */
    /* Fills a->size, key, added, news and facts in; false: it cannot be used. kept: what is added has room. */
    bool (*inspect)(bmb_codec_state *state, bmb_arrival *a, bool kept);
    /* Writes a frame with something added to it; facts are those of the result. NULL: nothing is ever added. */
    void (*fill)(const bmb_codec_state *state, const bmb_arrival *a, uint8_t *out, void *facts);
    /* Is enough known to describe the stream? NULL: after the first frame. */
    bool (*described)(const bmb_codec_state *state);
    /* The lines of a description that are the codec's: of bmb_codec_state's member at this place. */
    void (*describe)(bmb_writer *w, const void *codec);
    size_t described_by;
} bmb_codec_row;

/* codec: a valid one. */
const bmb_codec_row *bmb_codec_of(bmb_codec codec);
size_t bmb_codec_facts_most(void);
const bmb_h264_sets *bmb_codec_sets(const bmb_codec_state *state); /* empty where there are none */

#endif
