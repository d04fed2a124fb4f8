/* Settings of one's own over HTTP: PATCH /rate with a number changes the rate of a feed while it is watched.
 *
 *     example_settings [PORT [SECONDS]]        port 8080, until stopped
 *     curl -X PATCH -d 5 http://localhost:8080/rate
 */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"
#include "bambino/sim.h"

static bmb_feed_config yard;
static bmb_device *device;
static char text[64];

static bool find(void *ctx, bmb_method method, const char *path, size_t size, bmb_role *needs)
{
    (void)ctx;
    *needs = method == BMB_METHOD_GET ? BMB_ROLE_WATCH : BMB_ROLE_ADJUST;
    return size == strlen("/rate") && memcmp(path, "/rate", size) == 0;
}

static void ask(void *ctx, const bmb_request *request, bmb_answer *answer)
{
    bmb_feed_config to = yard;
    bmb_feed_stats stats;
    (void)ctx;
    if (request->method == BMB_METHOD_PATCH) {
        snprintf(text, sizeof text, "%.*s", (int)request->body_size, (const char *)request->body);
        to.mode.mfps = (uint32_t)(atof(text) * 1000);
        answer->status = bmb_feed_change(device, 0, &to, NULL) == BMB_OK ? 200 : 422;
    }
    (void)bmb_feed_stats_get(device, 0, &stats);
    snprintf(text, sizeof text, "%g pictures a second\n", stats.mfps_set / 1000.0);
    answer->body = text;
    answer->size = strlen(text);
}

int main(int argc, char **argv)
{
    const bmb_sim_camera camera = { .name = "yard", .kind = BMB_SIM_DRAWN, .view = BMB_VIEW_YARD };
    const bmb_service service = { .find = find, .ask = ask, .body_most = 32 };
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 1 ? atoi(argv[1]) : 8080));
    bmb_linux *linux_port;
    bmb_port port;
    bmb_sim *sim;
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || bmb_sim_create(&camera, 1, &port, &sim, NULL) != BMB_OK)
        return 1;
    yard = bmb_feed_of("yard", BMB_CODEC_JPEG, 640, 480, 15000);
    bmb_config config = bmb_config_of(&port, &yard, 1, &http, 1);
    config.service = &service;
    config.reserve.changes = true;
    device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    bmb_linux_serve(device, &port, argc > 2 ? (uint32_t)atoi(argv[2]) : 0);
    bmb_close(device);
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    return 0;
}
