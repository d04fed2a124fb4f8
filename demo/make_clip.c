/* Records the demo's clips from the simulated camera: make_clip VIEW CODEC WIDTHxHEIGHT RATE PICTURES FILE
 * scripts/make-clips calls it; the results are committed, so that nobody needs to. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

static int record(bmb_port *port, const bmb_mode *mode, unsigned pictures, FILE *file)
{
    bmb_mode effective;
    if (port->cameras.start(port->cameras.ctx, 0, mode, &effective) != BMB_OK) return 1;
    for (unsigned n = 0; n < pictures;) {
        bmb_camera_frame frame;
        bmb_ready none[4];
        if (port->cameras.take(port->cameras.ctx, 0, &frame) != BMB_OK) {
            port->wait(port->ctx, UINT64_MAX);
            (void)port->net.ready(port->ctx, none, 4);
            continue;
        }
        if (fwrite(frame.data, 1, frame.size, file) != frame.size) return 1;
        port->cameras.release(port->cameras.ctx, 0, frame.cookie);
        n++;
    }
    return 0;
}

int main(int argc, char **argv)
{
    unsigned width, height;
    int32_t effective;
    if (argc != 7 || sscanf(argv[3], "%ux%u", &width, &height) != 2) return 2;
    bmb_sim_view view = (bmb_sim_view)atoi(argv[1]);
    bmb_codec codec = strcmp(argv[2], "h264") == 0 ? BMB_CODEC_H264 : BMB_CODEC_JPEG;
    const bmb_sim_camera camera = { .name = "clip", .kind = BMB_SIM_DRAWN, .view = view, .codec = codec };
    const bmb_mode mode = { codec, (uint16_t)width, (uint16_t)height, (uint32_t)atoi(argv[4]) * 1000 };
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    FILE *file = fopen(argv[6], "wb");
    if (file == NULL || bmb_linux_create(&linux_port, &port) != BMB_OK) return 1;
    if (bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK) return 1;
    (void)port.cameras.set(port.cameras.ctx, 0, BMB_CONTROL_QUALITY, 50, &effective);
    (void)port.cameras.set(port.cameras.ctx, 0, BMB_CONTROL_KBPS, 600, &effective);
    (void)port.cameras.set(port.cameras.ctx, 0, BMB_CONTROL_KEY_MS, 1000, &effective);
    int status = record(&port, &mode, (unsigned)atoi(argv[5]), file);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return fclose(file) == 0 ? status : 1;
}
