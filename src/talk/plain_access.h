/* Who may have what over plain TCP, and signing in on a framed connection (docs/framed.md 5). */
#ifndef BMB_TALK_PLAIN_ACCESS_H
#define BMB_TALK_PLAIN_ACCESS_H

#include "serve/framed_request.h"
#include "talk/conn.h"

/* May whoever is at the other end? Whom the device dialled may, by the owner's word. */
bool bmb_plain_may(const bmb_talk *t, const bmb_conn *c, bmb_role role, size_t feed);
/* A feed of a plain outlet: by the host that asks, too. */
bool bmb_plain_host_may(const bmb_talk *t, const bmb_conn *c);
/* The first line of a plain connection, "token TEXT": true: it is one of a program that may watch its feed. */
bool bmb_plain_token(bmb_talk *t, bmb_conn *c, const char *line, size_t size);

/* Is there anything to sign in for? */
bool bmb_framed_asks(const bmb_talk *t, const bmb_conn *c);
void bmb_framed_put_challenge(bmb_talk *t, bmb_conn *c, bmb_writer *w);
/* ASK-SIGN-IN: *value: the role, as a number. */
bmb_err bmb_framed_sign_in(bmb_talk *t, bmb_conn *c, const bmb_framed_request *r, int32_t *value);

#endif
