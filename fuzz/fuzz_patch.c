/* Settings of a device without a file: any body, by anybody, in a copy of its own so that a byte too far is found. */
#include <stdlib.h>
#include <string.h>

#include "support/fake_port.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static fake_device t;
    static bmb_settings settings;
    static char documents[4000];
    static const bmb_mode_row modes[] = { { BMB_CODEC_JPEG, 640, 480, 30000 }, { BMB_CODEC_JPEG, 320, 240, 60000 } };
    if (t.device == NULL) {
        fake_device_prepare(&t, BMB_CODEC_JPEG);
        t.f->cameras[0].info.modes = modes;
        t.f->cameras[0].info.mode_count = 2;
        t.f->cameras[0].info.controls[BMB_CONTROL_BRIGHTNESS] = (bmb_range){ -100, 100, 1, 0 };
        t.feeds[0].keep_controls = true;
        bmb_settings_prepare(&settings, &t.config, documents, sizeof documents);
        fake_device_open(&t);
        bmb_settings_begin(&settings, t.device);
    }
    if (size < 1) return 0;
    uint8_t *body = malloc(size);
    if (body == NULL) return 0;
    memcpy(body, data + 1, size - 1);
    settings.room = 40 + data[0] * 16u; /* and with little memory */
    const bmb_request r = { .method = BMB_METHOD_PATCH,
                            .path = "/settings",
                            .path_size = 9,
                            .body = body,
                            .body_size = size - 1,
                            .role = BMB_ROLE_ADJUST,
                            .adjusts = UINT64_MAX };
    bmb_answer a = { .status = 200 };
    settings.service.ask(settings.service.ctx, &r, &a);
    if (a.size > settings.room || (a.body != NULL && a.body != documents)) abort();
    settings.service.done(settings.service.ctx, a.token);
    free(body);
    (void)bmb_step(t.device);
    t.f->event_count = 0;
    return 0;
}
