/* Tells the frame rate in a sequence parameter set: timing in its usability information (ITU-T H.264 E.1.1). */
#include <string.h>

#include "codec/encoder.h"
#include "wire/h264.h"

#define HEAD 4u /* NAL unit header and the bytes of profile-level-id, which stay */
#define SPS_MOST 128u

typedef struct bit_run {
    uint8_t bytes[SPS_MOST];
    size_t bits;
    bool full;
} bit_run;

static bool bit_at(const bit_run *r, size_t i)
{
    return (r->bytes[i / 8] >> (7 - i % 8) & 1) != 0;
}

static void put(bit_run *r, bool bit)
{
    if (r->bits == 8 * SPS_MOST) {
        r->full = true;
        return;
    }
    if (bit) r->bytes[r->bits / 8] = (uint8_t)(r->bytes[r->bits / 8] | 0x80 >> r->bits % 8);
    r->bits++;
}

static void put_number(bit_run *r, uint32_t v)
{
    for (int i = 31; i >= 0; i--) put(r, (v >> i & 1) != 0);
}

/* 7.4.1.1: without the bytes that prevent emulation, and without the trailing bits (7.3.2.11). */
static bool unpack(const uint8_t *sps, size_t size, bit_run *out)
{
    unsigned zeros = 0;
    for (size_t i = HEAD; i < size; i++) {
        bool prevents = zeros >= 2 && sps[i] == 3;
        zeros = sps[i] == 0 ? zeros + 1 : 0;
        for (int b = 7; b >= 0 && !prevents; b--) put(out, (sps[i] >> b & 1) != 0);
    }
    while (out->bits > 0 && !bit_at(out, out->bits - 1)) out->bits--;
    if (out->bits > 0) out->bits--;
    return !out->full;
}

static size_t pack(const uint8_t *sps, bit_run *r, uint8_t *out, size_t room)
{
    size_t n = HEAD, zeros = 0;
    put(r, true);
    size_t bytes = (r->bits + 7) / 8;
    if (r->full || room < HEAD + bytes * 3 / 2 + 1) return 0;
    memcpy(out, sps, HEAD);
    for (size_t i = 0; i < bytes; i++) {
        if (zeros == 2 && r->bytes[i] <= 3) {
            out[n++] = 3;
            zeros = 0;
        }
        out[n++] = r->bytes[i];
        zeros = r->bytes[i] == 0 ? zeros + 1 : 0;
    }
    return n;
}

static void put_timing(bit_run *r, uint32_t mfps)
{
    put(r, true);
    put_number(r, 1000);     /* num_units_in_tick, */
    put_number(r, 2 * mfps); /* time_scale: two ticks are a frame */
    put(r, false);           /* fixed_frame_rate_flag: a camera in the dark is slower */
}

size_t codec_sps_with_rate(const uint8_t *sps, size_t size, uint32_t mfps, uint8_t *out, size_t room)
{
    bit_run in = { .bits = 0 }, made = { .bits = 0 };
    bmb_sps says;
    if (size <= HEAD || bmb_sps_parse(sps, size, &says) != BMB_OK || says.mfps != 0 || says.vui_at == 0 ||
        !unpack(sps, size, &in))
        return 0;
    size_t at = says.timing_at != 0 ? says.timing_at : says.vui_at;
    for (size_t i = 0; i < at; i++) put(&made, bit_at(&in, i));
    if (says.timing_at == 0) {
        put(&made, true);                              /* there is usability information: */
        for (int i = 0; i < 4; i++) put(&made, false); /* no aspect, overscan, signal type, chroma location */
    }
    put_timing(&made, mfps);
    if (says.timing_at == 0) {
        for (int i = 0; i < 4; i++) put(&made, false); /* no HRD of either kind, picture structure, restrictions */
    }
    for (size_t i = at + 1; i < in.bits; i++) put(&made, bit_at(&in, i));
    return pack(sps, &made, out, room);
}
