/* A change of settings as it is asked for: read, checked, and brought into force as a whole or not at all. */
#ifndef BMB_DEVICE_SETTINGS_PATCH_H
#define BMB_DEVICE_SETTINGS_PATCH_H

#include "device/parts.h"

#define BMB_PATCH_MOST 8u /* settings at a time */

/* Controls by their number, and behind them what is the mode's. */
enum { BMB_SETTING_SIZE = BMB_CONTROL_COUNT, BMB_SETTING_RATE, BMB_SETTINGS };

typedef struct bmb_change {
    uint8_t feed, key;
    bool preset;
    int32_t value;          /* of a control; rate: mfps */
    uint16_t width, height; /* size */
} bmb_change;

typedef struct bmb_patch {
    bmb_device *d;
    uint64_t adjusts;
    bmb_change changes[BMB_PATCH_MOST];
    size_t count;
    const char *detail; /* why not */
    bmb_text name, key; /* where */
    size_t feed;        /* that is read now */
} bmb_patch;

const char *bmb_setting_name(unsigned key);
/* What its camera can; false: it is out of service. */
bool bmb_setting_camera(const bmb_device *d, size_t feed, bmb_camera_info *info);
bool bmb_setting_is_there(const bmb_device *d, size_t feed, const bmb_camera_info *info, unsigned key);
/* The fastest at this size; 0: there is no such size. */
uint32_t bmb_setting_fastest(const bmb_camera_info *info, const bmb_mode *mode);
bmb_err bmb_setting_set_mode(bmb_device *d, size_t feed, const bmb_mode *mode);
/* By the port's storage, where the feed keeps its controls. load: *mode becomes what was kept, if anything was. */
void bmb_setting_keep_mode(const bmb_device *d, const bmb_feed_config *row, bool load, bmb_mode *mode);

/* Reads what is asked for; false: detail says why not, NULL: it is no such JSON. */
bool bmb_patch_take(bmb_patch *p, bmb_text body);
bool bmb_patch_apply(bmb_patch *p);

#endif
