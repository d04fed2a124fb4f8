/* Where files are: beside a configuration, and the demo's. */
#include <errno.h>
#include <libgen.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli.h"

void cli_beside(const cli_config *file, const char *name, char *out, size_t room)
{
    const char *slash = strrchr(file->path, '/');
    if (name[0] == '/' || slash == NULL) {
        snprintf(out, room, "%s", name);
    } else {
        snprintf(out, room, "%.*s/%s", (int)(slash - file->path), file->path, name);
    }
}

bool cli_demo_file(const char *file, char *out, size_t room)
{
    /* Installed; and beside it in whatever build folder, where the build has made a link. */
    static const char *const beside[] = { "../share/bambino/demo", "share/bambino/demo" };
    char self[PATH_MAX];
    ssize_t n = readlink("/proc/self/exe", self, sizeof self - 1);
    if (n <= 0) return false;
    self[n] = '\0';
    const char *folder = dirname(self);
    for (size_t i = 0; i < sizeof beside / sizeof beside[0]; i++) {
        snprintf(out, room, "%s/%s/%s", folder, beside[i], file);
        if (access(out, R_OK) == 0) return true;
    }
    return false;
}

size_t cli_place_of(const cli_device *d, const char *feed)
{
    bmb_feed_stats s;
    for (size_t i = 0; bmb_feed_stats_get(d->device, i, &s) == BMB_OK; i++)
        if (s.name[0] != '\0' && strcmp(s.name, feed) == 0) return i;
    return SIZE_MAX;
}
