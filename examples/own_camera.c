/* A camera of one's own: JPEG images that lie in memory are handed in, as a sensor's driver would hand in its buffers.
 *
 *     example_own_camera FILE [PORT [SECONDS]]        a file of JPEG images, one behind the other
 */
#define _GNU_SOURCE
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/bambino.h"
#include "bambino/linux.h"

static uint8_t images[8 << 20];
static size_t images_size;
static atomic_bool over;

/* Ten times a second the next image: from one start-of-image marker to the next. */
static void *deliver(void *feeder)
{
    size_t at = 0;
    while (!over) {
        const uint8_t *next = memmem(images + at + 2, images_size - at - 2, "\xFF\xD8\xFF", 3);
        size_t end = next != NULL ? (size_t)(next - images) : images_size;
        (void)bmb_feeder_put(feeder, images + at, end - at, 0,
                             true); /* lost where nobody takes it: the next one is newer */
        at = end < images_size ? end : 0;
        usleep(100000);
    }
    return NULL;
}

int main(int argc, char **argv)
{
    FILE *file = argc > 1 ? fopen(argv[1], "rb") : NULL;
    if (file == NULL) {
        fprintf(stderr, "usage: %s FILE [PORT [SECONDS]]\n", argv[0]);
        return 2;
    }
    images_size = fread(images, 1, sizeof images, file);
    fclose(file);

    bmb_linux *linux_port;
    bmb_port port;
    if (images_size < 4 || bmb_linux_create(&linux_port, &port) != BMB_OK) return 1;
    static _Alignas(max_align_t) uint8_t memory[BMB_FEEDER_MEMORY(128 * 1024)];
    const bmb_mode mode = { BMB_CODEC_JPEG, 320, 240, 10000 };
    bmb_feeder *feeder = bmb_feeder_create(memory, sizeof memory, &port, "cab", &mode);
    port.cameras = bmb_feeder_cameras(feeder);

    const bmb_feed_config feed = bmb_feed_of("cab", mode.codec, mode.width, mode.height, mode.mfps);
    const bmb_outlet_config http = bmb_outlet_of(BMB_OUTLET_HTTP, (uint16_t)(argc > 2 ? atoi(argv[2]) : 8080));
    const bmb_config config = bmb_config_of(&port, &feed, 1, &http, 1);
    bmb_device *device = bmb_linux_open(linux_port, &config);
    if (device == NULL) return 1;
    bmb_linux_print_addresses(&config, device);
    pthread_t thread;
    pthread_create(&thread, NULL, deliver, feeder);
    bmb_linux_serve(device, &port, argc > 3 ? (uint32_t)atoi(argv[3]) : 0);
    over = true;
    pthread_join(thread, NULL);
    bmb_close(device);
    bmb_linux_destroy(linux_port);
    return 0;
}
