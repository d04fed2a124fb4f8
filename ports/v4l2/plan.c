#include "v4l2/plan.h"

#include <stdlib.h>

#include "codec/encoder.h"

/* What a choice costs; compared from the first member on. */
typedef struct cost {
    uint64_t too_slow; /* frames per 1000 s that are missing, over all streams */
    unsigned encodes;  /* streams that are not native */
    unsigned decodes;  /* a JPEG image has to be decoded first */
    uint64_t area;     /* pixels that are read */
} cost;

static bool is_codec(uint32_t fourcc, bmb_codec codec)
{
    const v4l2_format_row *f = v4l2_format_of(fourcc);
    return f != NULL && f->encoded && f->codec == codec;
}

bool v4l2_is_native(const v4l2_setup *setup, const bmb_mode *mode)
{
    return is_codec(setup->fourcc, mode->codec) && setup->width == mode->width && setup->height == mode->height;
}

/* Can a stream be encoded from this? */
static bool can_encode(const v4l2_row *row, const bmb_mode *mode)
{
    return codec_encoder_for(mode->codec) != NULL && codec_encoder_for(BMB_CODEC_JPEG) != NULL &&
           !is_codec(row->fourcc, BMB_CODEC_H264) && row->width >= mode->width && row->height >= mode->height;
}

static bool add_cost(const v4l2_row *row, const bmb_mode *mode, cost *c)
{
    const v4l2_setup setup = { row->fourcc, row->width, row->height, 0 };
    bool native = v4l2_is_native(&setup, mode);
    if (!native && !can_encode(row, mode)) return false;
    if (row->mfps_most < mode->mfps) c->too_slow += mode->mfps - row->mfps_most;
    c->encodes += !native;
    if (!native && is_codec(row->fourcc, BMB_CODEC_JPEG)) c->decodes = 1;
    c->area = (uint64_t)row->width * row->height;
    return true;
}

static bool is_less(const cost *a, const cost *b)
{
    if (a->too_slow != b->too_slow) return a->too_slow < b->too_slow;
    if (a->encodes != b->encodes) return a->encodes < b->encodes;
    if (a->decodes != b->decodes) return a->decodes < b->decodes;
    return a->area < b->area;
}

static const v4l2_row *cheapest(const v4l2_node *node, const bmb_mode *modes, size_t count)
{
    const v4l2_row *best = NULL;
    cost least = { 0 };
    for (size_t i = 0; i < node->row_count; i++) {
        cost c = { 0 };
        size_t k = 0;
        while (k < count && add_cost(&node->rows[i], &modes[k], &c)) k++;
        if (k < count || (best != NULL && !is_less(&c, &least))) continue;
        best = &node->rows[i];
        least = c;
    }
    return best;
}

bool v4l2_plan(const v4l2_node *node, const bmb_mode *modes, size_t count, v4l2_setup *out, size_t *culprit)
{
    const v4l2_row *row = NULL;
    uint32_t mfps = 0;
    for (size_t n = 1; n <= count; n++) {
        row = cheapest(node, modes, n);
        if (row == NULL && culprit != NULL) *culprit = n - 1;
        if (row == NULL) return false;
        if (modes[n - 1].mfps > mfps) mfps = modes[n - 1].mfps;
    }
    if (row == NULL) return false;
    *out = (v4l2_setup){ row->fourcc, row->width, row->height, mfps < row->mfps_most ? mfps : row->mfps_most };
    return true;
}

static int larger_first(const void *a, const void *b)
{
    const bmb_mode_row *x = (const bmb_mode_row *)a, *y = (const bmb_mode_row *)b;
    uint32_t of_x = (uint32_t)x->width * x->height, of_y = (uint32_t)y->width * y->height;
    if (x->codec != y->codec) return x->codec < y->codec ? -1 : 1;
    return of_x > of_y ? -1 : of_x < of_y;
}

static void add(bmb_mode_row *out, size_t room, size_t *count, bmb_codec codec, const v4l2_row *row)
{
    for (size_t i = 0; i < *count; i++) {
        if (out[i].codec != codec || out[i].width != row->width || out[i].height != row->height) continue;
        if (row->mfps_most > out[i].mfps_most) out[i].mfps_most = row->mfps_most;
        return;
    }
    if (*count < room) out[(*count)++] = (bmb_mode_row){ codec, row->width, row->height, row->mfps_most };
}

size_t v4l2_modes(const v4l2_node *node, bmb_mode_row *out, size_t room)
{
    size_t count = 0;
    for (size_t i = 0; i < node->row_count; i++) {
        for (int codec = 0; codec < BMB_CODEC_COUNT; codec++) {
            const v4l2_row *row = &node->rows[i];
            const bmb_mode mode = { (bmb_codec)codec, row->width, row->height, 0 };
            cost unused = { 0 };
            if (add_cost(row, &mode, &unused)) add(out, room, &count, mode.codec, row);
        }
    }
    qsort(out, count, sizeof *out, larger_first);
    return count;
}
