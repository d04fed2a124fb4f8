/* `bambino photo`: one still from a camera into a file. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/picture.h"
#include "cli.h"

#define STILL_MOST (16u << 20)
#define STILL_QUALITY 90

static bool write_picture(const char *out, const void *data, size_t size, bool overwrite)
{
    bmb_err written = bmb_linux_write_whole(out, data, size, overwrite);
    if (written == BMB_IN_USE)
        cli_error("%s is there already; choose another name, or add --overwrite", out);
    else if (written != BMB_OK)
        cli_error("%s cannot be written: %s; check the folder and its permissions", out,
                  written == BMB_NOT_FOUND ? "there is no such folder" : bmb_err_text(written));
    return written == BMB_OK;
}

/* A camera that has no JPEG: one of its key frames, decoded. */
static bool write_key_frame(const char *out, const bmb_camera_frame *frame, bool overwrite, size_t *size)
{
    size_t written = 0;
    uint8_t *jpeg = malloc(STILL_MOST);
    bmb_err err = jpeg != NULL
                      ? bmb_picture_of_h264(frame->data, frame->size, STILL_QUALITY, jpeg, STILL_MOST, &written)
                      : BMB_NO_MEMORY;
    if (err != BMB_OK) cli_error("its H.264 picture cannot be made a JPEG image: %s", bmb_err_text(err));
    bool good = err == BMB_OK && write_picture(out, jpeg, written, overwrite);
    free(jpeg);
    *size = written;
    return good;
}

/* The camera is busy: if it is with our own device, that one has a picture. */
static int photo_of_running(const cli_device *d, const char *name, const char *out, const bmb_mode *mode, bool sized,
                            bool overwrite, const char *busy)
{
    uint8_t *data = NULL;
    size_t size = 0;
    bmb_err err = cli_fetch_running(d, name, sized ? mode->width : 0, sized ? mode->height : 0, &data, &size);
    if (err == BMB_NOT_FOUND) return cli_error("camera \"%s\": %s", name, busy);
    if (err != BMB_OK)
        return cli_error("camera \"%s\" streams, and the device that has it gave no picture%s: %s", name,
                         sized ? " of this size" : "", bmb_err_text(err));
    bool good = write_picture(out, data, size, overwrite);
    if (good) printf("%s: %zu bytes, from the device that streams camera \"%s\"\n", out, size, name);
    free(data);
    return good ? EXIT_OK : EXIT_FAILED;
}

static int photo(cli_device *d, const char *name, const char *out, const char *size, const char *set, bool overwrite)
{
    size_t index;
    bmb_camera_info info;
    bmb_camera_frame frame;
    if (name == NULL) name = d->file.cameras[0].name;
    if (!cli_find_camera(d, name, &index, &info)) return EXIT_FAILED;
    if (info.mode_count == 0) return cli_error("camera \"%s\": %s", name, cli_trouble(d, index, BMB_NOT_FOUND));
    bmb_mode mode;
    if (!cli_still_mode(d, &info, size, 15000, true, &mode)) return EXIT_FAILED;
    cli_apply_controls(d, index, name);
    if (!cli_set_controls(d, index, &info, set)) return EXIT_USAGE;
    bmb_err err = cli_fetch_still(d, index, &mode, &frame);
    if (err == BMB_IN_USE)
        return photo_of_running(d, name, out, &mode, size != NULL, overwrite, cli_trouble(d, index, err));
    if (err == BMB_UNSUPPORTED)
        return cli_error("camera \"%s\" has no size %ux%u; `bambino cameras` lists its sizes", name, mode.width,
                         mode.height);
    if (err == BMB_TIMED_OUT && size == NULL)
        return cli_error("camera \"%s\" gave no picture of %ux%u in time; try a smaller one, such as --size 640x480",
                         name, mode.width, mode.height);
    if (err == BMB_TIMED_OUT)
        return cli_error("camera \"%s\" gave no picture of %ux%u in time; try a smaller one", name, mode.width,
                         mode.height);
    if (err != BMB_OK) return cli_error("camera \"%s\" gave no picture: %s", name, cli_trouble(d, index, err));
    size_t written = frame.size;
    bool good = mode.codec == BMB_CODEC_H264 ? write_key_frame(out, &frame, overwrite, &written)
                                             : write_picture(out, frame.data, frame.size, overwrite);
    if (good) printf("%s: %ux%u, %zu bytes, from camera \"%s\"\n", out, mode.width, mode.height, written, name);
    d->port.cameras.release(d->port.cameras.ctx, index, frame.cookie);
    return good ? EXIT_OK : EXIT_FAILED;
}

int cli_photo(int argc, const char **argv)
{
    int overwrite = 0;
    char *out = NULL, *config = NULL, *size = NULL, *set = NULL;
    const struct poptOption options[] = {
        { "out", 'o', POPT_ARG_STRING, &out, 0, "where to write the JPEG image", "FILE" },
        { "overwrite", '\0', POPT_ARG_NONE, &overwrite, 0, "replace the file if it is there", NULL },
        { "config", '\0', POPT_ARG_STRING, &config, 0, "whose cameras (this machine's, if not given; else the demo's)",
          "CONFIG" },
        { "size", '\0', POPT_ARG_STRING, &size, 0, "the feed's, or a moderate one, if not given", "WIDTHxHEIGHT" },
        { "set", '\0', POPT_ARG_STRING, &set, 0, "controls, for this picture; several with commas", "CONTROL=VALUE" },
        POPT_AUTOHELP POPT_TABLEEND
    };
    const char *rest[1] = { NULL };
    bool help = false, invented;
    if (!cli_options(argc, argv, options, "photo [CAMERA] --out FILE", rest, 1, &help))
        return help ? EXIT_OK : EXIT_USAGE;
    if (out == NULL) {
        cli_error("photo needs a file, for example: bambino photo yard --out yard.jpg");
        return EXIT_USAGE;
    }
    cli_device *d = calloc(1, sizeof *d);
    int status = EXIT_USAGE;
    if (d != NULL && cli_config_or_invented(config, &d->file, &invented))
        status = cli_attach(d) ? photo(d, rest[0], out, size, set, overwrite != 0) : EXIT_FAILED;
    if (d != NULL) cli_close(d);
    free(d);
    free(out);
    free(config);
    free(size);
    free(set);
    return status;
}
