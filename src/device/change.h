/* Feeds, outlets and pushes that change, come and go while the device runs. */
#ifndef BMB_DEVICE_CHANGE_H
#define BMB_DEVICE_CHANGE_H

#include "device/parts.h"

/* A feed was taken out of service: its place is free. */
void bmb_feed_gone(bmb_device *d, bmb_feed *feed);

#endif
