/* What a peer of the framed protocol can ask for; and beginning to watch, which plain connections do, too. */
#ifndef BMB_TALK_FRAMED_ACTS_H
#define BMB_TALK_FRAMED_ACTS_H

#include "serve/framed_request.h"
#include "talk/conn.h"

static inline bool bmb_is_framed(const bmb_conn *c)
{
    return BMB_WITH_FRAMED && c->framed;
}
bool bmb_plain_allows(const bmb_talk *t, const bmb_conn *c, bmb_role role, size_t feed);
bmb_err bmb_plain_watch(bmb_talk *t, bmb_conn *c, uint16_t feed);
void bmb_plain_leave(bmb_talk *t, bmb_conn *c);
/* What was written into tx is to be sent. */
void bmb_plain_end_tx(bmb_conn *c, const bmb_writer *w);
/* Does what is asked, and writes the answer into tx, which is empty. */
void bmb_framed_act(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r);

#endif
