/* RTSP tunnelled in HTTP, for clients behind proxies: two connections with the same x-sessioncookie. A GET is answered
 * with a document that does not end, and carries everything from here to the client; a POST carries the requests, in
 * base64. The first one goes on as an RTSP connection, whose requests come out of the second one's buffer.
 */
#ifndef BMB_TALK_TUNNEL_H
#define BMB_TALK_TUNNEL_H

#include "talk/conn.h"

extern const bmb_conversation bmb_post_conversation;

/* Begins the half that a request asks for, GET or POST. false: there is no such tunnel. */
bool bmb_tunnel_begin(bmb_talk *t, bmb_conn *c, bmb_http_method method, uint32_t cookie);
/* Moves requests from one half to the other, as far as there is room. */
void bmb_tunnel_pull(bmb_talk *t, bmb_conn *get);
void bmb_tunnel_closed(bmb_talk *t, bmb_conn *get);

#endif
