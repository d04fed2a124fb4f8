#include "talk/framed_acts.h"

#include "serve/formats.h"
#include "talk/plain_access.h"
#include "wire/framed.h"

bool bmb_plain_allows(const bmb_talk *t, const bmb_conn *c, bmb_role role, size_t feed)
{
#if BMB_WITH_ACCESS
    return bmb_plain_may(t, c, role, feed);
#else
    (void)t, (void)c, (void)role, (void)feed;
    return true;
#endif
}

bmb_err bmb_plain_watch(bmb_talk *t, bmb_conn *c, uint16_t index)
{
    bmb_opening *by = c->by;
    bmb_viewer *v = &c->viewer;
    bool counted = by->dialler == NULL;
    bmb_feed *feed = bmb_feeds_at(t->feeds, index);
    if (feed == NULL) return BMB_NOT_FOUND;
    if (counted && !bmb_talk_has_place(t, feed, &c->peer, bmb_conn_account(c))) return BMB_LIMIT;
    if (counted && !bmb_talk_fits_uplink(t, feed, &c->peer)) return BMB_LIMIT;
    bmb_codec codec = feed->camera.mode.codec;
    v->state = (bmb_stream_state){ .feed = index, .payload_type = (uint8_t)codec };
    const bmb_viewing how = { .owner = &t->viewing,
                              .tally = &by->past,
                              .framer = bmb_stream_framer(by->format, codec, true),
                              .counted = counted,
                              .keep_all = by->keep_all,
                              .lends = !bmb_is_framed(c) };
    bmb_viewer_begin(t->x, v, bmb_feed_video(feed), &how);
    c->feed = index;
    c->paused = false;
    bmb_bound_unsent(t->x, c->sock, bmb_track_kbps(t->x, bmb_feed_video(feed)));
    if (counted) bmb_viewer_came(t->x, v, &c->peer);
    bmb_feed_welcome(t->x, feed);
    return BMB_OK;
}

/* A feed that is not there, and one that is not his, get one answer: "no", as long as it is not known who he is; then
 * "there is none". */
static bmb_err no_such_feed(const bmb_talk *t, const bmb_conn *c)
{
    for (size_t i = 0; i < t->feeds->count; i++)
        if (bmb_plain_allows(t, c, BMB_ROLE_WATCH, i)) return BMB_NOT_FOUND;
    return BMB_DENIED;
}

static bmb_feed *seen_feed(const bmb_talk *t, const bmb_conn *c, uint16_t index)
{
    bmb_feed *feed = bmb_feeds_at(t->feeds, index);
    return feed != NULL && bmb_plain_allows(t, c, BMB_ROLE_WATCH, index) ? feed : NULL;
}

void bmb_plain_leave(bmb_talk *t, bmb_conn *c)
{
    bmb_viewer_leave(t->x, &c->viewer, &c->peer);
}

void bmb_plain_end_tx(bmb_conn *c, const bmb_writer *w)
{
    c->tx_at = 0;
    c->tx_size = (uint16_t)bmb_written(w);
}

/* value: in force; why: BMB_OK, or the reason why the asked one is not. */
static void answer(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, bmb_err why, int32_t value)
{
    bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
    uint8_t *begun = bmb_framed_begin(&w);
    bmb_put_u8(&w, (uint8_t)r->type);
    bmb_put_u8(&w, (uint8_t)why);
    bmb_put_u16(&w, 0);
    bmb_put_u32(&w, (uint32_t)value);
    bmb_framed_end(&w, begun, BMB_FRAMED_ANSWER, r->number);
    bmb_plain_end_tx(c, &w);
}

/* The acts: each does what is asked, and says what is in force. */
static bmb_err act_feed(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_err err = BMB_OK;
    if (r->feed == BMB_FRAMED_NO_FEED) {
        bmb_plain_leave(t, c);
        c->feed = BMB_NO_FEED;
    } else if (seen_feed(t, c, r->feed) == NULL) {
        err = no_such_feed(t, c);
    } else {
        bmb_plain_leave(t, c);
        err = bmb_plain_watch(t, c, r->feed);
        if (err != BMB_OK) c->feed = BMB_NO_FEED;
    }
    *value = c->feed;
    return err;
}

static bmb_err act_key(const bmb_talk *t, const bmb_conn *c, int32_t *value)
{
    if (c->viewer.framer == NULL) return BMB_NOT_FOUND;
    if (!bmb_plain_allows(t, c, BMB_ROLE_ADJUST, c->feed)) return BMB_DENIED;
    bmb_feed_welcome(t->x, c->viewer.track->feed);
    *value = 1;
    return BMB_OK;
}

static bmb_err act_pause(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_err err = BMB_OK;
    if (r->value < 0 || r->value > 1) {
        err = BMB_BAD_ARG;
    } else if (c->feed == BMB_NO_FEED) {
        err = BMB_NOT_FOUND;
    } else if (r->value == 1) {
        bmb_plain_leave(t, c);
        c->paused = true;
    } else if (c->paused) {
        err = bmb_plain_watch(t, c, c->feed);
    }
    *value = c->paused;
    return err;
}

static void tell_change(bmb_talk *t, const bmb_conn *c, const bmb_feed *feed, bmb_control control, int32_t before,
                        int32_t now)
{
#if BMB_WITH_ACCESS
    const bmb_access *access = t->guard.access;
    bmb_tell(t->x, &(bmb_event){ .code = BMB_EVENT_CHANGED_BY,
                                 .feed = feed->config->name,
                                 .peer = &c->peer,
                                 .value = (int64_t)control,
                                 .extra = (int64_t)((uint64_t)(uint32_t)before << 32 | (uint32_t)now),
                                 .text = c->pass.account != 0 ? access->accounts[c->pass.account - 1].name : NULL });
#else
    (void)t, (void)c, (void)feed, (void)control, (void)before, (void)now;
#endif
}

static bmb_err act_control(bmb_talk *t, const bmb_conn *c, const bmb_framed_request *r, int32_t *value)
{
    bmb_control control = (bmb_control)r->control;
    bmb_feed *feed = seen_feed(t, c, r->feed);
    if (feed == NULL) return no_such_feed(t, c);
    if (r->control >= BMB_CONTROL_COUNT) return BMB_UNSUPPORTED;
    int32_t before = 0;
    (void)bmb_camera_get(t->x, &feed->camera, control, &before);
    *value = before;
    if (!c->by->controls || !bmb_plain_allows(t, c, BMB_ROLE_ADJUST, r->feed)) return BMB_DENIED;
    bmb_err err = bmb_feed_set(t->x, feed, control, r->value, value);
    if (BMB_WITH_ACCESS && err == BMB_OK && *value != before) tell_change(t, c, feed, control, before, *value);
    return err;
}

/* A document answers; a refusal only is an answer like the others. */
static bmb_err act_status(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r)
{
    char *text = (char *)c->tx + BMB_FRAMED_HEADER;
    size_t room = (size_t)(t->tx_room - BMB_FRAMED_HEADER);
    bool whole = r->feed == BMB_FRAMED_NO_FEED;
    const bmb_status_view view = { .feeds = UINT64_MAX };
    bool allowed = whole;
    for (size_t i = 0; whole && i < t->feeds->count && (allowed = bmb_plain_allows(t, c, BMB_ROLE_WATCH, i)) == false;
         i++)
        continue;
    if (whole && !allowed) return BMB_DENIED;
    if (!whole && seen_feed(t, c, r->feed) == NULL) return no_such_feed(t, c);
    size_t size = t->figures->row(t->figures, &view, whole ? BMB_STATUS_DEVICE : BMB_STATUS_FEEDS, whole ? 0 : r->feed,
                                  text, room);
    if (size == 0) return BMB_NO_ROOM;
    bmb_framed_write(c->tx,
                     &(bmb_framed_message){ .type = BMB_FRAMED_STATUS, .number = r->number, .length = (uint32_t)size });
    c->tx_at = 0;
    c->tx_size = (uint16_t)(BMB_FRAMED_HEADER + size);
    return BMB_OK;
}

void bmb_framed_act(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r)
{
    bmb_err err = BMB_OK;
    int32_t value = 0;
    t->requests++;
    switch (r->type) {
    case BMB_FRAMED_ASK_HELLO:
        value = BMB_FRAMED_VERSION;
        c->announced = 0; /* the list again, as it is now */
        break;
    case BMB_FRAMED_ASK_FEED:
        err = act_feed(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_KEY:
        err = act_key(t, c, &value);
        break;
    case BMB_FRAMED_ASK_PAUSE:
        err = act_pause(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_CONTROL:
        err = act_control(t, c, r, &value);
        break;
    case BMB_FRAMED_ASK_STATUS:
        err = act_status(t, c, r);
        if (err == BMB_OK) return;
        break;
#if BMB_WITH_ACCESS
    case BMB_FRAMED_ASK_SIGN_IN:
        err = bmb_framed_sign_in(t, c, r, &value);
        if (err == BMB_OK && c->viewer.framer == NULL && c->by->feed != BMB_NO_FEED && c->feed == BMB_NO_FEED &&
            bmb_plain_allows(t, c, BMB_ROLE_WATCH, c->by->feed))
            (void)bmb_plain_watch(t, c, c->by->feed);
        break;
#endif
    default: /* ASK_ALIVE */
        break;
    }
    answer(t, c, r, err, value);
}
