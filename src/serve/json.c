#include "serve/json.h"

#include "base/bytes.h"

/* cJSON's hooks carry no context of their own, hence this one variable; it is set only between begin and end. */
static struct {
    uint8_t *at, *end;
    bool failed;
} arena;

static void *arena_alloc(size_t size)
{
    size_t need = bmb_align(size);
    if (need > (size_t)(arena.end - arena.at)) {
        arena.failed = true;
        return NULL;
    }
    void *here = arena.at;
    arena.at += need;
    return here;
}

static void arena_free(void *memory)
{
    (void)memory; /* all at once, by bmb_json_end */
}

cJSON *bmb_json_begin(void *memory, size_t size)
{
    arena.at = (uint8_t *)memory;
    arena.end = (uint8_t *)memory + size;
    arena.failed = false;
    cJSON_InitHooks(&(cJSON_Hooks){ .malloc_fn = arena_alloc, .free_fn = arena_free });
    return cJSON_CreateObject();
}

size_t bmb_json_end(cJSON *object, char *out, size_t room)
{
    size_t length = 0;
    bool printed = object != NULL && !arena.failed && room > 0 && room <= INT32_MAX &&
                   cJSON_PrintPreallocated(object, out, (int)room, false) != 0;
    while (printed && out[length] != '\0') length++;
    cJSON_InitHooks(NULL);
    return length;
}

static void add(cJSON *object, const char *key, cJSON *item)
{
    if (item == NULL || !cJSON_AddItemToObjectCS(object, key, item)) arena.failed = true;
}

void bmb_json_text(cJSON *object, const char *key, const char *text)
{
    add(object, key, text != NULL ? cJSON_CreateStringReference(text) : cJSON_CreateNull());
}

#define NUMBER_ROOM 24u /* twenty digits, a point and an end */

/* As digits: a double would be less exact, and costs a microcontroller far more to print. */
void bmb_json_number(cJSON *object, const char *key, uint64_t value)
{
    char text[NUMBER_ROOM];
    bmb_writer w = bmb_writer_of(text, sizeof text - 1);
    bmb_put_dec(&w, value);
    text[bmb_written(&w)] = '\0';
    add(object, key, cJSON_CreateRaw(text));
}

void bmb_json_bool(cJSON *object, const char *key, bool value)
{
    add(object, key, cJSON_CreateBool(value));
}

void bmb_json_milli(cJSON *object, const char *key, uint32_t thousandths)
{
    char text[NUMBER_ROOM];
    uint32_t fraction = thousandths % 1000;
    bmb_writer w = bmb_writer_of(text, sizeof text - 1);
    bmb_put_dec(&w, thousandths / 1000);
    if (fraction > 0) bmb_put_u8(&w, '.');
    for (uint32_t place = 100; fraction > 0; fraction %= place, place /= 10)
        bmb_put_u8(&w, (uint8_t)('0' + fraction / place));
    text[bmb_written(&w)] = '\0';
    add(object, key, cJSON_CreateRaw(text));
}

cJSON *bmb_json_list(cJSON *object, const char *key)
{
    cJSON *list = cJSON_CreateArray();
    add(object, key, list);
    return list;
}

void bmb_json_item(cJSON *list, const char *text)
{
    if (!cJSON_AddItemToArray(list, cJSON_CreateStringReference(text))) arena.failed = true;
}
