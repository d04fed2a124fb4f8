/* Who listens at a host where nobody does at the port that was asked for. */
#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "receive/line.h"
#include "receive/receive.h"

#define WAIT_MS 700

/* The registered ports of RTSP, HTTP and their encrypted kinds, and those that programs without privileges take. */
static const uint16_t usual[] = { 554, 8554, 80, 8080, 443, 8443, 322, 8322, 8600, 8601, 5000 };
#define USUAL (sizeof usual / sizeof usual[0])

/* By what it answers to a question that is both RTSP's and HTTP's in form; NULL: it hangs up. */
static const char *answer_of(line *l)
{
    static const char question[] = "OPTIONS * RTSP/1.0\r\nCSeq: 1\r\n\r\n";
    char answer[16] = "";
    if (!line_send(l, question, sizeof question - 1)) return NULL;
    int n = line_recv(l, answer, sizeof answer - 1, WAIT_MS);
    if (n == -2) return "something silent";
    if (n <= 0 || (uint8_t)answer[0] == 0x15) return NULL; /* or an alert of TLS */
    if (strncmp(answer, "RTSP/", 5) == 0) return "RTSP";
    if (strncmp(answer, "HTTP/", 5) == 0) return "HTTP";
    return (uint8_t)answer[0] == 0x8F && memcmp(answer + 1, "bmb", 3) == 0 ? "the framed protocol" : "a stream";
}

static void put_kind(const char *host, uint16_t port, const volatile bool *stop, char *out, size_t room)
{
    for (unsigned secure = 0; secure < 2; secure++) {
        line l;
        const char *kind = line_open(&l, host, port, secure != 0, WAIT_MS, stop) == LINE_OPEN ? answer_of(&l) : NULL;
        line_close(&l);
        if (kind == NULL) continue;
        snprintf(out, room, "%s%s", kind, secure != 0 ? " over TLS" : "");
        return;
    }
    snprintf(out, room, "something else");
}

void receive_find(const char *host, const volatile bool *stop, char *out, size_t room)
{
    struct pollfd p[USUAL];
    struct sockaddr_storage at;
    socklen_t size;
    size_t used = 0;
    char kind[64];
    out[0] = '\0';
    if (!line_address(host, 1, false, &at, &size)) return;
    for (size_t i = 0; i < USUAL; i++) {
        line_set_port(&at, usual[i]);
        p[i] = (struct pollfd){ .fd = socket(at.ss_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0),
                                .events = POLLOUT };
        if (p[i].fd >= 0) (void)connect(p[i].fd, (struct sockaddr *)(void *)&at, size);
    }
    usleep(20000); /* of this machine they are all answered; elsewhere soon */
    uint64_t end = line_now_us() + WAIT_MS * 1000u;
    for (size_t open = 1; open > 0 && line_now_us() < end && !*stop;) {
        open = 0;
        for (size_t i = 0; i < USUAL; i++) {
            struct pollfd one = p[i];
            int error = 0;
            socklen_t n = sizeof error;
            if (p[i].fd < 0) continue;
            if (poll(&one, 1, 0) <= 0) {
                open++;
                continue;
            }
            (void)getsockopt(p[i].fd, SOL_SOCKET, SO_ERROR, &error, &n);
            close(p[i].fd);
            p[i].fd = -1;
            if (error != 0 || used >= room) continue;
            put_kind(host, usual[i], stop, kind, sizeof kind);
            used += (size_t)snprintf(out + used, room - used, "%s%u (%s)", used > 0 ? ", " : "", usual[i], kind);
        }
        if (open > 0) usleep(20000);
    }
    for (size_t i = 0; i < USUAL; i++)
        if (p[i].fd >= 0) close(p[i].fd);
}
