/* blocking_sender ADDRESS PORT BYTES RATE SECONDS: what a simple program does. It sends every picture of a camera of
 * that rate to one client, waiting in send() for as long as the network wants. Only for comparison. */
#include <arpa/inet.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

static uint64_t clock_us(clockid_t id)
{
    struct timespec t;
    clock_gettime(id, &t);
    return (uint64_t)t.tv_sec * 1000000u + (uint64_t)t.tv_nsec / 1000u;
}

static void put(uint8_t *out, uint64_t v, size_t size)
{
    for (size_t i = 0; i < size; i++) out[i] = (uint8_t)(v >> 8 * (size - 1 - i));
}

int main(int argc, char **argv)
{
    if (argc != 6) return 2;
    struct sockaddr_in at = { .sin_family = AF_INET, .sin_port = htons((uint16_t)atoi(argv[2])) };
    size_t size = (size_t)atol(argv[3]) + 16;
    uint64_t interval = 1000000u / (uint64_t)atol(argv[4]), count = (uint64_t)atol(argv[4]) * (uint64_t)atol(argv[5]);
    uint8_t *frame = calloc(1, size);
    int on = 1, listener = socket(AF_INET, SOCK_STREAM, 0);
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    if (frame == NULL || inet_pton(AF_INET, argv[1], &at.sin_addr) != 1 ||
        bind(listener, (const struct sockaddr *)&at, sizeof at) != 0 || listen(listener, 1) != 0)
        return 1;
    int client = accept(listener, NULL, NULL);
    uint64_t start = clock_us(CLOCK_MONOTONIC), wall = clock_us(CLOCK_REALTIME);
    for (uint64_t i = 0; client >= 0 && i < count; i++) {
        uint64_t due = i * interval, now = clock_us(CLOCK_MONOTONIC) - start;
        if (now < due) usleep((useconds_t)(due - now));
        put(frame, i + 1, 4); /* the picture was taken when it was due, and has waited since */
        put(frame + 4, wall + due, 8);
        put(frame + 12, size - 16, 4);
        for (size_t sent = 0; sent < size;) {
            ssize_t n = send(client, frame + sent, size - sent, MSG_NOSIGNAL);
            if (n <= 0) return 0;
            sent += (size_t)n;
        }
    }
    return 0;
}
