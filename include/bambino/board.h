/* Simulated boards: what a board has, described in a data file; faults that can be switched on; and what its serial
 * console says. docs/boards.md explains the files. Nothing here is needed on a real board.
 */
#ifndef BAMBINO_BOARD_H
#define BAMBINO_BOARD_H

#include "bambino/light.h"
#include "bambino/sim.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum bmb_board_fault {
    BMB_BOARD_FINE = 0,
    BMB_BOARD_RIBBON,          /* the camera's ribbon is not seated */
    BMB_BOARD_WIRING,          /* the wiring of another board was chosen */
    BMB_BOARD_OTHER_SENSOR,    /* a sensor of another kind is plugged in */
    BMB_BOARD_WEAK_SUPPLY,     /* the board resets when somebody watches */
    BMB_BOARD_NO_EXTERNAL_RAM, /* not there, or not enabled */
    BMB_BOARD_NO_SSID,
    BMB_BOARD_NO_PASSPHRASE,
    BMB_BOARD_WRONG_PASSPHRASE,
    BMB_BOARD_STORAGE_FULL,
    BMB_BOARD_CLOCK_UNSET,
    BMB_BOARD_HANGING_CAMERA, /* it is there, and delivers nothing more */
    BMB_BOARD_UNKNOWN_SSID,   /* no network of that name is in reach */
    BMB_BOARD_FAULTS
} bmb_board_fault;

/* "ribbon", "wiring", …; NULL when out of range. */
const char *bmb_board_fault_name(bmb_board_fault fault);

/* A radio or cable, as seen from the board. */
typedef struct bmb_board_link {
    bool radio;            /* needs an SSID and a passphrase */
    uint32_t kbps;         /* what it carries; 0: no bound */
    uint32_t delay_ms;     /* on the way, each packet */
    uint32_t jitter_ms;    /* added to it, 0 to this, evenly */
    uint32_t loss_1000;    /* lost packets, in thousandths; over TCP a pause, since they are sent again */
    uint32_t drop_every_s; /* a drop-out as often; 0: none */
    uint32_t drop_ms;      /* how long it lasts */
    uint32_t seed;         /* the same seed gives the same losses and jitter */
} bmb_board_link;

#define BMB_BOARD_TEXT 160
typedef struct bmb_board {
    char name[BMB_NAME_MAX];
    char title[BMB_BOARD_TEXT], processor[BMB_BOARD_TEXT];
    uint32_t ram_internal, ram_external; /* bytes; of the internal, what programs may use */
    uint32_t storage;                    /* bytes for settings and pictures */
    uint32_t flash;                      /* bytes for the program; 0: a program is a file in storage */
    uint32_t cpu_percent; /* how fast it is, against the board of the table in docs/boards.md, per cent */
    bool status_light, illumination;
    uint32_t connectors;         /* cameras that can be plugged in */
    uint32_t streams;            /* that each of them delivers at a time */
    char wiring[BMB_BOARD_TEXT]; /* the camera connector: name of the wiring … */
    char pins[BMB_BOARD_TEXT];   /* … and its pins, for the console */
    bool h264;                   /* has an encoder for it */
    bmb_sim_sensor sensor;
    bmb_board_link link;
    char ssid[33], passphrase[64]; /* of the access point in reach, for the simulation */
} bmb_board;

/* Reads a description. On failure returns BMB_NOT_FOUND or BMB_BAD_DATA and writes a sentence to why. */
bmb_err bmb_board_load(const char *path, bmb_board *out, char *why, size_t room);

/* A board that runs. It stands between a port and the device: it bounds the network, fails as it is told, and prints a
 * console. */
typedef struct bmb_board_run bmb_board_run;

typedef struct bmb_board_options {
    const char *ssid, *passphrase;                /* as configured; NULL: not set */
    const char *wiring;                           /* as configured; NULL: the board's own */
    void (*console)(void *ctx, const char *line); /* gets each line of the console; NULL: none */
    void *console_ctx;
} bmb_board_options;

/* Wraps the port in place, whose cameras must be attached already (sim). Everything named must stay until detached. */
bmb_err bmb_board_attach(const bmb_board *board, const bmb_board_options *options, bmb_port *port, bmb_sim *sim,
                         bmb_board_run **out);
void bmb_board_detach(bmb_board_run *run);

/* Switches a fault on from `from_s` until `to_s` seconds after attaching; to_s 0: for good. At most 8. */
bmb_err bmb_board_fail(bmb_board_run *run, bmb_board_fault fault, double from_s, double to_s);
bool bmb_board_has(const bmb_board_run *run, bmb_board_fault fault); /* just now */
/* RAM that programs have just now: without the external one where that fails. */
uint32_t bmb_board_ram(const bmb_board_run *run);
/* Prints what a board's console prints as it starts, up to the network. false: it stops there, for a reason that was
 * printed; call again later. */
bool bmb_board_boot(bmb_board_run *run);
/* Acts on faults that begin or end; call after each step. watched: somebody watches. */
void bmb_board_tend(bmb_board_run *run, bool watched);
/* What the board's lamp shows from now on, where it has one; until this is called, BMB_LIGHT_STATES. */
void bmb_board_light(bmb_board_run *run, bmb_light_style style);
/* A line on the console with the time before it. */
void bmb_board_say(bmb_board_run *run, const char *format, ...) __attribute__((format(printf, 2, 3)));

#ifdef __cplusplus
}
#endif
#endif
