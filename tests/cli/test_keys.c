/* Every key of the configuration by itself, from the table: its bounds, its words, and its value as text again. */
#include "support/check.h"

#include <inttypes.h>

#include "cli/keys.h"

/* What the command provides. */
int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return 1;
}

static cli_config c;
static char why[600];

/* A configuration that says KEY = VALUE in its section, and as little else as it takes. */
static bool says(const key_row *k, const char *value)
{
    char text[1200];
    size_t culprit;
    bool camera = k->section == SECTION_CAMERA, feed = k->section == SECTION_FEED, tcp = k->section == SECTION_TCP,
         push = k->section == SECTION_PUSH, http = k->section == SECTION_HTTP;
    bool listen = strcmp(k->key, "listen") == 0, to = strcmp(k->key, "to") == 0;
    int n = snprintf(text, sizeof text,
                     "[http]\n%s%s%s%s\n"
                     "[camera yard]\n%s%s%s%s\n"
                     "[camera other]\nview = cab\n"
                     "[feed yard]\n%s%s%s%s\n"
                     "[feed other]\n",
                     http && listen ? "" : "listen = :8080\n", http ? k->key : "", http ? " = " : "", http ? value : "",
                     "", camera ? k->key : "", camera ? " = " : "", camera ? value : "", "", feed ? k->key : "",
                     feed ? " = " : "", feed ? value : "");
    char *at = text + n;
    size_t room = sizeof text - (size_t)n;
    if (tcp) snprintf(at, room, "[tcp yard]\n%s%s = %s\n", listen ? "" : "listen = :8600\n", k->key, value);
    if (push) snprintf(at, room, "[push yard]\n%s%s = %s\n", to ? "" : "to = udp://192.0.2.7:5000\n", k->key, value);
    if (!camera && !feed && !tcp && !push && !http)
        snprintf(at, room, "[%s]\n%s = %s\n", cli_section_names[k->section], k->key, value);
    FILE *f = fmemopen(text, strlen(text), "r");
    why[0] = '\0';
    return cli_config_parse_over(f, "c.ini", NULL, why, sizeof why, &culprit, &c);
}

/* The value that was read, as a file would say it. */
static const char *again(const key_row *k)
{
    static char out[600];
    const void *item = cli_section_item(&c, (section)k->section, "yard");
    assert_non_null(item);
    return cli_key_text(k, item, out, sizeof out) ? out : "";
}

static void taken(const key_row *k, const char *value, const char *text)
{
    if (!says(k, value)) fail_msg("[%s] %s = %s: %s", cli_section_names[k->section], k->key, value, why);
    if (strcmp(again(k), text) != 0)
        fail_msg("[%s] %s = %s: is \"%s\" again", cli_section_names[k->section], k->key, value, again(k));
}

static void refused(const key_row *k, const char *value, const char *text)
{
    if (says(k, value)) fail_msg("[%s] %s = %s: was taken", cli_section_names[k->section], k->key, value);
    if (strstr(why, text) == NULL)
        fail_msg("[%s] %s = %s: no \"%s\" in: %s", cli_section_names[k->section], k->key, value, text, why);
    assert_non_null(strstr(why, k->key));
}

static const char *number(const key_row *k, int64_t value)
{
    static char out[4][40];
    static unsigned turn;
    char *at = out[turn++ % 4];
    if (k->type == KEY_RATE)
        snprintf(at, sizeof out[0], "%.10g", (double)value / 1000);
    else
        snprintf(at, sizeof out[0], "%" PRId64, value);
    return at;
}

static bool stands_alone(const key_row *k)
{
    static const char *const with_others[] = { "raw-size",  "input-rate",    "format",       "shell",
                                               "clip-rate", "source",        "day-above",    "board",
                                               "wiring",    "quality-least", "quality-most", NULL };
    for (size_t i = 0; with_others[i] != NULL; i++)
        if (strcmp(k->key, with_others[i]) == 0) return false;
    return true;
}

static void numbers_have_bounds(void **state)
{
    (void)state;
    const key_row *k;
    unsigned count = 0;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        if (!cli_key_is_number(k) || cli_key_is_flag(k) || !stands_alone(k)) continue;
        bool rotates = strcmp(k->key, "rotate") == 0, hertz = strcmp(k->key, "flicker") == 0;
        int64_t step = k->type == KEY_RATE ? 100 : 1;
        count++;
        taken(k, number(k, k->least), number(k, k->least));
        if (!rotates && !hertz) taken(k, number(k, k->most), number(k, k->most));
        refused(k, number(k, k->least - step), "use ");
        refused(k, number(k, k->most + step), "use ");
        refused(k, "many", "a number is expected");
        refused(k, "7 of 9", "number");
        if (k->type != KEY_RATE) refused(k, "7.5", "a whole number is expected");
    }
    assert_true(count > 40);
}

static void flags_are_yes_or_no(void **state)
{
    (void)state;
    const key_row *k;
    unsigned count = 0;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        if (!cli_key_is_flag(k) || !stands_alone(k)) continue;
        count++;
        if (!says(k, "yes") && strstr(why, "yes or no") != NULL) fail_msg("%s: %s", k->key, why);
        taken(k, "off", "0");
        refused(k, "2", "yes or no is expected");
    }
    assert_true(count > 10);
}

static void words_are_those_of_the_table(void **state)
{
    (void)state;
    const key_row *k;
    unsigned count = 0;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        const char *const *words = cli_key_choices(k);
        assert_int_equal(words != NULL, k->type == KEY_CHOICE);
        if (words == NULL || !stands_alone(k)) continue;
        char values[512];
        cli_key_values(k, values, sizeof values);
        for (size_t w = 0; words[w] != NULL; w++, count++) {
            char quoted[40];
            taken(k, words[w], words[w]);
            snprintf(quoted, sizeof quoted, "`%s`", words[w]);
            assert_non_null(strstr(values, quoted));
        }
        refused(k, "nosuchword", "use one of ");
        char near[40];
        snprintf(near, sizeof near, "%sx", words[0]);
        refused(k, near, "did you mean");
    }
    assert_true(count > 25);
}

static void texts_and_addresses_come_back(void **state)
{
    (void)state;
    static const struct {
        section section;
        const char *key, *value, *text;
    } good[] = {
        { SECTION_DEVICE, "name", "Valley railway", "Valley railway" },
        { SECTION_FEED, "title", "Sidings", "Sidings" },
        { SECTION_FEED, "camera", "other", "other" },
        { SECTION_FEED, "size", "16x16", "16x16" },
        { SECTION_FEED, "size", "8192x8192", "8192x8192" },
        { SECTION_FEED, "multicast", "auto", "auto" },
        { SECTION_FEED, "multicast", "239.255.1.2:5004", "239.255.1.2:5004" },
        { SECTION_HTTP, "listen", "127.0.0.1:81", "127.0.0.1:81" },
        { SECTION_HTTP, "secure", "127.0.0.1:444", "127.0.0.1:444" },
        { SECTION_RTSP, "listen", "[::1]:554", "[::1]:554" },
        { SECTION_TCP, "listen", "192.0.2.1:0", "192.0.2.1:0" },
        { SECTION_PUSH, "to", "tcp://192.0.2.7:5000", "tcp://192.0.2.7:5000" },
        { SECTION_PUSH, "interface", "192.0.2.1", "192.0.2.1" },
    };
    static const struct {
        section section;
        const char *key, *value, *why;
    } bad[] = {
        { SECTION_FEED, "size", "15x16", "use 16 to 8192" },
        { SECTION_FEED, "size", "16x15", "use 16 to 8192" },
        { SECTION_FEED, "size", "8193x16", "use 16 to 8192" },
        { SECTION_FEED, "size", "16x8193", "use 16 to 8192" },
        { SECTION_FEED, "size", "640", "WIDTHxHEIGHT is expected" },
        { SECTION_FEED, "size", "640*480", "WIDTHxHEIGHT is expected" },
        { SECTION_FEED, "size", "640x480x3", "WIDTHxHEIGHT is expected" },
        { SECTION_HTTP, "secure", "maybe", "yes or no is expected, or ADDRESS:PORT such as :443" },
        { SECTION_RTSP, "secure", "maybe", "such as :322" },
        { SECTION_RTSP, "listen", "here", "listen" },
        { SECTION_PUSH, "interface", "here", "interface" },
    };
    for (size_t i = 0; i < sizeof good / sizeof good[0]; i++)
        taken(cli_key_named(good[i].section, good[i].key), good[i].value, good[i].text);
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++)
        refused(cli_key_named(bad[i].section, bad[i].key), bad[i].value, bad[i].why);
    char text[80];
    memset(text, 'x', sizeof text);
    text[63] = '\0';
    taken(cli_key_named(SECTION_FEED, "title"), text, text);
    text[63] = 'x', text[64] = '\0';
    refused(cli_key_named(SECTION_FEED, "title"), text, "use 1 to 63 characters");
    assert_null(cli_key_named(SECTION_FEED, "viewers"));
    assert_null(cli_key_named(SECTION_DEVICE, "viewer"));
}

/* Bytes may have K or M behind them; nothing else. */
static void units_of_bytes(void **state)
{
    (void)state;
    const key_row *k = cli_key_named(SECTION_FEED, "frame-max");
    taken(k, "64K", "65536");
    taken(k, "2M", "2097152");
    refused(k, "2G", "with K or M");
    refused(k, "2KB", "with K or M");
    refused(cli_key_named(SECTION_DEVICE, "viewers"), "2K", "a whole number is expected");
    taken(cli_key_named(SECTION_FEED, "rate"), "7.5", "7.5");
}

/* What the reference calls the preset is what a configuration has that says nothing. */
static void what_nobody_says_is_the_preset(void **state)
{
    (void)state;
    const key_row *k;
    unsigned count = 0;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        const char *preset = cli_key_preset(k);
        const key_row *other = k->section >= SECTION_TCP ? cli_key_named((section)k->section, "keep-all")
                                                         : cli_key_named(SECTION_DEVICE, "name");
        bool number = preset[0] != '\0' && preset[strspn(preset, "0123456789.")] == '\0';
        const char *const *words = cli_key_choices(k);
        for (size_t w = 0; words != NULL && words[w] != NULL; w++) number = number || strcmp(words[w], preset) == 0;
        if (k->type == KEY_CONTROL || !number) continue;
        assert_true(says(other, k->section >= SECTION_TCP ? "no" : "railway"));
        const char *is = again(k);
        /* Nothing: that is what 0 means there, or the core's own preset. */
        if (is[0] == '\0' && (strcmp(preset, "0") == 0 || cli_section_is_list((section)k->section))) continue;
        count++;
        if (strcmp(is, preset) != 0)
            fail_msg("[%s] %s: %s, told: %s", cli_section_names[k->section], k->key, is, preset);
    }
    assert_true(count > 25);
}

static void what_was_meant_is_found(void **state)
{
    (void)state;
    static const char *const names[] = { "viewers", "view", "rate", "quality",
                                         "a-name-of-more-than-forty-letters-is-far-away" };
    static const struct {
        const char *text, *near;
    } rows[] = { { "viewer", "viewers" }, { "vewers", "viewers" }, { "veiw", "view" }, { "rat", "rate" },
                 { "raet", "rate" },      { "qualty", "quality" }, { "zzzz", NULL },   { "abcdef", NULL },
                 { "rates", "rate" },     { "srate", "rate" } };
    for (size_t i = 0; i < sizeof rows / sizeof rows[0]; i++) {
        const char *near = cli_nearest(rows[i].text, names, 5);
        if (rows[i].near == NULL ? near != NULL : near == NULL || strcmp(near, rows[i].near) != 0)
            fail_msg("%s: %s", rows[i].text, near != NULL ? near : "nothing");
    }
    assert_null(cli_nearest("a-name-of-more-than-forty-letters-is-far-awa", names, 5)); /* it is bounded */
}

/* The keys for which `of` holds, as "section.key section.key …". */
static const char *those(bool (*of)(const key_row *))
{
    static char out[4000];
    const key_row *k;
    size_t at = 0;
    out[0] = '\0';
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++)
        if (of(k))
            at += (size_t)snprintf(out + at, sizeof out - at, "%s%s.%s", at > 0 ? " " : "",
                                   cli_section_names[k->section], k->key);
    return out;
}

static void who_may_set_what(void **state)
{
    (void)state;
    assert_string_equal(those(cli_key_is_local),
                        "device.board device.wiring device.state device.secrets device.pages device.users "
                        "device.light-file device.figures tls.certificate tls.key camera.source camera.device "
                        "camera.clip camera.program camera.shell camera.input push.sdp");
    assert_string_equal(those(cli_key_is_dangerous), "device.memory device.request-buffer device.anybody device.names "
                                                     "network.ssid http.listen http.secure http.plain");
    assert_string_equal(those(cli_key_is_adjusted),
                        "feed.size feed.rate feed.quality feed.kbps feed.quality-least feed.quality-most feed.key-ms "
                        "feed.flip-h feed.flip-v feed.brightness feed.contrast feed.saturation feed.sharpness "
                        "feed.rotate feed.exposure-us feed.gain feed.white-k feed.flicker feed.night feed.night-below "
                        "feed.day-above feed.night-after feed.night-light feed.illumination feed.focus feed.zoom "
                        "feed.pan feed.tilt feed.hue feed.gamma feed.backlight feed.profile");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(numbers_have_bounds),
        cmocka_unit_test(flags_are_yes_or_no),
        cmocka_unit_test(words_are_those_of_the_table),
        cmocka_unit_test(texts_and_addresses_come_back),
        cmocka_unit_test(units_of_bytes),
        cmocka_unit_test(what_nobody_says_is_the_preset),
        cmocka_unit_test(who_may_set_what),
        cmocka_unit_test(what_was_meant_is_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
