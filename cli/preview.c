/* What qualities cost on the present scene, and a contact sheet to look at: one PNG, each picture with its quality and
 * size below it. */
#include <stdlib.h>
#include <string.h>

#include "cli.h"

#ifdef BAMBINO_SHEET
#include <jpeglib.h>
#include <png.h>
#endif

#define QUALITIES 8
static const int32_t qualities[QUALITIES] = { 10, 25, 40, 55, 70, 80, 90, 95 };

#ifdef BAMBINO_SHEET
#define COLUMNS 4
#define TILE_W 400
#define TILE_H 300 /* of the picture's middle, at its own size: that is where blocks are seen */
#define LABEL_H 40
#define GAP 8 /* dark, between two pictures */
#define PART_W (TILE_W - GAP)
#define PART_H (TILE_H - GAP)
#define SHEET_W (COLUMNS * TILE_W)
#define SHEET_H (QUALITIES / COLUMNS * (TILE_H + LABEL_H))

static uint8_t sheet[SHEET_H][SHEET_W][3];

/* Seven rows of five dots, the leftmost in bit 4. */
typedef struct glyph {
    char c;
    uint8_t rows[7];
} glyph;
static const glyph glyphs[] = {
    { '0', { 14, 17, 19, 21, 25, 17, 14 } }, { '1', { 4, 12, 4, 4, 4, 4, 14 } },
    { '2', { 14, 17, 1, 6, 8, 16, 31 } },    { '3', { 14, 17, 1, 6, 1, 17, 14 } },
    { '4', { 2, 6, 10, 18, 31, 2, 2 } },     { '5', { 31, 16, 30, 1, 1, 17, 14 } },
    { '6', { 6, 8, 16, 30, 17, 17, 14 } },   { '7', { 31, 1, 2, 4, 8, 8, 8 } },
    { '8', { 14, 17, 17, 14, 17, 17, 14 } }, { '9', { 14, 17, 17, 15, 1, 2, 12 } },
    { 'q', { 0, 0, 15, 17, 15, 1, 1 } },     { 'u', { 0, 0, 17, 17, 17, 19, 13 } },
    { 'a', { 0, 0, 14, 1, 15, 17, 15 } },    { 'l', { 12, 4, 4, 4, 4, 4, 14 } },
    { 'i', { 4, 0, 12, 4, 4, 4, 14 } },      { 't', { 8, 8, 28, 8, 8, 9, 6 } },
    { 'y', { 0, 0, 17, 17, 15, 1, 14 } },    { 'K', { 17, 18, 20, 24, 20, 18, 17 } },
    { 'B', { 30, 17, 17, 30, 17, 17, 30 } }, { '.', { 0, 0, 0, 0, 0, 12, 12 } },
};
#define DOT 3u /* pixels */

static void put_text(size_t x, size_t y, const char *text)
{
    for (; *text != '\0'; text++, x += 6 * DOT) {
        for (size_t g = 0; g < sizeof glyphs / sizeof glyphs[0]; g++) {
            if (glyphs[g].c != *text) continue;
            for (size_t i = 0; i < 7u * DOT * 5u * DOT; i++) {
                size_t row = i / (5u * DOT), column = i % (5u * DOT);
                if ((glyphs[g].rows[row / DOT] >> (4 - column / DOT) & 1) != 0)
                    memset(sheet[y + row][x + column], 235, 3);
            }
        }
    }
}

/* The middle of the picture, decoded into the sheet. */
static bool put_picture(size_t x, size_t y, const uint8_t *jpeg, size_t size)
{
    struct jpeg_decompress_struct lib;
    struct jpeg_error_mgr errors;
    lib.err = jpeg_std_error(&errors); /* the device has checked the image; a failure would end the command */
    jpeg_create_decompress(&lib);
    jpeg_mem_src(&lib, jpeg, size);
    jpeg_read_header(&lib, TRUE);
    lib.out_color_space = JCS_RGB;
    jpeg_start_decompress(&lib);
    uint8_t *line = malloc((size_t)lib.output_width * 3);
    size_t from_x = lib.output_width > PART_W ? (lib.output_width - PART_W) / 2 : 0;
    size_t from_y = lib.output_height > PART_H ? (lib.output_height - PART_H) / 2 : 0;
    size_t width = lib.output_width < PART_W ? lib.output_width : PART_W;
    while (line != NULL && lib.output_scanline < lib.output_height) {
        size_t row = lib.output_scanline;
        jpeg_read_scanlines(&lib, &line, 1);
        if (row >= from_y && row < from_y + PART_H) memcpy(sheet[y + row - from_y][x], line + from_x * 3, width * 3);
    }
    bool good = line != NULL;
    free(line);
    jpeg_destroy_decompress(&lib);
    return good;
}

static bool write_png(const char *path)
{
    png_image image = { .version = PNG_IMAGE_VERSION, .width = SHEET_W, .height = SHEET_H, .format = PNG_FORMAT_RGB };
    png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(image);
    void *whole = malloc(size);
    bool ok = whole != NULL && png_image_write_to_memory(&image, whole, &size, 0, sheet, 0, NULL) != 0 &&
              bmb_linux_write_whole(path, whole, size, true) == BMB_OK;
    free(whole);
    return ok;
}
#endif

static bmb_err one(cli_device *d, size_t index, const bmb_mode *mode, size_t n, double *bytes)
{
    const bmb_cameras *cameras = &d->port.cameras;
    bmb_camera_frame frame;
    int32_t effective;
    bmb_err err = cameras->set(cameras->ctx, index, BMB_CONTROL_QUALITY, qualities[n], &effective);
    if (err == BMB_OK) err = cli_fetch_still(d, index, mode, &frame);
    if (err != BMB_OK) return err;
    *bytes = (double)frame.size;
#ifdef BAMBINO_SHEET
    char label[32];
    size_t x = n % COLUMNS * TILE_W, y = n / COLUMNS * (TILE_H + LABEL_H);
    snprintf(label, sizeof label, "quality %d  %.1f KiB", effective, (double)frame.size / 1024.0);
    if (put_picture(x, y, frame.data, frame.size)) put_text(x + 8, y + TILE_H - GAP + (LABEL_H - 7 * DOT) / 2, label);
#endif
    cameras->release(cameras->ctx, index, frame.cookie);
    cameras->stop(cameras->ctx, index);
    return BMB_OK;
}

static bmb_mode mode_of(const cli_device *d, const char *camera, const bmb_camera_info *info)
{
    bmb_mode mode = { BMB_CODEC_JPEG, info->modes[0].width, info->modes[0].height, 10000 };
    for (size_t i = 0; i < d->file.feed_count; i++) {
        const cli_feed *f = &d->file.feeds[i];
        if (strcmp(f->camera, camera) != 0) continue;
        if (f->width > 0) {
            mode.width = f->width;
            mode.height = f->height;
        }
        if (f->mfps > 0) mode.mfps = f->mfps;
    }
    return mode;
}

int cli_preview(cli_device *d, const char *camera, const char *out)
{
    size_t index;
    bmb_camera_info info;
    char text[64];
    if (!cli_find_camera(d, camera, &index, &info)) return EXIT_FAILED;
    if (info.modes[0].codec != BMB_CODEC_JPEG || info.controls[BMB_CONTROL_QUALITY].step == 0)
        return cli_error("camera \"%s\" has no JPEG quality to choose", camera);
    bmb_mode mode = mode_of(d, camera, &info);
    cli_apply_controls(d, index, camera);
    printf("%s, %s: the present scene\n\n  quality   bytes   kbit/s\n", camera,
           cli_mode_text(&mode, text, sizeof text));
    for (size_t n = 0; n < QUALITIES; n++) {
        double bytes = 0;
        bmb_err err = one(d, index, &mode, n, &bytes);
        if (err != BMB_OK) return cli_error("camera \"%s\" gave no picture: %s", camera, bmb_err_text(err));
        printf("  %7d  %6.0f  %7.0f\n", qualities[n], bytes, bytes * 8 * mode.mfps / 1e6);
    }
#ifdef BAMBINO_SHEET
    char named[BMB_NAME_MAX + 20];
    snprintf(named, sizeof named, "%s-qualities.png", camera);
    if (out == NULL) out = named;
    if (!write_png(out)) return cli_error("%s cannot be written; check the folder and its permissions", out);
    printf("\n%s: the middle of each picture, with its quality and KiB\n", out);
    return EXIT_OK;
#else
    if (out == NULL) return EXIT_OK;
    return cli_error("this build has no libjpeg or libpng for the sheet");
#endif
}
