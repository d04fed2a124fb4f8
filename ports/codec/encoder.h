/* Encoders behind one interface: raw pictures in, JPEG images or H.264 access units out. Private to ports/. */
#ifndef BMB_CODEC_ENCODER_H
#define BMB_CODEC_ENCODER_H

#include "bambino/camera.h"
#include "codec/picture.h"

/* What is asked of one picture. */
typedef struct codec_request {
    bool key;
    uint64_t capture_us;
    int32_t quality, kbps, key_ms; /* as the controls of these names */
} codec_request;

/* An encoder works on one size and rate, from open to close, on one thread at a time. */
typedef struct codec_encoder {
    bmb_codec codec;
    /* ctx: as given with the encoder. NULL: not possible. */
    void *(*open)(void *ctx, const bmb_mode *mode, const codec_request *first);
    /* Writes one picture of the mode's size and returns its size in bytes; 0: it failed, or `room` was too small. */
    size_t (*encode)(void *self, const codec_picture *picture, const codec_request *request, uint8_t *out, size_t room,
                     bool *key);
    void (*close)(void *self);
} codec_encoder;

extern const codec_encoder codec_jpeg_encoder;
extern const codec_encoder codec_h264_encoder;
/* NULL when the build has none for this codec. */
const codec_encoder *codec_encoder_for(bmb_codec codec);
/* A bound of what one picture becomes, bytes. */
size_t codec_encoded_most(uint16_t width, uint16_t height);
/* The controls that encoders have; step 0: not this codec's. */
bmb_range codec_encoder_range(bmb_codec codec, bmb_control control);

/* Writes a sequence parameter set (a NAL unit without its start code) with the frame rate added to it, where it does
 * not say one; returns its size; 0: it cannot be done. openh264 says none, and receivers guess. */
size_t codec_sps_with_rate(const uint8_t *sps, size_t size, uint32_t mfps, uint8_t *out, size_t room);

/* Reads JPEG images into pictures. */
typedef struct codec_decoder codec_decoder;
codec_decoder *codec_decoder_open(void); /* NULL: no memory, or the build has none */
/* The picture lies in the decoder's own memory until the next one. It is made as small as the decoder does it cheaply,
 * and not smaller than width x height. false: it cannot be decoded. */
bool codec_decode(codec_decoder *self, const uint8_t *jpeg, size_t size, uint16_t width, uint16_t height,
                  codec_picture *out);
void codec_decoder_close(codec_decoder *self);

#endif
