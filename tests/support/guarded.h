/* A device that not everybody may watch, for the tests of who may what: accounts, requests that sign in, what was
 * answered. */
#ifndef BAMBINO_TESTS_GUARDED_H
#define BAMBINO_TESTS_GUARDED_H

#include "support/fake_port.h"

#define TCP "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n"
#define TEST(f) cmocka_unit_test_setup_teardown(f, prepare, clean_up)

extern fake_device t;
extern uint8_t jpeg[20000];
extern size_t jpeg_size;
extern bmb_account accounts[8];
extern bmb_access access_of;
extern const uint8_t link_key[BMB_LINK_KEY_SIZE];
void person(const char *name, bmb_role role, uint64_t feeds, const char *password);
void program(const char *name, bmb_role role, uint64_t feeds, const char *token);
int prepare(void **state);
int clean_up(void **state);
void picture(void);
void begin(void);
bmb_sock connect_from(uint8_t host, size_t outlet);
extern char answer[40000];
unsigned http_from(uint8_t host, const char *method, const char *path, const char *headers);
unsigned get(const char *path, const char *headers);
unsigned post(const char *path, const char *headers);
extern char nonce[60];
void take_nonce(void);
const char *digest(bool md5, const char *name, const char *password, const char *method, const char *uri,
                   unsigned count);
const char *bearer(const char *token);
unsigned as(const char *name, const char *password, const char *path);
extern char cookie[80];
void sign_in(const char *name, const char *password);
unsigned status_of(const char *text);
const char *rtsp(bmb_sock s, const char *method, const char *path, const char *headers);
const char *link_to(const char *feed, const bmb_link_terms *terms);

#endif
