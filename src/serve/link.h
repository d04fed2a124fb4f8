/* Lent links: a text that allows to watch one feed, made without a table by whoever has the key, and checked so.
 *
 * BMB_LINK_SIZE - 1 characters of base64 (RFC 4648 5): the number, the end and the viewers of bmb_link_terms in network
 * byte order, and 17 bytes of HMAC-SHA-256 over them and the feed's name.
 */
#ifndef BMB_SERVE_LINK_H
#define BMB_SERVE_LINK_H

#include "bambino/device.h"
#include "serve/credentials.h"

/* bmb_link_write() is public: programs that manage a device make links, too. */
/* false: nobody who has the key made it for this feed. */
bool bmb_link_read(const bmb_port *port, const uint8_t *key, const char *feed, bmb_text text, bmb_link_terms *out);

#endif
