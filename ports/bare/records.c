/* Records in memory that a reset leaves as it is. A reset in the middle of a write leaves the record before. */
#include "bambino/bare.h"

#include <string.h>

#define RECORD_MOST 512u

typedef struct place {
    uint32_t sum; /* over all that follows */
    uint32_t turn;
    uint32_t size;
    char name[48];
    uint8_t data[RECORD_MOST];
} place;

_Static_assert(sizeof(place) <= BMB_BARE_RECORD, "BMB_BARE_RECORD is too small");

static place *places;
static size_t place_count;

static uint32_t sum_of(const place *p)
{
    uint32_t hash = 2166136261u; /* FNV-1a */
    const uint8_t *at = (const uint8_t *)&p->turn;
    for (size_t i = 0; i < sizeof *p - sizeof p->sum; i++) hash = (hash ^ at[i]) * 16777619u;
    return hash;
}

static bool is_whole(const place *p)
{
    return p->size <= RECORD_MOST && p->name[sizeof p->name - 1] == '\0' && p->sum == sum_of(p);
}

/* The newest of that name; NULL: none. */
static place *find(const char *name)
{
    place *found = NULL;
    for (size_t i = 0; i < place_count; i++)
        if (is_whole(&places[i]) && strcmp(places[i].name, name) == 0 &&
            (found == NULL || (int32_t)(places[i].turn - found->turn) > 0))
            found = &places[i];
    return found;
}

static bmb_err load(void *ctx, const char *name, void *out, size_t room, size_t *got)
{
    (void)ctx;
    const place *p = find(name);
    if (p == NULL) return BMB_NOT_FOUND;
    if (p->size > room) return BMB_NO_ROOM;
    memcpy(out, p->data, p->size);
    *got = p->size;
    return BMB_OK;
}

/* A place that holds nothing, or what a newer one of the same name has replaced. */
static place *spare(void)
{
    for (size_t i = 0; i < place_count; i++)
        if (!is_whole(&places[i]) || find(places[i].name) != &places[i]) return &places[i];
    return NULL;
}

static bmb_err store(void *ctx, const char *name, const void *data, size_t size)
{
    (void)ctx;
    const place *before = find(name);
    place *p = spare();
    if (p == NULL || size > RECORD_MOST || strlen(name) >= sizeof p->name) return BMB_NO_ROOM;
    uint32_t turn = before != NULL ? before->turn + 1 : 1;
    memset(p, 0, sizeof *p);
    p->turn = turn;
    p->size = (uint32_t)size;
    strcpy(p->name, name);
    memcpy(p->data, data, size);
    p->sum = sum_of(p); /* last: from here on it counts */
    return BMB_OK;
}

void bmb_bare_storage(void *memory, size_t size, bmb_storage *storage)
{
    places = (place *)memory;
    place_count = size / sizeof(place);
    *storage = (bmb_storage){ .load = load, .store = store };
}
