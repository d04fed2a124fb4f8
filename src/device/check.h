/* Whether a configuration can be: every value in its range, every camera there, every function of the port that it
 * needs.
 */
#ifndef BMB_DEVICE_CHECK_H
#define BMB_DEVICE_CHECK_H

#include "bambino/device.h"
#include "base/bounds.h"

#define BMB_NO_CAMERA UINT16_MAX /* of a feed that is not there */

/* What is asked of the port once, so that the counting and the laying out cannot see different answers. */
typedef struct bmb_plan {
    uint16_t camera[BMB_FEEDS_MOST], slots[BMB_FEEDS_MOST];
    void *secrets; /* laid out: the memory for encryption; NULL: none */
} bmb_plan;

/* On failure the fault names what is wrong. */
bmb_err bmb_config_check(const bmb_config *config, bmb_plan *out, bmb_fault *fault);
/* The same for a feed that changes or comes. plan: the cameras of the others; gets its own. */
bmb_err bmb_feed_check(const bmb_config *config, size_t index, bmb_plan *plan, bmb_fault *fault);

/* Its numbers alone. */
bmb_err bmb_values_check(const bmb_config *config, bmb_fault *fault);
/* An outlet, or a push, that comes. */
bmb_err bmb_outlet_check(const bmb_config *config, size_t index, bmb_fault *fault);
bmb_err bmb_push_check(const bmb_config *config, size_t index, bmb_fault *fault);

/* Is anything but a control to change while it runs? */
static inline bool bmb_reserves(const bmb_config *config)
{
    return config->reserve.changes;
}

#endif
