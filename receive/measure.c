#include "receive/measure.h"

#include <string.h>

void measure_spread_add(measure_spread *s, int64_t us)
{
    int64_t ms = us < 0 ? 0 : us / 1000;
    if (s->count == 0 || us < s->least_us) s->least_us = us;
    if (s->count == 0 || us > s->most_us) s->most_us = us;
    s->at[ms < MEASURE_MS_MOST ? ms : MEASURE_MS_MOST]++;
    s->count++;
}

double measure_spread_part(const measure_spread *s, double percent)
{
    double want = (double)s->count * percent / 100.0, sum = 0;
    if (s->count == 0) return 0;
    for (uint32_t i = 0; i <= MEASURE_MS_MOST; i++) {
        if (s->at[i] == 0) continue;
        if (sum + s->at[i] >= want) return (double)i + (want - sum) / s->at[i];
        sum += s->at[i];
    }
    return MEASURE_MS_MOST;
}

void measure_begin(measure *m, uint64_t now_us)
{
    memset(m, 0, sizeof *m);
    m->begin_us = m->second_us = now_us;
}

/* 0: not known yet. */
static uint64_t frame_us(const measure *m)
{
    if (m->mfps > 0) return 1000000000u / m->mfps;
    return m->interval.count < 10 ? 0 : (uint64_t)(measure_spread_part(&m->interval, 50) * 1000.0);
}

static void count_interval(measure *m, uint64_t now_us)
{
    uint64_t interval = now_us - m->last_us, frame = frame_us(m);
    measure_spread_add(&m->interval, (int64_t)interval);
    if (frame > 0 && interval > 2 * frame) m->all.gaps++;
}

static void count_key(measure *m, const measure_picture *p)
{
    if (m->key_us > 0) {
        if (m->since_key + 1 > m->key_most) m->key_most = m->since_key + 1;
        if (p->at_us - m->key_us > m->key_most_us) m->key_most_us = p->at_us - m->key_us;
    }
    m->all.keys++;
    m->since_key = 0;
    m->key_us = p->at_us;
}

static void count_seen(measure *m, const measure_picture *p)
{
    if (p->black) m->all.black++;
    if (!p->same || m->still_us == 0) {
        m->still_us = p->at_us;
    } else {
        m->all.same++;
        if (p->at_us - m->still_us > m->still_most_us) m->still_most_us = p->at_us - m->still_us;
    }
}

static void count_delay(measure *m, const measure_picture *p)
{
    if (p->clock > m->clock) { /* what was measured worse does not count with it */
        m->clock = p->clock;
        memset(&m->delay, 0, sizeof m->delay);
        memset(&m->delay_now, 0, sizeof m->delay_now);
    }
    if (p->clock == MEASURE_NO_CLOCK || p->clock < m->clock) return;
    measure_spread_add(&m->delay, p->wall_us - p->capture_us);
    measure_spread_add(&m->delay_now, p->wall_us - p->capture_us);
}

void measure_picture_came(measure *m, const measure_picture *p)
{
    measure_counts *c = &m->all;
    c->bytes += p->size;
    if (m->first_any_us == 0) m->first_any_us = p->at_us;
    m->last_any_us = p->at_us;
    if (p->broken) {
        c->broken++;
        return;
    }
    if (c->pictures++ > 0) {
        count_interval(m, p->at_us);
    } else {
        m->first_us = p->at_us;
    }
    m->last_us = p->at_us;
    m->width = p->width;
    m->height = p->height;
    if (p->key) {
        count_key(m, p);
    } else {
        m->since_key++;
    }
    if (p->has_number && m->numbered && p->number - m->number - 1 < 100000) c->skipped += p->number - m->number - 1;
    if (p->has_number) {
        m->number = p->number;
        m->numbered = true;
    }
    if (p->has_media && c->pictures > 1 && p->media_us < m->media_us) c->backward++;
    if (p->has_media) m->media_us = p->media_us;
    if (p->seen) count_seen(m, p);
    count_delay(m, p);
}

void measure_second(measure *m, uint64_t now_us, measure_row *out)
{
    double seconds = now_us > m->second_us ? (double)(now_us - m->second_us) / 1e6 : 1e-6;
    const measure_counts *a = &m->all, *b = &m->before;
    *out = (measure_row){ .seconds = seconds, .delay_ms = -1, .jitter_ms = m->jitter_ms };
    out->counts = (measure_counts){ .bytes = a->bytes - b->bytes,
                                    .pictures = a->pictures - b->pictures,
                                    .keys = a->keys - b->keys,
                                    .broken = a->broken - b->broken,
                                    .skipped = a->skipped - b->skipped,
                                    .same = a->same - b->same,
                                    .black = a->black - b->black,
                                    .gaps = a->gaps - b->gaps,
                                    .backward = a->backward - b->backward,
                                    .packets = a->packets - b->packets,
                                    .lost = a->lost > b->lost ? a->lost - b->lost : 0, /* some came late */
                                    .late = a->late - b->late,
                                    .doubled = a->doubled - b->doubled,
                                    .faults = a->faults - b->faults };
    out->rate = out->counts.pictures / seconds;
    out->kbps = (double)out->counts.bytes * 8.0 / 1000.0 / seconds;
    if (m->delay_now.count > 0) out->delay_ms = measure_spread_part(&m->delay_now, 50);
    memset(&m->delay_now, 0, sizeof m->delay_now);
    m->before = m->all;
    m->second_us = now_us;
}

double measure_rate(const measure *m)
{
    return m->all.pictures < 2 ? 0 : (m->all.pictures - 1) * 1e6 / (double)(m->last_us - m->first_us + 1);
}

double measure_kbps(const measure *m)
{
    uint32_t n = m->all.pictures + m->all.broken;
    if (n < 2 || m->last_any_us <= m->first_any_us) return 0;
    return (double)m->all.bytes * 8000.0 / (double)(m->last_any_us - m->first_any_us) * (n - 1) / n;
}

#define SETTLED_US 1000000u /* after a switch pictures are what they will be */
#define DIFFERENT 8         /* levels that are nearer to each other are noise */

void measure_lamp_begin(measure_lamp *l)
{
    *l = (measure_lamp){ .level = { -1, -1 } };
}

void measure_lamp_switch(measure_lamp *l, bool on, uint64_t now_us)
{
    l->on = on;
    l->switched_us = now_us;
    l->waits = true;
}

bool measure_lamp_seen(measure_lamp *l, uint8_t brightness, uint64_t at_us)
{
    if (l->switched_us == 0 || at_us < l->switched_us) return false;
    if (at_us - l->switched_us > SETTLED_US) {
        l->level[l->on] = brightness;
        l->waits = false;
        return false;
    }
    int span = l->level[1] - l->level[0], middle = (l->level[1] + l->level[0]) / 2;
    if (!l->waits || l->level[0] < 0 || l->level[1] < 0 || (span < DIFFERENT && span > -DIFFERENT)) return false;
    if ((brightness > middle) != (l->level[l->on] > middle)) return false;
    l->waits = false;
    return true;
}
