#include "intake/source.h"

#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#define ARGUMENTS_MOST 64
#define PATIENCE_MS 1000 /* for a program that was asked to end */

extern char **environ;

static bool fail(intake_source *s, const char *what, const char *name, const char *advice)
{
    snprintf(s->why, sizeof s->why, "%s %s: %s; %s", what, name, strerror(errno), advice);
    return false;
}

/* Cuts a command into its arguments, in place. Returns how many there are; 0: too many, or a quote without its end. */
static size_t cut(char *text, char **arguments)
{
    size_t count = 0;
    char *to = text;
    for (char *at = text; *at != '\0';) {
        char quote = '\0';
        while (*at == ' ' || *at == '\t') at++;
        if (*at == '\0') break;
        if (count == ARGUMENTS_MOST) return 0;
        arguments[count++] = to;
        for (; *at != '\0' && (quote != '\0' || (*at != ' ' && *at != '\t')); at++) {
            if (*at == quote) {
                quote = '\0';
            } else if (quote == '\0' && (*at == '"' || *at == '\'')) {
                quote = *at;
            } else {
                if (*at == '\\' && quote != '\'' && at[1] != '\0') at++;
                *to++ = *at;
            }
        }
        if (quote != '\0') return 0;
        if (*at != '\0') at++;
        *to++ = '\0';
    }
    arguments[count] = NULL;
    return count;
}

/* The descriptors that a child gets in place of the first three. */
static int spawn(pid_t *pid, char *const *arguments, int out, int errors)
{
    posix_spawn_file_actions_t files;
    posix_spawnattr_t attr;
    sigset_t none, usual;
    sigemptyset(&none);
    sigemptyset(&usual);
    sigaddset(&usual, SIGPIPE); /* we ignore it; programs rely on it */
    sigaddset(&usual, SIGINT);
    sigaddset(&usual, SIGTERM);
    posix_spawn_file_actions_init(&files);
    posix_spawn_file_actions_addopen(&files, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
    posix_spawn_file_actions_adddup2(&files, out, STDOUT_FILENO);
    posix_spawn_file_actions_adddup2(&files, errors, STDERR_FILENO);
    posix_spawnattr_init(&attr);
    posix_spawnattr_setflags(&attr, POSIX_SPAWN_SETPGROUP | POSIX_SPAWN_SETSIGDEF | POSIX_SPAWN_SETSIGMASK);
    posix_spawnattr_setpgroup(&attr, 0); /* its own, so that what it starts ends with it */
    posix_spawnattr_setsigdefault(&attr, &usual);
    posix_spawnattr_setsigmask(&attr, &none);
    int error = posix_spawnp(pid, arguments[0], &files, &attr, arguments, environ);
    posix_spawn_file_actions_destroy(&files);
    posix_spawnattr_destroy(&attr);
    return error;
}

static bool open_program(intake_source *s, const bmb_intake_camera *spec)
{
    char text[1024], *arguments[ARGUMENTS_MOST + 1] = { NULL };
    char shell[] = "/bin/sh", option[] = "-c";
    int out[2], errors[2];
    snprintf(text, sizeof text, "%s", spec->program);
    if (spec->shell) {
        arguments[0] = shell;
        arguments[1] = option;
        arguments[2] = text;
    } else if (cut(text, arguments) == 0) {
        snprintf(s->why, sizeof s->why, "program = %.100s: a quote has no end, or there are more than %d arguments",
                 spec->program, ARGUMENTS_MOST);
        return false;
    }
    if (pipe2(out, O_CLOEXEC) != 0) return fail(s, "no pipe for", arguments[0], "raise the open-files limit");
    if (pipe2(errors, O_CLOEXEC) != 0) {
        close(out[0]);
        close(out[1]);
        return fail(s, "no pipe for", arguments[0], "raise the open-files limit");
    }
    errno = spawn(&s->program, arguments, out[1], errors[1]);
    close(out[1]);
    close(errors[1]);
    if (errno != 0) {
        close(out[0]);
        close(errors[0]);
        s->program = 0;
        return fail(s, "the program", arguments[0], "cannot be started: check its name and path");
    }
    s->fd = out[0];
    s->errors = errors[0];
    (void)fcntl(s->fd, F_SETFL, O_NONBLOCK);
    (void)fcntl(s->errors, F_SETFL, O_NONBLOCK);
    (void)fcntl(s->fd, F_SETPIPE_SZ, 1 << 20); /* a whole picture in one go, where that is allowed */
    return true;
}

static bool open_path(intake_source *s, const char *path)
{
    struct stat st;
    if (strcmp(path, "-") == 0) {
        s->fd = fcntl(STDIN_FILENO, F_DUPFD_CLOEXEC, 3);
        if (s->fd < 0) return fail(s, "standard input", "", "start it with one");
    } else {
        if (stat(path, &st) != 0) return fail(s, "the input", path, "check its path, or make it with mkfifo");
        /* Open for writing as well, a pipe has no end when its writer goes: the next one may come. */
        int mode = S_ISFIFO(st.st_mode) ? O_RDWR : O_RDONLY;
        s->fd = open(path, mode | O_NONBLOCK | O_CLOEXEC);
        if (s->fd < 0) return fail(s, "the input", path, "check its permissions");
    }
    if (fstat(s->fd, &st) == 0) s->is_file = S_ISREG(st.st_mode);
    (void)fcntl(s->fd, F_SETFL, O_NONBLOCK);
    return true;
}

/* "HOST:PORT" of an address. */
static bool split_address(const char *text, char *host, size_t room, const char **port)
{
    const char *colon = strrchr(text, ':');
    if (colon == NULL || (size_t)(colon - text) >= room) return false;
    const char *begin = text, *end = colon;
    if (*begin == '[' && end > begin && end[-1] == ']') {
        begin++;
        end--;
    }
    snprintf(host, room, "%.*s", (int)(end - begin), begin);
    *port = colon + 1;
    return true;
}

static bool open_socket(intake_source *s, const char *address, bool udp)
{
    char host[128];
    const char *port;
    struct addrinfo hints = { .ai_socktype = udp ? SOCK_DGRAM : SOCK_STREAM, .ai_flags = udp ? AI_PASSIVE : 0 }, *found;
    if (!split_address(address, host, sizeof host, &port) ||
        getaddrinfo(host[0] != '\0' ? host : NULL, port, &hints, &found) != 0) {
        snprintf(s->why, sizeof s->why, "input = %s://%.100s: HOST:PORT is expected, and a host that is known",
                 udp ? "udp" : "tcp", address);
        return false;
    }
    s->datagrams = udp;
    s->fd = socket(found->ai_family, found->ai_socktype | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
    int more = 1 << 20;
    if (s->fd >= 0) (void)setsockopt(s->fd, SOL_SOCKET, SO_RCVBUF, &more, sizeof more);
    bool good = s->fd >= 0 && (udp ? bind(s->fd, found->ai_addr, found->ai_addrlen) == 0
                                   : connect(s->fd, found->ai_addr, found->ai_addrlen) == 0 || errno == EINPROGRESS);
    int error = errno;
    freeaddrinfo(found);
    errno = error;
    return good ? true
                : fail(s, "the input", address, udp ? "choose an address of this machine" : "start what listens there");
}

bool intake_open(intake_source *s, const bmb_intake_camera *spec)
{
    *s = (intake_source){ .fd = -1, .errors = -1 };
    if (spec->program != NULL) return open_program(s, spec);
    bool udp = strncmp(spec->input, "udp://", 6) == 0, tcp = strncmp(spec->input, "tcp://", 6) == 0;
    bool good = udp || tcp ? open_socket(s, spec->input + 6, udp) : open_path(s, spec->input);
    if (!good) intake_close(s);
    return good;
}

static bool has_ended(pid_t pid, int *status, unsigned ms)
{
    const struct timespec pause = { .tv_nsec = 10000000 };
    for (unsigned waited = 0;; waited += 10) {
        if (waitpid(pid, status, WNOHANG) == pid) return true;
        if (waited >= ms) return false;
        nanosleep(&pause, NULL);
    }
}

void intake_close(intake_source *s)
{
    int status;
    if (s->program > 0) {
        (void)kill(-s->program, SIGTERM);
        if (!has_ended(s->program, &status, PATIENCE_MS)) {
            (void)kill(-s->program, SIGKILL);
            (void)waitpid(s->program, &status, 0);
        }
        (void)kill(-s->program, SIGKILL); /* what it started, and left behind */
    }
    if (s->fd >= 0) close(s->fd);
    if (s->errors >= 0) close(s->errors);
    s->fd = s->errors = -1;
    s->program = 0;
}

void intake_ended(intake_source *s, const bmb_intake_camera *spec, int error)
{
    int status;
    if (s->program > 0) {
        char name[64];
        snprintf(name, sizeof name, "%.*s", (int)strcspn(spec->program, " "), spec->program);
        const char *colon = s->words[0] != '\0' ? "; its last words: " : "";
        if (!has_ended(s->program, &status, PATIENCE_MS)) {
            snprintf(s->why, sizeof s->why, "the program %s closed its output%s%s", name, colon, s->words);
            return;
        }
        (void)kill(-s->program, SIGKILL);
        s->program = 0;
        if (WIFSIGNALED(status))
            snprintf(s->why, sizeof s->why, "the program %s was ended by signal %d%s%s", name, WTERMSIG(status), colon,
                     s->words);
        else
            snprintf(s->why, sizeof s->why, "the program %s ended with status %d%s%s", name, WEXITSTATUS(status), colon,
                     s->words);
        return;
    }
    if (error != 0)
        snprintf(s->why, sizeof s->why, "%s: %s; start what listens there", spec->input, strerror(error));
    else
        snprintf(s->why, sizeof s->why, "%s has ended", strcmp(spec->input, "-") == 0 ? "standard input" : spec->input);
}
