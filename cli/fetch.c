/* A still from the device that has the camera: over HTTP, from this machine. */
#include <arpa/inet.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

#include "bambino/tls.h"
#include "users.h"

#define ANSWER_MOST (32u << 20)
#define WAIT_S 6 /* longer than a device takes for a still */

/* Where a listener of this machine is reached from here. */
static bmb_addr here(const bmb_addr *listen)
{
    static const uint8_t any[16] = { 0 };
    bmb_addr to = *listen;
    if (memcmp(to.ip, any, to.family == 6 ? 16 : 4) != 0) return to;
    if (to.family == 6) to.ip[15] = 1;
    if (to.family == 4) memcpy(to.ip, (const uint8_t[]){ 127, 0, 0, 1 }, 4);
    return to;
}

static int dial(const bmb_addr *at)
{
    struct sockaddr_storage to = { 0 };
    struct sockaddr_in *v4 = (struct sockaddr_in *)(void *)&to;
    struct sockaddr_in6 *v6 = (struct sockaddr_in6 *)(void *)&to;
    const struct timeval wait = { .tv_sec = WAIT_S };
    socklen_t size = at->family == 6 ? sizeof *v6 : sizeof *v4;
    if (at->family == 6) {
        *v6 = (struct sockaddr_in6){ .sin6_family = AF_INET6, .sin6_port = htons(at->port) };
        memcpy(&v6->sin6_addr, at->ip, 16);
    } else {
        *v4 = (struct sockaddr_in){ .sin_family = AF_INET, .sin_port = htons(at->port) };
        memcpy(&v4->sin_addr, at->ip, 4);
    }
    int fd = socket(to.ss_family, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (fd < 0) return -1;
    (void)setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
    (void)setsockopt(fd, SOL_SOCKET, SO_SNDTIMEO, &wait, sizeof wait);
    if (connect(fd, (struct sockaddr *)(void *)&to, size) == 0) return fd;
    close(fd);
    return -1;
}

/* An answer, as far as it has come. */
typedef struct answer {
    uint8_t *data;
    size_t size, room;
} answer;

/* Room for more; false: it is too large. */
static bool has_room(answer *a)
{
    if (a->size < a->room) return true;
    uint8_t *grown = a->room < ANSWER_MOST ? realloc(a->data, a->room > 0 ? a->room * 2 : 65536) : NULL;
    if (grown == NULL) return false;
    a->data = grown;
    a->room = a->room > 0 ? a->room * 2 : 65536;
    return true;
}

/* Everything up to the end of the connection. false: nothing listens. */
static bool ask_plain(const bmb_addr *to, const char *request, answer *out)
{
    int fd = dial(to);
    if (fd < 0) return false;
    ssize_t n = send(fd, request, strlen(request), MSG_NOSIGNAL);
    while (n > 0 && has_room(out)) {
        n = recv(fd, out->data + out->size, out->room - out->size, 0);
        if (n < 0 && errno == EINTR)
            n = 1;
        else if (n > 0)
            out->size += (size_t)n;
    }
    close(fd);
    return true;
}

/* The same over TLS, with whatever certificate: it is this machine itself. */
static bool converse(const bmb_port *port, const bmb_addr *to, const char *request, answer *out)
{
    bmb_sock sock;
    bmb_ready ready[2];
    uint64_t end = port->now_us(port->ctx) + WAIT_S * 1000000u;
    size_t at = 0, taken, got;
    if (port->net.dial(port->ctx, to, &sock) != BMB_OK) return false;
    bmb_err err = port->encryption.dial(port->ctx, sock, NULL), said = BMB_AGAIN;
    (void)port->net.watch(port->ctx, sock, BMB_READABLE | BMB_WRITABLE, 0);
    for (bool open = false; err == BMB_OK && port->now_us(port->ctx) < end;) {
        port->wait(port->ctx, end);
        (void)port->net.ready(port->ctx, ready, 2);
        if (!open) {
            said = port->net.dialled(port->ctx, sock);
            open = said == BMB_OK;
            if (said != BMB_OK && said != BMB_AGAIN) break;
            continue;
        }
        const bmb_slice rest = { request + at, strlen(request) - at };
        if (rest.size > 0 && port->net.send(port->ctx, sock, &rest, 1, &taken) == BMB_OK) at += taken;
        if (request[at] == '\0') (void)port->net.watch(port->ctx, sock, BMB_READABLE, 0);
        while (has_room(out) &&
               (err = port->net.recv(port->ctx, sock, out->data + out->size, out->room - out->size, &got)) == BMB_OK)
            out->size += got;
        if (err == BMB_AGAIN) err = BMB_OK;
    }
    port->net.close(port->ctx, sock);
    return said == BMB_OK;
}

static bool ask_secure(const bmb_addr *to, const char *request, answer *out)
{
    bmb_linux *linux_port;
    bmb_port under, port;
    bmb_tls tls;
    size_t each;
    bool done = false;
    if (bmb_linux_create(&linux_port, &under) != BMB_OK) return false;
    under.log = NULL;
    const bmb_tls_config config = { .under = &under, .name = "bambino" };
    if (bmb_tls_lay_over(&tls, &config, &port) == BMB_OK) {
        size_t size = port.encryption.memory(port.ctx, 0, 1, &each);
        void *memory = malloc(size);
        if (memory != NULL && port.encryption.open(port.ctx, memory, size, 0, 1) == BMB_OK) {
            done = converse(&port, to, request, out);
            port.encryption.close(port.ctx);
        }
        free(memory);
    }
    bmb_linux_destroy(linux_port);
    return done;
}

static const cli_feed *feed_of(const cli_config *file, const char *camera)
{
    for (size_t i = 0; i < file->feed_count; i++)
        if (strcmp(file->feeds[i].camera, camera) == 0) return &file->feeds[i];
    return NULL;
}

/* Who may read the file of users lends himself the feed, for a minute. sized: also stills of another size. "": there is
 * no such file, or not for us. */
static void borrow(const cli_device *d, const char *feed, bool sized, char *out, size_t room)
{
    static const bmb_port port = { .hash = bmb_mbedtls_hash };
    char path[CLI_USERS_PATH], text[BMB_LINK_SIZE];
    cli_users *users = calloc(1, sizeof *users);
    bmb_link_terms terms = { .until_s = (uint32_t)time(NULL) + 60, .viewers = sized ? BMB_LINK_OWNERS : 0 };
    bool there = users != NULL && cli_users_path(&d->file, path, sizeof path) && access(path, R_OK) == 0 &&
                 cli_users_read(&d->file, path, users, NULL) == CLI_USERS_READ && users->has_key;
    if (there && getrandom(&terms.number, sizeof terms.number, 0) == sizeof terms.number) {
        bmb_link_write(&port, users->link_key, feed, &terms, text);
        snprintf(out, room, "/lent/%s", text);
    }
    free(users);
}

bmb_err cli_fetch_running(const cli_device *d, const char *camera, uint16_t width, uint16_t height, uint8_t **out,
                          size_t *size)
{
    static const char end[] = "\r\n\r\n";
    char request[200], own[24] = "", link[BMB_LINK_SIZE + 8] = "";
    unsigned status = 0;
    const cli_feed *feed = feed_of(&d->file, camera);
    bool secure = d->file.https.family != 0;
    const bmb_addr at = here(secure ? &d->file.https : &d->file.http);
    answer a = { 0 };
    if (feed == NULL || at.family == 0) return BMB_NOT_FOUND;
    if (width != 0) snprintf(own, sizeof own, "-%ux%u", width, height);
    borrow(d, feed->name, width != 0, link, sizeof link);
    snprintf(request, sizeof request, "GET %s/%s%s.jpg HTTP/1.0\r\n\r\n", link, feed->name, own);
    if (!(secure ? ask_secure(&at, request, &a) : ask_plain(&at, request, &a))) return BMB_NOT_FOUND;
    if (a.size < a.room) a.data[a.size] = '\0';
    if (a.size == a.room) a.size = 0; /* more than any picture */
    const uint8_t *body = a.data != NULL ? memmem(a.data, a.size, end, sizeof end - 1) : NULL;
    if (body == NULL || sscanf((const char *)a.data, "HTTP/1.%*c %3u", &status) != 1 || status != 200) {
        free(a.data);
        return status == 401   ? BMB_DENIED
               : status == 404 ? BMB_UNSUPPORTED
               : status == 409 ? BMB_IN_USE
                               : BMB_TIMED_OUT;
    }
    body += sizeof end - 1;
    *size = a.size - (size_t)(body - a.data);
    *out = a.data;
    memmove(a.data, body, *size);
    return BMB_OK;
}
