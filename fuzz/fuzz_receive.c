/* What a sender may say to the measuring receiver: RTP and RTCP, transport streams, parts, descriptions, JPEG headers.
 * The first byte chooses; RTP is cut into packets by a length before each. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/camera.h"
#include "receive/auth.h"
#include "receive/parts_in.h"
#include "receive/rtp_in.h"
#include "receive/sdp_in.h"
#include "receive/ts_in.h"

static void take(void *ctx, const rtp_in_picture *p)
{
    if (p->size == 0) abort();
    if (*(rtp_in_payload *)ctx == RTP_IN_JPEG && !p->broken && memcmp(p->data, "\xFF\xD8", 2) != 0) abort();
}

static void take_unit(void *ctx, const ts_in_picture *p)
{
    (void)ctx;
    if (p->size == 0) abort();
}

static void try_rtp(rtp_in_payload payload, const uint8_t *data, size_t size)
{
    static rtp_in in;
    measure_counts counts = { 0 };
    double jitter = 0, most = 0;
    uint8_t report[128];
    uint64_t now = 0;
    bool bye = false;
    memset(&in, 0, sizeof in);
    in.payload = payload;
    in.type = 96;
    in.clock = 90000;
    in.out = take;
    in.ctx = &payload;
    in.counts = &counts;
    in.jitter_ms = &jitter;
    in.jitter_most_ms = &most;
    for (size_t at = 0; at + 2 < size;) {
        size_t n = (size_t)(data[at] & 7) << 8 | data[at + 1];
        if (n > size - at - 2) n = size - at - 2;
        now += (uint64_t)data[at] * 1000;
        if (data[at] >= 0xF8)
            rtp_in_rtcp(&in, data + at + 2, n, now, &bye);
        else
            rtp_in_packet(&in, data + at + 2, n, now);
        rtp_in_wait(&in, now);
        if (rtp_in_report(&in, now, bye, report, sizeof report) == 0) abort();
        (void)rtp_in_wall(&in, (uint32_t)now);
        at += 2 + n;
    }
    rtp_in_free(&in);
}

static void try_ts(const uint8_t *data, size_t size)
{
    measure_counts counts = { 0 };
    ts_in ts = { .out = take_unit, .counts = &counts };
    for (size_t at = 0; at < size; at += 301) ts_in_add(&ts, data + at, size - at < 301 ? size - at : 301, at);
    ts_in_free(&ts);
}

static void try_parts(const uint8_t *data, size_t size)
{
    parts_in p;
    part one;
    char value[40];
    if (!parts_begin(&p, "multipart/x-mixed-replace; boundary=b")) abort();
    for (size_t at = 0; at < size; at += 97) {
        if (!parts_add(&p, data + at, size - at < 97 ? size - at : 97)) break;
        while (parts_next(&p, &one)) (void)part_value(one.head, "Content-Length", value, sizeof value);
    }
    parts_free(&p);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    char text[4096], why[400], line[900];
    sdp_in sdp;
    receive_address a;
    auth asked = { .asked = false };
    if (size < 1) return 0;
    snprintf(text, sizeof text, "%.*s", (int)(size - 1), (const char *)data + 1);
    switch (data[0] % 7) {
    case 0:
        try_rtp(RTP_IN_JPEG, data + 1, size - 1);
        break;
    case 1:
        try_rtp(RTP_IN_H264, data + 1, size - 1);
        break;
    case 2:
        try_ts(data + 1, size - 1);
        break;
    case 3:
        try_parts(data + 1, size - 1);
        break;
    case 4:
        (void)sdp_read((const char *)data + 1, size - 1, &sdp);
        break;
    case 5:
        (void)receive_address_read(text, &a, why, sizeof why);
        break;
    default:
        auth_take(&asked, text);
        memset(&a, 0, sizeof a);
        snprintf(a.user, sizeof a.user, "ben");
        (void)auth_put(&asked, &a, "GET", "/", line, sizeof line);
    }
    return 0;
}
