/* The capture devices of this machine, and how one begins with them. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/v4l2.h"
#include "v4l2/node.h"

static void list_formats(const v4l2_node *node, char *out, size_t room)
{
    size_t at = 0;
    out[0] = '\0';
    for (size_t i = 0; i < node->row_count; i++) {
        const v4l2_format_row *f = v4l2_format_of(node->rows[i].fourcc);
        if (i > 0 && node->rows[i].fourcc == node->rows[i - 1].fourcc) continue;
        int n = snprintf(out + at, room - at, "%s%s", at > 0 ? ", " : "", f->name);
        if (n < 0 || (size_t)n >= room - at) return;
        at += (size_t)n;
    }
}

/* What it compresses itself costs next to nothing, however large; what has to be encoded, does. */
static bmb_mode begin_with(const v4l2_node *node)
{
    bmb_mode best = { BMB_CODEC_JPEG, 0, 0, 0 };
    bool encoded = false;
    for (size_t i = 0; i < node->row_count; i++) {
        const v4l2_row *r = &node->rows[i];
        const v4l2_format_row *f = v4l2_format_of(r->fourcc);
        bool jpeg = f->encoded && f->codec == BMB_CODEC_JPEG;
        uint16_t width_most = jpeg ? 1280 : 640, height_most = jpeg ? 720 : 480;
        if ((f->encoded && !jpeg) || (encoded && !jpeg)) continue;
        bool first = best.width == 0 || (jpeg && !encoded);
        bool fits = r->width <= width_most && r->height <= height_most;
        bool larger = (uint32_t)r->width * r->height > (uint32_t)best.width * best.height;
        bool best_fits = best.width <= width_most && best.height <= height_most;
        if (!first && (best_fits ? !fits || !larger : larger)) continue;
        uint32_t most = jpeg ? 25000 : 15000;
        best = (bmb_mode){ BMB_CODEC_JPEG, r->width, r->height, r->mfps_most < most ? r->mfps_most : most };
        encoded = jpeg;
    }
    return best;
}

void v4l2_denied(const v4l2_system *s, const char *path, char *out, size_t room)
{
    char who[96] = "";
    if (s->group(s->ctx, path, who, sizeof who))
        snprintf(out, room, "%s is barred from this service by its unit; allow it with DeviceAllow= (systemctl edit)",
                 path);
    else if (who[0] != '\0')
        snprintf(out, room,
                 "%s may be used by the group \"%s\" alone; add this user to it (usermod -aG %s USER) and log in "
                 "again",
                 path, who, who);
    else
        snprintf(out, room, "%s may be used by its owner alone; change its permissions", path);
}

void v4l2_no_signal(const v4l2_node *node, char *out, size_t room)
{
    snprintf(out, room, "%s has %s%s%s; plug a source in, switch it on, or choose another input (video-input)",
             node->path, node->signal.why, node->signal.name[0] != '\0' ? " at its input " : "", node->signal.name);
}

void v4l2_not_set_up(const v4l2_node *node, char *out, size_t room)
{
    snprintf(
        out, room,
        "%s is the end of a sensor pipeline (%s): a program such as media-ctl has to set it up first. Then name it "
        "in device, or let a program capture (program)",
        node->path, node->pipeline);
}

bmb_err bmb_v4l2_found(size_t index, bmb_v4l2_device *out)
{
    char path[V4L2_PATH];
    v4l2_system *s = v4l2_kernel(NULL);
    v4l2_node *node = malloc(sizeof *node);
    bmb_err result = s == NULL || node == NULL ? BMB_NO_MEMORY : BMB_NOT_FOUND;
    for (size_t i = 0; result == BMB_NOT_FOUND && s->list(s->ctx, i, path, sizeof path); i++) {
        bmb_err err = v4l2_probe(s, path, NULL, node);
        bool piece = node->pipeline[0] != '\0'; /* of a camera that is more than a node */
        if (piece) err = BMB_UNSUPPORTED;
        if ((err == BMB_UNSUPPORTED && !piece) || err == BMB_NOT_FOUND || index-- > 0) continue;
        result = BMB_OK;
        memset(out, 0, sizeof *out);
        memcpy(out->path, node->path, sizeof out->path);
        memcpy(out->card, node->card, sizeof out->card);
        memcpy(out->bus, node->bus, sizeof out->bus);
        memcpy(out->driver, node->driver, sizeof out->driver);
        out->err = err;
        if (err == BMB_DENIED) v4l2_denied(s, node->path, out->trouble, sizeof out->trouble);
        if (err == BMB_NO_SIGNAL) v4l2_no_signal(node, out->trouble, sizeof out->trouble);
        if (piece) v4l2_not_set_up(node, out->trouble, sizeof out->trouble);
        out->begin = begin_with(node);
        list_formats(node, out->formats, sizeof out->formats);
    }
    free(node);
    v4l2_kernel_free(s);
    return result;
}
