/* `bambino cameras`: what is attached and what it can do; what was expected and is missing. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

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

/* Where a camera of this machine is; false: it is absent, and the reason was printed. */
static bool print_device(const cli_device *d, size_t index, const bmb_camera_info *info)
{
    bmb_v4l2_state state;
    if (bmb_v4l2_state_get(d->v4l2, cli_device_number(d, info->name), &state) != BMB_OK) return true;
    if (!state.there) {
        printf("    ABSENT   %s\n", cli_trouble(d, index, BMB_NOT_FOUND));
        return false;
    }
    char input[600];
    printf("    device   %s, at %s, driver %s\n", state.path, state.bus, state.driver);
    if (bmb_v4l2_input_text(d->v4l2, cli_device_number(d, info->name), input, sizeof input) == BMB_OK)
        printf("    signal   %s\n", input);
    return true;
}

/* Those that have no name of ours, under the driver's. */
static void print_driver_controls(const cli_device *d, const bmb_camera_info *info)
{
    char line[120];
    size_t number = cli_device_number(d, info->name);
    for (size_t i = 0; bmb_v4l2_control_text(d->v4l2, number, i, line, sizeof line) == BMB_OK; i++)
        printf("    %s %s\n", i == 0 ? "driver's" : "        ", line);
}

static void print_camera(const cli_device *d, size_t index, const bmb_camera_info *info)
{
    unsigned streams = streams_of(d, index, info->name);
    printf("%s  %s", info->name, info->model);
    if (streams > 1 && info->mode_count > 1) printf(", %u streams at a time", streams);
    putchar('\n');
    if (!print_device(d, index, info)) return;
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
    print_driver_controls(d, info);
}

static size_t absent_devices(const cli_device *d)
{
    bmb_v4l2_state state;
    size_t absent = 0;
    for (size_t i = 0; bmb_v4l2_state_get(d->v4l2, i, &state) == BMB_OK; i++) absent += !state.there;
    return absent;
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
    return missing + absent_devices(d);
}

/* Capture devices that could not be looked at, with the reason. */
static void print_unusable(void)
{
    bmb_v4l2_device device;
    for (size_t i = 0; bmb_v4l2_found(i, &device) == BMB_OK; i++)
        if (device.err != BMB_OK)
            printf("%s  %s: %s\n", device.path,
                   device.err == BMB_NO_SIGNAL     ? "NO SIGNAL"
                   : device.err == BMB_UNSUPPORTED ? "NO CAMERA BY ITSELF"
                                                   : "CANNOT BE OPENED",
                   device.trouble[0] != '\0' ? device.trouble : bmb_err_text(device.err));
}

/* A configuration to begin from. Below /etc it is a service's, which keeps things where services do. */
static int write_config(const char *path, bool overwrite)
{
    cli_config *c = calloc(1, sizeof *c);
    char text[4096], *body = NULL;
    size_t size = 0;
    if (c == NULL || !cli_invent_config(c, text, sizeof text)) {
        free(c);
        return cli_no_camera("see `bambino cameras`");
    }
    size_t cameras = c->camera_count;
    free(c);
    if (!overwrite && access(path, F_OK) == 0) return cli_error("%s is there already; --overwrite replaces it", path);
    FILE *f = open_memstream(&body, &size);
    bmb_err err = BMB_NO_MEMORY;
    if (f != NULL) {
        fputs("# The cameras of this machine, to begin from; docs/configuration.md and `bambino keys` have every "
              "key.\n\n",
              f);
        if (strncmp(path, "/etc/", 5) == 0) fputs("[device]\nstate = /var/lib/bambino\n\n", f);
        fputs(text, f);
        if (fclose(f) == 0) err = bmb_linux_write_whole(path, body, size, true);
    }
    free(body);
    if (err != BMB_OK)
        return cli_error("%s cannot be written: %s", path,
                         err == BMB_NOT_FOUND ? "there is no such folder" : bmb_err_text(err));
    printf("Wrote %s with %zu camera%s. `bambino run %s` serves it.\n", path, cameras, cameras == 1 ? "" : "s", path);
    return EXIT_OK;
}

int cli_cameras(int argc, const char **argv)
{
    char *out = NULL;
    int overwrite = 0;
    const struct poptOption options[] = {
        { "write", '\0', POPT_ARG_STRING, &out, 0, "write a configuration for those of this machine", "FILE" },
        { "overwrite", '\0', POPT_ARG_NONE, &overwrite, 0, "replace the file if it is there", NULL },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    bool help = false, invented;
    if (!cli_options(argc, argv, options, "cameras [CONFIG]", rest, 1, &help)) return help ? EXIT_OK : EXIT_USAGE;
    if (out != NULL) {
        int wrote = rest[0] == NULL ? write_config(out, overwrite != 0) : EXIT_USAGE;
        if (rest[0] != NULL) cli_error("--write is for the cameras of this machine; leave %s out", rest[0]);
        free(out);
        return wrote;
    }
    cli_device *d = calloc(1, sizeof *d);
    int status = EXIT_USAGE;
    if (d != NULL && cli_config_or_invented(rest[0], &d->file, &invented)) {
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
            if (invented) print_unusable();
            printf("%zu attached, %zu missing\n", count - absent_devices(d), missing);
            if (missing == 0) status = EXIT_OK;
        }
    }
    if (d != NULL) cli_close(d);
    free(d);
    return status;
}
