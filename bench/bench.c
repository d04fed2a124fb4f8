/* bench [OUT.json [PART]]: measures what the library does against the least that any program could do, prints a table,
 * and writes the same as JSON. Nothing here fails a build: figures are for reading. */
#include <string.h>

#include "rig.h"

static void start(void)
{
    bench_start(BAMBINO_COMMAND);
}

static void first_picture(void)
{
    bench_first_picture(BAMBINO_COMMAND);
}

static const struct {
    const char *name;
    void (*run)(void);
} parts[] = {
    { "step", bench_step },
    { "http", bench_http },
    { "tls", bench_tls },
    { "udp", bench_udp },
    { "interleaved", bench_interleaved },
    { "ts", bench_ts },
    { "framed", bench_framed },
    { "multicast", bench_multicast },
    { "capture", bench_capture },
    { "start", start },
    { "first-picture", first_picture },
};

int main(int argc, char **argv)
{
    results_begin();
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++)
        if (argc < 3 || strcmp(argv[2], parts[i].name) == 0) parts[i].run();
    if (argc < 2) return 0;
    return results_write(argv[1]) ? 0 : 1;
}
