/* What small programs have in common: opening with a reason where it fails, addresses, and the loop. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>

#include "bambino/text.h"
#include "linux/state.h"

#define ADDRESSES_MOST 16

bmb_device *bmb_linux_open(bmb_linux *self, const bmb_config *config)
{
    bmb_device *device;
    bmb_budget budget;
    bmb_fault fault;
    char why[256];
    bmb_err err = bmb_budget_of(config, &budget, &fault);
    free(self->memory);
    self->memory = err == BMB_OK ? malloc(budget.total) : NULL;
    if (err == BMB_OK) err = bmb_open(config, self->memory, budget.total, &device, &fault);
    if (err == BMB_OK) return device;
    bmb_fault_text(&fault, why, sizeof why);
    fprintf(stderr, "%s\n", why);
    return NULL;
}

static void print_outlet(const bmb_config *config, const bmb_outlet_config *o, const char *host)
{
    const char *scheme = bmb_outlet_scheme(o->kind, o->secure);
    const bmb_format_info *f;
    if (o->kind == BMB_OUTLET_TCP) {
        printf("%s://%s\n", scheme, host);
        return;
    }
    for (size_t k = 0; k < config->feed_count; k++) {
        const bmb_feed_config *feed = &config->feeds[k];
        if (o->kind == BMB_OUTLET_RTSP) printf("%s://%s/%s\n", scheme, host, feed->name);
        for (size_t i = 0; o->kind == BMB_OUTLET_HTTP && (f = bmb_format_at(i)) != NULL; i++)
            if (f->suffix != NULL && (f->codecs >> feed->mode.codec & 1) != 0)
                printf("%s://%s/%s%s\n", scheme, host, feed->name, f->suffix);
    }
}

void bmb_linux_print_addresses(const bmb_config *config, const bmb_device *device)
{
    bmb_addr bound, reachable[ADDRESSES_MOST];
    char host[BMB_ADDR_TEXT_MAX];
    for (size_t i = 0; i < config->outlet_count; i++) {
        if (bmb_outlet_addr(device, i, &bound) != BMB_OK) continue;
        size_t n = bmb_linux_reachable(&bound, reachable, ADDRESSES_MOST);
        for (size_t k = 0; k < n; k++) {
            bmb_addr_text(&reachable[k], true, host, sizeof host);
            print_outlet(config, &config->outlets[i], host);
        }
    }
    fflush(stdout);
}

static volatile sig_atomic_t stopped;
static const bmb_port *woken;

static void stop(int number)
{
    (void)number;
    stopped = 1;
    woken->wake(woken->ctx); /* one write, allowed here */
}

void bmb_linux_serve(bmb_device *device, const bmb_port *port, uint32_t seconds)
{
    const struct sigaction action = { .sa_handler = stop };
    uint64_t end = seconds > 0 ? port->now_us(port->ctx) + (uint64_t)seconds * 1000000 : UINT64_MAX;
    woken = port;
    stopped = 0;
    sigaction(SIGINT, &action, NULL);
    sigaction(SIGTERM, &action, NULL);
    while (stopped == 0 && port->now_us(port->ctx) < end) {
        uint64_t next = bmb_step(device);
        port->wait(port->ctx, next < end ? next : end);
    }
}

int bmb_linux_fd(const bmb_linux *self)
{
    return self->epoll;
}
