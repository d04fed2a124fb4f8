/* `bambino photo`: one still from a camera into a file. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>

#include "cli.h"

#define PHOTO_WAIT_US 5000000u
#define PHOTO_SETTLE 2 /* pictures that a sensor needs to adjust itself to the light */

/* Fetches a settled frame; the caller releases it. */
static bmb_err fetch(cli_device *d, size_t index, const bmb_mode *mode, bmb_camera_frame *out)
{
    const bmb_cameras *cameras = &d->port.cameras;
    bmb_mode effective;
    bmb_err err = cameras->start(cameras->ctx, index, mode, &effective);
    if (err != BMB_OK) return err;
    uint64_t end = d->port.now_us(d->port.ctx) + PHOTO_WAIT_US;
    for (int settled = 0;;) {
        err = cameras->take(cameras->ctx, index, out);
        if (err == BMB_OK && settled++ >= PHOTO_SETTLE) return BMB_OK;
        if (err == BMB_OK) cameras->release(cameras->ctx, index, out->cookie);
        if (err != BMB_OK && err != BMB_AGAIN) return err;
        if (d->port.now_us(d->port.ctx) >= end) return BMB_TIMED_OUT;
        bmb_ready none[4];
        if (err == BMB_AGAIN) d->port.wait(d->port.ctx, end);
        (void)d->port.net.ready(d->port.ctx, none, 4); /* takes the wake */
    }
}

/* A file is there whole, or not at all. */
static bool write_whole(const char *path, const uint8_t *data, size_t size)
{
    char part[1100];
    snprintf(part, sizeof part, "%s.part", path);
    FILE *f = fopen(part, "wb");
    bool good = f != NULL && fwrite(data, 1, size, f) == size;
    int error = errno;
    if (f != NULL && fclose(f) != 0) {
        error = errno;
        good = false;
    }
    if (good && rename(part, path) == 0) return true;
    if (good) error = errno;
    if (f != NULL) remove(part);
    cli_error("%s cannot be written: %s; check the folder and its permissions", path, strerror(error));
    return false;
}

static bool find_index(const cli_device *d, const char *name, size_t *index, bmb_camera_info *info)
{
    size_t count = d->port.cameras.count(d->port.cameras.ctx);
    char list[512] = "";
    for (size_t i = 0; i < count; i++) {
        if (d->port.cameras.info(d->port.cameras.ctx, i, info) != BMB_OK) continue;
        if (strcmp(info->name, name) == 0) {
            *index = i;
            return true;
        }
        size_t at = strlen(list);
        snprintf(list + at, sizeof list - at, "%s%s", at > 0 ? ", " : "", info->name);
    }
    cli_error("there is no camera \"%s\"; attached are: %s", name, list);
    return false;
}

static int photo(cli_device *d, const char *name, const char *out, const char *size)
{
    size_t index;
    bmb_camera_info info;
    bmb_camera_frame frame;
    if (!find_index(d, name, &index, &info)) return EXIT_FAILED;
    if (info.modes[0].codec != BMB_CODEC_JPEG)
        return cli_error("camera \"%s\" gives H.264 only, a still needs a JPEG camera", name);
    bmb_mode mode = { info.modes[0].codec, info.modes[0].width, info.modes[0].height, 15000 };
    unsigned w, h;
    if (size != NULL && sscanf(size, "%5ux%5u", &w, &h) != 2)
        return cli_error("--size %s: WIDTHxHEIGHT is expected, such as 640x480", size), EXIT_USAGE;
    if (size != NULL) {
        mode.width = (uint16_t)w;
        mode.height = (uint16_t)h;
    }
    for (size_t i = 0; i < d->file.feed_count; i++) {
        const cli_feed *f = &d->file.feeds[i];
        int32_t effective;
        for (size_t c = 0; strcmp(f->camera, name) == 0 && c < BMB_CONTROL_COUNT; c++)
            if (f->control_set[c])
                (void)d->port.cameras.set(d->port.cameras.ctx, index, (bmb_control)c, (int32_t)f->control[c],
                                          &effective);
    }
    bmb_err err = fetch(d, index, &mode, &frame);
    if (err == BMB_UNSUPPORTED)
        return cli_error("camera \"%s\" has no size %ux%u; `bambino cameras` lists its sizes", name, mode.width,
                         mode.height);
    if (err != BMB_OK) return cli_error("camera \"%s\" gave no picture: %s", name, bmb_err_text(err));
    bool good = write_whole(out, frame.data, frame.size);
    if (good) printf("%s: %ux%u, %zu bytes, from camera \"%s\"\n", out, mode.width, mode.height, frame.size, name);
    d->port.cameras.release(d->port.cameras.ctx, index, frame.cookie);
    return good ? EXIT_OK : EXIT_FAILED;
}

int cli_photo(int argc, const char **argv)
{
    char *out = NULL, *config = NULL, *size = NULL;
    const struct poptOption options[] = {
        { "out", 'o', POPT_ARG_STRING, &out, 0, "where to write the JPEG image", "FILE" },
        { "config", '\0', POPT_ARG_STRING, &config, 0, "whose cameras (the demo's, if not given)", "CONFIG" },
        { "size", '\0', POPT_ARG_STRING, &size, 0, "the camera's largest, if not given", "WIDTHxHEIGHT" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    char path[1024] = "";
    bool help = false;
    if (!cli_options(argc, argv, options, "photo CAMERA --out FILE", rest, 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    if (rest[0] == NULL || out == NULL) {
        cli_error("photo needs a camera and a file, for example: bambino photo yard --out yard.jpg");
        return EXIT_USAGE;
    }
    if (config == NULL && !cli_demo_file("railway.ini", path, sizeof path))
        return cli_error("name a configuration with --config");
    cli_device *d = calloc(1, sizeof *d);
    int status = EXIT_USAGE;
    if (d != NULL && cli_config_read(config != NULL ? config : path, &d->file))
        status = cli_attach(d) ? photo(d, rest[0], out, size) : EXIT_FAILED;
    if (d != NULL) cli_close(d);
    free(d);
    free(out);
    free(config);
    free(size);
    return status;
}
