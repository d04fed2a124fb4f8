/* Clips: JPEG images one after the other, or an H.264 Annex B stream. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "codec/split.h"
#include "sim/source.h"
#include "wire/h264.h"
#include "wire/jpeg.h"

#define CLIP_MOST SPLIT_MOST /* bytes; a clip is a few seconds */

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

/* What a picture tells of the clip: whether it is a key frame, and its size. */
static bool look(sim_clip *clip, const uint8_t *data, size_t size, bool *key)
{
    bmb_jpeg jpeg;
    bmb_h264_facts facts;
    bmb_sps sps;
    *key = true;
    if (clip->codec == BMB_CODEC_JPEG) {
        if (bmb_jpeg_parse(data, size, &jpeg) != BMB_OK) return false;
        clip->width = jpeg.width;
        clip->height = jpeg.height;
        return true;
    }
    if (bmb_h264_parse(data, size, &facts) != BMB_OK) return false;
    *key = facts.key;
    for (uint16_t i = 0; i < facts.count; i++) {
        const bmb_nal *unit = &facts.unit[i];
        if (bmb_nal_type_of(data[unit->at]) != BMB_NAL_SPS) continue;
        if (bmb_sps_parse(data + unit->at, unit->size, &sps) != BMB_OK) continue;
        clip->width = sps.width;
        clip->height = sps.height;
    }
    return true;
}

static bmb_err cut(sim_clip *clip, splitter *s)
{
    const uint8_t *picture;
    size_t size, at = 0;
    bool key;
    if (!splitter_add(s, clip->data, clip->size)) return BMB_NO_MEMORY;
    for (; splitter_next(s, true, &picture, &size); at += size) {
        clip->codec = s->kind == SPLIT_JPEG ? BMB_CODEC_JPEG : BMB_CODEC_H264;
        bmb_err err = look(clip, picture, size, &key) ? add_picture(clip, at, key) : BMB_BAD_DATA;
        if (err != BMB_OK) return err;
    }
    /* All of it, from a key frame on, or it is no clip. */
    bool whole = s->skipped == 0 && at == clip->size && clip->count > 0 && clip->width > 0;
    return whole && clip->key[0] ? BMB_OK : BMB_BAD_DATA;
}

bmb_err sim_clip_load(const char *path, sim_clip *out)
{
    splitter s = { 0 };
    memset(out, 0, sizeof *out);
    bmb_err err = read_file(path, out);
    splitter_begin(&s, SPLIT_UNKNOWN, 0);
    if (err == BMB_OK) err = cut(out, &s);
    splitter_free(&s);
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
