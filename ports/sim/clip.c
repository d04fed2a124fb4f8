/* Clips: JPEG images one after the other in one file. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "sim/source.h"
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

bmb_err sim_clip_load(const char *path, sim_clip *out)
{
    memset(out, 0, sizeof *out);
    bmb_err err = read_file(path, out);
    if (err == BMB_OK) err = cut_jpeg(out);
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
