/* Whether a configuration can be: every value in its range, every camera there, every function of the port that it
 * needs.
 */
#ifndef BMB_DEVICE_CHECK_H
#define BMB_DEVICE_CHECK_H

#include "bambino/device.h"
#include "base/bounds.h"

/* What is asked of the port once, so that the counting and the laying out cannot see different answers. */
typedef struct bmb_plan {
    uint16_t camera[BMB_FEEDS_MOST], slots[BMB_FEEDS_MOST];
} bmb_plan;

/* On failure the fault names what is wrong. */
bmb_err bmb_config_check(const bmb_config *config, bmb_plan *out, bmb_fault *fault);

#endif
