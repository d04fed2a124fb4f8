/* `bambino photo`: one still from a camera into a file. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>

#include "cli.h"

static int photo(cli_device *d, const char *name, const char *out, const char *size, const char *set, bool overwrite)
{
    size_t index;
    bmb_camera_info info;
    bmb_camera_frame frame;
    if (!cli_find_camera(d, name, &index, &info)) return EXIT_FAILED;
    bmb_mode mode;
    if (!cli_still_mode(d, &info, size, 15000, &mode)) return EXIT_FAILED;
    cli_apply_controls(d, index, name);
    if (!cli_set_controls(d, index, &info, set)) return EXIT_USAGE;
    bmb_err err = cli_fetch_still(d, index, &mode, &frame);
    if (err == BMB_UNSUPPORTED)
        return cli_error("camera \"%s\" has no size %ux%u; `bambino cameras` lists its sizes", name, mode.width,
                         mode.height);
    if (err != BMB_OK) return cli_error("camera \"%s\" gave no picture: %s", name, bmb_err_text(err));
    bmb_err written = bmb_linux_write_whole(out, frame.data, frame.size, overwrite);
    bool good = written == BMB_OK;
    if (written == BMB_IN_USE)
        cli_error("%s is there already; choose another name, or add --overwrite", out);
    else if (!good)
        cli_error("%s cannot be written: %s; check the folder and its permissions", out,
                  written == BMB_NOT_FOUND ? "there is no such folder" : bmb_err_text(written));
    if (good) printf("%s: %ux%u, %zu bytes, from camera \"%s\"\n", out, mode.width, mode.height, frame.size, name);
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
        { "config", '\0', POPT_ARG_STRING, &config, 0, "whose cameras (the demo's, if not given)", "CONFIG" },
        { "size", '\0', POPT_ARG_STRING, &size, 0, "the camera's largest, if not given", "WIDTHxHEIGHT" },
        { "set", '\0', POPT_ARG_STRING, &set, 0, "controls, for this picture; several with commas", "CONTROL=VALUE" },
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
        status = cli_attach(d) ? photo(d, rest[0], out, size, set, overwrite != 0) : EXIT_FAILED;
    if (d != NULL) cli_close(d);
    free(d);
    free(out);
    free(config);
    free(size);
    free(set);
    return status;
}
