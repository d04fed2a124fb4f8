/* A board: the emulated machine mps2-an385 of QEMU, a Cortex-M3 at 25 MHz with Ethernet, a serial port and two lamps.
 * What is special about it is here; what any board with lwIP has is in ports/lwip, what any without a system in
 * ports/bare. mps2_start("loco");                // console, clock, network bmb_port port = mps2_port();       //
 * everything that the contract asks for bmb_device *device = bmb_bare_open(&config, memory, sizeof memory);
 *     bmb_bare_run(device, &port, &config);
 */
#ifndef MPS2_BOARD_H
#define MPS2_BOARD_H

#include "bambino/bare.h"
#include "bambino/lwip.h"

/* Registers and interrupts of the machine (Arm application note 385, and QEMU's model of it). */
#define MPS2_TIMER0 0x40000000u
#define MPS2_UART0 0x40004000u
#define MPS2_FPGAIO 0x40028000u
#define MPS2_ETHERNET 0x40200000u
#define MPS2_IRQ_TIMER0 8
#define MPS2_IRQ_ETHERNET 13
#define MPS2_HZ 25000000u
#define MPS2_SOCKETS 24u /* connections, outlets, and four for RTP over UDP */

static inline volatile uint32_t *mps2_at(uint32_t address)
{
    return (volatile uint32_t *)(uintptr_t)address;
}

/* board.c */
void mps2_start(const char *what); /* says what starts here, and asks the network for an address */
bmb_port mps2_port(void);          /* a fresh one; there is one at a time */
bool mps2_put(uint8_t byte);       /* as bmb_bare_board.put */

/* start.c */
uint32_t mps2_stack_most(void), mps2_ram_used(void); /* bytes: of stack at most since the start, of static data */
/* Says why there was a reset, and where the program was; bmb_bare_board.feed and .restart. */
void mps2_say_reset(void), mps2_feed(void), mps2_stop(void);

/* clock.c */
void mps2_clock_start(void), mps2_clock_tick(void);
uint64_t mps2_now_us(void);
void mps2_interrupted(void); /* by more than the clock's tick: ends mps2_sleep() */
void mps2_sleep(void *ctx, uint64_t until_us, const volatile bool *woken);
uint32_t mps2_random(void);
void mps2_random_bytes(void *ctx, void *out, size_t size);
void mps2_enable(int irq);
void mps2_interrupts(bool on);
void mps2_restart(void);

/* ethernet.c */
bool mps2_ethernet_start(void); /* false: there is no controller */
bool mps2_ethernet_input(void *ctx), mps2_ethernet_link(void *ctx);
void mps2_ethernet_interrupt(void);
uint32_t mps2_ipv4(void); /* as bmb_bare_board.ipv4 */

/* camera.c */
void mps2_camera(bmb_cameras *cameras, void (*wake)(void *ctx), void *wake_ctx);
void mps2_camera_interrupt(void);

#endif
