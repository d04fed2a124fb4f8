/* Several encoded streams of one camera's pictures, made on a thread of their own. Private to ports/.
 *
 * Whoever has pictures puts them in; the newest one counts, an older one that was not begun goes back at once. What is
 * encoded waits in a few buffers for each stream until the device takes it. A picture is scaled once for each size, and
 * encoded once for all streams that want the same. Streams that nobody wants rest: nothing is scaled or encoded for
 * them.
 *
 *     codec_streams *s = codec_streams_open(&port, 3);
 *     codec_stream_start(s, 0, &mode);            the camera's owner sees to it that pictures come
 *     if (codec_streams_expose(s)) codec_streams_put(s, &input);      from any one thread
 *     codec_stream_take(s, 0, &frame) …           from the device's
 */
#ifndef BMB_CODEC_STREAMS_H
#define BMB_CODEC_STREAMS_H

#include "bambino/port.h"
#include "codec/picture.h"

#define CODEC_STREAMS_MOST 4u
#define CODEC_BUFFERS                                                                                                  \
    6u /* of each stream: one being filled, and what the device may hold: newest, pinned, on the way */

typedef struct codec_streams codec_streams;

/* One exposure. One of raw, jpeg and draw says where its picture comes from. */
typedef struct codec_input {
    const codec_picture *raw; /* copied; its planes stay as they are until given back */
    const uint8_t *jpeg;      /* likewise */
    size_t jpeg_size;
    /* Makes the picture in a size, for stream n and others of that size; called on the streams' thread. It stays until
     * the input is given back. false: it cannot. */
    bool (*draw)(void *ctx, uintptr_t cookie, unsigned n, uint16_t width, uint16_t height, codec_picture *out);
    void *ctx;
    uint64_t capture_us;
    uintptr_t cookie;
    /* Called once, from the streams' thread or from within put or drain. NULL: nothing to be given back. */
    void (*give_back)(void *ctx, uintptr_t cookie);
} codec_input;

/* NULL: no memory, no thread. port: must stay. */
codec_streams *codec_streams_open(const bmb_port *port, unsigned count);
void codec_streams_close(codec_streams *self);
/* An encoder that is tried before the build's own of its codec, such as the board's. It must stay, and so must ctx.
 * Before the first stream is started. */
struct codec_encoder;
void codec_streams_prefer(codec_streams *self, const struct codec_encoder *encoder, void *ctx);
/* A picture at that time, which there will not be: those who take frames see by their numbers that one is missing. */
void codec_streams_miss(codec_streams *self, uint64_t capture_us);
/* Takes the input over, also where it is given back before the call returns. */
void codec_streams_put(codec_streams *self, const codec_input *input);
/* Is there an input that was not begun yet, and would go back for the next one? For cameras that can wait with it. */
bool codec_streams_behind(codec_streams *self);
/* Waits until no input is out. None may be put meanwhile. */
void codec_streams_drain(codec_streams *self);
/* There was an exposure. true: a stream wants its picture; else it need not be put. */
bool codec_streams_expose(codec_streams *self);

/* As the port contract's functions of these names, for stream n. Encoders' controls only. */
bmb_err codec_stream_start(codec_streams *self, unsigned n, const bmb_mode *mode);
void codec_stream_stop(codec_streams *self, unsigned n);
bool codec_stream_running(codec_streams *self, unsigned n, bmb_mode *mode);
/* BMB_AGAIN; BMB_TIMED_OUT: it rests, and there was no exposure for long. */
bmb_err codec_stream_take(codec_streams *self, unsigned n, bmb_camera_frame *out);
void codec_stream_release(codec_streams *self, unsigned n, uintptr_t cookie);
void codec_stream_key(codec_streams *self, unsigned n);
void codec_stream_want(codec_streams *self, unsigned n, bool wanted);
/* How much of the last second its thread has worked, thousandths. */
uint16_t codec_streams_load(codec_streams *self);
/* These hold from stream to stream, whether they run or not. */
bmb_err codec_stream_set(codec_streams *self, unsigned n, bmb_control control, int32_t value, int32_t *effective);
bmb_err codec_stream_get(codec_streams *self, unsigned n, bmb_control control, int32_t *value);

/* Is a picture of this time wanted at this rate? due_us: 0 at first; then the caller's to keep. */
bool codec_is_due(uint64_t *due_us, uint32_t mfps, uint64_t capture_us);

/* Figures, for benchmarks and tests. */
typedef struct codec_tally {
    uint64_t inputs, replaced, scaled, encoded, shared, failed;
    uint64_t preferred; /* of encoded: by the preferred encoders */
} codec_tally;
void codec_streams_tally(codec_streams *self, codec_tally *out);

#endif
