/* The configuration file. */
#include <stdio.h>
#include <stdlib.h>

#include "cli/cli.h"

int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return 1;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static cli_config c;
    if (size == 0) return 0;
    FILE *f = fmemopen((void *)(uintptr_t)data, size, "r");
    if (f != NULL) (void)cli_config_parse(f, "c.ini", &c);
    return 0;
}
