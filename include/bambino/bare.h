/* (Comes as source, in ports/bare.)
 *
 * What boards without an operating system share: a console on a serial line, the lamp, the loop, a camera's buffers,
 * and records in memory that survives a reset. Written for any of them; a board fills in one bmb_bare_board.
 *
 *     static const bmb_bare_board board = { .now_us = …, .put = …, … };
 *
 *     bmb_bare_start(&board);
 *     bmb_bare_say("loco: a module with 320 KiB of RAM");
 *     …port from bambino/lwip.h, cameras…
 *     bmb_bare_port(&port);                      // its log and light
 *     bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
 *     bmb_bare_run(device, &port, &config);
 *
 * There is one console and one device, hence no handle. All but what says so is called from the loop, not from
 * interrupts. ports/bare also has printf's family without a heap (format.c), and a heap that gives nothing and counts
 * who asks (no_heap.c), for boards whose C library has none that fits.
 */
#ifndef BAMBINO_BARE_H
#define BAMBINO_BARE_H

#include "bambino/device.h"

#ifdef __cplusplus
extern "C" {
#endif

/* All are needed but those called optional. */
typedef struct bmb_bare_board {
    uint64_t (*now_us)(void);
    bool (*put)(uint8_t byte);    /* to the serial line; false: it takes no more just now */
    uint32_t (*ipv4)(void);       /* the address that viewers use, host byte order; 0: none yet */
    void (*lamp)(bool lit);       /* optional */
    uint32_t (*stack_most)(void); /* bytes of stack used at most since the start; optional */
    const unsigned *heap_asked;   /* bmb_bare_heap_asked, where no_heap.c is linked; optional */
    void (*interrupts)(bool on);  /* for the few instructions that an interrupt may not come between */
    void (*restart)(void);
    void (*feed)(void); /* the watchdog, in each round of the loop, at least 20 times a second; optional */
    /* On processors with a data cache: what DMA has written to a camera's buffer is to be seen (invalidate those lines;
     * buffers begin and end with one). Called before a frame is read. Optional */
    void (*before_read)(const void *data, size_t size);
} bmb_bare_board;

void bmb_bare_start(const bmb_bare_board *board);

/* A line on the console, with the time before it. The loop does not wait for a serial line: what it does not take is
 * queued, and lines that do not fit are counted and told. */
void bmb_bare_say(const char *format, ...) __attribute__((format(printf, 1, 2)));
/* Events as sentences on the console, states on the lamp. */
void bmb_bare_port(bmb_port *port);
/* Says that another host has this board's address (bmb_lwip_board.taken). */
void bmb_bare_taken(void *ctx, const uint8_t mac[6]);
/* Opens a device, and says what its memory is for. Where it cannot be, says why, and stays. */
bmb_device *bmb_bare_open(const bmb_config *config, void *memory, size_t size);
/* Says why, and starts the board again. Also from interrupts and faults. */
void bmb_bare_stop(const char *why) __attribute__((noreturn));
/* Prints the addresses as soon as the network has given one, and how much memory was needed whenever that has grown;
 * steps the device for good. */
void bmb_bare_run(bmb_device *device, const bmb_port *port, const bmb_config *config) __attribute__((noreturn));
/* One round of that loop, for programs that have others to do in it. */
void bmb_bare_step(bmb_device *device, const bmb_port *port, const bmb_config *config);

/* A camera's buffers between an interrupt that fills them and a loop that fetches and releases them. When all are full
 * the oldest that nobody fetched is filled anew: capture never waits. */
typedef struct bmb_bare_buffer {
    uint8_t *data; /* memory of the board's */
    size_t size;   /* of the frame in it */
    uint64_t capture_us;
    uint32_t number;
    volatile uint8_t state;
} bmb_bare_buffer;

typedef struct bmb_bare_buffers {
    bmb_bare_buffer *buffer;
    size_t count;
    bmb_bare_buffer *filling; /* the interrupt's */
    uint32_t number;
    volatile uint32_t overwritten; /* frames that were lost so */
} bmb_bare_buffers;

/* From the interrupt: where the next frame goes. NULL: all are out, this one is lost. */
uint8_t *bmb_bare_fill(bmb_bare_buffers *b);
/* From the interrupt, then: the frame is there. Call the port's wake behind it. */
void bmb_bare_filled(bmb_bare_buffers *b, size_t size, uint64_t capture_us);
/* The camera's take and release, and what its stop has to do. */
bmb_err bmb_bare_take(bmb_bare_buffers *b, bmb_camera_frame *out);
void bmb_bare_release(bmb_bare_buffers *b, uintptr_t cookie);
void bmb_bare_empty(bmb_bare_buffers *b);

/* Records in a piece of memory that survives a reset, aligned for uint32_t, whose content may be anything at first: as
 * many as BMB_BARE_RECORD fits into it. A record is written to a place of its own before the one that it replaces is
 * given up, so one more than there are names is needed. */
#define BMB_BARE_RECORD 576u /* bytes of one; 512 of them are the program's */
void bmb_bare_storage(void *memory, size_t size, bmb_storage *storage);

extern unsigned bmb_bare_heap_asked; /* no_heap.c: so often was memory asked for, which nobody got */

#ifdef __cplusplus
}
#endif
#endif
