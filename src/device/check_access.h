/* Whether accounts can be. */
#ifndef BMB_DEVICE_CHECK_ACCESS_H
#define BMB_DEVICE_CHECK_ACCESS_H

#include "bambino/device.h"

/* Accounts, and what they need of the port. NULL: there are none, and that is fine. */
bmb_err bmb_access_check(const bmb_access *access, const bmb_port *port, bmb_fault *fault);

#endif
