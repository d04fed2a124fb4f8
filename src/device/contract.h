/* Ports are not trusted blindly: has the port what a configuration needs? */
#ifndef BMB_DEVICE_CONTRACT_H
#define BMB_DEVICE_CONTRACT_H

#include "bambino/device.h"

/* BMB_UNSUPPORTED: a function that the configuration needs is not there; the fault names it. */
bmb_err bmb_contract_check(const bmb_config *config, bmb_fault *fault);
/* Fills a fault in, where there is one, and returns err. */
bmb_err bmb_blame(bmb_fault *fault, bmb_err err, const char *part, const char *key, const char *name, int64_t asked,
                  int64_t have);

#endif
