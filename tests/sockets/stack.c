/* lwIP of the device in device.c: its thread, and a tap interface with a fixed address. */
#include <lwip/netif.h>
#include <lwip/sys.h>
#include <lwip/tcpip.h>
#include <netif/tapif.h>

void stack_begin(void);

static struct netif interface;

static void begin(void *arg)
{
    ip4_addr_t address, mask, gateway;
    IP4_ADDR(&address, 192, 0, 2, 2);
    IP4_ADDR(&mask, 255, 255, 255, 0);
    IP4_ADDR(&gateway, 192, 0, 2, 1);
    netif_add(&interface, &address, &mask, &gateway, NULL, tapif_init, tcpip_input);
    netif_set_default(&interface);
    netif_set_up(&interface);
    sys_sem_signal((sys_sem_t *)arg);
}

void stack_begin(void)
{
    sys_sem_t done;
    if (sys_sem_new(&done, 0) != ERR_OK) return;
    tcpip_init(begin, &done);
    sys_sem_wait(&done);
    sys_sem_free(&done);
}
