/* Clips: JPEG images one after the other, or an H.264 Annex B stream. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "sim/source.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

#define CLIP_MOST (64u << 20) /* bytes; a clip is a few seconds */

static bmb_err read_file(const char *path, sim_clip *out)
{
    FILE *f = fopen(path, "rb");
    if (f == NULL) return BMB_NOT_FOUND;
    bmb_err err = BMB_BAD_DATA;
    long size = fseek(f, 0, SEEK_END) == 0 ? ftell(f) : -1;
    if (size > 0 && (unsigned long)size <= CLIP_MOST && fseek(f, 0, SEEK_SET) == 0) {
        out->data = malloc((size_t)size);
        out->size = (size_t)size;
        if (out->data == NULL) {
            err = BMB_NO_MEMORY;
        } else if (fread(out->data, 1, (size_t)size, f) == (size_t)size) {
            err = BMB_OK;
        }
    }
    fclose(f);
    return err;
}

static bmb_err add_picture(sim_clip *clip, size_t at, bool key)
{
    size_t n = clip->count + 2u; /* the end of the last one, too */
    uint32_t *starts = realloc(clip->at, n * sizeof *starts);
    if (starts != NULL) clip->at = starts;
    bool *keys = realloc(clip->key, n * sizeof *keys);
    if (keys != NULL) clip->key = keys;
    if (starts == NULL || keys == NULL) return BMB_NO_MEMORY;
    clip->at[clip->count] = (uint32_t)at;
    clip->key[clip->count] = key;
    clip->count++;
    return BMB_OK;
}

static bmb_err cut_jpeg(sim_clip *clip)
{
    bmb_jpeg jpeg;
    for (size_t at = 0; at < clip->size; at += jpeg.size) {
        bmb_err err = bmb_jpeg_parse(clip->data + at, clip->size - at, &jpeg);
        if (err == BMB_OK) err = add_picture(clip, at, true);
        if (err != BMB_OK) return err;
        clip->width = jpeg.width;
        clip->height = jpeg.height;
    }
    return BMB_OK;
}

static bool is_picture(uint8_t header)
{
    bmb_nal_type type = bmb_nal_type_of(header);
    return type == BMB_NAL_SLICE || type == BMB_NAL_IDR;
}

/* Begins at a start code: does the unit there open a new access unit? A slice does when it is its picture's first
 * (first_mb_in_slice 0 is coded as a single 1 bit), and so do the parameter sets and the like before it. */
static bool opens_picture(const uint8_t *unit, bool had_picture)
{
    if (!had_picture) return false;
    return !is_picture(unit[0]) || (unit[1] & 0x80) != 0;
}

static bmb_err cut_h264(sim_clip *clip)
{
    const uint8_t *d = clip->data;
    bool had_picture = false;
    size_t begin = 0;
    bmb_h264_facts facts;
    bmb_sps sps = { 0 };
    for (size_t at = 0; at + 5 < clip->size; at++) {
        if (d[at] != 0 || d[at + 1] != 0 || d[at + 2] != 1) continue;
        if (opens_picture(d + at + 3, had_picture)) {
            size_t end = d[at - 1] == 0 ? at - 1 : at; /* a start code of four bytes */
            bmb_err err = bmb_h264_parse(d + begin, end - begin, &facts);
            if (err == BMB_OK) err = add_picture(clip, begin, facts.key);
            if (err != BMB_OK) return err;
            begin = end;
            had_picture = false;
        }
        had_picture = had_picture || is_picture(d[at + 3]);
        if (bmb_nal_type_of(d[at + 3]) == BMB_NAL_SPS) (void)bmb_sps_parse(d + at + 3, clip->size - at - 3, &sps);
    }
    clip->codec = BMB_CODEC_H264;
    clip->width = sps.width;
    clip->height = sps.height;
    if (!had_picture || sps.width == 0) return BMB_BAD_DATA;
    bmb_err err = bmb_h264_parse(d + begin, clip->size - begin, &facts);
    if (err == BMB_OK) err = add_picture(clip, begin, facts.key);
    return err == BMB_OK && !clip->key[0] ? BMB_BAD_DATA : err;
}

bmb_err sim_clip_load(const char *path, sim_clip *out)
{
    memset(out, 0, sizeof *out);
    bmb_err err = read_file(path, out);
    if (err == BMB_OK) err = out->data[0] == 0 ? cut_h264(out) : cut_jpeg(out); /* a start code, or a JPEG's 0xFF */
    if (err == BMB_OK && out->count == 0) err = BMB_BAD_DATA;
    if (err != BMB_OK) {
        sim_clip_free(out);
        return err;
    }
    out->at[out->count] = (uint32_t)out->size;
    for (uint32_t i = 0; i < out->count; i++)
        if (out->at[i + 1] - out->at[i] > out->largest) out->largest = out->at[i + 1] - out->at[i];
    return BMB_OK;
}

void sim_clip_free(sim_clip *clip)
{
    free(clip->data);
    free(clip->at);
    free(clip->key);
    memset(clip, 0, sizeof *clip);
}
