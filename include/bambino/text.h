/* Sentences in English for events, faults and addresses.
 *
 * Not part of the core: a separate object (ports/text) for programs that talk to people. Every function writes at most
 * `room` bytes, always ends with NUL when room is not 0, and returns the length that it wrote.
 */
#ifndef BAMBINO_TEXT_H
#define BAMBINO_TEXT_H

#include "bambino/device.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What happened, and what to do where there is something to do. */
size_t bmb_event_text(const bmb_event *event, char *out, size_t room);
/* What failed, with which value, and what to do. */
size_t bmb_fault_text(const bmb_fault *fault, char *out, size_t room);
/* "192.0.2.7:8080" or "[2001:db8::7]:8080"; without ":PORT" when with_port is false. RFC 5952, RFC 3986 3.2.2. */
size_t bmb_addr_text(const bmb_addr *addr, bool with_port, char *out, size_t room);
/* Why a camera does not work, and what to do; where the driver could not tell, the phrase for the code. */
const char *bmb_camera_fault_text(bmb_camera_fault fault, bmb_err err);
/* A format as people read it: "MPEG transport stream"; its name where there is nothing better. */
const char *bmb_format_text(bmb_stream_format format);
/* A short phrase for a code: "the address or port is in use". */
const char *bmb_err_text(bmb_err err);

#define BMB_ADDR_TEXT_MAX 72 /* room for any result of bmb_addr_text, its NUL included */

#ifdef __cplusplus
}
#endif
#endif
