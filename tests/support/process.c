#include "support/process.h"

#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

int process_run(char *out, size_t room, const char *fmt, ...)
{
    char command[2048], whole[2200];
    va_list args;
    va_start(args, fmt);
    vsnprintf(command, sizeof command, fmt, args);
    va_end(args);
    snprintf(whole, sizeof whole, "{ %s ; } 2>&1", command);
    FILE *p = popen(whole, "r");
    if (p == NULL) return -1;
    size_t n = fread(out, 1, room - 1, p);
    out[n] = '\0';
    char rest[4096];
    while (fread(rest, 1, sizeof rest, p) > 0) continue;
    int status = pclose(p);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

static uint16_t port_of(const char *text, const char *scheme)
{
    const char *at = strstr(text, scheme);
    if (at == NULL) return 0;
    at = strchr(at + strlen(scheme), ':');
    return at != NULL ? (uint16_t)atoi(at + 1) : 0;
}

bool served_start(served *s, const char *program, const char *arguments)
{
    int ends[2];
    memset(s, 0, sizeof *s);
    if (pipe(ends) != 0) return false;
    s->pid = fork();
    if (s->pid == 0) {
        char command[1024];
        prctl(PR_SET_PDEATHSIG, SIGKILL); /* a test that fails in its middle leaves nothing behind */
        dup2(ends[1], 1);
        close(ends[0]);
        close(ends[1]);
        snprintf(command, sizeof command, "exec %s %s", program, arguments);
        execl("/bin/sh", "sh", "-c", command, (char *)NULL);
        _exit(127);
    }
    close(ends[1]);
    s->out = ends[0];
    size_t size = 0;
    while (strstr(s->text, "Ctrl-C stops.") == NULL) {
        ssize_t n = read(s->out, s->text + size, sizeof s->text - 1 - size);
        if (n <= 0) return false;
        size += (size_t)n;
        s->text[size] = '\0';
    }
    s->http = port_of(s->text, "http://");
    s->rtsp = port_of(s->text, "rtsp://");
    s->tcp = port_of(s->text, "tcp://");
    return true;
}

int served_stop(served *s)
{
    int status = 0;
    kill(s->pid, SIGTERM);
    size_t size = strlen(s->text);
    ssize_t n;
    while ((n = read(s->out, s->text + size, sizeof s->text - 1 - size)) > 0) size += (size_t)n;
    s->text[size] = '\0';
    close(s->out);
    waitpid(s->pid, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
}

double served_figure(const served *s, const char *path)
{
    char out[256];
    process_run(out, sizeof out,
                "curl -s --max-time 5 http://127.0.0.1:%u/status.json | "
                "python3 -c \"import json,sys; v = json.load(sys.stdin)%s; print(-1e9 if v is None else v)\"",
                s->http, path);
    char *end;
    double v = strtod(out, &end);
    return end == out ? -1e9 : v;
}

uint64_t wall_now_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_REALTIME, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}
