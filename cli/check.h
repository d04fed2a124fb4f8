/* `bambino check`: what its files share. */
#ifndef BMB_CLI_CHECK_H
#define BMB_CLI_CHECK_H

#include "cli.h"
#include "receive/receive.h"

#define CHECK_MOST 8 /* addresses at a time */
#define EXPECT_MOST 24

/* What is expected of one figure; check_judge.c has their names. */
typedef struct check_expected {
    size_t figure;
    double value;
    char text[32]; /* as it was given */
} check_expected;

typedef struct check_run {
    receive *receivers; /* CHECK_MOST of them */
    size_t count;
    check_expected expected[EXPECT_MOST];
    size_t expected_count;
    double seconds;    /* that it took */
    const char *light; /* "screen", or a program that is called with on and off; NULL: none */
} check_run;

/* "rate=25"; false: what is wrong was printed. */
bool check_expect(check_run *run, const char *text);
/* Prints what was missed; returns how much. */
unsigned check_judge(const check_run *run, bool quiet);
/* How the delay is known, and how well. */
const char *check_clock_text(measure_clock clock);
void check_print_summary(const check_run *run);
void check_print_json(const check_run *run, unsigned missed);
/* A plot of how delays and intervals are spread, and its PNG; false: it cannot be written, or this build cannot. */
bool check_plot(const check_run *run, const char *path);

#endif
