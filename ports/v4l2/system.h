/* The calls into the system that ports/v4l2 makes, as a table: a scripted driver takes their place in tests. Private to
 * ports/.
 *
 * Calls return 0, or something not negative where that is said, or a negated errno. None is interrupted by a signal.
 */
#ifndef BMB_V4L2_SYSTEM_H
#define BMB_V4L2_SYSTEM_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/linux.h"

#define V4L2_PATH 64u

typedef struct v4l2_system {
    void *ctx;
    /* The path of the `at`-th video node, in the order of their numbers; false: there are no more. */
    bool (*list)(void *ctx, size_t at, char *path, size_t room);
    int (*open)(void *ctx, const char *path); /* returns a descriptor that does not block */
    void (*close)(void *ctx, int fd);
    int (*ioctl)(void *ctx, int fd, unsigned long request, void *arg);
    int (*map)(void *ctx, int fd, size_t size, int64_t offset, void **out);
    void (*unmap)(void *ctx, void *at, size_t size);
    /* Waits until a descriptor has something to be read; 0: it has not, within so long. */
    int (*await)(void *ctx, int fd, unsigned ms);
    uint64_t (*monotonic_us)(void *ctx); /* the clock of the driver's timestamps */
    /* The port's `wait` ends when this descriptor has something to tell (on), or not any more. */
    void (*watch)(void *ctx, int fd, bool on);
    /* Did nodes come or go since this was last asked? */
    bool (*changed)(void *ctx);
    /* Who has this node open, for people, such as "photo (4711)"; "": not known. */
    void (*holder)(void *ctx, const char *path, char *out, size_t room);
    /* The group that may use this node; "": not known. true: its file lets us in, and a rule for this service does not.
     */
    bool (*group)(void *ctx, const char *path, char *out, size_t room);
    /* Is `path`, which may be a symbolic link, this node? */
    bool (*same)(void *ctx, const char *path, const char *node);
    /* As v4l2_pipeline_find(). */
    bool (*pipeline)(void *ctx, const char *path, char *out, size_t room);
} v4l2_system;

/* The kernel's. `waiting`: whose wait is to end; NULL: nobody's. NULL: no memory. */
v4l2_system *v4l2_kernel(bmb_linux *waiting);
void v4l2_kernel_free(v4l2_system *system);

#endif
