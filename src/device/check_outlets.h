/* Outlets and pushes of a configuration: is what they are to give out there, and in a form that they can carry? */
#ifndef BMB_DEVICE_CHECK_OUTLETS_H
#define BMB_DEVICE_CHECK_OUTLETS_H

#include "base/bounds.h"
#include "bambino/device.h"

/* part: "outlet" or "push"; addr is for the fault. */
bmb_err bmb_check_stream(const bmb_config *config, const char *part, uint16_t feed, bmb_stream_format format, bool tcp,
                         const bmb_addr *addr, bmb_fault *fault);
bmb_err bmb_check_outlet(const bmb_config *config, size_t index, bmb_fault *fault);
bmb_err bmb_check_push(const bmb_config *config, size_t index, bmb_fault *fault);
bmb_err bmb_check_outlets(const bmb_config *config, bmb_fault *fault); /* and all pushes */

#endif
