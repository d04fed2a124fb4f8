/* Named records as files of one folder, each written whole or not at all. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
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
    int fd = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    if (fd < 0) return errno == ENOENT ? BMB_NOT_FOUND : bmb_linux_errno(errno);
    struct stat s;
    bmb_err err = fstat(fd, &s) != 0 || !S_ISREG(s.st_mode) ? BMB_FAILED
                  : (size_t)s.st_size > room                ? BMB_NO_ROOM
                                                            : BMB_OK;
    ssize_t n = err == BMB_OK ? read(fd, out, room) : 0;
    close(fd);
    if (n < 0) return BMB_FAILED;
    *got = (size_t)n;
    return err;
}

#define SECRET ".XXXXXX" /* what makes the name of a part unpredictable */

bool bmb_linux_unpart(char *name)
{
    size_t size = strlen(name), tail = strlen(SECRET BMB_LINUX_PART);
    if (size <= tail || name[size - tail] != '.' || strcmp(name + size - strlen(BMB_LINUX_PART), BMB_LINUX_PART) != 0)
        return false;
    name[size - tail] = '\0';
    return true;
}

/* renameat2 with RENAME_NOREPLACE, as the kernel calls it: not every C library has it. */
static int rename_new(const char *part, const char *path)
{
    return (int)syscall(SYS_renameat2, AT_FDCWD, part, AT_FDCWD, path, 1u);
}

/* Gives the part its name. Not every file system has a way to leave a file that is there in one step. */
static int settle(const char *part, const char *path, bool replace)
{
    if (replace) return rename(part, path) == 0 ? 0 : errno;
    if (rename_new(part, path) == 0) return 0;
    if (errno != EINVAL && errno != ENOSYS) return errno;
    struct stat s;
    if (lstat(path, &s) == 0) return EEXIST;
    return rename(part, path) == 0 ? 0 : errno;
}

/* Records that are keys: their owner alone may read them. */
static bool is_key(const char *path)
{
    size_t size = strlen(path);
    return size > 4 && strcmp(path + size - 4, ".key") == 0;
}

bmb_err bmb_linux_write_whole(const char *path, const void *data, size_t size, bool replace)
{
    char part[PATH_MAX];
    int n = snprintf(part, sizeof part, "%s" SECRET BMB_LINUX_PART, path);
    if (n < 0 || (size_t)n >= sizeof part) return BMB_BAD_ARG;
    int fd =
        mkostemps(part, (int)strlen(BMB_LINUX_PART), O_CLOEXEC); /* exclusively: what lies there is never followed */
    if (fd < 0) return errno == ENOSPC ? BMB_NO_ROOM : errno == ENOENT ? BMB_NOT_FOUND : bmb_linux_errno(errno);
    const uint8_t *at = (const uint8_t *)data;
    (void)flock(fd, LOCK_EX | LOCK_NB); /* whoever cleans up sees that somebody is writing */
    mode_t mask = umask(0);
    umask(mask);
    mode_t mode = is_key(path) ? 0600 : 0644 & ~mask;
    int error = fchmod(fd, mode) != 0 && errno != EPERM ? errno : 0; /* some file systems have no modes */
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
    if (error == 0) error = settle(part, path, replace);
    if (error == 0) return BMB_OK;
    unlink(part);
    if (error == EEXIST) return BMB_IN_USE;
    return error == ENOSPC || error == EDQUOT || error == EFBIG ? BMB_NO_ROOM : bmb_linux_errno(error);
}

static bmb_err store(void *ctx, const char *name, const void *data, size_t size)
{
    char path[PATH_MAX];
    if (!path_of((const bmb_linux *)ctx, name, "", path, sizeof path)) return BMB_BAD_ARG;
    return bmb_linux_write_whole(path, data, size, true);
}

/* Its writer is gone: it holds no lock, and the moment in which it might have been about to take it is over. */
static bool is_left(int folder, const char *name)
{
    struct stat s;
    int fd = openat(folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
    bool left = fd >= 0 && fstat(fd, &s) == 0 && time(NULL) - s.st_mtime > 2 && flock(fd, LOCK_EX | LOCK_NB) == 0;
    if (fd >= 0) close(fd);
    return left;
}

/* What a power cut or a killed writer left half. Another program that uses the folder may be writing. */
static void clean(const char *folder)
{
    DIR *dir = opendir(folder);
    struct dirent *e;
    while (dir != NULL && (e = readdir(dir)) != NULL) {
        char name[NAME_MAX + 1];
        snprintf(name, sizeof name, "%s", e->d_name);
        if (!bmb_linux_unpart(name)) continue;
        if (is_left(dirfd(dir), e->d_name)) unlinkat(dirfd(dir), e->d_name, 0);
    }
    if (dir != NULL) closedir(dir);
}

bmb_err bmb_linux_storage(bmb_linux *self, const char *folder, bmb_storage *out)
{
    size_t size = strlen(folder) + 1;
    bmb_err err = mkdir(folder, 0755) != 0 && errno != EEXIST ? bmb_linux_errno(errno) : BMB_OK;
    if (err == BMB_OK && access(folder, W_OK) != 0) err = BMB_DENIED;
    if (err == BMB_OK) clean(folder);
    free(self->state_folder);
    self->state_folder = malloc(size);
    if (self->state_folder == NULL) return BMB_NO_MEMORY;
    memcpy(self->state_folder, folder, size);
    *out = (bmb_storage){ .ctx = self, .load = load, .store = store };
    return err;
}
