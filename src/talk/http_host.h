/* By which name the device is asked over HTTP, and from whose page. */
#ifndef BMB_TALK_HTTP_HOST_H
#define BMB_TALK_HTTP_HOST_H

#include "talk/conn.h"

/* The host's name without its port. */
bmb_text bmb_host_alone(bmb_text host);
/* Is the device called so? By its addresses it always is. */
bool bmb_host_is_ours(const bmb_config *config, bmb_text host);
/* 0: the page that asks is another's, and not among those that may; UINT8_MAX: it is ours, or none; else the index of
 * the one that may, plus 1. */
uint8_t bmb_origin_of(const bmb_talk *t, const bmb_conn *c);
/* The origin of the page that shows what is asked for, where it is another's and may not: browsers refuse it then
 * (Cross-Origin-Resource-Policy). size 0: it may, or nobody says. */
bmb_text bmb_host_framer(const bmb_config *config, bmb_text referer, bmb_text host);

#endif
