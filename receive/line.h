/* A connection to somebody, plain or encrypted, and sockets for datagrams; and the two clocks. Every wait has an end.
 */
#ifndef RECEIVE_LINE_H
#define RECEIVE_LINE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/socket.h>

uint64_t line_now_us(void); /* never jumps */
int64_t line_wall_us(void); /* Unix time */

typedef enum line_state {
    LINE_OPEN = 0,
    LINE_UNKNOWN_HOST,
    LINE_REFUSED,
    LINE_SILENT,
    LINE_NO_ROUTE,
    LINE_NO_TLS,
    LINE_BAD_TLS,
    LINE_FAILED
} line_state;

typedef struct line_secure line_secure;

typedef struct line {
    int fd; /* -1: none */
    line_secure *secure;
    struct sockaddr_storage peer, own;
    socklen_t peer_size, own_size;
    char peer_text[64];               /* "192.0.2.1" */
    char cipher[48], fingerprint[96]; /* of what encrypts it, and of the peer's certificate (SHA-256) */
    uint64_t resolved_us, connected_us, secured_us;
    int error; /* errno of LINE_FAILED */
} line;

/* Looks the name up, connects within wait_ms. stop: ends every wait. */
line_state line_open(line *l, const char *host, uint16_t port, bool secure, int wait_ms, const volatile bool *stop);
bool line_send(line *l, const void *data, size_t size);
/* Bytes; 0: it was closed; -1: it broke; -2: nothing came in time. */
int line_recv(line *l, void *out, size_t room, int wait_ms);
/* Are bytes there that poll() on its descriptor does not show? */
bool line_has(const line *l);
void line_close(line *l);

/* A socket for datagrams. port 0: any. group: joined, at that interface (size 0: the system chooses). -1: errno. */
int line_datagram(const struct sockaddr_storage *at, socklen_t size, const struct sockaddr_storage *interface);
bool line_address(const char *host, uint16_t port, bool passive, struct sockaddr_storage *out, socklen_t *size);
bool line_is_group(const struct sockaddr_storage *at);
uint16_t line_port(const struct sockaddr_storage *at);
void line_set_port(struct sockaddr_storage *at, uint16_t port);
const char *line_text(const struct sockaddr_storage *at, bool with_port, char *out, size_t room);
/* One datagram, and when the kernel had it; as line_recv otherwise, without waiting. from: may be NULL. */
int line_take(int fd, void *out, size_t room, uint64_t *at_us, struct sockaddr_storage *from);

#endif
