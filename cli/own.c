/* A folder of one's own files, served beside the page or in its place. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/stat.h>
#include <unistd.h>

#include "settings.h"

#define OWN_MOST (16u << 20) /* bytes of a file */

static const struct {
    const char *ending, *type;
} types[] = {
    { ".html", "text/html; charset=utf-8" },
    { ".css", "text/css; charset=utf-8" },
    { ".js", "text/javascript; charset=utf-8" },
    { ".json", "application/json" },
    { ".svg", "image/svg+xml" },
    { ".png", "image/png" },
    { ".jpg", "image/jpeg" },
    { ".ico", "image/x-icon" },
    { ".woff2", "font/woff2" },
    { ".txt", "text/plain; charset=utf-8" },
    { ".webmanifest", "application/manifest+json" },
};

static const char *type_of(const char *path)
{
    size_t size = strlen(path);
    for (size_t i = 0; i < sizeof types / sizeof types[0]; i++) {
        size_t tail = strlen(types[i].ending);
        if (size > tail && strcasecmp(path + size - tail, types[i].ending) == 0) return types[i].type;
    }
    return NULL;
}

/* Each part of the path is opened in the folder before it, and none may be a link that leads elsewhere, or hidden. */
static int open_below(const char *folder, const char *path, size_t size)
{
    char name[NAME_MAX + 1];
    int at = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    size_t i = 0;
    bool whole = size > 0 && path[size - 1] == '/';
    while (at >= 0) {
        while (i < size && path[i] == '/') i++;
        size_t n = 0;
        while (i < size && path[i] != '/') {
            if (path[i] == '\0' || n == sizeof name - 1) break;
            name[n++] = path[i++];
        }
        name[n] = '\0';
        if (n == 0) snprintf(name, sizeof name, "index.html");
        bool last = i >= size, hidden = name[0] == '.';
        int next =
            hidden || (i < size && path[i] != '/')
                ? -1
                : openat(at, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK | (last && n > 0 && !whole ? 0 : 0));
        close(at);
        at = next;
        struct stat s;
        if (at >= 0 && fstat(at, &s) == 0 && S_ISREG(s.st_mode)) {
            if (last || n == 0) return at;
            close(at);
            return -1;
        }
        if (n == 0) break;
    }
    if (at >= 0) close(at);
    return -1;
}

static int open_own(const cli_device *d, const char *path, size_t size)
{
    char folder[2 * CLI_TEXT_MAX + 2];
    if (d->file.pages[0] == '\0') return -1;
    cli_beside(&d->file, d->file.pages, folder, sizeof folder);
    return open_below(folder, path, size);
}

/* The line of what browsers do not run in a page of ours, where they run scripts of files alone (Content Security
 * Policy Level 3, script-src 'self'); 0: there is none. */
static unsigned inline_script(const char *text)
{
    unsigned line = 1;
    for (const char *at = text; *at != '\0'; at++) {
        line += *at == '\n';
        if (strncasecmp(at, "<script", 7) != 0) continue;
        const char *end = strchr(at, '>'), *source = strcasestr(at, "src");
        if (end != NULL && (source == NULL || source > end)) return line;
    }
    return 0;
}

void cli_own_check(const cli_device *d)
{
    char folder[2 * CLI_TEXT_MAX + 2], path[sizeof folder + NAME_MAX + 2];
    if (d->file.pages[0] == '\0') return;
    cli_beside(&d->file, d->file.pages, folder, sizeof folder);
    DIR *list = opendir(folder);
    if (list == NULL) {
        cli_error("pages = %s: the folder cannot be read: %s", d->file.pages, strerror(errno));
        return;
    }
    for (const struct dirent *e; (e = readdir(list)) != NULL;) {
        const char *type = type_of(e->d_name);
        if (type == NULL || strncmp(type, "text/html", 9) != 0) continue;
        snprintf(path, sizeof path, "%s/%s", folder, e->d_name);
        char *text = cli_read_whole(path, O_NOFOLLOW);
        unsigned line = text != NULL ? inline_script(text) : 0;
        if (line > 0)
            cli_error(
                "%s:%u: browsers run no script that stands in the page itself. Move it to a file beside the page: "
                "<script src=\"NAME.js\"></script>",
                path, line);
        free(text);
    }
    closedir(list);
}

bool cli_own_find(const cli_device *d, const char *path, size_t size, bmb_role *needs)
{
    int fd = open_own(d, path, size);
    *needs = BMB_ROLE_NONE; /* as the page itself: it shows who may what */
    if (fd >= 0) close(fd);
    return fd >= 0;
}

bool cli_own_ask(const cli_device *d, const bmb_request *r, bmb_answer *a)
{
    static char etag[48];
    int fd = open_own(d, r->path, r->path_size);
    struct stat s;
    if (fd < 0) return false;
    char path[128] = "", *data = NULL;
    snprintf(path, sizeof path, "%.*s", (int)r->path_size, r->path);
    if (path[0] == '\0' || path[strlen(path) - 1] == '/' || type_of(path) == NULL)
        snprintf(path, sizeof path, "/index.html");
    ssize_t n = -1;
    if (fstat(fd, &s) == 0 && s.st_size <= (off_t)OWN_MOST && (data = malloc((size_t)s.st_size + 1)) != NULL)
        n = read(fd, data, (size_t)s.st_size);
    close(fd);
    if (n < 0) {
        free(data);
        a->status = 500;
        return true;
    }
    snprintf(etag, sizeof etag, "\"%llx-%llx-%llx\"", (unsigned long long)s.st_mtim.tv_sec,
             (unsigned long long)s.st_mtim.tv_nsec, (unsigned long long)s.st_size);
    a->etag = etag;
    a->type = type_of(path);
    a->body = a->token = data;
    a->size = (size_t)n;
    if (r->if_none_match_size == strlen(etag) && memcmp(r->if_none_match, etag, strlen(etag)) == 0) a->status = 304;
    return true;
}
