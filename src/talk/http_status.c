#include "talk/http_status.h"

#include <string.h>

#include "base/bounds.h"

static void put_chunk(bmb_conn *c, const char *text, size_t size)
{
    if (size == 0) return;
    bmb_writer w = bmb_writer_of(c->tx, BMB_CHUNK_ROOM);
    if (!c->old) {
        bmb_put_hex(&w, size, 4);
        bmb_put_str(&w, "\r\n");
    }
    size_t head = bmb_written(&w);
    memmove(c->tx + head, text, size);
    if (!c->old) memcpy(c->tx + head + size, "\r\n", 2);
    c->tx_size = (uint16_t)(head + size + (c->old ? 0 : 2));
}

bmb_status_view bmb_http_view(const bmb_talk *t, const bmb_conn *c)
{
#if BMB_WITH_ACCESS
    const bmb_who who = { .account = c->pass.account };
    return (bmb_status_view){ .peers = bmb_guard_role(&t->guard, &who) == BMB_ROLE_ADMINISTER,
                              .feeds = bmb_guard_feeds(&t->guard, t->x, &who) };
#else
    (void)t, (void)c;
    return (bmb_status_view){ .feeds = UINT64_MAX };
#endif
}

/* The status document, in parts: each row of a part becomes one chunk. */
void bmb_http_put_status(bmb_talk *t, bmb_conn *c)
{
    static const char *const openers[BMB_STATUS_PARTS] = {
        "{\"device\":",    ",\"outlets\":[",   "],\"feeds\":[", "],\"pushes\":[",
        "],\"viewers\":[", "],\"sign_ins\":[", "]}\n"
    };
    c->tx_at = 0;
    if (c->part == BMB_STATUS_PARTS) {
        bmb_writer w = bmb_writer_of(c->tx, t->tx_room);
        if (!c->old) bmb_put_str(&w, "0\r\n\r\n");
        c->tx_size = (uint16_t)bmb_written(&w);
        c->more = BMB_MORE_NOTHING;
        return;
    }
    /* The text is made behind the place of the chunk's head, and the head put before it. */
    char *text = (char *)c->tx + BMB_CHUNK_ROOM;
    size_t room = (size_t)(t->tx_room - 2 * BMB_CHUNK_ROOM), before = 0;
    if (c->index == 0) {
        before = strlen(openers[c->part]);
        memcpy(text, openers[c->part], before);
    } else {
        text[before++] = ',';
    }
    const bmb_status_view view = bmb_http_view(t, c);
    size_t row = t->figures->row(t->figures, &view, (bmb_status_part)c->part, c->index, text + before, room - before);
    if (row > 0) {
        c->index++;
    } else {
        if (c->index > 0) before = 0;
        c->part++;
        c->index = 0;
    }
    put_chunk(c, text, before + row);
}
