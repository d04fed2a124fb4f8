#include "receive/session.h"

#include <poll.h>
#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "receive/line.h"

#define REPORT_US 1000000u /* often, so that senders that follow them have something to follow */

static void take_ts(void *ctx, const ts_in_picture *p)
{
    session *s = ctx;
    if (s->ts.kind != 0x1B) return; /* no H.264 */
    const receive_came came = { .codec = BMB_CODEC_H264,
                                .data = p->data,
                                .size = p->size,
                                .broken = p->broken,
                                .has_media = p->has_pts,
                                .media_us = p->pts_us,
                                .at_us = p->at_us };
    receive_picture(s->r, &came);
}

static void take_picture(void *ctx, const rtp_in_picture *p)
{
    session *s = ctx;
    if (s->rtp.payload == RTP_IN_TS) {
        ts_in_add(&s->ts, p->data, p->size, p->at_us);
        return;
    }
    if (s->media_begun) s->media_us += (int64_t)(int32_t)(p->time - s->media_time) * 1000000 / s->rtp.clock;
    s->media_time = p->time;
    s->media_begun = true;
    const receive_came came = { .codec = s->rtp.payload == RTP_IN_JPEG ? BMB_CODEC_JPEG : BMB_CODEC_H264,
                                .data = p->data,
                                .size = p->size,
                                .broken = p->broken,
                                .has_media = true,
                                .media_us = s->media_us,
                                .capture_us = rtp_in_wall(&s->rtp, p->time),
                                .clock = MEASURE_REPORT,
                                .at_us = p->at_us };
    receive_picture(s->r, &came);
}

bool session_begin(session *s, receive *r, const sdp_media *m)
{
    memset(s, 0, sizeof *s);
    s->r = r;
    s->ts = (ts_in){ .out = take_ts, .ctx = s, .counts = &r->m.all };
    s->rtp = (rtp_in){ .type = m->type,
                       .clock = m->clock > 0 ? m->clock : 90000,
                       .out = take_picture,
                       .ctx = s,
                       .counts = &r->m.all,
                       .jitter_ms = &r->m.jitter_ms,
                       .jitter_most_ms = &r->m.jitter_most_ms };
    if (m->mfps > 0) r->m.mfps = m->mfps;
    if (strcasecmp(m->codec, "JPEG") == 0)
        s->rtp.payload = RTP_IN_JPEG;
    else if (strcasecmp(m->codec, "H264") == 0)
        s->rtp.payload = RTP_IN_H264;
    else if (strcasecmp(m->codec, "MP2T") == 0)
        s->rtp.payload = RTP_IN_TS;
    else
        return false;
    return true;
}

void session_packet(session *s, const uint8_t *data, size_t size, uint64_t at_us)
{
    receive_first_bytes(s->r);
    pthread_mutex_lock(&s->r->lock);
    rtp_in_packet(&s->rtp, data, size, at_us);
    pthread_mutex_unlock(&s->r->lock);
}

void session_stream(session *s, const uint8_t *data, size_t size, uint64_t at_us)
{
    receive_first_bytes(s->r);
    pthread_mutex_lock(&s->r->lock);
    ts_in_add(&s->ts, data, size, at_us);
    pthread_mutex_unlock(&s->r->lock);
}

static void take_datagrams(session *s, int rtp)
{
    uint8_t packet[RTP_IN_PACKET_MOST];
    struct sockaddr_storage from;
    uint64_t at_us;
    int n;
    for (unsigned i = 0; i < 256 && (n = line_take(rtp, packet, sizeof packet, &at_us, &from)) > 0; i++) {
        if (s->r->from[0] == '\0') {
            char text[64];
            snprintf(s->r->from, sizeof s->r->from, "from %s", line_text(&from, true, text, sizeof text));
        }
        session_packet(s, packet, (size_t)n, at_us);
    }
}

bool session_wait(session *s, int rtp, int rtcp, int third, int wait_ms)
{
    struct pollfd p[3] = { { .fd = rtp, .events = POLLIN },
                           { .fd = rtcp, .events = POLLIN },
                           { .fd = third, .events = POLLIN } };
    uint8_t packet[RTP_IN_PACKET_MOST];
    uint64_t at_us;
    bool bye = false;
    int n;
    (void)poll(p, 3, wait_ms);
    if ((p[0].revents & POLLIN) != 0) take_datagrams(s, rtp);
    if ((p[1].revents & POLLIN) != 0 && (n = line_take(rtcp, packet, sizeof packet, &at_us, NULL)) > 0)
        rtp_in_rtcp(&s->rtp, packet, (size_t)n, at_us, &bye);
    if (bye) receive_tell(s->r, RECEIVE_NOTE, "the sender says goodbye (RTCP BYE)");
    pthread_mutex_lock(&s->r->lock);
    rtp_in_wait(&s->rtp, line_now_us());
    pthread_mutex_unlock(&s->r->lock);
    return p[2].revents != 0;
}

size_t session_report(session *s, uint64_t now_us, bool bye, uint8_t *out, size_t room)
{
    if (now_us < s->report_us && !bye) return 0;
    s->report_us = now_us + REPORT_US;
    return rtp_in_report(&s->rtp, now_us, bye, out, room);
}

void session_free(session *s)
{
    rtp_in_free(&s->rtp);
    ts_in_free(&s->ts);
}
