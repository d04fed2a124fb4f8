/* The file of users, and what it comes to when it is written and read again. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli/users.h"

/* What is wrong with a file is told to nobody here. */
int cli_error(const char *fmt, ...)
{
    (void)fmt;
    return EXIT_FAILED;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static char path[] = "/tmp/fuzz-users-XXXXXX";
    static cli_users users, again;
    static const cli_config config = { .device_name = "a railway" };
    static int fd = -1;
    if (fd < 0) {
        fd = mkstemp(path);
        if (fd < 0) abort();
    }
    if (ftruncate(fd, 0) != 0 || pwrite(fd, data, size, 0) != (ssize_t)size) abort();
    if (cli_users_read(&config, path, &users, NULL) != CLI_USERS_READ) return 0;
    char *kept = NULL;
    size_t length = 0;
    FILE *f = open_memstream(&kept, &length);
    if (f == NULL) abort();
    cli_users_put(f, &users);
    fclose(f);
    if (ftruncate(fd, 0) != 0 || pwrite(fd, kept, length, 0) != (ssize_t)length) abort();
    free(kept);
    if (cli_users_read(&config, path, &again, NULL) != CLI_USERS_READ || again.count != users.count) abort();
    return 0;
}
