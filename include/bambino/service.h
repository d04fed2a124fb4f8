/* Requests over HTTP that the program answers itself: settings, its own documents, whatever it likes.
 *
 *     static bool find(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs) …
 *     static void ask(void *ctx, const bmb_request *request, bmb_answer *answer) …
 *     static const bmb_service service = { .find = find, .ask = ask, .body_most = 1024 };
 *     config.service = &service;
 *
 * Who asks was looked at before, as for all other requests: names, origins, accounts and roles (docs/security.md). One
 * request with a body is taken at a time; while it comes in, others with one are told to come again (503). All calls
 * come from bmb_step(), and must not wait.
 */
#ifndef BAMBINO_SERVICE_H
#define BAMBINO_SERVICE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "bambino/access.h"
#include "bambino/event.h"

#ifdef __cplusplus
extern "C" {
#endif

/* RFC 9110 9.3, RFC 5789 */
typedef enum bmb_method {
    BMB_METHOD_GET = 0, /* HEAD, too: the answer's document is left out */
    BMB_METHOD_POST,
    BMB_METHOD_PUT,
    BMB_METHOD_PATCH,
    BMB_METHOD_DELETE
} bmb_method;

/* What is pointed to stays during the call. Texts are not ended by a NUL; size 0: not there. */
typedef struct bmb_request {
    bmb_method method;
    const char *path; /* decoded, without its query, at most 83 bytes */
    size_t path_size;
    const char *type; /* Content-Type */
    size_t type_size;
    const char *if_match, *if_none_match;
    size_t if_match_size, if_none_match_size;
    const uint8_t *body;
    size_t body_size;
    bmb_role role;    /* of whoever asks … */
    uint64_t adjusts; /* … and feeds that he may adjust, a bit for each by its index */
    const char *who;  /* his name; NULL: nobody signed in */
    bmb_addr peer;    /* from where */
    uint16_t port;    /* of ours that was asked at */
    bool secure;      /* encrypted */
} bmb_request;

typedef struct bmb_answer {
    uint16_t status;  /* preset 200: 200, 201, 202, 204, 304, 400, 403 to 405, 409, 412, 413, 415, 422, 428, 500, 503 */
    const char *type; /* Content-Type */
    const char *etag; /* with its quotes; NULL: none. It may be kept, and is asked about; else it is not to be kept */
    const char *lines; /* more of the head, each ended by CR LF, at most 400 bytes; or NULL */
    const void *body;  /* stays until done, or for ever where there is no such function */
    size_t size;
    void *token; /* for done */
} bmb_answer;

typedef struct bmb_service {
    void *ctx;
    /* Is it the service's? *needs: the role that it takes to ask; preset BMB_ROLE_NONE. Asked before documents of the
     * configuration and feeds, which it may so take the place of. */
    bool (*find)(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs);
    void (*ask)(void *ctx, const bmb_request *request, bmb_answer *answer);
    /* The answer with this token is sent, or its connection gone; NULL: not wanted. */
    void (*done)(void *ctx, void *token);
    uint32_t body_most; /* bytes of a request's body; larger: 413. This much memory is in the device's block */
} bmb_service;

#ifdef __cplusplus
}
#endif
#endif
