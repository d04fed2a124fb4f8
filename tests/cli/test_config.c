/* Configuration files that are slightly wrong: ten thousand of them. None may crash the reader, and none with a key
 * that does not exist may pass. */
#include "support/check.h"

#include "cli/keys.h"

/* What the command provides. */
int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return 1;
}

static const char good[] =
    "# The club's railway\n[device]\nname = Valley railway\nviewers = 32\nboard = siding\nlog = info\n"
    "[network]\nssid = valley-club\n[http]\nlisten = :8080\n[rtsp]\nlisten = 127.0.0.1:8554\n"
    "[camera station]\nsource = drawn\nview = station\ncodec = h264\n[feed station]\n"
    "title = Station\nsize = 1280x720\nrate = 30\nkbps = 2000\nkey-ms = 2000\npreview = platform\n"
    "multicast = 239.255.42.1:5004\n[camera platform]\nsource = clip\nclip = loco.mjpeg\n"
    "clip-rate = 7.5\n[feed platform]\nquality = 60\nreel = 400K\nflip-h = 1\n"
    "[tcp programs]\nlisten = :8600\nformat = framed\n[push recorder]\nfeed = station\n"
    "to = tcp://192.0.2.20:5000\nkeep-all = 1\n";

static char keys[4096]; /* " section.key " for every key that there is */
static uint32_t random_state = 1;

static uint32_t next_random(uint32_t below)
{
    random_state = random_state * 1664525u + 1013904223u;
    return (random_state >> 8) % below;
}

/* From the printed reference, so that this test has no list of its own. */
static void read_keys(void)
{
    char line[1024], head[32] = "", key[64];
    FILE *f = tmpfile();
    cli_config_reference(f);
    rewind(f);
    while (fgets(line, sizeof line, f) != NULL) {
        if (sscanf(line, "### `[%31[a-z]", head) == 1) continue;
        if (sscanf(line, "| `%63[a-z0-9-]`", key) != 1) continue;
        size_t at = strlen(keys);
        snprintf(keys + at, sizeof keys - at, " %s.%s ", head, key);
    }
    fclose(f);
    assert_non_null(strstr(keys, " device.viewers "));
    assert_non_null(strstr(keys, " push.to "));
}

static bool read_text(const char *text, size_t size, cli_config *out)
{
    FILE *f = fmemopen((void *)(uintptr_t)text, size > 0 ? size : 1, "r");
    return cli_config_parse(f, "c.ini", out);
}

/* Is there a line KEY = VALUE whose key its section does not have? Only plain lines are judged. */
static bool has_wrong_key(const char *text)
{
    char head[64] = "", line[256], key[64], wanted[160];
    while (*text != '\0') {
        size_t n = strcspn(text, "\n");
        snprintf(line, sizeof line, "%.*s", (int)n, text);
        text += n + (text[n] == '\n');
        if (line[0] == '[') {
            size_t end = strspn(line + 1, "abcdefghijklmnopqrstuvwxyz");
            snprintf(head, sizeof head, "%.*s", (int)end, line + 1);
            continue;
        }
        size_t letters = strspn(line, "abcdefghijklmnopqrstuvwxyz0123456789-");
        if (letters == 0 || letters > 60 || strncmp(line + letters, " = ", 3) != 0) continue;
        snprintf(key, sizeof key, "%.*s", (int)letters, line);
        snprintf(wanted, sizeof wanted, " %s.%s ", head, key);
        if (strstr(keys, wanted) == NULL) return true;
    }
    return false;
}

static size_t mutate(char *text, size_t size, size_t room)
{
    static const char letters[] = "abcdefghijklmnopqrstuvwxyz0123456789-_.:/= []\n#;\"%\x01\xFF";
    for (uint32_t edits = 1 + next_random(3); edits > 0; edits--) {
        size_t at = next_random((uint32_t)size), n = 1 + next_random(12);
        switch (next_random(5)) {
        case 0: /* another letter */
            text[at] = letters[next_random(sizeof letters - 1)];
            break;
        case 1: /* one more */
            if (size + 1 >= room) break;
            memmove(text + at + 1, text + at, size - at);
            text[at] = letters[next_random(sizeof letters - 1)];
            size++;
            break;
        case 2: /* some less */
            if (at + n > size) n = size - at;
            memmove(text + at, text + at + n, size - at - n);
            size -= n;
            break;
        case 3: /* two neighbours exchanged */
            if (at + 1 < size) {
                char c = text[at];
                text[at] = text[at + 1];
                text[at + 1] = c;
            }
            break;
        default: /* a piece twice */
            if (at + n > size || size + n >= room) break;
            memmove(text + at + n, text + at, size - at);
            size += n;
            break;
        }
        if (size == 0) return 0;
    }
    return size;
}

static void texts_of_the_table_have_an_end(void **state)
{
    (void)state;
    const key_row *k;
    for (size_t i = 0; (k = cli_key_at(i)) != NULL; i++) {
        assert_non_null(memchr(k->key, '\0', sizeof k->key));
        assert_true(strlen(cli_key_unit(k)) < 16); /* a column of the reference */
    }
}

static void the_good_one_is_read(void **state)
{
    (void)state;
    static cli_config c;
    assert_true(read_text(good, sizeof good - 1, &c));
    assert_int_equal(c.feed_count, 2);
    assert_int_equal(c.tcp_count, 1);
    assert_int_equal(c.push_count, 1);
    assert_string_equal(c.ssid, "valley-club");
    assert_int_equal(c.feeds[0].control[BMB_CONTROL_KBPS], 2000);
    assert_false(has_wrong_key(good));
    assert_true(has_wrong_key("[device]\nviewrs = 3\n"));
}

static const char small[] = "[http]\nlisten = :8080\n[camera yard]\nview = yard\n[feed yard]\n";

/* The small configuration with a line more, in the feed's section. */
static bool with_line(const char *line, cli_config *out)
{
    char text[400];
    snprintf(text, sizeof text, "%s%s\n", small, line);
    return read_text(text, strlen(text), out);
}

static void comments_may_stand_behind_values(void **state)
{
    (void)state;
    static cli_config c;
    assert_true(with_line("title = Sidings   # where the goods wait", &c));
    assert_string_equal(c.feeds[0].title, "Sidings");
    assert_true(with_line("title = Sidings ; likewise", &c));
    assert_string_equal(c.feeds[0].title, "Sidings");
    assert_true(with_line("title = Track#2", &c));
    assert_string_equal(c.feeds[0].title, "Track#2");
    assert_true(with_line("size = 640x480\t# small", &c));
    assert_int_equal(c.feeds[0].width, 640);
    assert_true(with_line("[camera two]\nprogram = sh -c \"echo # more\" # a comment", &c));
    assert_string_equal(c.cameras[1].program, "sh -c \"echo # more\"");
}

static void flags_take_the_usual_words(void **state)
{
    (void)state;
    static cli_config c;
    static const char *const yes[] = { "yes", "true", "on", "1" }, *const no[] = { "no", "false", "off", "0" };
    char line[60];
    for (size_t i = 0; i < 4; i++) {
        snprintf(line, sizeof line, "flip-h = %s", yes[i]);
        assert_true(with_line(line, &c));
        assert_int_equal(c.feeds[0].control[BMB_CONTROL_FLIP_H], 1);
        snprintf(line, sizeof line, "open = %s", no[i]);
        assert_true(with_line(line, &c));
        assert_int_equal(c.feeds[0].open, 0);
        snprintf(line, sizeof line, "[rtsp]\nsecure = %s", yes[i]); /* no port 1 */
        assert_true(with_line(line, &c));
        assert_int_equal(c.rtsps.port, 322);
        snprintf(line, sizeof line, "[rtsp]\nsecure = %s", no[i]); /* no port drawn by lot */
        assert_true(with_line(line, &c));
        assert_int_equal(c.rtsps.family, 0);
    }
    assert_false(with_line("open = 2", &c));
    assert_false(with_line("open = maybe", &c));
    assert_true(with_line("[rtsp]\nlisten = off", &c));
    assert_int_equal(c.rtsp.family, 0);
}

static void texts_are_utf8(void **state)
{
    (void)state;
    static cli_config c;
    static const char *const good_ones[] = { "Gleis f\xC3\xBCnf", "\xE7\xAB\x99", "\xF0\x9F\x9A\x82", "\xED\x9F\xBF" };
    static const char *const bad_ones[] = {
        "f\xFCnf",          "\xC3",  "\xC0\xAF", "\xE0\x80\xAF", "\xED\xA0\x80", "\xF4\x90\x80\x80",
        "\xF8\x88\x80\x80", "a\x80", "a\x07",    "\x7F"
    };
    char line[60];
    for (size_t i = 0; i < sizeof good_ones / sizeof good_ones[0]; i++) {
        snprintf(line, sizeof line, "title = %s", good_ones[i]);
        assert_true(with_line(line, &c));
        assert_string_equal(c.feeds[0].title, good_ones[i]);
    }
    for (size_t i = 0; i < sizeof bad_ones / sizeof bad_ones[0]; i++) {
        snprintf(line, sizeof line, "title = %s", bad_ones[i]);
        if (with_line(line, &c)) fail_msg("text %zu was taken", i);
    }
}

/* Each line is right by itself; what runs into trouble later is told here. */
static void what_cannot_run_is_refused(void **state)
{
    (void)state;
    static cli_config c;
    assert_false(with_line("[rtsp]\nlisten = :8080", &c));
    assert_false(with_line("[rtsp]\nlisten = 127.0.0.1:8080", &c)); /* [http] has every interface */
    assert_true(with_line("[rtsp]\nlisten = :8081", &c));
    static const char secure_alone[] = "[http]\nsecure = yes\n[camera yard]\nview = yard\n[feed yard]\n";
    assert_true(read_text(secure_alone, sizeof secure_alone - 1, &c));
    assert_true(with_line("[rtsp]\nlisten = :0\n[tcp yard]\nlisten = :0", &c)); /* any free ones */
    assert_false(with_line("[tcp yard]\nlisten = :8080", &c));
    assert_true(with_line("[tcp yard]\nlisten = :8080\npaused = yes", &c));
    assert_false(with_line("preview = nosuch", &c));
    assert_true(with_line("[feed small]\ncamera = yard\npreview = yard", &c));
    assert_false(with_line("[camera two]\ninput = rtsp://192.0.2.7/stream", &c));
    assert_true(with_line("[camera two]\ninput = tcp://192.0.2.7:5000", &c));
    assert_true(with_line("[camera two]\ninput = pictures/fifo", &c));
}

static void ten_thousand_wrong_ones_are_survived(void **state)
{
    (void)state;
    static cli_config c;
    static char text[4096];
    unsigned passed = 0, misspelt = 0;
    assert_non_null(freopen("/dev/null", "w", stderr)); /* ten thousand messages are read by nobody */
    for (unsigned i = 0; i < 10000; i++) {
        memcpy(text, good, sizeof good);
        size_t size = mutate(text, sizeof good - 1, sizeof text - 1);
        text[size] = '\0';
        bool accepted = read_text(text, size, &c);
        bool wrong = has_wrong_key(text);
        if (wrong && accepted) fail_msg("a key that does not exist passed in:\n%s", text);
        passed += accepted;
        misspelt += wrong;
    }
    print_message("%u of 10000 still good, %u with a key that does not exist, all told\n", passed, misspelt);
    assert_true(misspelt > 500);
}

int main(void)
{
    read_keys();
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(texts_of_the_table_have_an_end),
        cmocka_unit_test(the_good_one_is_read),
        cmocka_unit_test(comments_may_stand_behind_values),
        cmocka_unit_test(flags_take_the_usual_words),
        cmocka_unit_test(texts_are_utf8),
        cmocka_unit_test(what_cannot_run_is_refused),
        cmocka_unit_test(ten_thousand_wrong_ones_are_survived),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
