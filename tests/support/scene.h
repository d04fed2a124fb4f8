/* A whole device on the port in memory: several peers, small limits, a clock that turns, cameras and networks that
 * fail. What happens is a program of short operations, each a byte (three bits say what, five with whom) and what
 * belongs to it:
 *
 *   0 a peer says: a length, and so many bytes; 1 and a digit in them stands for that session's identifier
 *   1 a camera has a frame: a twentieth of its size
 *   2 a peer's system takes so much from now on, and acknowledges so much
 *   3 time passes
 *   4 a peer connects            5 a peer hangs up
 *   6 a datagram arrives: a length, and so many bytes
 *   7 something fails from now on, a control is set, a feed is removed
 *
 * Three bytes before them are the configuration. Any bytes are a program: fuzz_device makes them up, fuzz/seeds.py
 * makes them of the traces, test_scenes.c draws them.
 */
#ifndef BMB_TESTS_SCENE_H
#define BMB_TESTS_SCENE_H

#include <stddef.h>
#include <stdint.h>
#include <stdio.h>

/* Aborts when anything of anybody is left in the end: connections, sessions, frames, sockets. trace: gets a line for
 * everything that the device does; or NULL. */
void scene_run(const uint8_t *data, size_t size, FILE *trace);

#endif
