/* Cameras of this machine: attached as a configuration says, or, without one, as a configuration would say. */
#include <stdlib.h>
#include <string.h>

#include "cli.h"

static void join(cli_device *d, bmb_cameras more)
{
    const bmb_cameras before = d->port.cameras;
    if (d->joined.count == 0) (void)bmb_cameras_join(&d->joined, &before);
    d->port.cameras = bmb_cameras_join(&d->joined, &more);
}

bool cli_attach_devices(cli_device *d)
{
    bmb_v4l2_camera specs[CLI_CAMERAS_MOST];
    size_t count = 0;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (c->kind == CLI_DEVICE)
            specs[count++] = (bmb_v4l2_camera){ c->name, c->device[0] != '\0' ? c->device : NULL };
    }
    if (count == 0) return true;
    if (bmb_v4l2_create(d->linux_port, &d->port, specs, count, &d->v4l2) != BMB_OK) {
        cli_error("there is not enough memory for the cameras");
        return false;
    }
    for (size_t i = 0, at = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (c->kind != CLI_DEVICE) continue;
        if (c->video_input[0] != '\0') (void)bmb_v4l2_input(d->v4l2, at, c->video_input);
        at++;
    }
    join(d, bmb_v4l2_cameras(d->v4l2));
    return true;
}

#define KNOWN_MS 5000u /* a program that captures needs a moment to begin */

bool cli_attach_intakes(cli_device *d)
{
    static char paths[CLI_CAMERAS_MOST][2 * CLI_TEXT_MAX + 2];
    bmb_intake_camera specs[CLI_CAMERAS_MOST];
    size_t count = 0;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (c->kind != CLI_PROGRAM && c->kind != CLI_INPUT) continue;
        bool path = strstr(c->input, "://") == NULL && strcmp(c->input, "-") != 0;
        if (path) cli_beside(&d->file, c->input, paths[count], sizeof paths[count]);
        specs[count] = (bmb_intake_camera){ .name = c->name,
                                            .program = c->kind == CLI_PROGRAM ? c->program : NULL,
                                            .shell = c->shell != 0,
                                            .input = c->kind == CLI_PROGRAM ? NULL
                                                     : path                 ? paths[count]
                                                                            : c->input,
                                            .format = (bmb_intake_format)c->format,
                                            .width = c->raw_width,
                                            .height = c->raw_height,
                                            .mfps = c->input_mfps };
        count++;
        if (c->format >= BMB_INTAKE_I420 && c->raw_width == 0) {
            cli_error("%s:%d: camera \"%s\": format = %s needs raw-size = WIDTHxHEIGHT", d->file.path, c->line, c->name,
                      bmb_intake_format_name((bmb_intake_format)c->format));
            return false;
        }
    }
    if (count == 0) return true;
    bmb_err err = bmb_intake_create(&d->port, specs, count, KNOWN_MS, &d->intake);
    if (err != BMB_OK) {
        cli_error("%s: a camera with program or input cannot be: %s; each needs one of the two", d->file.path,
                  bmb_err_text(err));
        return false;
    }
    join(d, bmb_intake_cameras(d->intake));
    return true;
}

bool cli_is_intake(const cli_device *d, const char *name)
{
    for (size_t i = 0; i < d->file.camera_count; i++) {
        const cli_camera *c = &d->file.cameras[i];
        if (strcmp(c->name, name) == 0) return c->kind == CLI_PROGRAM || c->kind == CLI_INPUT;
    }
    return false;
}

size_t cli_device_number(const cli_device *d, const char *name)
{
    size_t n = 0;
    for (size_t i = 0; i < d->file.camera_count; i++) {
        if (d->file.cameras[i].kind != CLI_DEVICE) continue;
        if (strcmp(d->file.cameras[i].name, name) == 0) return n;
        n++;
    }
    return SIZE_MAX;
}

/* Its address on the bus, where it is the only one there: it keeps its place over restarts, whatever its number. */
static const char *lasting_name(const bmb_v4l2_device *devices, size_t count, size_t index)
{
    size_t same = 0;
    for (size_t i = 0; i < count; i++) same += strcmp(devices[i].bus, devices[index].bus) == 0;
    return same == 1 && devices[index].bus[0] != '\0' && devices[index].bus[0] != '/' ? devices[index].bus
                                                                                      : devices[index].path;
}

/* Cameras that are there and cannot be used as they are: each with what to do. */
static bool tell_unusable(void)
{
    bmb_v4l2_device device;
    bool any = false;
    for (size_t i = 0; bmb_v4l2_found(i, &device) == BMB_OK; i++) {
        if (device.err == BMB_OK || device.trouble[0] == '\0') continue;
        cli_error("%s", device.trouble);
        any = true;
    }
    return any;
}

bool cli_config_or_invented(const char *path, cli_config *out, bool *invented)
{
    char text[4096], demo[1024];
    *invented = path == NULL && cli_invent_config(out, text, sizeof text);
    if (*invented) return true;
    if (path == NULL && (!bmb_sim_there() || !cli_demo_file("railway.ini", demo, sizeof demo))) {
        (void)cli_no_camera("name a configuration");
        return false;
    }
    if (path == NULL && tell_unusable())
        fputs("Meanwhile these are the demo's, which are simulated.\n", stderr);
    else if (path == NULL)
        fputs("No camera is attached to this machine; these are the demo's, which are simulated.\n", stderr);
    return cli_config_read(path != NULL ? path : demo, out);
}

int cli_no_camera(const char *otherwise)
{
    if (tell_unusable()) return EXIT_FAILED;
    return cli_error("no camera is attached to this machine; plug one in, or %s", otherwise);
}

bool cli_invent_config(cli_config *out, char *text, size_t room)
{
    bmb_v4l2_device devices[CLI_CAMERAS_MOST];
    size_t found = 0, used = 0;
    while (found < CLI_CAMERAS_MOST && bmb_v4l2_found(found, &devices[found]) == BMB_OK) found++;
    FILE *file = fmemopen(text, room, "w");
    if (file == NULL) return false;
    fputs("[http]\nlisten = :8080\n\n[rtsp]\nlisten = :8554\n", file);
    for (size_t i = 0; i < found; i++) {
        char name[BMB_NAME_MAX] = "camera";
        if (devices[i].err != BMB_OK) continue;
        if (used++ > 0) snprintf(name, sizeof name, "camera-%zu", used);
        const bmb_mode *m = &devices[i].begin;
        fprintf(file, "\n# %s: %s\n[camera %s]\ndevice = %s\n\n[feed %s]\n", devices[i].card, devices[i].formats, name,
                lasting_name(devices, found, i), name);
        fprintf(file, "size = %ux%u\nrate = %g\n", m->width, m->height, (double)m->mfps / 1000.0);
    }
    fclose(file);
    if (used == 0) return false;
    FILE *back = fmemopen(text, strlen(text), "r");
    return back != NULL && cli_config_parse(back, "the configuration without a file", out);
}
