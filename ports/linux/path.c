/* What the kernel knows of the way to a peer. A file of its own: its header and the C library's cannot be together. */
#include <linux/sockios.h>
#include <linux/tcp.h>
#include <stddef.h>
#include <string.h>
#include <netinet/in.h>
#include <sys/ioctl.h>
#include <sys/socket.h>

#include "linux/state.h"

#define LONG_US 20000u /* round trip: shorter ways are filled by a single picture, and measured by it */
#define EMPTY_PART 8u  /* round trips differ so much, … */
#define EMPTY_US 5000u /* … and so much more, without a queue */

bmb_err bmb_linux_path(void *ctx, bmb_sock sock, bmb_net_path *out)
{
    struct tcp_info info;
    socklen_t size = sizeof info;
    int waiting = 0;
    (void)ctx;
    memset(&info, 0, sizeof info);
    if (ioctl(sock, SIOCOUTQ, &waiting) != 0 || waiting < 0) return BMB_UNKNOWN;
    if (getsockopt(sock, IPPROTO_TCP, TCP_INFO, &info, &size) != 0) return BMB_UNKNOWN;
    out->waiting = (uint32_t)waiting;
    uint64_t kbps = info.tcpi_delivery_rate * 8 / 1000; /* bytes a second; an older kernel says nothing: 0 */
    /* All of it is on its way, and takes no longer than it takes an empty way: there is room for more than was tried.
     * Who sent no more than was measured would never measure more. */
    uint64_t empty = (uint64_t)info.tcpi_min_rtt + info.tcpi_min_rtt / EMPTY_PART + EMPTY_US;
    if (info.tcpi_min_rtt > LONG_US && info.tcpi_notsent_bytes == 0 && info.tcpi_rtt <= empty) kbps *= 2;
    out->kbps = kbps < UINT32_MAX ? (uint32_t)kbps : UINT32_MAX;
    out->round_trip_us = info.tcpi_min_rtt < UINT32_MAX ? info.tcpi_min_rtt : 0;
    /* Its window is what it may still be sent: less than one packet beyond what is under way. Older kernels do not say.
     */
    if (size >= offsetof(struct tcp_info, tcpi_snd_wnd) + sizeof info.tcpi_snd_wnd)
        out->unread = waiting > 0 && info.tcpi_snd_wnd < info.tcpi_unacked * info.tcpi_snd_mss + info.tcpi_snd_mss;
    return BMB_OK;
}
