/* `bambino cameras`: what is attached and what it can do; what was expected and is missing. */
#include <stdlib.h>
#include <string.h>

#include "cli.h"

/* The sizes of one codec; false: it has none. */
static bool print_modes(const bmb_camera_info *info, bmb_codec codec)
{
    size_t n = 0;
    for (size_t i = 0; i < info->mode_count; i++) {
        const bmb_mode_row *m = &info->modes[i];
        if (m->codec != codec) continue;
        if (n == 0) printf("    %-8s ", codec == BMB_CODEC_H264 ? "H.264" : "JPEG");
        printf("%s%ux%u up to %g/s",
               n == 0       ? ""
               : n % 4 == 0 ? ",\n             "
                            : ", ",
               m->width, m->height, (double)m->mfps_most / 1000.0);
        n++;
    }
    if (n > 0) putchar('\n');
    return n > 0;
}

/* How many streams stand under its name. */
static unsigned streams_of(const cli_device *d, size_t index, const char *name)
{
    bmb_camera_info info;
    unsigned n = 0;
    while (d->port.cameras.info(d->port.cameras.ctx, index + n, &info) == BMB_OK && strcmp(info.name, name) == 0) n++;
    return n;
}

static void print_camera(const cli_device *d, size_t index, const bmb_camera_info *info)
{
    unsigned streams = streams_of(d, index, info->name);
    printf("%s  %s", info->name, info->model);
    if (streams > 1) printf(", %u streams at a time", streams);
    putchar('\n');
    bmb_codec first = info->modes[0].codec;
    (void)print_modes(info, first);
    (void)print_modes(info, first == BMB_CODEC_JPEG ? BMB_CODEC_H264 : BMB_CODEC_JPEG);
    bool any = false;
    for (size_t c = 0; c < BMB_CONTROL_COUNT; c++) {
        const bmb_range *r = &info->controls[c];
        int32_t now = r->preset;
        if (r->step == 0) continue;
        (void)d->port.cameras.get(d->port.cameras.ctx, index, (bmb_control)c, &now);
        char steps[40] = "";
        if (r->step > 1) snprintf(steps, sizeof steps, " in steps of %d", r->step);
        printf("    %s %-12s %d to %d%s, now %d\n", any ? "        " : "controls", bmb_control_name((bmb_control)c),
               r->least, r->most, steps, now);
        any = true;
    }
    if (!any) printf("    controls none\n");
}

/* Returns how many are missing. */
static size_t print_missing(const cli_device *d)
{
    size_t missing = 0;
    char why[700];
    for (size_t i = 0; i < d->file.camera_count; i++) {
        if (d->camera_err[i] == BMB_OK) continue;
        printf("%s  MISSING: %s\n", d->file.cameras[i].name, cli_missing_text(d, i, why, sizeof why));
        missing++;
    }
    for (size_t f = 0; f < d->file.feed_count; f++) {
        const cli_feed *feed = &d->file.feeds[f];
        bool there = false;
        for (size_t i = 0; i < d->file.camera_count; i++)
            there = there || strcmp(d->file.cameras[i].name, feed->camera) == 0;
        if (there) continue;
        printf("%s  MISSING: feed \"%s\" expects it (%s:%d), and no camera of that name is attached\n", feed->camera,
               feed->name, d->file.path, feed->line);
        missing++;
    }
    return missing;
}

int cli_cameras(int argc, const char **argv)
{
    const struct poptOption options[] = { POPT_AUTOHELP POPT_TABLEEND };
    const char *rest[1] = { NULL };
    char path[1024];
    bool help = false;
    if (!cli_options(argc, argv, options, "cameras [CONFIG]", rest, 1, &help)) return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL && cli_demo_file("railway.ini", path, sizeof path)) rest[0] = path;
    if (rest[0] == NULL) return cli_error("name a configuration: the demo's is not beside this command");

    cli_device *d = calloc(1, sizeof *d);
    int status = EXIT_USAGE;
    if (d != NULL && cli_config_read(rest[0], &d->file)) {
        status = EXIT_FAILED;
        d->console_off = true;
        if (cli_attach(d)) {
            size_t entries = d->port.cameras.count(d->port.cameras.ctx), count = 0;
            for (size_t i = 0; i < entries; i++) {
                bmb_camera_info info;
                if (d->port.cameras.info(d->port.cameras.ctx, i, &info) != BMB_OK || info.stream > 0) continue;
                count++;
                cli_apply_controls(d, i, info.name);
                print_camera(d, i, &info);
            }
            size_t missing = print_missing(d);
            printf("%zu attached, %zu missing\n", count, missing);
            if (missing == 0) status = EXIT_OK;
        }
    }
    if (d != NULL) cli_close(d);
    free(d);
    return status;
}
