/* Where the bytes of an intake come from: a program, a pipe, a file, standard input, a socket. Private to ports/. */
#ifndef BMB_INTAKE_SOURCE_H
#define BMB_INTAKE_SOURCE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>

#include "bambino/intake.h"

typedef struct intake_source {
    int fd;     /* does not block; -1: closed */
    int errors; /* a program's standard error; -1: none */
    pid_t program;
    bool is_file; /* has an end, and is read at the rate that is said */
    bool datagrams;
    char why[400];   /* what went wrong, or how it ended, for people */
    char words[160]; /* the last line of a program's standard error */
} intake_source;

/* false: `why` says it, with what to do. */
bool intake_open(intake_source *s, const bmb_intake_camera *spec);
/* Ends a program and what it started, at the latest by force. */
void intake_close(intake_source *s);
/* Its end was seen (error 0), or reading failed with an errno: fills in `why`, for a program with its exit status and
 * last words. */
void intake_ended(intake_source *s, const bmb_intake_camera *spec, int error);

#endif
