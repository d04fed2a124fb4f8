/* TLS for a connection, by Mbed TLS. Whoever measures wants to see what comes: any certificate will do, and its
 * fingerprint is told. */
#ifndef RECEIVE_SECURE_H
#define RECEIVE_SECURE_H

#include "receive/line.h"

bool secure_there(void); /* was it built with TLS? */
line_secure *secure_begin(line *l, const char *host, int wait_ms);
int secure_send(line_secure *s, const void *data, size_t size);
int secure_recv(line_secure *s, void *out, size_t room); /* as line_recv, without waiting */
bool secure_has(const line_secure *s);
void secure_end(line_secure *s);

#endif
