/* What is changed over the configuration file while the device runs: how it comes into force, is tried, kept and told.
 */
#ifndef BAMBINO_CLI_SETTINGS_H
#define BAMBINO_CLI_SETTINGS_H

#include "keys.h"

/* Where an outlet or a push of the configuration stands in the device. */
typedef struct cli_way {
    section section;
    char name[BMB_NAME_MAX];
    bool secure;
    size_t row;       /* of its draft */
    size_t place;     /* in the device */
    cli_device *from; /* the draft whose row it is */
} cli_way;

#define CLI_WAYS_MOST (4 + CLI_TCP_MOST + CLI_PUSHES_MOST)

typedef struct cli_draft {
    struct cli_draft *next;
    cli_device d; /* everything that a configuration comes to; opens nothing */
} cli_draft;

/* Cameras that ran before a change have to run after it; else the change failed, and is undone. */
typedef struct cli_proof {
    char feeds[CLI_FEEDS_MOST][BMB_NAME_MAX]; /* of whose camera no frame has come yet */
    size_t count;
    cli_layer now, kept; /* … and what was before the change */
} cli_proof;

typedef struct cli_settings {
    char *base; /* the file, as it was read */
    char path[CLI_TEXT_MAX];
    bool said[5];    /* which addresses the command line says: http, rtsp, https, rtsps, tcp … */
    bmb_addr say[5]; /* … and which */
    bool stores;     /* there is a state folder */
    cli_layer kept;  /* what holds over a restart … */
    cli_layer now;   /* … what is in force: another one while something is tried */
    bool tries;
    bool danger;         /* what is tried may cut somebody off */
    uint64_t until_us;   /* what is tried returns then */
    unsigned tried;      /* how many */
    uint16_t ways_in[2]; /* ports by which it has to be confirmed; 0: by any */
    bool due;            /* … comes into force once the answer is out */
    bool again;          /* … by opening the device anew */
    bool restart;        /* the program is asked to begin again */
    uint64_t due_us;
    cli_layer next, last; /* … and what was before it, to fall back on */
    bool fell;            /* … which was done */
    bool keeps;           /* what is next holds over a restart once it is in force … */
    cli_layer next_kept;  /* … as this */
    cli_way ways[CLI_WAYS_MOST];
    size_t way_count;
    cli_draft *drafts;            /* those that rows of the device belong to, the present one first */
    double cpu, cpu_percent;      /* of the last look: seconds of the program … */
    uint64_t cpu_us;              /* … and when */
    uint64_t noted_us;            /* the last change that was told … */
    uint8_t noted[16];            /* … and whose */
    cli_proof noted_proof, proof; /* of a change that is made just now; of those that are in force */
} cli_settings;

/* Before a change to `to`, or before opening anew (NULL): which cameras run. */
void cli_proof_note(cli_device *d, const cli_config *to);
/* It came into force. */
void cli_proof_begin(cli_device *d);
/* true: one of them failed. */
bool cli_proof_failed(cli_device *d);
void cli_proof_end(cli_settings *s);

/* What a configuration with these changes comes to. NULL: it cannot be; why gets the reason, culprit the change. */
cli_draft *cli_draft_make(const cli_device *d, const cli_layer *over, char *why, size_t room, size_t *culprit);
void cli_draft_free(cli_draft *draft);
/* May it come into force while the device runs; else it has to be opened anew. */
bool cli_draft_is_live(const cli_device *d, const cli_draft *to);
/* Puts it in force, as a whole or not at all; it belongs to the settings then. *again: it takes opening anew. */
bool cli_draft_apply(cli_device *d, cli_draft *to, bool *again, char *why, size_t room);
/* The device was opened: what is in force is the first draft. false: there is no memory. */
bool cli_draft_begin(cli_device *d);
void cli_drafts_end(cli_settings *s);

/* A text file, from the heap; NULL: it cannot be read, or is over 1 MiB. */
char *cli_read_whole(const char *path, int flags);
/* A text with changes; those that cannot be any more are left out one by one, and told. */
bool cli_parse_over(const char *base, const char *path, cli_layer *l, cli_config *out);
/* … with those of the state folder that it names. file: gets what the text alone says; or NULL. */
bool cli_parse_layers(const char *base, const char *path, cli_layer *l, cli_config *file, cli_config *out);
/* Reads a file, and what was changed over it: what it says alone, the changes, and both. */
bool cli_layers_read(const char *path, cli_config *file, cli_layer *l, cli_config *out);
/* Reads the file, or this text in its place, and what was changed over it. NULL: it was told why. */
cli_settings *cli_settings_open(const char *path, const char *text, cli_config *out);
void cli_settings_close(cli_settings *s);
void cli_settings_reread(cli_settings *s);
bool cli_settings_parse(cli_settings *s, cli_config *out);
/* Brings into force what is due, and returns what nobody confirmed; returns when it wants to be called again, at the
 * latest `next`. */
uint64_t cli_settings_tend(cli_device *d, uint64_t next);
/* What was to be in force cannot be opened: what was before is to be tried. false: that is it already. */
bool cli_settings_fall_back(cli_settings *s, bool first);

/* What is due came into force. */
void cli_settings_arrived(cli_device *d);
bool cli_settings_store(cli_device *d); /* what is kept */

#define CLI_LAYER_RECORD "settings" /* in the state folder */
/* What is to be changed over `from` to get `to`; left_out: keys that are set in the file alone. */
bool cli_layer_between(cli_layer *l, const cli_config *from, const cli_config *to, size_t *left_out);
/* The whole as a configuration file, from the heap. */
char *cli_config_text(const cli_config *c);
struct cJSON *cli_machine(cli_device *d);
/* Tells of pages in the folder that browsers will not show as they are meant. */
void cli_own_check(const cli_device *d);
bool cli_own_find(const cli_device *d, const char *path, size_t size, bmb_role *needs);
bool cli_own_ask(const cli_device *d, const bmb_request *r, bmb_answer *a);
/* api.c: the answers over HTTP. */
void cli_api_begin(cli_device *d);

#endif
