#include "media/codec.h"

#include <stddef.h>
#include <string.h>

#include "base/bounds.h"
#include "wire/jpeg_scan.h"
#include "wire/sdp.h"

#if BMB_WITH_REPAIR
static const uint8_t end_marker[2] = { 0xFF, 0xD9 };

/* Bytes before the start of an image: some cameras and drivers write a header or what was left over. */
static void trim(bmb_arrival *a)
{
    for (uint32_t at = 0; at + 3 <= a->size && at <= BMB_JPEG_LEAD_MOST; at++) {
        const uint8_t *d = a->data + at;
        if (d[0] != 0xFF || d[1] != 0xD8 || d[2] != 0xFF) continue;
        a->repaired = at > 0;
        a->data = d;
        a->size -= at;
        return;
    }
}

/* One that lacks its end marker, and nothing else: every block of it is there. */
static bool lacks_end(bmb_arrival *a, bmb_jpeg *jpeg)
{
    bmb_jpeg_sum sum;
    if (!bmb_jpeg_scan(a->data, jpeg, a->size, &sum)) return false;
    jpeg->scan_end = (uint32_t)sum.end;
    jpeg->scans = 1;
    jpeg->size = sum.end;
    a->added = sizeof end_marker;
    a->repaired = true;
    return true;
}

static void fill_jpeg(const bmb_codec_state *state, const bmb_arrival *a, uint8_t *out, void *facts)
{
    bmb_jpeg jpeg;
    (void)state;
    memcpy(out, a->data, a->size);
    memcpy(out + a->size, end_marker, sizeof end_marker);
    if (BMB_WITH_RTP && bmb_jpeg_parse(out, a->size + sizeof end_marker, &jpeg) == BMB_OK)
        bmb_jpeg_facts_of(out, &jpeg, (bmb_jpeg_facts *)facts);
}
#endif

static bool inspect_jpeg(bmb_codec_state *state, bmb_arrival *a, bool kept)
{
    bmb_jpeg jpeg;
    bmb_jpeg_facts *facts = (bmb_jpeg_facts *)a->facts;
    (void)kept;
#if BMB_WITH_REPAIR
    trim(a);
    if (bmb_jpeg_parse(a->data, a->size, &jpeg) != BMB_OK && !(kept && lacks_end(a, &jpeg))) return false;
#else
    if (bmb_jpeg_parse(a->data, a->size, &jpeg) != BMB_OK) return false;
#endif
    a->size = (uint32_t)jpeg.size;
    a->key = true;
    if (!BMB_WITH_RTP) return true;
    bmb_jpeg_facts_of(a->data, &jpeg, facts);
    state->refusal = facts->refusal;
    return true;
}

#if BMB_WITH_H264
static bool inspect_h264(bmb_codec_state *state, bmb_arrival *a, bool kept)
{
    bmb_h264_facts *facts = (bmb_h264_facts *)a->facts;
    bmb_h264_sets *sets = &state->sets;
    if (bmb_h264_parse(a->data, a->size, facts) != BMB_OK || !facts->picture) return false;
    a->news = bmb_h264_keep_sets(a->data, facts, sets);
    a->key = facts->key && sets->sps_size > 0 && sets->pps_size > 0;
    if (a->key && !facts->sets && kept) a->added = 8u + sets->sps_size + sets->pps_size;
    return true;
}

static uint8_t *put_set(uint8_t *out, const uint8_t *set, uint16_t size)
{
    static const uint8_t start_code[4] = { 0, 0, 0, 1 };
    memcpy(out, start_code, sizeof start_code);
    memcpy(out + sizeof start_code, set, size);
    return out + sizeof start_code + size;
}

static void fill_h264(const bmb_codec_state *state, const bmb_arrival *a, uint8_t *out, void *facts)
{
    const bmb_h264_sets *sets = &state->sets;
    uint8_t *at = put_set(put_set(out, sets->sps, sets->sps_size), sets->pps, sets->pps_size);
    memcpy(at, a->data, a->size);
    (void)bmb_h264_parse(out, a->added + a->size, (bmb_h264_facts *)facts);
}

static bool described_h264(const bmb_codec_state *state)
{
    return state->sets.sps_size > 0 && state->sets.pps_size > 0;
}

#endif

static const bmb_codec_row rows[BMB_CODEC_COUNT] = {
    [BMB_CODEC_JPEG] = { .codec = BMB_CODEC_JPEG,
                         .facts_size = sizeof(bmb_jpeg_facts),
                         .steered = true,
                         .rtp_type = BMB_RTP_TYPE_JPEG,
                         .inspect = inspect_jpeg,
#if BMB_WITH_REPAIR
                         .fill = fill_jpeg,
#endif
                         .describe = BMB_WITH_RTP ? bmb_sdp_jpeg : NULL },
#if BMB_WITH_H264
    [BMB_CODEC_H264] = { .codec = BMB_CODEC_H264,
                         .facts_size = sizeof(bmb_h264_facts),
                         .in_order = true,
                         .rtp_type = BMB_RTP_TYPE_H264,
                         .inspect = inspect_h264,
                         .fill = fill_h264,
                         .described = described_h264,
                         .describe = bmb_sdp_h264,
                         .described_by = offsetof(bmb_codec_state, sets) },
#endif
};

const bmb_codec_row *bmb_codec_of(bmb_codec codec)
{
    return &rows[codec];
}

const bmb_h264_sets *bmb_codec_sets(const bmb_codec_state *state)
{
#if BMB_WITH_H264
    return &state->sets;
#else
    static const bmb_h264_sets none;
    (void)state;
    return &none;
#endif
}

size_t bmb_codec_facts_most(void)
{
    size_t most = 0;
    for (size_t i = 0; i < BMB_CODEC_COUNT; i++)
        if (rows[i].facts_size > most) most = rows[i].facts_size;
    return most;
}
