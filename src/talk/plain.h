/* What a plain TCP connection does: one feed in a plain format, or the framed protocol with its requests. The same code
 * serves those that were accepted by an outlet and those that a push has dialled. */
#ifndef BMB_TALK_PLAIN_H
#define BMB_TALK_PLAIN_H

#include "talk/conn.h"

extern const bmb_conversation bmb_plain_conversation;

#endif
