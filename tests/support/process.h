/* Runs commands for end-to-end tests. */
#ifndef BMB_TESTS_PROCESS_H
#define BMB_TESTS_PROCESS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>

/* Runs a shell command to its end; its output (both streams) goes to out, NUL-terminated. Returns its exit status. */
int process_run(char *out, size_t room, const char *fmt, ...) __attribute__((format(printf, 3, 4)));

/* A `bambino` that serves in the background on free ports of 127.0.0.1. */
typedef struct served {
    pid_t pid;
    int out;         /* its standard output */
    char text[8192]; /* what it printed until it was ready */
    uint16_t http, rtsp, tcp;
} served;

/* Starts `PROGRAM ARGUMENTS` and reads until "Ctrl-C stops." is printed; finds the ports in its addresses. */
bool served_start(served *s, const char *program, const char *arguments);
/* SIGTERM; returns the exit status, with the rest of its output appended to text. */
int served_stop(served *s);
/* A number from its status.json, found by a path for Python such as "['feeds'][0]['frames']"; -1e9 when absent. */
double served_figure(const served *s, const char *path);

uint64_t wall_now_us(void);
#endif
