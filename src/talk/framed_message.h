/* What the framed protocol says without being asked (docs/framed.md). */
#ifndef BMB_TALK_FRAMED_MESSAGE_H
#define BMB_TALK_FRAMED_MESSAGE_H

#include "talk/conn.h"

void bmb_framed_put_hello(const bmb_talk *t, uint16_t feeds, bmb_writer *w); /* feeds: that it will be told of */
/* A feed of that number, as it is now. */
void bmb_framed_put_feed(const bmb_talk *t, bmb_writer *w, uint16_t index);
void bmb_framed_put_bye(bmb_writer *w, bmb_err why);

#endif
