/* The status light: what a person beside the board sees. The core reports states to the port (bmb_port.light); a port
 * with one lamp shows them with these patterns, so that every board speaks the same language.
 *
 *   starting     quick, even blinking
 *   no camera    two flashes, pause
 *   no network   three flashes, pause
 *   ready        one short flash every two seconds
 *   watched      steady
 */
#ifndef BAMBINO_LIGHT_H
#define BAMBINO_LIGHT_H

#include "bambino/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What the lamp is for. */
typedef enum bmb_light_style {
    BMB_LIGHT_OFF = 0, /* dark always */
    BMB_LIGHT_STATES,  /* the patterns above */
    BMB_LIGHT_VIEWED,  /* steady while somebody watches, else dark */
    BMB_LIGHT_FRAMES,  /* while somebody watches, changes with every frame; else as states */
    BMB_LIGHT_STYLES
} bmb_light_style;

/* Is the lamp lit at this time? frames: frames taken so far. Ask about 20 times a second. */
bool bmb_light_lit(bmb_light_style style, bmb_light state, uint64_t now_us, uint64_t frames);
/* "starting", "no-camera", …; NULL when out of range. */
const char *bmb_light_name(bmb_light state);

#ifdef __cplusplus
}
#endif
#endif
