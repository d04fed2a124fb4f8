/* The keys of the configuration file: one table, from which files are read and checked, settings are told and changed
 * while the device runs, and the reference is printed. */
#ifndef BAMBINO_CLI_KEYS_H
#define BAMBINO_CLI_KEYS_H

#include <string.h>

#include "cli.h"

typedef enum key_type {
    KEY_TEXT,
    KEY_NAME,
    KEY_INT,
    KEY_BYTES,
    KEY_RATE,
    KEY_SIZE,
    KEY_ADDR,
    KEY_SECURE,
    KEY_GROUP,
    KEY_HOST,
    KEY_CHOICE,
    KEY_CONTROL
} key_type;
typedef enum section {
    SECTION_DEVICE,
    SECTION_NETWORK,
    SECTION_HTTP,
    SECTION_RTSP,
    SECTION_TLS,
    SECTION_CAMERA,
    SECTION_FEED,
    SECTION_TCP,
    SECTION_PUSH,
    SECTION_COUNT
} section;

typedef struct key_row {
    char key[18]; /* short texts in place: a pointer to one takes 32 bytes of a program that may be loaded anywhere */
    uint8_t section; /* of enum section */
    uint8_t type;    /* of key_type */
    uint32_t at;     /* in cli_config, cli_camera or cli_feed; KEY_CONTROL: the bmb_control */
    int32_t least, most;
    uint16_t says;  /* where its unit, preset and meaning begin, each with its NUL */
    uint8_t choice; /* which words it takes */
} key_row;

const char *cli_key_unit(const key_row *k);
const char *cli_key_preset(const key_row *k);
const char *cli_key_help(const key_row *k);
/* The words that it takes, with NULL behind the last; NULL: it takes none. */
const char *const *cli_key_choices(const key_row *k);
/* The row of that number; NULL behind the last. */
const key_row *cli_key_at(size_t index);
const key_row *cli_key_named(section s, const char *key); /* NULL: there is none */
extern const char *const cli_section_names[SECTION_COUNT];
#define CLI_KEYS_MOST 128 /* there are fewer */
bool cli_section_named(const char *name, section *out);
/* May there be several, each with a name? */
static inline bool cli_section_is_list(section s)
{
    return s >= SECTION_CAMERA;
}
/* What its value is a number of; else a text. */
bool cli_key_is_number(const key_row *k);
/* yes or no */
bool cli_key_is_flag(const key_row *k);
/* Names a file or a program of this machine, or decides who may do what with it: it is set in the file alone. */
bool cli_key_is_local(const key_row *k);
/* A wrong value may cut off whoever sets it: it is tried first. */
bool cli_key_is_dangerous(const key_row *k);
/* Whoever may adjust may set it; else only administrators. */
bool cli_key_is_adjusted(const key_row *k);
/* What a change interrupts: the one table of it. */
typedef enum key_effect {
    EFFECT_NOTHING,
    EFFECT_GAP, /* those who watch the feed miss some frames */
    EFFECT_OWN, /* those of this feed, outlet or push connect anew */
    EFFECT_ALL  /* the device is opened anew: all connect anew; who is signed in stays so */
} key_effect;
key_effect cli_key_effect(const key_row *k);
/* Its name: "nothing", "gap", "new-connection", "all-new". */
const char *cli_key_notice(const key_row *k);
/* What its value may be, for people: "1 to 60", "`auto`, `raw`", "text", "address". */
void cli_key_values(const key_row *k, char *out, size_t room);
/* The value of a key as text, as a file would say it. item: the structure of its section. false: it says nothing. */
bool cli_key_text(const key_row *k, const void *item, char *out, size_t room);
/* The structure of a section: of this name where there are several; NULL: there is none. */
const void *cli_section_item(const cli_config *c, section s, const char *name);

#endif
