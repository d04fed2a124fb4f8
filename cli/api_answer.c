/* Answers over HTTP, and what is wrong with what was asked. */
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "api.h"

#define PROBLEM "application/problem+json" /* RFC 9457 */

bool cli_api_refuse(cli_problem *p, uint16_t status, const char *fmt, ...)
{
    va_list args;
    p->status = status;
    va_start(args, fmt);
    vsnprintf(p->detail, sizeof p->detail, fmt, args);
    va_end(args);
    return false;
}

static const char *title_of(uint16_t status)
{
    switch (status) {
    case 403:
        return "Not allowed";
    case 404:
        return "Not found";
    case 405:
        return "Not that way";
    case 409:
        return "Not now";
    case 412:
        return "Changed meanwhile";
    case 413:
        return "Too large";
    case 415:
        return "Not in this form";
    case 422:
        return "Not possible";
    case 500:
        return "Failed";
    default:
        return "Not understood";
    }
}

void cli_api_text(bmb_answer *a, uint16_t status, const char *type, char *text)
{
    a->status = text != NULL ? status : 500;
    a->type = type;
    a->body = a->token = text;
    a->size = text != NULL ? strlen(text) : 0;
}

void cli_api_json(bmb_answer *a, uint16_t status, const char *type, cJSON *json)
{
    cli_api_text(a, status, type, cJSON_PrintUnformatted(json));
    cJSON_Delete(json);
}

void cli_api_problem(bmb_answer *a, const cli_problem *p)
{
    cJSON *o = cJSON_CreateObject();
    cJSON_AddStringToObject(o, "title", title_of(p->status));
    cJSON_AddNumberToObject(o, "status", p->status);
    cJSON_AddStringToObject(o, "detail", p->detail);
    if (p->at[0] != '\0') cJSON_AddStringToObject(o, "at", p->at);
    cli_api_json(a, p->status, PROBLEM, o);
    if (p->status == 405) a->lines = "Allow: GET, HEAD, PATCH\r\n";
}
