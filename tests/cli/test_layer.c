/* What is changed over a configuration file: as rows, as a text, and as the difference of two configurations. */
#include "support/check.h"

#include "cli/keys.h"
#include "cli/settings.h"

/* What the command provides. */
int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return 1;
}

static char why[400];
static size_t culprit;

static const char base[] =
    "[device]\nname = Valley railway\nviewers = 20\n[http]\nlisten = 127.0.0.1:8080\n"
    "[camera yard]\nview = yard\n[camera loco]\nview = cab\n"
    "[feed yard]\nsize = 320x240\nrate = 15\n[feed loco]\nquality = 60\n"
    "[tcp raw]\nlisten = 127.0.0.1:8600\nfeed = yard\n[push away]\nto = udp://192.0.2.7:5000\nfeed = loco\n";

static bool parse(const char *text, const cli_layer *over, cli_config *out)
{
    FILE *f = fmemopen((void *)(uintptr_t)text, strlen(text), "r");
    why[0] = '\0';
    return cli_config_parse_over(f, "c.ini", over, why, sizeof why, &culprit, out);
}

static cli_change row(section s, const char *name, const char *key, const char *value)
{
    cli_change c = { .section = (uint8_t)s };
    snprintf(c.name, sizeof c.name, "%s", name);
    snprintf(c.key, sizeof c.key, "%s", key);
    snprintf(c.value, sizeof c.value, "%s", value);
    return c;
}

static void set(cli_layer *l, section s, const char *name, const char *key, const char *value)
{
    const cli_change c = row(s, name, key, value);
    assert_true(cli_layer_set(l, &c));
}

static void rows_are_set_found_and_dropped(void **state)
{
    (void)state;
    cli_layer l = { NULL, 0 }, copy;
    set(&l, SECTION_FEED, "yard", "rate", "10");
    set(&l, SECTION_FEED, "loco", "rate", "5");
    set(&l, SECTION_DEVICE, "", "name", "Hill railway");
    set(&l, SECTION_FEED, "yard", "rate", "12"); /* in place of the first */
    assert_int_equal(l.count, 3);
    assert_string_equal(l.rows[0].value, "12");
    assert_int_equal(cli_layer_find(&l, SECTION_FEED, "loco", "rate"), 1);
    assert_int_equal(cli_layer_find(&l, SECTION_FEED, "loco", NULL), 1);
    assert_true(cli_layer_find(&l, SECTION_FEED, "loco", "size") == SIZE_MAX);
    assert_true(cli_layer_find(&l, SECTION_CAMERA, "loco", NULL) == SIZE_MAX);
    assert_true(cli_layer_copy(&copy, &l));
    cli_layer_drop(&l, 3); /* there is none */
    assert_int_equal(l.count, 3);
    cli_layer_drop(&l, 0);
    assert_int_equal(l.count, 2);
    assert_string_equal(l.rows[0].name, "loco");
    assert_string_equal(l.rows[1].key, "name");
    assert_int_equal(copy.count, 3);
    assert_string_equal(copy.rows[0].value, "12");
    cli_layer_free(&copy);
    cli_layer_free(&l);
    assert_true(cli_layer_copy(&copy, &l));
    assert_int_equal(copy.count, 0);
    for (unsigned i = 0; i < CLI_CHANGES_MOST; i++) {
        char name[16];
        snprintf(name, sizeof name, "f%u", i);
        set(&l, SECTION_FEED, name, "rate", "10");
    }
    const cli_change more = row(SECTION_FEED, "more", "rate", "10");
    assert_false(cli_layer_set(&l, &more));
    cli_layer_free(&l);
}

static void a_layer_is_its_text(void **state)
{
    (void)state;
    cli_layer l = { NULL, 0 }, again = { NULL, 0 };
    set(&l, SECTION_FEED, "yard", "rate", "10");
    set(&l, SECTION_DEVICE, "", "name", "Hill railway");
    set(&l, SECTION_FEED, "yard", "size", "");
    set(&l, SECTION_FEED, "loco", "", "");
    char *text = cli_layer_text(&l);
    const char *rows = strchr(text, '\n') + 1;
    assert_string_equal(
        rows, "\n[feed yard]\nrate = 10\nsize = \n\n[device]\nname = Hill railway\n\n[feed loco]\nremoved = 1\n");
    assert_int_equal(cli_layer_read(&again, text), 0);
    assert_int_equal(again.count, 4);
    char *second = cli_layer_text(&again);
    assert_string_equal(second, text);
    free(second);
    free(text);
    cli_layer_free(&again);
    cli_layer_free(&l);
}

static void what_a_text_may_not_say_is_counted(void **state)
{
    (void)state;
    static const char *const odd[] = {
        "[nosuch]\na = 1\n",
        "[feed]\nrate = 10\n",
        "[device yard]\nname = a\n",
        "[feed yard]\nnosuch = 1\n",
        "[camera yard]\nprogram = rm\n",
        "[device]\nusers = /tmp/u\n",
        "[feed a-name-that-is-longer-than-any-feed-may-have-it]\nrate = 1\n",
    };
    for (size_t i = 0; i < sizeof odd / sizeof odd[0]; i++) {
        cli_layer l = { NULL, 0 };
        char text[200];
        snprintf(text, sizeof text, "%s[feed yard]\nrate = 10\n", odd[i]);
        if (cli_layer_read(&l, text) != 1) fail_msg("%s", odd[i]);
        assert_int_equal(l.count, 1); /* the rest is taken */
        assert_string_equal(l.rows[0].key, "rate");
        cli_layer_free(&l);
    }
}

/* The difference, laid over the first, is the second. */
static void a_difference_leads_from_one_to_the_other(void **state)
{
    (void)state;
    static cli_config from, to, got;
    static const struct {
        const char *text;
        size_t rows, local;
    } others[] = {
        { base, 0, 0 },
        { "[device]\nname = Hill railway\nviewers = 20\n[http]\nlisten = 127.0.0.1:8080\n[camera yard]\nview = "
          "yard\n[camera "
          "loco]\nview = cab\n"
          "[feed yard]\nsize = 640x480\n[feed loco]\nquality = 60\n[tcp raw]\nlisten = 127.0.0.1:8600\nfeed = "
          "yard\n[push "
          "away]\nto = "
          "udp://192.0.2.7:5000\nfeed = loco\n",
          3, 0 }, /* a name, a size, and a rate that is not said any more */
        { "[http]\nlisten = 127.0.0.1:8080\n[camera yard]\nview = yard\n[feed yard]\nsize = 320x240\nrate = 15\n", 6,
          0 },
        { "[device]\nname = Valley railway\nviewers = 20\nstate = here\n[http]\nlisten = 127.0.0.1:8080\n[camera "
          "yard]\nview = "
          "yard\n[camera "
          "loco]\nview = cab\n[feed yard]\nsize = 320x240\nrate = 15\n[feed loco]\nquality = 60\n[feed more]\ncamera = "
          "loco\nflip-h = "
          "yes\n[tcp raw]\nlisten = 127.0.0.1:8600\nfeed = yard\n[push away]\nto = udp://192.0.2.7:5000\nfeed = loco\n",
          3, 1 },
    };
    assert_true(parse(base, NULL, &from));
    for (size_t i = 0; i < sizeof others / sizeof others[0]; i++) {
        cli_layer l = { NULL, 0 };
        size_t left_out = 0;
        assert_true(parse(others[i].text, NULL, &to));
        assert_true(cli_layer_between(&l, &from, &to, &left_out));
        assert_int_equal(left_out, others[i].local);
        if (l.count != others[i].rows) fail_msg("%zu: %zu rows: %s", i, l.count, cli_layer_text(&l));
        if (!parse(base, &l, &got)) fail_msg("%zu: %s", i, why);
        to.state[0] = '\0'; /* set in a file alone */
        char *wanted = cli_config_text(&to), *is = cli_config_text(&got);
        assert_string_equal(is, wanted);
        free(wanted);
        free(is);
        cli_layer_free(&l);
    }
}

static void a_configuration_is_its_text(void **state)
{
    (void)state;
    static cli_config c;
    assert_true(parse(base, NULL, &c));
    char *text = cli_config_text(&c);
    assert_string_equal(
        text,
        "[device]\nname = Valley railway\nviewers = 20\n\n[http]\nlisten = 127.0.0.1:8080\n\n[camera yard]\nsource = "
        "drawn\nview = yard\n\n"
        "[camera loco]\nsource = drawn\nview = cab\n\n[feed yard]\nsize = 320x240\nrate = 15\n\n[feed loco]\nquality = "
        "60\n\n"
        "[tcp raw]\nlisten = 127.0.0.1:8600\nfeed = yard\n\n[push away]\nto = udp://192.0.2.7:5000\nfeed = loco\n");
    assert_true(parse(text, NULL, &c));
    char *again = cli_config_text(&c);
    assert_string_equal(again, text);
    free(again);
    free(text);
}

static void what_lies_over_a_file_has_the_last_word(void **state)
{
    (void)state;
    static cli_config c;
    cli_layer l = { NULL, 0 };
    set(&l, SECTION_FEED, "yard", "rate", "10");
    set(&l, SECTION_FEED, "yard", "size", ""); /* back to what nobody said */
    set(&l, SECTION_PUSH, "away", "", "");     /* taken away */
    set(&l, SECTION_FEED, "small", "camera", "loco");
    set(&l, SECTION_TCP, "raw", "feed", "loco");
    assert_true(parse(base, &l, &c));
    assert_int_equal(c.feeds[0].mfps, 10000);
    assert_int_equal(c.feeds[0].width, 0);
    assert_int_equal(c.push_count, 0);
    assert_int_equal(c.feed_count, 3);
    assert_string_equal(c.feeds[2].camera, "loco");
    assert_string_equal(c.tcp[0].feed, "loco");
    set(&l, SECTION_FEED, "loco", "quality", "200"); /* who is to blame is told */
    assert_false(parse(base, &l, &c));
    assert_int_equal(culprit, 5);
    assert_non_null(strstr(why, "quality = 200: use 1 to 100"));
    cli_layer_free(&l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(rows_are_set_found_and_dropped),
        cmocka_unit_test(a_layer_is_its_text),
        cmocka_unit_test(what_a_text_may_not_say_is_counted),
        cmocka_unit_test(a_difference_leads_from_one_to_the_other),
        cmocka_unit_test(a_configuration_is_its_text),
        cmocka_unit_test(what_lies_over_a_file_has_the_last_word),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
