/* In place of simulated cameras and boards, in a build without them. */
#include <stdio.h>
#include <string.h>

#include "bambino/board.h"

bool bmb_sim_there(void)
{
    return false;
}

static size_t no_camera(void *ctx)
{
    (void)ctx;
    return 0;
}

/* No camera is what it can create: the port's list is then an empty one. */
bmb_err bmb_sim_create(const bmb_sim_camera *cameras, size_t count, bmb_port *port, bmb_sim **out, size_t *missing)
{
    (void)cameras;
    if (missing != NULL) *missing = 0;
    if (count > 0) return BMB_UNSUPPORTED;
    port->cameras = (bmb_cameras){ .count = no_camera };
    *out = NULL;
    return BMB_OK;
}

void bmb_sim_destroy(bmb_sim *self)
{
    (void)self;
}

bmb_err bmb_sim_break(bmb_sim *self, size_t camera, bmb_sim_fault fault)
{
    (void)self;
    (void)camera;
    (void)fault;
    return BMB_UNSUPPORTED;
}

const char *bmb_board_fault_name(bmb_board_fault fault)
{
    (void)fault;
    return "none";
}

bmb_err bmb_board_load(const char *path, bmb_board *out, char *why, size_t room)
{
    (void)path;
    memset(out, 0, sizeof *out);
    snprintf(why, room, "this build simulates no boards");
    return BMB_UNSUPPORTED;
}

void bmb_board_light(bmb_board_run *run, bmb_light_style style)
{
    (void)run, (void)style;
}

bmb_err bmb_board_attach(const bmb_board *board, const bmb_board_options *options, bmb_port *port, bmb_sim *sim,
                         bmb_board_run **out)
{
    (void)board;
    (void)options;
    (void)port;
    (void)sim;
    *out = NULL;
    return BMB_UNSUPPORTED;
}

void bmb_board_detach(bmb_board_run *run)
{
    (void)run;
}

bmb_err bmb_board_fail(bmb_board_run *run, bmb_board_fault fault, double from_s, double to_s)
{
    (void)run;
    (void)fault;
    (void)from_s;
    (void)to_s;
    return BMB_UNSUPPORTED;
}

bmb_mode bmb_sim_nearest(const bmb_mode *asked)
{
    return *asked;
}

bool bmb_board_has(const bmb_board_run *run, bmb_board_fault fault)
{
    (void)run;
    (void)fault;
    return false;
}

uint32_t bmb_board_ram(const bmb_board_run *run)
{
    (void)run;
    return 0;
}

bool bmb_board_boot(bmb_board_run *run)
{
    (void)run;
    return true;
}

void bmb_board_tend(bmb_board_run *run, bool watched)
{
    (void)run;
    (void)watched;
}

void bmb_board_say(bmb_board_run *run, const char *format, ...)
{
    (void)run;
    (void)format;
}
