/* Cameras on a system that is not the kernel: for tests and benchmarks. Private to ports/. */
#ifndef BMB_V4L2_CAMERA_H
#define BMB_V4L2_CAMERA_H

#include "bambino/v4l2.h"
#include "v4l2/system.h"

/* As bmb_v4l2_create(); system stays the caller's. */
bmb_err v4l2_create_on(v4l2_system *system, const bmb_port *port, const bmb_v4l2_camera *cameras, size_t camera_count,
                       bmb_v4l2 **out);

#endif
