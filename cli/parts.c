/* What this build has: parts that a switch of the build leaves out, docs/on-your-board.md. */
#include "cli.h"

#ifdef BAMBINO_HAS_JPEG
#define HAS_JPEG true
#else
#define HAS_JPEG false
#endif
#ifdef BAMBINO_HAS_H264
#define HAS_H264 true
#else
#define HAS_H264 false
#endif
#ifdef BAMBINO_HAS_PAGE
#define HAS_PAGE true
#else
#define HAS_PAGE false
#endif
#ifdef BAMBINO_HAS_CHECK
#define HAS_CHECK true
#else
#define HAS_CHECK false
#endif
#ifdef BAMBINO_HAS_MANUAL
#define HAS_MANUAL true
#else
#define HAS_MANUAL false
#endif
#ifdef BAMBINO_PLOT
#define HAS_PLOT true
#else
#define HAS_PLOT false
#endif
#ifdef BAMBINO_SHEET
#define HAS_SHEET true
#else
#define HAS_SHEET false
#endif

static const struct {
    const char *part;
    bool there; /* where it is not a function that tells */
    bool (*asked)(void);
    const char *without; /* the switch, and what is missing without it */
} parts[] = {
    { "TLS", false, bmb_tls_there, "BAMBINO_TLS: nothing is encrypted" },
    { "JPEG", HAS_JPEG, NULL, "BAMBINO_JPEG: a camera must deliver JPEG itself, and stills are as it delivers them" },
    { "H.264", HAS_H264, NULL, "BAMBINO_H264: a camera must deliver H.264 itself" },
    { "simulation", false, bmb_sim_there, "BAMBINO_SIM: no drawn cameras, clips, boards; no `bambino demo`" },
    { "page", HAS_PAGE, NULL, "BAMBINO_PAGE: status.json, the pictures and the settings are there" },
    { "check", HAS_CHECK, NULL, "BAMBINO_CHECK: no `bambino check`" },
    { "plots", HAS_PLOT, NULL, "BAMBINO_PLOT: no `bambino check --plot`" },
    { "manual", HAS_MANUAL, NULL, "BAMBINO_MANUAL: no `bambino manual`, `bambino completion`" },
    { "sheets", HAS_SHEET, NULL, "BAMBINO_SHEET: no picture by `bambino photo --preview`" },
};

void cli_print_version(void)
{
    printf("bambino " BMB_VERSION "\n");
    for (size_t i = 0; i < sizeof parts / sizeof parts[0]; i++) {
        bool there = parts[i].asked != NULL ? parts[i].asked() : parts[i].there;
        printf("%s: %s%s%s%s\n", parts[i].part, there ? "yes" : "no", there ? "" : " (", there ? "" : parts[i].without,
               there ? "" : ")");
    }
}

#ifndef BAMBINO_HAS_CHECK
int cli_check(int argc, const char **argv)
{
    (void)argc;
    (void)argv;
    return cli_error("this build has no measuring receiver; run `bambino check` on another machine, which is where "
                     "its figures mean something, or build with BAMBINO_CHECK");
}
#endif
