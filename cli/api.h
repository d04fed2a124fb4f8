/* Settings over HTTP, between its files: answers (api_answer.c), what there is (api_tell.c), what is asked for as a
 * change (api_merge.c), how it comes into force (api_change.c); addresses and files are api.c's. docs/settings.md and
 * docs/openapi.json describe it; a test holds the description against the running device. */
#ifndef BAMBINO_CLI_API_H
#define BAMBINO_CLI_API_H

#include <cjson/cJSON.h>

#include "settings.h"

#define CLI_API_JSON "application/json"
#define CLI_API_SOON_US 250000u /* after an answer, so that it is out before its way is closed */

typedef struct cli_problem {
    uint16_t status;
    char detail[700];
    char at[100]; /* a JSON pointer (RFC 6901) to what is wrong; "": nothing in particular */
} cli_problem;

/* false, always, for those who return it. */
bool cli_api_refuse(cli_problem *p, uint16_t status, const char *fmt, ...) __attribute__((format(printf, 3, 4)));

/* Answers. Their texts are from the heap, and freed when they are sent. */
void cli_api_text(bmb_answer *a, uint16_t status, const char *type, char *text);
void cli_api_json(bmb_answer *a, uint16_t status, const char *type, cJSON *json);
void cli_api_problem(bmb_answer *a, const cli_problem *p);

/* One item of a section, as it is gone through. */
typedef struct cli_api_item {
    bool adjusts; /* whoever asks may adjust it */
    section section;
    const char *name; /* "": the section has no names */
    const void *at;
    bmb_camera_info info; /* feeds */
    bmb_feed_stats stats;
} cli_api_item;

/* The index-th of all sections' items. */
bool cli_api_item_at(const cli_device *d, size_t index, uint64_t adjusts, cli_api_item *out);
bool cli_api_shows(const cli_api_item *i, const key_row *k, bmb_role role);
/* What the document says of one setting; false: nothing. */
bool cli_api_tells(const cli_device *d, section s, const char *name, const key_row *k, char *out, size_t room);
void cli_api_add_value(cJSON *o, const char *key, const key_row *k, const char *text);
/* All that can be said of one setting. */
cJSON *cli_api_describe(const cli_device *d, const cli_api_item *i, const key_row *k);
/* The settings as one object, and its entity tag. */
cJSON *cli_api_document(const cli_device *d, const bmb_request *asker);
void cli_api_etag(const char *text, char out[24]);
/* Is the tag in a list of them, or is it any? (RFC 9110 13.1) */
bool cli_api_matches(const char *list, size_t size, const char *etag);
cJSON *cli_api_trial(const cli_device *d);
void cli_api_tell_details(const cli_device *d, const bmb_request *asker, bmb_answer *a);
void cli_api_tell_document(const cli_device *d, const bmb_request *r, bmb_answer *a);

/* Merging (RFC 7396). Values become texts, as a file would say them. */
typedef struct cli_merging {
    const cli_device *d;
    bmb_role role;
    uint64_t adjusts;
    cli_layer *layer;
    cli_problem *p;
    size_t count;
} cli_merging;

/* false: the problem says why not. */
bool cli_api_merge(cli_merging *m, const cJSON *root);

/* The file alone, without what was changed; NULL: there is not enough memory. The caller frees it. */
cli_config *cli_api_base(const cli_settings *s);
void cli_api_patch(cli_device *d, const bmb_request *r, unsigned seconds, bmb_answer *a);
/* A whole layer takes the place of the present one: nothing, or what a file comes to. */
void cli_api_replace(cli_device *d, const bmb_request *r, const cli_layer *layer, bmb_answer *a);
void cli_api_keep(cli_device *d, const bmb_request *r, bmb_answer *a);
void cli_api_give_back(cli_device *d, const bmb_request *r, bmb_answer *a);

#endif
