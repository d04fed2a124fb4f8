#include "sim/scene.h"

#include <math.h>
#include <stdio.h>

/* The palette of the railway. */
enum {
    SKY_TOP = 0x5B8FC7,
    SKY_LOW = 0xCFE3F2,
    HILL_FAR = 0x7FA58B,
    HILL_NEAR = 0x5C8A5E,
    GRASS = 0x6E9B4E,
    BALLAST = 0x8D8479,
    SLEEPER = 0x54463A,
    RAIL = 0xC3C8CC,
    PLATFORM = 0xB9B1A4,
    PLATFORM_EDGE = 0xF1EDE4,
    BRICK = 0xA9563F,
    ROOF = 0x5A4A48,
    WINDOW = 0xF5DF9C,
    LOCO_RED = 0xB8322A,
    LOCO_DARK = 0x2B2D31,
    COACH_GREEN = 0x2F6B4F,
    WAGON_BROWN = 0x7A5230,
    WAGON_BLUE = 0x35608F,
    WHITE = 0xF7F5EF,
    BLACK = 0x1B1C1F,
    SIGNAL_RED = 0xE8382D,
    SIGNAL_GREEN = 0x3CCB5A,
    STEAM = 0xE9ECEE
};

static void rect(canvas *c, float x, float y, float w, float h, uint32_t rgb)
{
    canvas_rect(c, x, y, w, h, colour_of(rgb));
}

static uint32_t mix(uint32_t a, uint32_t b, float share)
{
    uint32_t out = 0;
    for (unsigned shift = 0; shift < 24; shift += 8) {
        float from = (float)(a >> shift & 255), to = (float)(b >> shift & 255);
        out |= (uint32_t)(from + (to - from) * share) << shift;
    }
    return out;
}

static void sky(canvas *c, float horizon)
{
    const int bands = 24;
    float top = -canvas_height(c), tall = (horizon - top) / (float)bands;
    for (int i = 0; i < bands; i++)
        rect(c, 0, top + tall * (float)i, CANVAS_UNITS, tall + 2, mix(SKY_TOP, SKY_LOW, (float)i / (float)(bands - 1)));
}

static void hills(canvas *c, float horizon)
{
    const point far[] = { { 0, horizon },          { 0, horizon - 90 },    { 220, horizon - 190 },
                          { 420, horizon - 120 },  { 700, horizon - 240 }, { 980, horizon - 110 },
                          { 1240, horizon - 200 }, { 1600, horizon - 80 }, { 1600, horizon } };
    const point near[] = { { 0, horizon },         { 0, horizon - 40 },     { 300, horizon - 95 },
                           { 640, horizon - 30 },  { 1050, horizon - 110 }, { 1400, horizon - 45 },
                           { 1600, horizon - 75 }, { 1600, horizon } };
    canvas_polygon(c, far, sizeof far / sizeof far[0], colour_of(HILL_FAR));
    canvas_polygon(c, near, sizeof near / sizeof near[0], colour_of(HILL_NEAR));
}

/* A track seen from its side; y is the top of its rails. */
static void track(canvas *c, float y)
{
    rect(c, 0, y + 4, CANVAS_UNITS, 26, BALLAST);
    for (float x = 6; x < CANVAS_UNITS; x += 46) rect(c, x, y + 6, 26, 9, SLEEPER);
    rect(c, 0, y, CANVAS_UNITS, 6, RAIL);
}

static void tree(canvas *c, float x, float y, float size)
{
    rect(c, x - size * 0.06f, y - size * 0.4f, size * 0.12f, size * 0.4f, SLEEPER);
    canvas_disc(c, x, y - size * 0.62f, size * 0.32f, colour_of(0x3E7042));
    canvas_disc(c, x - size * 0.16f, y - size * 0.5f, size * 0.22f, colour_of(0x4B8250));
}

static void house(canvas *c, float x, float y, float w, float h)
{
    const point roof[] = {
        { x - 18, y - h }, { x + w * 0.14f, y - h - 70 }, { x + w * 0.86f, y - h - 70 }, { x + w + 18, y - h }
    };
    rect(c, x, y - h, w, h, BRICK);
    canvas_polygon(c, roof, 4, colour_of(ROOF));
    for (float at = x + 26; at + 44 < x + w; at += 78) {
        rect(c, at, y - h + 26, 44, 58, WHITE);
        rect(c, at + 4, y - h + 30, 36, 50, WINDOW);
        rect(c, at + 20, y - h + 30, 4, 50, WHITE);
    }
}

static void wheel(canvas *c, float x, float y, float radius, float angle)
{
    canvas_disc(c, x, y, radius, colour_of(BLACK));
    canvas_disc(c, x, y, radius * 0.72f, colour_of(LOCO_RED));
    for (int i = 0; i < 3; i++) {
        float a = angle + (float)i * 1.0472f, dx = cosf(a) * radius * 0.7f, dy = sinf(a) * radius * 0.7f;
        canvas_line(c, x - dx, y - dy, x + dx, y + dy, radius * 0.16f, colour_of(BLACK));
    }
}

static void coach(canvas *c, float x, float y, uint32_t body)
{
    rect(c, x, y - 118, 250, 92, body);
    rect(c, x - 4, y - 128, 258, 14, LOCO_DARK);
    rect(c, x, y - 52, 250, 5, WINDOW);
    for (float at = x + 16; at < x + 220; at += 46) rect(c, at, y - 104, 32, 34, WINDOW);
    rect(c, x + 6, y - 28, 238, 10, BLACK);
    rect(c, x + 250, y - 34, 16, 6, BLACK);
    for (int i = 0; i < 2; i++) canvas_disc(c, x + 46 + 158 * (float)i, y - 14, 15, colour_of(BLACK));
}

static void wagon(canvas *c, float x, float y, uint32_t body)
{
    rect(c, x, y - 78, 150, 52, body);
    for (float at = x + 12; at < x + 150; at += 30) rect(c, at, y - 78, 5, 52, LOCO_DARK);
    rect(c, x - 2, y - 28, 154, 9, BLACK);
    rect(c, x + 150, y - 32, 16, 6, BLACK);
    for (int i = 0; i < 2; i++) canvas_disc(c, x + 32 + 86 * (float)i, y - 13, 14, colour_of(BLACK));
}

/* Faces right; x is its rear. */
static void engine(canvas *c, float x, float y, float travelled, double t)
{
    float angle = travelled / 26.0f;
    for (int i = 0; i < 4; i++) { /* steam drifts back and grows */
        float age = fmodf((float)t * 0.7f + (float)i * 0.25f, 1.0f);
        canvas_disc(c, x + 240 - age * 170, y - 200 - age * 120, 16 + age * 34, colour_of(mix(STEAM, SKY_LOW, age)));
    }
    rect(c, x, y - 150, 92, 122, LOCO_RED);
    rect(c, x - 8, y - 164, 110, 16, LOCO_DARK);
    rect(c, x + 18, y - 138, 50, 44, WINDOW);
    rect(c, x + 92, y - 112, 180, 74, LOCO_DARK);
    rect(c, x + 130, y - 112, 7, 74, WINDOW);
    rect(c, x + 200, y - 112, 7, 74, WINDOW);
    rect(c, x + 228, y - 168, 28, 58, LOCO_DARK);
    rect(c, x + 150, y - 136, 32, 26, LOCO_RED);
    canvas_disc(c, x + 272, y - 84, 15, colour_of(WINDOW));
    rect(c, x - 4, y - 40, 292, 14, LOCO_RED);
    for (int i = 0; i < 3; i++) wheel(c, x + 50 + 82 * (float)i, y - 26, 26, angle);
    float dx = cosf(angle) * 14, dy = sinf(angle) * 14;
    canvas_line(c, x + 50 + dx, y - 26 + dy, x + 214 + dx, y - 26 + dy, 7, colour_of(RAIL));
}

static void signal_mast(canvas *c, float x, float y, int clear)
{
    rect(c, x - 5, y - 230, 10, 230, LOCO_DARK);
    rect(c, x - 24, y - 330, 48, 104, BLACK);
    canvas_disc(c, x, y - 304, 17, colour_of(clear ? 0x3A1512 : SIGNAL_RED));
    canvas_disc(c, x, y - 254, 17, colour_of(clear ? SIGNAL_GREEN : 0x0F2C16));
}

static void clock_face(canvas *c, float x, float y, float radius, uint32_t clock)
{
    float second = (float)(clock % 60) * 0.10472f, minute = (float)(clock % 3600) * 0.0017453f;
    float hour = (float)(clock % 43200) * 0.00014544f;
    canvas_disc(c, x, y, radius, colour_of(LOCO_DARK));
    canvas_disc(c, x, y, radius * 0.9f, colour_of(WHITE));
    for (int i = 0; i < 12; i++) {
        float a = (float)i * 0.5236f;
        canvas_line(c, x + sinf(a) * radius * 0.72f, y - cosf(a) * radius * 0.72f, x + sinf(a) * radius * 0.85f,
                    y - cosf(a) * radius * 0.85f, radius * 0.07f, colour_of(BLACK));
    }
    canvas_line(c, x, y, x + sinf(hour) * radius * 0.45f, y - cosf(hour) * radius * 0.45f, radius * 0.12f,
                colour_of(BLACK));
    canvas_line(c, x, y, x + sinf(minute) * radius * 0.7f, y - cosf(minute) * radius * 0.7f, radius * 0.08f,
                colour_of(BLACK));
    canvas_line(c, x, y, x + sinf(second) * radius * 0.78f, y - cosf(second) * radius * 0.78f, radius * 0.05f,
                colour_of(SIGNAL_RED));
}

static void clock_digits(canvas *c, float x, float y, float size, uint32_t clock)
{
    char text[16];
    snprintf(text, sizeof text, "%02u:%02u:%02u", clock / 3600 % 24, clock / 60 % 60, clock % 60);
    rect(c, x - size * 0.4f, y - size * 0.3f, size * 5.75f, size * 1.6f, BLACK);
    canvas_digits(c, x, y, size, text, colour_of(WINDOW));
}

/* Where a shuttling train is: rests at both ends, eases in between. Returns 0..1. */
static float shuttle(double t, double period)
{
    double phase = fmod(t, period) / period, way = phase < 0.5 ? phase * 2 : 2 - phase * 2;
    way = way < 0.1 ? 0 : way > 0.9 ? 1 : (way - 0.1) / 0.8;
    return (float)(way * way * (3 - 2 * way));
}

static void station_back(canvas *c)
{
    sky(c, -420);
    hills(c, -420);
    rect(c, 0, -420, CANVAS_UNITS, 420, GRASS);
    tree(c, 90, -330, 240);
    tree(c, 1520, -330, 280);
    tree(c, 1400, -340, 180);
    house(c, 360, -300, 700, 210);
    rect(c, 330, -440, 760, 16, ROOF);
    for (float x = 350; x < 1090; x += 144) rect(c, x, -430, 9, 130, LOCO_DARK);
    rect(c, 0, -300, CANVAS_UNITS, 62, PLATFORM);
    rect(c, 0, -244, CANVAS_UNITS, 10, PLATFORM_EDGE);
    rect(c, 0, -234, CANVAS_UNITS, 34, 0x6B655C);
    rect(c, 0, -200, CANVAS_UNITS, 200, BALLAST);
    track(c, -150);
}

static void station_front(canvas *c, double t, uint32_t clock)
{
    const float length = 1250;
    float x = (float)fmod(t * 190.0, (double)(CANVAS_UNITS + length)) - length;
    clock_face(c, 710, -570, 58, clock);
    signal_mast(c, 1260, -250, x > -500 && x < 700);
    coach(c, x, -150, COACH_GREEN);
    coach(c, x + 268, -150, COACH_GREEN);
    coach(c, x + 536, -150, WAGON_BLUE);
    rect(c, x + 800, -184, 30, 6, BLACK);
    engine(c, x + 826, -150, x, t);
}

static const float yard_tracks[] = { -170, -300, -430 };

static void yard_back(canvas *c)
{
    sky(c, -600);
    hills(c, -600);
    rect(c, 0, -600, CANVAS_UNITS, 600, GRASS);
    rect(c, 0, -570, CANVAS_UNITS, 470, 0x9A9184);
    house(c, 1180, -560, 330, 160);
    tree(c, 120, -580, 220);
    tree(c, 300, -590, 160);
    for (size_t i = 3; i-- > 0;) track(c, yard_tracks[i]);
    rect(c, 1560, -480, 16, 340, LOCO_RED); /* buffer stops */
}

static void yard_front(canvas *c, double t, uint32_t clock)
{
    float way = shuttle(t, 16), x = 120 + way * 760;
    signal_mast(c, 620, -520, way > 0.02f && way < 0.98f);
    for (int i = 0; i < 4; i++) wagon(c, 820 + 172 * (float)i, yard_tracks[2], i % 2 != 0 ? WAGON_BROWN : WAGON_BLUE);
    engine(c, x + 344, yard_tracks[1], x, t);
    wagon(c, x, yard_tracks[1], WAGON_BROWN);
    wagon(c, x + 172, yard_tracks[1], COACH_GREEN);
    float goods = 1500 - (float)fmod(t * 120, 2900);
    for (int i = 0; i < 5; i++) wagon(c, goods + 172 * (float)i, yard_tracks[0], i % 2 != 0 ? WAGON_BLUE : LOCO_RED);
    clock_digits(c, 70, -canvas_height(c) + 60, 64, clock);
}

static void cab_back(canvas *c)
{
    sky(c, -520);
    hills(c, -520);
    rect(c, 0, -520, CANVAS_UNITS, 520, GRASS);
}

/* Depth 0 is at the horizon, 1 at the windscreen. */
static float cab_y(float depth)
{
    return -520 + 460 * depth * depth;
}
static float cab_x(float side, float depth)
{
    return 800 + side * (20 + 620 * depth * depth);
}

static void cab_front(canvas *c, double t, uint32_t clock)
{
    const point bed[] = { { cab_x(-1.1f, 0), cab_y(0) },
                          { cab_x(1.1f, 0), cab_y(0) },
                          { cab_x(1.1f, 1), cab_y(1) },
                          { cab_x(-1.1f, 1), cab_y(1) } };
    canvas_polygon(c, bed, 4, colour_of(BALLAST));
    float move = (float)fmod(t * 0.55, 1.0);
    for (int i = 0; i < 14; i++) {
        float d = ((float)i + move) / 14, y = cab_y(d);
        const point sleeper[] = { { cab_x(-0.85f, d), y },
                                  { cab_x(0.85f, d), y },
                                  { cab_x(0.87f, d + 0.025f), cab_y(d + 0.025f) },
                                  { cab_x(-0.87f, d + 0.025f), cab_y(d + 0.025f) } };
        canvas_polygon(c, sleeper, 4, colour_of(SLEEPER));
    }
    for (int side = -1; side <= 1; side += 2) {
        const float s = (float)side * 0.6f;
        const point rail[] = { { cab_x(s, 0) - 1, cab_y(0) },
                               { cab_x(s, 0) + 1, cab_y(0) },
                               { cab_x(s, 1) + 15, cab_y(1) },
                               { cab_x(s, 1) - 15, cab_y(1) } };
        canvas_polygon(c, rail, 4, colour_of(RAIL));
    }
    float near = (float)fmod(t * 0.16, 1.0), size = near * near;
    rect(c, cab_x(1.5f, near) - 6 * size, cab_y(near) - 420 * size, 14 * size, 420 * size, LOCO_DARK);
    rect(c, cab_x(1.5f, near) - 30 * size, cab_y(near) - 520 * size, 62 * size, 130 * size, BLACK);
    canvas_disc(c, cab_x(1.5f, near), cab_y(near) - 455 * size, 28 * size,
                colour_of(fmod(t * 0.16, 2.0) < 1 ? SIGNAL_GREEN : SIGNAL_RED));
    rect(c, 0, -110, CANVAS_UNITS, 110, LOCO_DARK);
    rect(c, 0, -canvas_height(c), 60, canvas_height(c), LOCO_DARK);
    rect(c, CANVAS_UNITS - 60, -canvas_height(c), 60, canvas_height(c), LOCO_DARK);
    clock_digits(c, 110, -canvas_height(c) + 50, 80, clock);
}

void scene_background(canvas *c, bmb_sim_view view)
{
    static void (*const draw[BMB_VIEW_COUNT])(canvas *) = { station_back, yard_back, cab_back };
    draw[view](c);
}

void scene_foreground(canvas *c, bmb_sim_view view, double t, uint32_t clock)
{
    static void (*const draw[BMB_VIEW_COUNT])(canvas *, double, uint32_t) = { station_front, yard_front, cab_front };
    draw[view](c, t, clock);
}
