/* What this build has: parts that a switch of the build leaves out, docs/on-your-board.md. */
#include "cli.h"

/* HAS_…: 0 or 1, from the build. */
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
    { "announcements", false, cli_announce_there, "BAMBINO_ANNOUNCE: `announce = 1` is refused" },
    { "page", HAS_PAGE, NULL, "BAMBINO_PAGE: status.json, the pictures and the settings are there" },
    { "check", HAS_CHECK, NULL, "BAMBINO_CHECK: no `bambino check`" },
    { "plots", HAS_PLOT, NULL, "BAMBINO_PLOT: no `bambino check --plot`" },
    { "manual", HAS_MANUAL, NULL, "BAMBINO_MANUAL: no `bambino manual`, `bambino completion`" },
    { "measure", HAS_MEASURE, NULL, "BAMBINO_MEASURE: no `bambino measure`" },
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
