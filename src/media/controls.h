/* A camera's controls: settings of the configuration, of callers, and what is kept of them over restarts. */
#ifndef BMB_MEDIA_CONTROLS_H
#define BMB_MEDIA_CONTROLS_H

#include "media/camera.h"

/* Those of the configuration, and what was kept, before the camera is started for the first time. */
void bmb_controls_apply(bmb_context *x, bmb_camera *c);
/* BMB_IN_USE: a still is being taken. */
bmb_err bmb_controls_set(bmb_context *x, bmb_camera *c, bmb_control control, int32_t value, int32_t *effective);
/* Stores what is to be stored, now; or when its time has come, and returns when that is. */
void bmb_controls_keep(bmb_context *x, bmb_camera *c);
uint64_t bmb_controls_tend(bmb_context *x, bmb_camera *c);

#endif
