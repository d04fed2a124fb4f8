/* HTTPS and RTSPS: TLS is laid over the port, and outlets say that they are secure.
 *
 *     example_encrypted FOLDER [PORT [SECONDS]]        FOLDER keeps key and certificate; port 8443, RTSPS any free one
 */
#include <stdio.h>
#include <stdlib.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"
#include "bambino/tls.h"

int main(int argc, char **argv)
{
    bmb_linux *linux_port;
    bmb_port plain, port;
    bmb_tls tls;
    bmb_sim *sim;
    const bmb_sim_camera camera = { .name = "yard", .kind = BMB_SIM_DRAWN, .view = BMB_VIEW_YARD };
    if (argc < 2 || bmb_linux_create(&linux_port, &plain) != BMB_OK ||
        bmb_linux_storage(linux_port, argv[1], &plain.storage) != BMB_OK ||
        bmb_sim_create(&camera, 1, &plain, &sim, NULL) != BMB_OK)
        return 1;

    const char *names[] = { "localhost" };
    const bmb_tls_config secrecy = { .under = &plain, .name = "Valley railway", .names = names, .name_count = 1 };
    if (bmb_tls_lay_over(&tls, &secrecy, &port) != BMB_OK) {
        fprintf(stderr, "%s\n", tls.trouble);
        return 1;
    }
    const bmb_feed_config feed = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);
    bmb_outlet_config outlets[] = { bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 2 ? atoi(argv[2]) : 8443)),
                                    bmb_outlet_of(BMB_OUTLET_RTSP, 0) };
    outlets[0].secure = outlets[1].secure = true;
    const bmb_config config = bmb_config_of(&port, &feed, 1, outlets, 2);

    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    printf("certificate %s\n", tls.fingerprint);
    bmb_linux_print_addresses(&config, device);
    bmb_linux_serve(device, &port, argc > 3 ? (uint32_t)atoi(argv[3]) : 0);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
