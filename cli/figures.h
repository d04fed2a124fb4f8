/* What encoding and serving cost on a machine: measured by `bambino measure`, a line in a file, read by the budget. */
#ifndef BMB_CLI_FIGURES_H
#define BMB_CLI_FIGURES_H

#include <stdbool.h>

/* Nanoseconds of one core. 0: not measured, or too little to tell. */
typedef struct cli_figures {
    char name[64];    /* of the machine, for people */
    char version[16]; /* of the program that measured */
    int cores;
    double jpeg_pixel, h264_pixel, decode_pixel; /* encoding at quality 75, and 2 Mbit/s; decoding JPEG: a pixel */
    double take_frame, take_byte;                /* a frame from the camera into the reel */
    double http_frame, http_byte;                /* … and out to each viewer: MJPEG over HTTP */
    double rtp_frame, rtp_byte;                  /* RTP of JPEG over UDP */
} cli_figures;

/* Prints a message and returns false on failure. */
bool cli_figures_read(const char *path, cli_figures *out);
/* One line of JSON, from the heap; NULL: no memory. */
char *cli_figures_text(const cli_figures *f);

#endif
