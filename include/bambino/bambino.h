/* Bambino turns a board with a camera into a network camera. This header brings the whole public API:
 *
 *   bambino/device.h   configure, open, step, figures
 *   bambino/port.h     the contract between the core and a board
 *   bambino/camera.h   modes, controls, frames
 *   bambino/event.h    addresses and events
 *   bambino/err.h      result codes
 *   bambino/text.h     sentences for people (a separate library)
 *   bambino/feeder.h   cameras of a program's own, and several drivers as one (a separate library)
 *   bambino/options.h  what is compiled into the core
 *   bambino/linux.h, bambino/sim.h, bambino/poll.h, bambino/lwip.h, bambino/bare.h   the ports that come with it
 */
#ifndef BAMBINO_BAMBINO_H
#define BAMBINO_BAMBINO_H

#include "bambino/camera.h"
#include "bambino/device.h"
#include "bambino/err.h"
#include "bambino/event.h"
#include "bambino/feeder.h"
#include "bambino/light.h"
#include "bambino/options.h"
#include "bambino/port.h"
#include "bambino/service.h"
#include "bambino/settings.h"
#include "bambino/text.h"
#include "bambino/version.h"

#endif
