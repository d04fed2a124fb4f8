/* The status light: a file that takes 1 and 0, as the kernel gives for a lamp. */
#include <fcntl.h>
#include <unistd.h>

#include "cli.h"

#define LOOK_US 50000u

static bmb_light shown; /* as the device last said; a process has one light */

static void note(void *ctx, bmb_light state)
{
    (void)ctx;
    shown = state;
}

bool cli_light_open(cli_device *d)
{
    d->light_fd = -1;
    d->light_lit = -1;
    if (d->file.light_file[0] == '\0') return true;
    /* a FIFO that nobody reads, or reads no more, must stop neither the start nor the loop */
    d->light_fd = open(d->file.light_file, O_WRONLY | O_CLOEXEC | O_NONBLOCK);
    if (d->light_fd < 0) {
        cli_error("light-file = %s: it cannot be written; check the path and its permissions", d->file.light_file);
        return false;
    }
    d->port.light = note;
    return true;
}

uint64_t cli_light_tend(cli_device *d, uint64_t next)
{
    uint64_t now = d->port.now_us(d->port.ctx), frames = 0;
    bmb_feed_stats s;
    if (d->light_fd < 0) return next;
    for (size_t i = 0; bmb_feed_stats_get(d->device, i, &s) == BMB_OK; i++) frames += s.frames;
    int lit = bmb_light_lit((bmb_light_style)d->file.light_style, shown, now, frames);
    if (lit != d->light_lit && write(d->light_fd, lit ? "1\n" : "0\n", 2) == 2) d->light_lit = lit;
    return next < now + LOOK_US ? next : now + LOOK_US;
}

void cli_light_close(cli_device *d)
{
    if (d->light_fd > 0) {
        if (write(d->light_fd, "0\n", 2) != 2) d->light_lit = -1; /* nothing more can be done */
        close(d->light_fd);
    }
}
