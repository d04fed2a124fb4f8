/* Stills from a camera that nobody uses: found, set up, settled. */
#include <string.h>

#include "cli.h"

#define STILL_WAIT_US 5000000u
#define STILL_SETTLE 2 /* pictures that a sensor needs to adjust itself to the light */

bmb_err cli_fetch_still(cli_device *d, size_t camera, const bmb_mode *mode, bmb_camera_frame *out)
{
    const bmb_cameras *cameras = &d->port.cameras;
    bmb_mode effective;
    bmb_err err = cameras->start(cameras->ctx, camera, mode, &effective);
    if (err != BMB_OK) return err;
    uint64_t end = d->port.now_us(d->port.ctx) + STILL_WAIT_US;
    for (int settled = 0;;) {
        err = cameras->take(cameras->ctx, camera, out);
        bool usable = mode->codec == BMB_CODEC_JPEG || (err == BMB_OK && out->key);
        if (err == BMB_OK && settled++ >= STILL_SETTLE && usable) return BMB_OK;
        if (err == BMB_OK && !usable && cameras->key_frame != NULL) (void)cameras->key_frame(cameras->ctx, camera);
        if (err == BMB_OK) cameras->release(cameras->ctx, camera, out->cookie);
        if (err == BMB_OK || err == BMB_AGAIN) {
            if (d->port.now_us(d->port.ctx) >= end) err = BMB_TIMED_OUT;
        }
        if (err != BMB_OK && err != BMB_AGAIN) {
            cameras->stop(cameras->ctx, camera);
            return err;
        }
        bmb_ready none[4];
        if (err == BMB_AGAIN) d->port.wait(d->port.ctx, end);
        (void)d->port.net.ready(d->port.ctx, none, 4); /* takes the wake */
    }
}

const char *cli_trouble(const cli_device *d, size_t index, bmb_err err)
{
    const bmb_cameras *cameras = &d->port.cameras;
    const char *said = cameras->trouble != NULL ? cameras->trouble(cameras->ctx, index) : NULL;
    return said != NULL ? said : bmb_err_text(err);
}

bool cli_find_camera(const cli_device *d, const char *name, size_t *index, bmb_camera_info *info)
{
    size_t count = d->port.cameras.count(d->port.cameras.ctx);
    char list[512] = "";
    for (size_t i = 0; i < count; i++) {
        if (d->port.cameras.info(d->port.cameras.ctx, i, info) != BMB_OK || info->stream > 0) continue;
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

/* By nothing but the program: in sizes that are not listed, too. */
static bool is_drawn(const cli_device *d, const bmb_camera_info *info)
{
    bool elsewhere = cli_device_number(d, info->name) != SIZE_MAX || cli_is_intake(d, info->name);
    return !d->has_board && info->mode_count > 1 && !elsewhere;
}

/* Without a size that is said: the feed's, where there is one of this camera; else the largest up to 1280x720. A
 * sensor's largest may take longer than anybody waits. */
static const bmb_mode_row *moderate(const cli_device *d, const bmb_camera_info *info, const bmb_mode_row *first)
{
    const bmb_mode_row *best = NULL, *least = first;
    for (size_t i = 0; i < d->file.feed_count; i++) {
        const cli_feed *f = &d->file.feeds[i];
        const bmb_mode asked = { first->codec, f->width, f->height, 0 };
        if (f->width != 0 && strcmp(f->camera, info->name) == 0) return cli_nearest_mode(info, &asked);
    }
    for (size_t i = 0; i < info->mode_count; i++) {
        const bmb_mode_row *m = &info->modes[i];
        if (m->codec != first->codec) continue;
        uint32_t area = (uint32_t)m->width * m->height;
        if (area < (uint32_t)least->width * least->height) least = m;
        bool fits = m->width <= 1280 && m->height <= 720;
        if (fits && (best == NULL || area > (uint32_t)best->width * best->height)) best = m;
    }
    return best != NULL ? best : least;
}

bool cli_still_mode(const cli_device *d, const bmb_camera_info *info, const char *size, uint32_t mfps_most,
                    bool allows_h264, bmb_mode *out)
{
    const bmb_mode_row *first = cli_first_mode(info, BMB_CODEC_JPEG);
    char extra, text[64];
    if (first == NULL && allows_h264) first = &info->modes[0];
    if (first == NULL) {
        cli_error("camera \"%s\" gives H.264 only, and JPEG is needed here", info->name);
        return false;
    }
    const bmb_mode_row *usual = moderate(d, info, first);
    unsigned w = usual->width, h = usual->height;
    if (size != NULL && sscanf(size, "%5ux%5u%c", &w, &h, &extra) != 2) {
        cli_error("--size %s: WIDTHxHEIGHT is expected, such as 640x480", size);
        return false;
    }
    *out = (bmb_mode){ first->codec, (uint16_t)w, (uint16_t)h, mfps_most };
    const bmb_mode_row *near = cli_nearest_mode(info, out);
    if (near->width == w && near->height == h) {
        if (near->mfps_most < mfps_most) out->mfps = near->mfps_most;
        return true;
    }
    bmb_mode there = { near->codec, near->width, near->height, near->mfps_most };
    if (is_drawn(d, info)) {
        there = bmb_sim_nearest(out);
        if (there.width == w && there.height == h) return true;
    }
    cli_error("camera \"%s\" has no size %ux%u; the nearest is %s", info->name, w, h,
              cli_mode_text(&there, text, sizeof text));
    return false;
}

bool cli_set_controls(cli_device *d, size_t index, const bmb_camera_info *info, const char *text)
{
    const bmb_cameras *cameras = &d->port.cameras;
    const char *names[BMB_CONTROL_COUNT];
    for (size_t c = 0; c < BMB_CONTROL_COUNT; c++) names[c] = bmb_control_name((bmb_control)c);
    while (text != NULL && *text != '\0') {
        char one[64], name[32];
        size_t n = strcspn(text, ","), c = 0;
        int32_t value, effective;
        char extra;
        snprintf(one, sizeof one, "%.*s", (int)n, text);
        text += text[n] == ',' ? n + 1 : n;
        if (sscanf(one, "%31[a-z0-9-]=%d%c", name, &value, &extra) != 2) {
            cli_error("--set %s: CONTROL=VALUE is expected, such as brightness=20", one);
            return false;
        }
        while (c < BMB_CONTROL_COUNT && strcmp(names[c], name) != 0) c++;
        const bmb_range *r = c < BMB_CONTROL_COUNT ? &info->controls[c] : NULL;
        if (r == NULL || r->step == 0) {
            const char *near = cli_nearest(name, names, BMB_CONTROL_COUNT);
            cli_error("--set %s: camera \"%s\" has no such control%s%s%s", one, info->name,
                      near != NULL && r == NULL ? "; did you mean " : "", near != NULL && r == NULL ? near : "",
                      near != NULL && r == NULL ? "?" : "; `bambino cameras` lists those it has");
            return false;
        }
        if (cameras->set(cameras->ctx, index, (bmb_control)c, value, &effective) != BMB_OK) {
            cli_error("--set %s: camera \"%s\" has %d to %d in steps of %d", one, info->name, r->least, r->most,
                      r->step);
            return false;
        }
        if (effective != value) printf("%s: %d was asked, %d is in force\n", name, value, effective);
    }
    return true;
}

void cli_apply_controls(cli_device *d, size_t index, const char *name)
{
    const bmb_cameras *cameras = &d->port.cameras;
    for (size_t i = 0; i < d->file.feed_count; i++) {
        const cli_feed *f = &d->file.feeds[i];
        int32_t effective;
        for (size_t c = 0; strcmp(f->camera, name) == 0 && c < BMB_CONTROL_COUNT; c++)
            if (f->control_set[c])
                (void)cameras->set(cameras->ctx, index, (bmb_control)c, (int32_t)f->control[c], &effective);
    }
}
