/* <sys/socket.h> of lwIP's sockets, for C libraries that have none, or one of another stack. */
#include "lwip/sockets.h"
