/* A file of what a machine was measured to do: numbers that the budget can reckon with, or a reason why not. */
#include <math.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/cli.h"
#include "cli/figures.h"

static int told;

int cli_error(const char *fmt, ...)
{
    (void)fmt;
    told++;
    return EXIT_FAILED;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static char path[] = "/tmp/fuzz-figures-XXXXXX";
    static int fd = -1;
    cli_figures f, again;
    if (fd < 0) fd = mkstemp(path);
    if (fd < 0 || ftruncate(fd, 0) != 0 || pwrite(fd, data, size, 0) != (ssize_t)size) abort();
    told = 0;
    if (!cli_figures_read(path, &f)) {
        if (told == 0) abort();
        return 0;
    }
    const double all[] = { f.jpeg_pixel, f.h264_pixel, f.decode_pixel, f.take_frame, f.take_byte,
                           f.http_frame, f.http_byte,  f.rtp_frame,    f.rtp_byte };
    for (size_t i = 0; i < sizeof all / sizeof all[0]; i++)
        if (!isfinite(all[i]) || all[i] < 0) abort();
    if (f.cores < 1 || memchr(f.name, '\0', sizeof f.name) == NULL) abort();
    char *text = cli_figures_text(&f);
    if (text == NULL || ftruncate(fd, 0) != 0 || pwrite(fd, text, strlen(text), 0) != (ssize_t)strlen(text)) abort();
    free(text);
    if (!cli_figures_read(path, &again)) abort();
    return 0;
}
