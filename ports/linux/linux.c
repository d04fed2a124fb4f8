/* The Linux port: clocks, random, log, and waiting with epoll. Sockets are in net.c. */
#include "bambino/linux.h"

#include <errno.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <sys/random.h>
#include <time.h>
#include <unistd.h>

#include "bambino/text.h"
#include "linux/state.h"

static uint64_t clock_us(clockid_t id)
{
    struct timespec t;
    clock_gettime(id, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static uint64_t now_us(void *ctx)
{
    (void)ctx;
    return clock_us(CLOCK_MONOTONIC);
}

/* A board whose clock was never set starts in 1970 or at its firmware's build. */
#define CLOCK_WAS_SET_US 1700000000000000

static bmb_err wall_us(void *ctx, int64_t *unix_us)
{
    (void)ctx;
    *unix_us = (int64_t)clock_us(CLOCK_REALTIME);
    return *unix_us >= CLOCK_WAS_SET_US ? BMB_OK : BMB_UNKNOWN;
}

static void fill_random(void *ctx, void *out, size_t size)
{
    (void)ctx;
    uint8_t *at = (uint8_t *)out;
    while (size > 0) {
        ssize_t n = getrandom(at, size, 0);
        if (n < 0 && errno != EINTR) abort(); /* no identifier is better than a guessable one */
        if (n < 0) continue;
        at += n;
        size -= (size_t)n;
    }
}

#define LAST_WORDS_MS 500u /* for lines that wait when the port is destroyed: nobody may read them */

static void log_event(void *ctx, const bmb_event *event)
{
    static const char *const levels[] = { "error", "warning", "info", "debug" };
    bmb_linux *self = (bmb_linux *)ctx;
    if (event->level > self->log_level) return;
    if (self->log == NULL) self->log = bmb_lines_open(STDERR_FILENO);
    char text[320], line[400], clock[16];
    struct tm tm;
    time_t t = time(NULL);
    bmb_event_text(event, text, sizeof text);
    strftime(clock, sizeof clock, "%H:%M:%S", localtime_r(&t, &tm));
    static const int priorities[] = { 3, 4, 6, 7 }; /* of syslog(3): the journal has clocks and colours of its own */
    if (getenv("JOURNAL_STREAM") != NULL) {
        snprintf(line, sizeof line, "<%d>%s", priorities[event->level], text);
        bmb_lines_put(self->log, line);
        return;
    }
    bool report = event->code == BMB_EVENT_REPORT; /* asked for by the level debug, and no bug */
    snprintf(line, sizeof line, "%s %s: %s", clock, report ? "sent" : levels[event->level], text);
    bmb_lines_put(self->log, line);
}

static void wait_until(void *ctx, uint64_t until_us)
{
    bmb_linux *self = (bmb_linux *)ctx;
    if (self->stash_count > 0) return;
    uint64_t now = now_us(ctx);
    uint64_t ms = until_us > now ? (until_us - now + 999) / 1000 : 0;
    int timeout = until_us == UINT64_MAX ? -1 : ms > 60000 ? 60000 : (int)ms;
    int n = epoll_wait(self->epoll, self->stash, BMB_LINUX_STASH, timeout);
    self->stash_count = n > 0 ? n : 0;
}

static size_t ready(void *ctx, bmb_ready *out, size_t room)
{
    bmb_linux *self = (bmb_linux *)ctx;
    if (self->stash_count == 0) {
        int n = epoll_wait(self->epoll, self->stash, BMB_LINUX_STASH, 0);
        self->stash_count = n > 0 ? n : 0;
    }
    size_t taken = 0;
    while (taken < room && self->stash_count > 0) {
        const struct epoll_event *e = &self->stash[--self->stash_count];
        if (e->data.u64 == BMB_LINUX_OTHERS) continue; /* whoever's it is looks in this step */
        if (e->data.u64 == BMB_LINUX_WAKE) {
            uint64_t count;
            if (read(self->wake, &count, sizeof count) < 0) continue; /* taken already */
            continue;
        }
        uint32_t events = 0;
        if ((e->events & (EPOLLIN | EPOLLRDHUP)) != 0) events |= BMB_READABLE;
        if ((e->events & EPOLLOUT) != 0) events |= BMB_WRITABLE;
        /* A UDP socket's error queue says so, too: whoever reads it on, finds what is there. */
        if ((e->events & (EPOLLERR | EPOLLHUP)) != 0) events |= BMB_BROKEN | BMB_READABLE;
        out[taken++] = (bmb_ready){ .token = (uint32_t)e->data.u64, .events = events };
    }
    return taken;
}

static void wake(void *ctx)
{
    const bmb_linux *self = (const bmb_linux *)ctx;
    const uint64_t one = 1;
    ssize_t n = write(self->wake, &one, sizeof one);
    (void)n; /* fails only when the counter is full, and then a wake is under way */
}

void bmb_linux_watch(bmb_linux *self, int fd, bool on)
{
    struct epoll_event e = { .events = EPOLLIN | EPOLLPRI, .data.u64 = BMB_LINUX_OTHERS };
    (void)epoll_ctl(self->epoll, on ? EPOLL_CTL_ADD : EPOLL_CTL_DEL, fd, &e);
}

bmb_err bmb_linux_create(bmb_linux **out, bmb_port *port)
{
    bmb_linux *self = calloc(1, sizeof *self);
    if (self == NULL) return BMB_NO_MEMORY;
    self->log_level = BMB_LEVEL_INFO;
    self->epoll = epoll_create1(EPOLL_CLOEXEC);
    self->wake = eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK);
    struct epoll_event e = { .events = EPOLLIN, .data.u64 = BMB_LINUX_WAKE };
    if (self->epoll < 0 || self->wake < 0 || epoll_ctl(self->epoll, EPOLL_CTL_ADD, self->wake, &e) != 0) {
        bmb_linux_destroy(self);
        return BMB_LIMIT;
    }
    *port = (bmb_port){ .ctx = self,
                        .now_us = now_us,
                        .wall_us = wall_us,
                        .random = fill_random,
                        .log = log_event,
                        .wait = wait_until,
                        .wake = wake };
    bmb_linux_fill_net(&port->net);
    bmb_linux_fill_udp(port);
    port->net.ready = ready;
    *out = self;
    return BMB_OK;
}

void bmb_linux_destroy(bmb_linux *self)
{
    if (self == NULL) return;
    free(self->memory);
    if (self->epoll >= 0) close(self->epoll);
    if (self->wake >= 0) close(self->wake);
    (void)bmb_lines_close(self->log, LAST_WORDS_MS);
    free(self->state_folder);
    free(self);
}

void bmb_linux_log_level(bmb_linux *self, bmb_level most_detailed)
{
    self->log_level = most_detailed;
}
