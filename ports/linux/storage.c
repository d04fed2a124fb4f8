/* Named records as files of one folder, each written whole or not at all. */
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "linux/state.h"

static bool path_of(const bmb_linux *self, const char *name, const char *ending, char *out, size_t room)
{
    int n = snprintf(out, room, "%s/%s%s", self->state_folder, name, ending);
    return n > 0 && (size_t)n < room;
}

static bmb_err load(void *ctx, const char *name, void *out, size_t room, size_t *got)
{
    char path[PATH_MAX];
    *got = 0;
    if (!path_of((const bmb_linux *)ctx, name, "", path, sizeof path)) return BMB_BAD_ARG;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0) return errno == ENOENT ? BMB_NOT_FOUND : bmb_linux_errno(errno);
    struct stat s;
    bmb_err err = fstat(fd, &s) != 0 ? BMB_FAILED : (size_t)s.st_size > room ? BMB_NO_ROOM : BMB_OK;
    ssize_t n = err == BMB_OK ? read(fd, out, room) : 0;
    close(fd);
    if (n < 0) return BMB_FAILED;
    *got = (size_t)n;
    return err;
}

bmb_err bmb_linux_write_whole(const char *path, const void *data, size_t size)
{
    char part[PATH_MAX];
    int n = snprintf(part, sizeof part, "%s.part", path);
    if (n < 0 || (size_t)n >= sizeof part) return BMB_BAD_ARG;
    int fd = open(part, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (fd < 0) return errno == ENOSPC ? BMB_NO_ROOM : errno == ENOENT ? BMB_NOT_FOUND : bmb_linux_errno(errno);
    const uint8_t *at = (const uint8_t *)data;
    int error = 0;
    while (size > 0 && error == 0) {
        ssize_t taken = write(fd, at, size);
        if (taken < 0 && errno == EINTR) continue;
        if (taken < 0) {
            error = errno;
        } else {
            at += taken;
            size -= (size_t)taken;
        }
    }
    if (error == 0 && fsync(fd) != 0) error = errno; /* the name must not be there before the bytes are */
    if (close(fd) != 0 && error == 0) error = errno;
    if (error == 0 && rename(part, path) != 0) error = errno;
    if (error == 0) return BMB_OK;
    unlink(part);
    return error == ENOSPC || error == EDQUOT || error == EFBIG ? BMB_NO_ROOM : bmb_linux_errno(error);
}

static bmb_err store(void *ctx, const char *name, const void *data, size_t size)
{
    char path[PATH_MAX];
    if (!path_of((const bmb_linux *)ctx, name, "", path, sizeof path)) return BMB_BAD_ARG;
    return bmb_linux_write_whole(path, data, size);
}

bmb_err bmb_linux_storage(bmb_linux *self, const char *folder, bmb_storage *out)
{
    size_t size = strlen(folder) + 1;
    if (mkdir(folder, 0755) != 0 && errno != EEXIST) return bmb_linux_errno(errno);
    if (access(folder, W_OK) != 0) return BMB_DENIED;
    free(self->state_folder);
    self->state_folder = malloc(size);
    if (self->state_folder == NULL) return BMB_NO_MEMORY;
    memcpy(self->state_folder, folder, size);
    *out = (bmb_storage){ .ctx = self, .load = load, .store = store };
    return BMB_OK;
}
