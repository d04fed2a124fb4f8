/* The questions that any port is asked, asked of those that are here: the port in memory, Linux, and a simulated board.
 */
#include "support/check.h"
#include "support/fake_port.h"
#include "support/emulated.h"

#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

#include "bambino/board.h"
#include "bambino/linux.h"
#include "bambino/poll.h"
#include "bambino/port_check.h"
#include "bambino/sim.h"

static bmb_port port;
static bmb_linux *linux_port;
static bmb_sim *sim;
static bmb_board_run *run;
static char folder[64];
static fake_port *fake;

static bmb_port *open_linux(void)
{
    const bmb_sim_camera cameras[] = {
        { .name = "yard", .kind = BMB_SIM_CLIP, .clip = BAMBINO_SOURCE "/demo/loco.mjpeg", .clip_mfps = 60000 },
        { .name = "station", .kind = BMB_SIM_DRAWN, .streams = 3 },
    };
    strcpy(folder, "/tmp/bambino-check-XXXXXX");
    if (bmb_linux_create(&linux_port, &port) != BMB_OK || mkdtemp(folder) == NULL ||
        bmb_linux_storage(linux_port, folder, &port.storage) != BMB_OK ||
        bmb_sim_create(cameras, 2, &port, &sim, NULL) != BMB_OK)
        return NULL;
    emulated_port(linux_port, &port);
    return &port;
}

static void close_linux(bmb_port *p)
{
    char command[100];
    (void)p;
    bmb_sim_destroy(sim);
    bmb_linux_destroy(linux_port);
    snprintf(command, sizeof command, "rm -r %s", folder);
    (void)!system(command);
}

static bmb_port *open_board(void)
{
    static bmb_board board;
    const bmb_board_options options = { .ssid = "valley-club", .passphrase = "four red coaches" };
    char why[200];
    if (open_linux() == NULL ||
        bmb_board_load(BAMBINO_SOURCE "/ports/sim/boards/halt.ini", &board, why, sizeof why) != BMB_OK)
        return NULL;
    board.link.loss_1000 = board.link.jitter_ms = 0; /* what the air does to packets is no fault of the port */
    return bmb_board_attach(&board, &options, &port, sim, &run) == BMB_OK ? &port : NULL;
}

static void close_board(bmb_port *p)
{
    bmb_board_detach(run);
    close_linux(p);
}

static bmb_poll poll_port;
static bmb_port *open_poll(void)
{
    static uint8_t clip[800000];
    FILE *f = fopen(BAMBINO_SOURCE "/demo/loco.mjpeg", "rb");
    size_t size = f != NULL ? fread(clip, 1, sizeof clip, f) : 0;
    if (f != NULL) fclose(f);
    if (bmb_poll_open(&poll_port, &port) != BMB_OK ||
        bmb_poll_camera(&poll_port, "loco", clip, size, 60000, 320, 240, &port.cameras) != BMB_OK)
        return NULL;
    return &port;
}

static void close_poll(bmb_port *p)
{
    (void)p;
    bmb_poll_close(&poll_port);
}

/* The port in memory: the other ends are this test. */
static uint8_t image[4000];
static size_t image_size;

static bmb_port *open_fake(void)
{
    fake = fake_create();
    image_size = fake_jpeg(image, 320, 240, 3000);
    fake_camera_add(fake, "yard", BMB_CODEC_JPEG);
    return &fake->port;
}

static void close_fake(bmb_port *p)
{
    (void)p;
    fake_destroy(fake);
}

static void pass_fake(bmb_port *p, uint32_t us)
{
    (void)p;
    fake->now += us;
    if (fake->cameras[0].running && fake->cameras[0].queued < 3) fake_frame(fake, 0, image, image_size, true);
}

static int fake_peer_connect(const bmb_addr *to)
{
    size_t listener = 0;
    for (bmb_sock i = 0; i < FAKE_SOCKS; i++) {
        const fake_sock *s = &fake->socks[i];
        if (!s->open || !s->listening) continue;
        if (s->addr.port == to->port) {
            bmb_sock sock = fake_connect(fake, listener);
            fake->socks[sock].addr.port = to->port;
            return sock;
        }
        listener++;
    }
    return -1;
}

static long fake_peer_send(int peer, const void *data, size_t size)
{
    fake_say(fake, peer, data, size);
    return (long)size;
}

static long fake_peer_recv(int peer, void *out, size_t room)
{
    fake_sock *s = &fake->socks[peer];
    size_t n = s->out_size - s->out_read < room ? s->out_size - s->out_read : room;
    if (n == 0) return s->open && !s->finished ? -1 : 0;
    memcpy(out, s->out + s->out_read, n);
    s->out_read += n;
    if (s->out_read < s->out_size) return (long)n;
    s->out_read = s->out_size = s->out_told = 0;
    s->room = FAKE_OUT;
    return (long)n;
}

static void fake_peer_close(int peer)
{
    if (fake->socks[peer].open) fake_hang_up(fake, peer);
}

static uint16_t udp_port;
static size_t udp_read;

static int fake_peer_udp(bmb_addr *bound)
{
    *bound = (bmb_addr){ .family = 4, .ip = { 127, 0, 0, 1 }, .port = ++udp_port };
    fake->datagram_count = udp_read = 0;
    return udp_port;
}

static long fake_peer_udp_send(int peer, const bmb_addr *to, const void *data, size_t size)
{
    const bmb_addr from = { .family = 4, .ip = { 127, 0, 0, 1 }, .port = (uint16_t)peer };
    fake_datagram_in(fake, to->port, &from, data, size);
    return (long)size;
}

static long fake_peer_udp_recv(int peer, void *out, size_t room, bmb_addr *from)
{
    if (udp_read >= fake->datagram_count) return -1;
    const fake_datagram *d = &fake->datagrams[udp_read++];
    assert_true(d->size <= room);
    assert_int_equal(d->to.port, peer);
    memcpy(out, d->data, d->size);
    *from = fake->socks[d->from].addr;
    return (long)d->size;
}

static void answer_unreachable(bmb_port *p, uint32_t us)
{
    pass_fake(p, us);
    if (fake->datagram_count == 1 && fake->datagrams[0].size == 100 && fake->unreachable_count == 0) {
        fake->unreachable[fake->unreachable_count++] = fake->datagrams[0].to; /* of the only one that nobody takes */
        fake->datagram_count = 0;
    }
}

static void exhaust_fake(bool on)
{
    static bool taken[FAKE_SOCKS];
    fake->accept_err = on ? BMB_LIMIT : BMB_OK;
    for (size_t i = 0; i < FAKE_SOCKS; i++) {
        if (on) taken[i] = !fake->socks[i].open;
        if (taken[i]) fake->socks[i].open = on;
    }
}

static const bmb_peers fake_peers = { .connect = fake_peer_connect,
                                      .send = fake_peer_send,
                                      .recv = fake_peer_recv,
                                      .close = fake_peer_close,
                                      .udp = fake_peer_udp,
                                      .udp_send = fake_peer_udp_send,
                                      .udp_recv = fake_peer_udp_recv };

static size_t (*real_ready)(void *ctx, bmb_ready *out, size_t room);

static size_t ready_once(void *ctx, bmb_ready *out, size_t room)
{
    static uint64_t told; /* as if an event were told when it happens, and not as long as it lasts */
    size_t n = real_ready(ctx, out, room), kept = 0;
    for (size_t i = 0; i < n; i++) {
        if ((told >> out[i].token % 64 & 1) == 0) out[kept++] = out[i];
        told |= UINT64_C(1) << out[i].token % 64;
    }
    return kept;
}

static bmb_port *open_broken(void)
{
    (void)open_fake();
    real_ready = fake->port.net.ready;
    fake->port.net.ready = ready_once;
    return &fake->port;
}

/* Whoever breaks the contract is found out: in a process of its own, whose words nobody reads. */
static int broken_ports_pass(void)
{
    const bmb_port_check check = {
        .name = "broken", .open = open_broken, .close = close_fake, .peers = &fake_peers, .pass = answer_unreachable
    };
    pid_t pid = fork();
    if (pid == 0) {
        if (freopen("/dev/null", "w", stdout) == NULL || freopen("/dev/null", "w", stderr) == NULL) _exit(0);
        _exit(bmb_port_check_run(&check) > 0 ? 1 : 0);
    }
    int status = 0;
    return waitpid(pid, &status, 0) == pid && WIFEXITED(status) && WEXITSTATUS(status) == 1 ? 0 : 1;
}

int main(void)
{
    if (broken_ports_pass()) {
        fprintf(stderr, "a port that tells events once was taken for a good one\n");
        return 1;
    }
    const bmb_port_check checks[] = {
        { .name = "in memory",
          .open = open_fake,
          .close = close_fake,
          .peers = &fake_peers,
          .pass = answer_unreachable,
          .exhaust = exhaust_fake },
        { .name = "Linux",
          .open = open_linux,
          .close = close_linux,
          .peers = &bmb_host_peers,
          .exhaust = bmb_host_exhaust },
        { .name = "poll",
          .open = open_poll,
          .close = close_poll,
          .peers = &bmb_host_peers,
          .exhaust = bmb_host_exhaust },
        { .name = "a simulated board",
          .open = open_board,
          .close = close_board,
          .peers = &bmb_host_peers,
          .exhaust = bmb_host_exhaust },
    };
    int failed = 0;
    for (size_t i = 0; i < sizeof checks / sizeof checks[0]; i++) failed += bmb_port_check_run(&checks[i]);
    return failed;
}
