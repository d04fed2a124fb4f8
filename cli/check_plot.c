/* How delays and intervals are spread, as a picture. */
#include <string.h>

#include "check.h"

#ifdef BAMBINO_PLOT
#include <cairo/cairo.h>

#define WIDTH 1200
#define HEIGHT 700
#define LEFT 80.0
#define RIGHT 1170.0
#define BARS 60u

static const double colours[CHECK_MOST][3] = { { 0.13, 0.42, 0.53 }, { 0.80, 0.42, 0.13 }, { 0.35, 0.55, 0.22 },
                                               { 0.55, 0.25, 0.50 }, { 0.60, 0.50, 0.10 }, { 0.25, 0.30, 0.65 },
                                               { 0.70, 0.20, 0.25 }, { 0.35, 0.35, 0.35 } };

static void text(cairo_t *c, double x, double y, double size, const char *what)
{
    cairo_set_font_size(c, size);
    cairo_move_to(c, x, y);
    cairo_show_text(c, what);
}

static double share(const measure_spread *s, uint32_t from, uint32_t step)
{
    uint32_t sum = 0;
    for (uint32_t k = from; k < from + step && k <= MEASURE_MS_MOST; k++) sum += s->at[k];
    return s->count > 0 ? 100.0 * sum / s->count : 0;
}

static const measure_spread *spread_of(const receive *r, bool delay)
{
    return delay ? &r->m.delay : &r->m.interval;
}

/* One of the two, between these heights: the share of pictures over milliseconds. */
static void draw(cairo_t *c, const check_run *run, bool delay, double top, double bottom)
{
    static const uint32_t steps[] = { 1, 2, 5, 10, 20, 50, 100, 200 };
    uint32_t high = 10;
    size_t n = 0;
    double most = 1;
    char label[120];
    for (size_t i = 0; i < run->count; i++) {
        const measure_spread *s = spread_of(&run->receivers[i], delay);
        if (s->count > 0 && measure_spread_part(s, 99.8) > high) high = (uint32_t)measure_spread_part(s, 99.8) + 1;
    }
    while (n + 1 < sizeof steps / sizeof steps[0] && high / steps[n] > BARS) n++;
    uint32_t step = steps[n], bars = high / step + 1;
    for (size_t i = 0; i < run->count; i++)
        for (uint32_t b = 0; b < bars; b++) {
            double v = share(spread_of(&run->receivers[i], delay), b * step, step);
            if (v > most) most = v;
        }
    most = most > 20 ? 20.0 * (double)((unsigned)(most + 19.99) / 20) : 4.0 * (double)((unsigned)(most + 3.99) / 4);
    cairo_set_source_rgb(c, 0.15, 0.15, 0.15);
    snprintf(label, sizeof label,
             delay ? "Delay: how old pictures were when they had arrived, per cent of all over ms"
                   : "Intervals between pictures, per cent of all over ms");
    text(c, LEFT, top - 14, 17, label);
    cairo_set_line_width(c, 1);
    for (unsigned k = 0; k <= 4; k++) {
        double y = bottom - (bottom - top) * k / 4.0;
        cairo_set_source_rgb(c, 0.86, 0.86, 0.84);
        cairo_move_to(c, LEFT, y);
        cairo_line_to(c, RIGHT, y);
        cairo_stroke(c);
        cairo_set_source_rgb(c, 0.35, 0.35, 0.35);
        snprintf(label, sizeof label, "%.0f %%", most * k / 4.0);
        text(c, 30, y + 5, 13, label);
    }
    double across = (RIGHT - LEFT) / bars;
    uint32_t every = 1;
    for (size_t i = 0; i < sizeof steps / sizeof steps[0] && bars / every > 12; i++) every = steps[i];
    for (uint32_t b = 0; b < bars; b += every) {
        snprintf(label, sizeof label, "%u", b * step);
        text(c, LEFT + b * across, bottom + 20, 13, label);
    }
    for (size_t i = 0; i < run->count; i++) {
        const measure_spread *s = spread_of(&run->receivers[i], delay);
        double wide = across * 0.86 / (double)run->count;
        if (s->count == 0) continue;
        cairo_set_source_rgb(c, colours[i][0], colours[i][1], colours[i][2]);
        for (uint32_t b = 0; b < bars; b++) {
            double v = share(s, b * step, step) / most * (bottom - top);
            if (v == 0) continue;
            if (v < 1) v = 1; /* one picture of a thousand is seen */
            cairo_rectangle(c, LEFT + b * across + across * 0.07 + wide * (double)i, bottom - v, wide, v);
        }
        cairo_fill(c);
    }
}

/* Whose colour is whose, in words that hold without them, too. */
static void draw_names(cairo_t *c, const check_run *run)
{
    char label[900];
    for (size_t i = 0; i < run->count; i++) {
        const receive *r = &run->receivers[i];
        double y = 34 + 20.0 * (double)i;
        cairo_set_source_rgb(c, colours[i][0], colours[i][1], colours[i][2]);
        cairo_rectangle(c, LEFT, y - 11, 12, 12);
        cairo_fill(c);
        cairo_set_source_rgb(c, 0.15, 0.15, 0.15);
        if (r->m.all.pictures == 0)
            snprintf(label, sizeof label, "%s: no picture came", r->to.text);
        else if (r->m.delay.count == 0)
            snprintf(label, sizeof label, "%s, %s: %.1f/s; delay not known", r->to.text, r->way, measure_rate(&r->m));
        else
            snprintf(label, sizeof label, "%s, %s: %.1f/s; delay %.0f ms in the median, 95 %% under %.0f ms",
                     r->to.text, r->way, measure_rate(&r->m), measure_spread_part(&r->m.delay, 50),
                     measure_spread_part(&r->m.delay, 95));
        text(c, LEFT + 20, y, 15, label);
    }
}

bool check_plot(const check_run *run, const char *path)
{
    cairo_surface_t *surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, WIDTH, HEIGHT);
    cairo_t *c = cairo_create(surface);
    double head = 30 + 20.0 * (double)run->count + 40, each = (HEIGHT - head - 130) / 2;
    cairo_set_source_rgb(c, 1, 1, 1);
    cairo_paint(c);
    cairo_select_font_face(c, "sans-serif", CAIRO_FONT_SLANT_NORMAL, CAIRO_FONT_WEIGHT_NORMAL);
    draw_names(c, run);
    draw(c, run, true, head, head + each);
    draw(c, run, false, head + each + 85, head + 2 * each + 85);
    cairo_destroy(c);
    cairo_status_t status = cairo_surface_write_to_png(surface, path);
    cairo_surface_destroy(surface);
    if (status != CAIRO_STATUS_SUCCESS)
        return cli_error("%s cannot be written; check the folder and its permissions", path), false;
    return true;
}

#else

bool check_plot(const check_run *run, const char *path)
{
    (void)run;
    return cli_error("%s: this build draws no plots (it was made without libcairo)", path), false;
}

#endif
