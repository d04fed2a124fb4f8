#include "wire/sdp.h"

#include "wire/rtp.h"

static void put_address(bmb_writer *w, const bmb_addr *addr)
{
    bmb_put_str(w, addr->family == 6 ? "IN IP6 " : "IN IP4 ");
    bmb_put_ip(w, addr);
}

/* RFC 8866 5.3: not empty, and no line breaks. */
static void put_title(bmb_writer *w, const char *title)
{
    bool any = false;
    for (; *title != '\0'; title++) {
        if ((uint8_t)*title < 0x20 || *title == 0x7F) continue;
        bmb_put_u8(w, (uint8_t)*title);
        any = true;
    }
    if (!any) bmb_put_u8(w, '-');
}

/* RFC 2326 C.1.7: the null address, for the server chooses nothing here. */
static void put_connection(bmb_writer *w, const bmb_sdp *s)
{
    const bmb_addr null = { .family = s->origin.family };
    bmb_put_str(w, "c=");
    put_address(w, s->group.family != 0 ? &s->group : &null);
    if (s->group.family == 4 && s->group.ip[0] >= 224 &&
        s->group.ip[0] <= 239) { /* RFC 8866 5.7: IPv4 groups have a TTL, IPv6 ones none */
        bmb_put_text(w, "/%u", s->ttl);
    }
    bmb_put_str(w, "\r\n");
}

void bmb_sdp_jpeg(bmb_writer *w, const void *codec)
{
    (void)codec;
    bmb_put_str(w, "a=rtpmap:26 JPEG/90000\r\n");
}

void bmb_sdp_h264(bmb_writer *w, const void *codec)
{
    const bmb_h264_sets *sets = (const bmb_h264_sets *)codec;
    bmb_put_str(w, "a=rtpmap:96 H264/90000\r\na=fmtp:96 ");
    if (sets->sps_size >= 4 && sets->pps_size > 0) {
        bmb_put_str(w, "profile-level-id=");
        for (unsigned i = 1; i < 4; i++) bmb_put_hex(w, sets->sps[i], 2);
        bmb_put_str(w, ";sprop-parameter-sets=");
        bmb_put_base64(w, sets->sps, sets->sps_size);
        bmb_put_u8(w, ',');
        bmb_put_base64(w, sets->pps, sets->pps_size);
        bmb_put_u8(w, ';');
    }
    bmb_put_str(w, "packetization-mode=1\r\n");
}

/* RFC 4585 4.2, RFC 5104 7.1, RFC 4588 8.6. */
static void put_feedback(bmb_writer *w, const bmb_sdp_media *m)
{
    bmb_put_text(w, "a=rtcp-fb:%u nack\r\n", m->payload_type);
    if (m->keys) bmb_put_text(w, "a=rtcp-fb:%u nack pli\r\na=rtcp-fb:%u ccm fir\r\n", m->payload_type, m->payload_type);
    bmb_put_text(w, "a=rtpmap:%u rtx/90000\r\na=fmtp:%u apt=%u;rtx-time=%u\r\n", m->repeat_type, m->repeat_type,
                 m->payload_type, m->repeat_ms);
}

static void put_media(bmb_writer *w, const bmb_sdp *s, size_t index)
{
    const bmb_sdp_media *m = &s->media[index];
    const bool repeats = BMB_WITH_REPEATS && m->repeat_type != 0;
    bmb_put_text(w, "m=%s %u RTP/AVP%s %u", m->kind, s->group.family != 0 ? s->group.port + 2 * (unsigned)index : 0,
                 repeats ? "F" : "", m->payload_type);
    if (repeats) bmb_put_text(w, " %u", m->repeat_type);
    bmb_put_str(w, "\r\n");
    if (m->kbps > 0) bmb_put_text(w, "b=AS:%u\r\n", (unsigned)m->kbps);
    m->describe(w, m->codec);
    if (repeats) put_feedback(w, m);
    if (m->mfps > 0) {
        bmb_put_str(w, "a=framerate:");
        bmb_put_milli(w, m->mfps);
        bmb_put_str(w, "\r\n");
    }
    if (s->control) bmb_put_text(w, "a=control:%s\r\n", m->kind);
}

void bmb_sdp_write(bmb_writer *w, const bmb_sdp *s)
{
    bmb_put_str(w, "v=0\r\no=- ");
    bmb_put_dec(w, s->id);
    bmb_put_u8(w, ' ');
    bmb_put_dec(w, s->version);
    bmb_put_u8(w, ' ');
    put_address(w, &s->origin);
    bmb_put_str(w, "\r\ns=");
    put_title(w, s->title);
    bmb_put_str(w, "\r\n");
    put_connection(w, s);
    bmb_put_str(w, "t=0 0\r\n");
    if (s->control) bmb_put_str(w, "a=control:*\r\na=range:npt=now-\r\n");
    const bool parity = BMB_WITH_PARITY && s->parity_type != 0;
    if (parity) bmb_put_text(w, "a=group:FEC-FR %s parity\r\n", s->media[0].kind);
    for (size_t i = 0; i < s->media_count; i++) put_media(w, s, i);
    if (!parity) return;
    bmb_put_text(w, "a=mid:%s\r\nm=application %u RTP/AVP %u\r\na=rtpmap:%u ulpfec/90000\r\na=mid:parity\r\n",
                 s->media[0].kind, s->group.port + 2u, s->parity_type, s->parity_type);
}
