/* Pictures at a steady rate, from a thread. */
#include <errno.h>
#include <time.h>

#include "sim/source.h"

#define MISSED_MOST 1000u /* a machine that slept that long counts from there */

void sim_ticker_init(sim_ticker *t, const bmb_port *port, void (*tick)(void *ctx, uint64_t now_us, bool late),
                     void *ctx)
{
    pthread_condattr_t attr;
    *t = (sim_ticker){ .port = port, .tick = tick, .ctx = ctx };
    pthread_mutex_init(&t->lock, NULL);
    pthread_condattr_init(&attr);
    pthread_condattr_setclock(&attr, CLOCK_MONOTONIC);
    pthread_cond_init(&t->changed, &attr);
    pthread_condattr_destroy(&attr);
}

void sim_ticker_free(sim_ticker *t)
{
    sim_ticker_stop(t);
    pthread_mutex_destroy(&t->lock);
    pthread_cond_destroy(&t->changed);
}

/* Waits with the lock held until `when` on the monotonic clock; false: stopped. */
static bool wait_for(sim_ticker *t, uint64_t when_us)
{
    const struct timespec until = { .tv_sec = (time_t)(when_us / 1000000),
                                    .tv_nsec = (long)(when_us % 1000000 * 1000) };
    while (!t->stop && pthread_cond_timedwait(&t->changed, &t->lock, &until) != ETIMEDOUT) continue;
    return !t->stop;
}

static void *run(void *arg)
{
    sim_ticker *t = (sim_ticker *)arg;
    uint64_t due = t->port->now_us(t->port->ctx);
    pthread_mutex_lock(&t->lock);
    while (wait_for(t, due)) {
        uint64_t now = t->port->now_us(t->port->ctx), interval = 1000000000u / t->mfps, missed = 0;
        /* Too slow for the rate: those that it is too late for are told as missing, and not made up for. */
        for (due += interval; now > due; due += interval)
            if (t->stalled || ++missed > MISSED_MOST) due = now;
        if (t->stalled) continue;
        pthread_mutex_unlock(&t->lock);
        for (; missed > 0; missed--) t->tick(t->ctx, now - missed * interval, true);
        t->tick(t->ctx, now, false);
        pthread_mutex_lock(&t->lock);
    }
    pthread_mutex_unlock(&t->lock);
    return NULL;
}

bool sim_ticker_run(sim_ticker *t, uint32_t mfps)
{
    pthread_mutex_lock(&t->lock);
    t->mfps = mfps;
    t->stop = false;
    bool runs = t->running;
    pthread_mutex_unlock(&t->lock);
    if (!runs) t->running = pthread_create(&t->thread, NULL, run, t) == 0;
    return t->running;
}

void sim_ticker_stop(sim_ticker *t)
{
    if (!t->running) return;
    pthread_mutex_lock(&t->lock);
    t->stop = true;
    pthread_cond_signal(&t->changed);
    pthread_mutex_unlock(&t->lock);
    pthread_join(t->thread, NULL);
    t->running = false;
}

void sim_ticker_stall(sim_ticker *t, bool stalled)
{
    pthread_mutex_lock(&t->lock);
    t->stalled = stalled;
    pthread_mutex_unlock(&t->lock);
}
