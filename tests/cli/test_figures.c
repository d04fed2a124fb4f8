/* The line of figures: what was written is read, and what is none is refused. */
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

#include "support/check.h"

#include "cli/cli.h"
#include "cli/figures.h"

/* What the command provides. */
static unsigned complaints;

int cli_error(const char *fmt, ...)
{
    (void)fmt;
    complaints++;
    return 1;
}

void cli_beside(const cli_config *file, const char *name, char *out, size_t room)
{
    (void)file;
    snprintf(out, room, "%s", name);
}

static char path[64];

static void keep(const char *text, size_t size)
{
    strcpy(path, "/tmp/bambino-figures-XXXXXX");
    int fd = mkstemp(path);
    assert_true(fd >= 0);
    assert_int_equal(write(fd, text, size), size);
    close(fd);
}

static bool reads(const char *text, cli_figures *out)
{
    keep(text, strlen(text));
    complaints = 0;
    bool good = cli_figures_read(path, out);
    assert_int_equal(complaints, good ? 0 : 1); /* never without a word */
    unlink(path);
    return good;
}

static void what_is_written_is_read(void **state)
{
    (void)state;
    const cli_figures f = { .name = "board \"seven\"\n",
                            .version = "1.2.3",
                            .cores = 4,
                            .jpeg_pixel = 4.125,
                            .h264_pixel = 11,
                            .decode_pixel = 5,
                            .take_frame = 2000,
                            .take_byte = 0.5,
                            .http_frame = 6000,
                            .http_byte = 1.25,
                            .rtp_frame = 7000.5,
                            .rtp_byte = 0 };
    cli_figures back;
    char *text = cli_figures_text(&f);
    assert_non_null(text);
    assert_null(strchr(text, '\n')); /* lines of several boards make a file */
    assert_true(reads(text, &back));
    free(text);
    assert_string_equal(back.name, f.name);
    assert_string_equal(back.version, f.version);
    assert_int_equal(back.cores, 4);
    const double *a = &f.jpeg_pixel, *b = &back.jpeg_pixel;
    for (size_t i = 0; i < 9; i++) assert_true(a[i] == b[i]);
}

static void what_was_not_measured_is_nothing(void **state)
{
    (void)state;
    cli_figures f;
    assert_true(reads("{\"bambino-figures\":1,\"jpeg_ns_per_pixel\":3}", &f));
    assert_true(f.jpeg_pixel == 3 && f.h264_pixel == 0 && f.cores == 1 && f.name[0] == '\0');
    assert_true(reads("{\"bambino-figures\":1,\"name\":7,\"cores\":-3,\"later\":[1]}\n{\"bambino-figures\":1}\n", &f));
    assert_int_equal(f.cores, 1); /* and what is not known is passed over, as later lines are */
}

static void what_is_no_line_is_refused(void **state)
{
    (void)state;
    static const char *const bad[] = { "",
                                       "\n",
                                       "7",
                                       "[]",
                                       "{}",
                                       "{\"bambino-figures\":2}",
                                       "{\"bambino-figures\":\"1\"}",
                                       "{\"bambino-figures\":1,\"jpeg_ns_per_pixel\":-1}",
                                       "{\"bambino-figures\":1,\"jpeg_ns_per_pixel\":1e300}",
                                       "{\"bambino-figures\":1,\"http_ns_per_byte\":\"much\"}",
                                       "{\"bambino-figures\":1" };
    cli_figures f;
    for (size_t i = 0; i < sizeof bad / sizeof bad[0]; i++) assert_false(reads(bad[i], &f));
    assert_false(cli_figures_read("/tmp/bambino-figures-that-are-not-there", &f));
    assert_false(cli_figures_read("/tmp", &f));
    strcpy(path, "/tmp/bambino-figures-XXXXXX");
    assert_non_null(mkdtemp(path));
    char pipe[80];
    snprintf(pipe, sizeof pipe, "%s/pipe", path);
    assert_int_equal(mkfifo(pipe, 0600), 0);
    assert_false(cli_figures_read(pipe, &f)); /* and is not waited for */
    unlink(pipe);
    rmdir(path);
    char *longest = malloc(9000);
    memset(longest, ' ', 8999);
    memcpy(longest, "{\"bambino-figures\":1,", 21);
    longest[8998] = '}';
    longest[8999] = '\0';
    assert_false(reads(longest, &f));
    free(longest);
}

static void a_device_reads_those_that_its_configuration_names(void **state)
{
    (void)state;
    static const char line[] = "{\"bambino-figures\":1,\"cores\":2}";
    static cli_device d;
    assert_true(cli_figures_load(&d, NULL)); /* none are named */
    assert_null(d.figures);
    keep(line, strlen(line));
    snprintf(d.file.figures, sizeof d.file.figures, "%s", path);
    assert_true(cli_figures_load(&d, NULL));
    assert_int_equal(d.figures->cores, 2);
    assert_false(cli_figures_load(&d, "/tmp/bambino-figures-that-are-not-there"));
    assert_null(d.figures);
    unlink(path);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(what_is_written_is_read),
        cmocka_unit_test(what_was_not_measured_is_nothing),
        cmocka_unit_test(what_is_no_line_is_refused),
        cmocka_unit_test(a_device_reads_those_that_its_configuration_names),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
