#include "talk/framed_message.h"

#include <string.h>

#include "wire/framed.h"

void bmb_framed_put_hello(const bmb_talk *t, uint16_t feeds, bmb_writer *w)
{
    size_t length = strlen(t->x->config->name);
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u8(w, BMB_FRAMED_VERSION); /* the oldest that is spoken, and the newest */
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u16(w, feeds);
    bmb_put_u8(w, (uint8_t)(length < 255 ? length : 255));
    bmb_put_bytes(w, t->x->config->name, length < 255 ? length : 255);
    bmb_framed_end(w, begun, BMB_FRAMED_HELLO, 0);
}

static void put_text(bmb_writer *w, const char *text)
{
    bmb_put_u8(w, (uint8_t)strlen(text));
    bmb_put_bytes(w, text, strlen(text));
}

void bmb_framed_put_feed(const bmb_talk *t, bmb_writer *w, uint16_t index)
{
    const bmb_feed *feed = &t->feeds->feed[index];
    const bmb_h264_sets *sets = bmb_codec_sets(&feed->track[0].codec); /* of its pictures */
    const bmb_feed_config *config = feed->config;
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u16(w, index);
    bmb_put_u8(w, (uint8_t)feed->camera.mode.codec);
    bmb_put_u8(w, feed->removed ? 1 : 0);
    bmb_put_u16(w, feed->camera.mode.width);
    bmb_put_u16(w, feed->camera.mode.height);
    bmb_put_u32(w, feed->camera.mode.mfps);
    put_text(w, config->name);
    put_text(w, config->title != NULL ? config->title : config->name);
    bmb_put_u16(w, sets->sps_size);
    bmb_put_bytes(w, sets->sps, sets->sps_size);
    bmb_put_u16(w, sets->pps_size);
    bmb_put_bytes(w, sets->pps, sets->pps_size);
    bmb_framed_end(w, begun, BMB_FRAMED_FEED, 0);
}

void bmb_framed_put_bye(bmb_writer *w, bmb_err why)
{
    uint8_t *begun = bmb_framed_begin(w);
    bmb_put_u8(w, (uint8_t)why);
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u8(w, BMB_FRAMED_VERSION);
    bmb_put_u8(w, 0);
    bmb_framed_end(w, begun, BMB_FRAMED_BYE, 0);
}
