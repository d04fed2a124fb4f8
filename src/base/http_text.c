#include "base/http_text.h"

#include "bambino/options.h"

#define DAY_S 86400
#define ERA_DAYS 146097u /* 400 years of the Gregorian calendar */

typedef struct date {
    uint32_t year, month, day; /* from 1 */
} date;

/* Years are counted from March, so that the leap day is the last of its year. */
static date date_of(uint32_t days_since_1970)
{
    uint32_t days = days_since_1970 + 719468, era = days / ERA_DAYS, in_era = days % ERA_DAYS;
    uint32_t year = (in_era - in_era / 1460 + in_era / 36524 - in_era / 146096) / 365;
    uint32_t in_year = in_era - (365 * year + year / 4 - year / 100), month = (5 * in_year + 2) / 153;
    return (date){ .year = year + era * 400 + (month >= 10),
                   .month = month < 10 ? month + 3 : month - 9,
                   .day = in_year - (153 * month + 2) / 5 + 1 };
}

static void put_two(bmb_writer *w, uint32_t v, char behind)
{
    bmb_put_u8(w, (uint8_t)('0' + v / 10 % 10));
    bmb_put_u8(w, (uint8_t)('0' + v % 10));
    bmb_put_u8(w, (uint8_t)behind);
}

void bmb_put_http_date(bmb_writer *w, int64_t unix_us)
{
    static const char days[] = "ThuFriSatSunMonTueWed", months[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
    if (!BMB_WITH_WALL_CLOCK || unix_us <= 0) return;
    uint64_t s = (uint64_t)unix_us / 1000000;
    uint32_t of_day = (uint32_t)(s % DAY_S), day = (uint32_t)(s / DAY_S);
    const date d = date_of(day);
    bmb_put_str(w, "Date: ");
    bmb_put_bytes(w, days + 3 * (day % 7), 3);
    bmb_put_str(w, ", ");
    put_two(w, d.day, ' ');
    bmb_put_bytes(w, months + 3 * (d.month - 1), 3);
    bmb_put_text(w, " %u ", (unsigned)d.year);
    put_two(w, of_day / 3600, ':');
    put_two(w, of_day / 60 % 60, ':');
    put_two(w, of_day % 60, ' ');
    bmb_put_str(w, "GMT\r\n");
}

void bmb_put_http_policy(bmb_writer *w, bool embeds, const char *origin)
{
    if (!BMB_WITH_ACCESS) return;
    bmb_put_str(w, "X-Content-Type-Options: nosniff\r\n");
    if (!embeds) bmb_put_str(w, "Cross-Origin-Resource-Policy: same-origin\r\n");
    if (origin != NULL) bmb_put_text(w, "Access-Control-Allow-Origin: %s\r\nVary: Origin\r\n", origin);
}

void bmb_put_http_end(bmb_writer *w, bool keep_alive, bool old)
{
    if (keep_alive && old) bmb_put_str(w, "Connection: keep-alive\r\n");
    if (!keep_alive) bmb_put_str(w, "Connection: close\r\n");
    bmb_put_str(w, "\r\n");
}
