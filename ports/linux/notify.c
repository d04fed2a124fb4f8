/* What a service manager wants to hear: the notification protocol of systemd (sd_notify(3)), a datagram to the socket
 * that the environment names. */
#include <stddef.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "linux/state.h"

bool bmb_linux_notify(const char *text)
{
    const char *path = getenv("NOTIFY_SOCKET");
    struct sockaddr_un to = { .sun_family = AF_UNIX };
    size_t size = path != NULL ? strlen(path) : 0;
    if (size < 2 || size >= sizeof to.sun_path || (path[0] != '/' && path[0] != '@')) return false;
    memcpy(to.sun_path, path, size);
    if (path[0] == '@') to.sun_path[0] = '\0'; /* the abstract namespace */
    int fd = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (fd < 0) return false;
    socklen_t length = (socklen_t)(offsetof(struct sockaddr_un, sun_path) + size);
    ssize_t n = sendto(fd, text, strlen(text), MSG_NOSIGNAL, (const struct sockaddr *)&to, length);
    close(fd);
    return n >= 0;
}

uint64_t bmb_linux_watchdog_us(void)
{
    const char *us = getenv("WATCHDOG_USEC"), *pid = getenv("WATCHDOG_PID");
    if (us == NULL || (pid != NULL && (pid_t)strtol(pid, NULL, 10) != getpid())) return 0;
    return strtoull(us, NULL, 10);
}
