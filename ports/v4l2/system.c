/* The calls of v4l2_system on a Linux kernel. */
#include "v4l2/system.h"

#include "v4l2/pipeline.h"

#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <limits.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <time.h>
#include <unistd.h>

#define FOLDER "/dev"
#define NODES_MOST 256

typedef struct kernel {
    v4l2_system table;
    bmb_linux *waiting;
    int news; /* inotify: nodes that come and go; -1: none */
} kernel;

/* The n-th smallest number of a videoN; the folder is read anew each time, since nodes come and go. */
static bool list(void *ctx, size_t at, char *path, size_t room)
{
    static const char prefix[] = "video";
    unsigned numbers[NODES_MOST];
    size_t count = 0;
    (void)ctx;
    DIR *folder = opendir(FOLDER);
    if (folder == NULL) return false;
    for (const struct dirent *e; (e = readdir(folder)) != NULL && count < NODES_MOST;) {
        char *end;
        if (strncmp(e->d_name, prefix, sizeof prefix - 1) != 0 || !isdigit((unsigned char)e->d_name[5])) continue;
        unsigned long number = strtoul(e->d_name + sizeof prefix - 1, &end, 10);
        if (*end != '\0' || number > UINT_MAX) continue;
        size_t k = count++;
        for (; k > 0 && numbers[k - 1] > number; k--) numbers[k] = numbers[k - 1];
        numbers[k] = (unsigned)number;
    }
    closedir(folder);
    if (at >= count) return false;
    snprintf(path, room, FOLDER "/%s%u", prefix, numbers[at]);
    return true;
}

static int open_node(void *ctx, const char *path)
{
    (void)ctx;
    int fd = open(path, O_RDWR | O_NONBLOCK | O_CLOEXEC);
    struct stat s;
    if (fd < 0) return -errno;
    if (fstat(fd, &s) == 0 && S_ISCHR(s.st_mode)) return fd;
    close(fd);
    return -ENODEV; /* somebody put a file in its place */
}

static void close_node(void *ctx, int fd)
{
    (void)ctx;
    close(fd);
}

static int call(void *ctx, int fd, unsigned long request, void *arg)
{
    int n;
    (void)ctx;
    do n = ioctl(fd, request, arg);
    while (n < 0 && errno == EINTR);
    return n < 0 ? -errno : n;
}

static int map(void *ctx, int fd, size_t size, int64_t offset, void **out)
{
    (void)ctx;
    *out = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, fd, (off_t)offset);
    return *out == MAP_FAILED ? -errno : 0;
}

static void unmap(void *ctx, void *at, size_t size)
{
    (void)ctx;
    munmap(at, size);
}

static int await(void *ctx, int fd, unsigned ms)
{
    struct pollfd p = { .fd = fd, .events = POLLIN };
    (void)ctx;
    int n = poll(&p, 1, (int)ms);
    return n < 0 && errno != EINTR ? -errno : n > 0;
}

static uint64_t monotonic_us(void *ctx)
{
    struct timespec t;
    (void)ctx;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static void watch(void *ctx, int fd, bool on)
{
    const kernel *self = (const kernel *)ctx;
    if (self->waiting != NULL) bmb_linux_watch(self->waiting, fd, on);
}

static bool changed(void *ctx)
{
    const kernel *self = (const kernel *)ctx;
    char events[4096];
    bool any = false;
    if (self->news < 0) return true; /* not known: look */
    while (read(self->news, events, sizeof events) > 0) any = true;
    return any;
}

static bool has_open(const char *folder, const struct stat *node)
{
    bool found = false;
    DIR *files = opendir(folder);
    if (files == NULL) return false; /* another user's */
    for (const struct dirent *e; !found && (e = readdir(files)) != NULL;) {
        char path[600];
        struct stat s;
        snprintf(path, sizeof path, "%s/%s", folder, e->d_name);
        found = e->d_name[0] != '.' && stat(path, &s) == 0 && S_ISCHR(s.st_mode) && s.st_rdev == node->st_rdev;
    }
    closedir(files);
    return found;
}

static void holder(void *ctx, const char *path, char *out, size_t room)
{
    struct stat node;
    (void)ctx;
    out[0] = '\0';
    DIR *processes = stat(path, &node) == 0 ? opendir("/proc") : NULL;
    if (processes == NULL) return;
    for (const struct dirent *e; out[0] == '\0' && (e = readdir(processes)) != NULL;) {
        char folder[300], name[64] = "";
        if (!isdigit((unsigned char)e->d_name[0]) || strtol(e->d_name, NULL, 10) == (long)getpid()) continue;
        snprintf(folder, sizeof folder, "/proc/%s/fd", e->d_name);
        if (!has_open(folder, &node)) continue;
        snprintf(folder, sizeof folder, "/proc/%s/comm", e->d_name);
        FILE *f = fopen(folder, "r");
        if (f != NULL && fgets(name, sizeof name, f) != NULL) name[strcspn(name, "\n")] = '\0';
        if (f != NULL) fclose(f);
        snprintf(out, room, "%s (process %s)", name[0] != '\0' ? name : "a program", e->d_name);
    }
    closedir(processes);
}

static bool group(void *ctx, const char *path, char *out, size_t room)
{
    struct stat s;
    (void)ctx;
    out[0] = '\0';
    const struct group *g = stat(path, &s) == 0 && (s.st_mode & 0060) == 0060 ? getgrgid(s.st_gid) : NULL;
    if (g != NULL) snprintf(out, room, "%s", g->gr_name);
    return access(path, R_OK | W_OK) != 0 && errno == EPERM; /* permissions of the file are EACCES */
}

static bool same(void *ctx, const char *path, const char *node)
{
    struct stat a, b;
    (void)ctx;
    return stat(path, &a) == 0 && stat(node, &b) == 0 && S_ISCHR(a.st_mode) && a.st_rdev == b.st_rdev;
}

static bool pipeline(void *ctx, const char *path, char *out, size_t room)
{
    struct stat node;
    (void)ctx;
    out[0] = '\0';
    return stat(path, &node) == 0 && v4l2_pipeline_find(major(node.st_rdev), minor(node.st_rdev), out, room);
}

v4l2_system *v4l2_kernel(bmb_linux *waiting)
{
    kernel *self = calloc(1, sizeof *self);
    if (self == NULL) return NULL;
    self->table = (v4l2_system){ self,         list,  open_node, close_node, call,  map,  unmap,   await,
                                 monotonic_us, watch, changed,   holder,     group, same, pipeline };
    self->waiting = waiting;
    self->news = inotify_init1(IN_NONBLOCK | IN_CLOEXEC);
    if (self->news >= 0 && inotify_add_watch(self->news, FOLDER, IN_CREATE | IN_DELETE | IN_ATTRIB) < 0) {
        close(self->news);
        self->news = -1;
    }
    if (self->news >= 0) watch(self, self->news, true);
    return &self->table;
}

void v4l2_kernel_free(v4l2_system *system)
{
    if (system == NULL) return;
    kernel *self = (kernel *)system->ctx;
    if (self->news >= 0) {
        watch(self, self->news, false);
        close(self->news);
    }
    free(self);
}
