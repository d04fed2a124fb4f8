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

static int dial(const bmb_addr *listen)
{
    struct sockaddr_storage to = { 0 };
    struct sockaddr_in *v4 = (struct sockaddr_in *)(void *)&to;
    struct sockaddr_in6 *v6 = (struct sockaddr_in6 *)(void *)&to;
    const struct timeval wait = { .tv_sec = WAIT_S };
    static const uint8_t any[16] = { 0 };
    bool wildcard = memcmp(listen->ip, any, listen->family == 6 ? 16 : 4) == 0;
    socklen_t size = listen->family == 6 ? sizeof *v6 : sizeof *v4;
    if (listen->family == 6) {
        *v6 = (struct sockaddr_in6){ .sin6_family = AF_INET6, .sin6_port = htons(listen->port) };
        memcpy(&v6->sin6_addr, listen->ip, 16);
        if (wildcard) v6->sin6_addr = in6addr_loopback;
    } else {
        *v4 = (struct sockaddr_in){ .sin_family = AF_INET, .sin_port = htons(listen->port) };
        memcpy(&v4->sin_addr, listen->ip, 4);
        if (wildcard) v4->sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    }
    int fd = socket(to.ss_family, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (fd < 0) return -1;
    (void)setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &wait, sizeof wait);
    (void)setsockopt(fd, SOL_SOCKET, SO_SNDTIMEO, &wait, sizeof wait);
    if (connect(fd, (struct sockaddr *)(void *)&to, size) == 0) return fd;
    close(fd);
    return -1;
}

/* Everything up to the end of the connection. */
static uint8_t *read_all(int fd, size_t *size)
{
    size_t room = 65536, at = 0;
    uint8_t *data = malloc(room);
    while (data != NULL) {
        ssize_t n = recv(fd, data + at, room - at, 0);
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0) break;
        at += (size_t)n;
        if (at < room) continue;
        uint8_t *grown = room < ANSWER_MOST ? realloc(data, room * 2) : NULL;
        if (grown == NULL) break;
        data = grown;
        room *= 2;
    }
    *size = at;
    return data;
}

static const cli_feed *feed_of(const cli_config *file, const char *camera)
{
    for (size_t i = 0; i < file->feed_count; i++)
        if (strcmp(file->feeds[i].camera, camera) == 0) return &file->feeds[i];
    return NULL;
}

/* Who may read the file of users lends himself the feed, for a minute. "": there is no such file, or not for us. */
static void borrow(const cli_device *d, const char *feed, char *out, size_t room)
{
    static const bmb_port port = { .hash = bmb_mbedtls_hash };
    char path[2 * CLI_TEXT_MAX + 10], text[BMB_LINK_SIZE];
    cli_users *users = calloc(1, sizeof *users);
    bmb_link_terms terms = { .until_s = (uint32_t)time(NULL) + 60 };
    bool there = users != NULL && cli_users_path(&d->file, path, sizeof path) && access(path, R_OK) == 0 &&
                 cli_users_read(path, d->file.device_name, users, NULL) && users->has_key;
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
    int fd = feed != NULL && d->file.http.family != 0 ? dial(&d->file.http) : -1;
    if (fd < 0) return BMB_NOT_FOUND;
    if (width != 0) snprintf(own, sizeof own, "-%ux%u", width, height);
    if (width == 0) borrow(d, feed->name, link, sizeof link);
    int n = snprintf(request, sizeof request, "GET %s/%s%s.jpg HTTP/1.0\r\n\r\n", link, feed->name, own);
    uint8_t *answer = NULL;
    size_t got = 0;
    if (send(fd, request, (size_t)n, MSG_NOSIGNAL) == n) answer = read_all(fd, &got);
    close(fd);
    const uint8_t *body = answer != NULL ? memmem(answer, got, end, sizeof end - 1) : NULL;
    if (body == NULL || sscanf((const char *)answer, "HTTP/1.%*c %3u", &status) != 1 || status != 200) {
        free(answer);
        return status == 401   ? BMB_DENIED
               : status == 404 ? BMB_UNSUPPORTED
               : status == 409 ? BMB_IN_USE
                               : BMB_TIMED_OUT;
    }
    body += sizeof end - 1;
    *size = got - (size_t)(body - answer);
    *out = answer;
    memmove(answer, body, *size);
    return BMB_OK;
}
