/* Settings over HTTP for a device without a file of settings, such as a microcontroller: size, rate and controls of its
 * feeds, read and changed as docs/settings.md describes (GET and PATCH /settings, GET /settings/details), so that the
 * page's controls work. Whoever may adjust a feed may change it. Nothing that could cut anybody off is among them.
 *
 *     static bmb_settings settings;
 *     static char documents[3072];
 *     bmb_settings_prepare(&settings, &config, documents, sizeof documents); // then open the device …
 *     bmb_settings_begin(&settings, device);                                 // … and with it
 *
 * Sizes and rates are kept over restarts by the port's storage, a record "mode-NAME" for each feed that was changed and
 * has keep_controls set, which keeps its controls. A patch is of at most 512 bytes and eight settings, and taken as a
 * whole or not at all.
 */
#ifndef BAMBINO_SETTINGS_H
#define BAMBINO_SETTINGS_H

#include "bambino/device.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct bmb_settings { /* zeroed; private */
    bmb_service service;
    bmb_device *device;
    char *out;
    size_t room;
    char etag[12];
    bool busy; /* an answer is under way in the memory */
} bmb_settings;

/* Sets the configuration's service, and that feeds may change. memory: for one document at a time, and others are told
 * to come again: 200 bytes for each control that a camera has are enough, and 500 besides. All of them must stay until
 * bmb_close(). */
void bmb_settings_prepare(bmb_settings *settings, bmb_config *config, void *memory, size_t size);
/* The device is open: what was kept comes into force. */
void bmb_settings_begin(bmb_settings *settings, bmb_device *device);

#ifdef __cplusplus
}
#endif
#endif
