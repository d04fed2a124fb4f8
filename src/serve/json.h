/* JSON objects built with cJSON inside a bounded piece of memory that is the caller's.
 *
 * The library allocates through process-wide hooks. They are set to a bump allocator over the memory given to
 * bmb_json_begin and taken back by bmb_json_end, on the device's one thread; nothing outlives the pair.
 */
#ifndef BMB_SERVE_JSON_H
#define BMB_SERVE_JSON_H

#include <cjson/cJSON.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* memory: aligned as a pointer and a double must be. */
cJSON *bmb_json_begin(void *memory, size_t size);
/* Prints the object without spaces into out and returns its length; 0 when memory or room was too small. */
size_t bmb_json_end(cJSON *object, char *out, size_t room);

/* The key must outlive the object, the text too: neither is copied. */
void bmb_json_text(cJSON *object, const char *key, const char *text); /* NULL: null */
void bmb_json_number(cJSON *object, const char *key, uint64_t value);
void bmb_json_bool(cJSON *object, const char *key, bool value);
/* thousandths as a fraction, so that 7500 reads 7.5 */
void bmb_json_milli(cJSON *object, const char *key, uint32_t thousandths);
/* A list, and a text in it, which must outlive it. */
cJSON *bmb_json_list(cJSON *object, const char *key);
void bmb_json_item(cJSON *list, const char *text);

#endif
