/* Lines for people, to a descriptor that may take them slowly or not at all: a thread of its own writes them. */
#include <errno.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "linux/state.h"

#define ROOM 16384u /* about a hundred and fifty lines, what a terminal shows in a few pages */

struct bmb_lines {
    pthread_mutex_t lock;
    pthread_cond_t more, all_out;
    pthread_t thread;
    int fd;
    bool stop, gone; /* gone: nobody reads any more */
    bool left;       /* nobody waits for the thread: its memory is its own */
    size_t at, used; /* of the ring */
    size_t missed;   /* lines for which there was no room */
    char ring[ROOM];
};

/* Called with the lock; gives it up while it writes. */
static void write_some(bmb_lines *l)
{
    char run[ROOM];
    size_t size = l->used < ROOM - l->at ? l->used : ROOM - l->at, done = 0;
    memcpy(run, l->ring + l->at, size);
    pthread_mutex_unlock(&l->lock);
    bool gone = false;
    while (done < size && !gone) {
        ssize_t n = write(l->fd, run + done, size - done);
        if (n > 0) {
            done += (size_t)n;
        } else if (n < 0 && errno == EAGAIN) { /* somebody else made it non-blocking */
            const struct timespec pause = { .tv_nsec = 20000000 };
            nanosleep(&pause, NULL);
        } else {
            gone = n < 0 && errno != EINTR;
        }
    }
    pthread_mutex_lock(&l->lock);
    l->gone = l->gone || gone;
    l->at = (l->at + size) % ROOM;
    l->used -= size;
}

static void destroy(bmb_lines *l)
{
    pthread_mutex_destroy(&l->lock);
    pthread_cond_destroy(&l->more);
    pthread_cond_destroy(&l->all_out);
    free(l);
}

static void *run(void *ctx)
{
    bmb_lines *l = (bmb_lines *)ctx;
    pthread_mutex_lock(&l->lock);
    for (;;) {
        while (l->used == 0 && !l->stop) pthread_cond_wait(&l->more, &l->lock);
        if (l->used == 0) break;
        write_some(l);
        if (l->used == 0) pthread_cond_broadcast(&l->all_out);
    }
    bool left = l->left;
    pthread_mutex_unlock(&l->lock);
    if (left) destroy(l);
    return NULL;
}

/* All signals are for the program's own threads; a closed pipe is an error number here, and no end of the process. */
static bool start_thread(bmb_lines *l)
{
    sigset_t all, before;
    sigfillset(&all);
    pthread_sigmask(SIG_SETMASK, &all, &before);
    bool ok = pthread_create(&l->thread, NULL, run, l) == 0;
    pthread_sigmask(SIG_SETMASK, &before, NULL);
    return ok;
}

bmb_lines *bmb_lines_open(int fd)
{
    bmb_lines *l = calloc(1, sizeof *l);
    if (l == NULL) return NULL;
    l->fd = fd;
    pthread_condattr_t monotonic;
    pthread_condattr_init(&monotonic);
    pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    pthread_mutex_init(&l->lock, NULL);
    pthread_cond_init(&l->more, NULL);
    pthread_cond_init(&l->all_out, &monotonic);
    pthread_condattr_destroy(&monotonic);
    if (start_thread(l)) return l;
    free(l);
    return NULL;
}

static void append(bmb_lines *l, const char *text, size_t size)
{
    for (size_t i = 0; i < size; i++) l->ring[(l->at + l->used++) % ROOM] = text[i];
}

void bmb_lines_put(bmb_lines *l, const char *text)
{
    char note[80] = "";
    size_t size = strlen(text);
    if (l == NULL) return;
    pthread_mutex_lock(&l->lock);
    if (l->missed > 0)
        snprintf(note, sizeof note, "(%zu lines are missing here: nobody took them in time)\n", l->missed);
    if (l->gone) {
        l->missed = 0;
    } else if (strlen(note) + size + 1 > ROOM - l->used) {
        l->missed++;
    } else {
        append(l, note, strlen(note));
        append(l, text, size);
        append(l, "\n", 1);
        l->missed = 0;
        pthread_cond_signal(&l->more);
    }
    pthread_mutex_unlock(&l->lock);
}

bool bmb_lines_close(bmb_lines *l, uint32_t wait_ms)
{
    struct timespec until;
    if (l == NULL) return true;
    clock_gettime(CLOCK_MONOTONIC, &until);
    until.tv_sec += (time_t)(wait_ms / 1000);
    until.tv_nsec += (long)(wait_ms % 1000) * 1000000;
    if (until.tv_nsec >= 1000000000) {
        until.tv_sec++;
        until.tv_nsec -= 1000000000;
    }
    pthread_mutex_lock(&l->lock);
    l->stop = true;
    pthread_cond_signal(&l->more);
    int err = 0;
    while (l->used > 0 && !l->gone && err == 0) err = pthread_cond_timedwait(&l->all_out, &l->lock, &until);
    bool out = l->used == 0 || l->gone;
    l->left = !out; /* it hangs in a write that cannot be ended; perhaps for as long as the process lives */
    if (l->left) pthread_detach(l->thread);
    pthread_mutex_unlock(&l->lock);
    if (!out) return false;
    pthread_join(l->thread, NULL);
    destroy(l);
    return true;
}
