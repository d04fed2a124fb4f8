/* The two lines that every HTTP answer ends its head with; framers and routes write them alike. */
#ifndef BMB_BASE_HTTP_TEXT_H
#define BMB_BASE_HTTP_TEXT_H

#include "base/bytes.h"

/* "Date: …" (RFC 9110 5.6.7, 6.6.1); nothing where the time is not known (0 or less). */
void bmb_put_http_date(bmb_writer *w, int64_t unix_us);
/* What browsers may do with it: take it for nothing else than it is; embeds: pages of others may show it; origin: this
 * one may read it, too (Fetch standard 3.2.3, 3.7). Nothing without BMB_WITH_ACCESS. */
void bmb_put_http_policy(bmb_writer *w, bool embeds, const char *origin);
/* Connection, where it has to be said (RFC 9112 9.3: HTTP/1.0 closes unless both say otherwise), and the blank line. */
void bmb_put_http_end(bmb_writer *w, bool keep_alive, bool old);

#endif
