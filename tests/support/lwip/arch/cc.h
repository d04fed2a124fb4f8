/* lwIP on the machine that builds. */
#ifndef BMB_TESTS_LWIP_CC_H
#define BMB_TESTS_LWIP_CC_H

#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>

#define BYTE_ORDER (__BYTE_ORDER__ == __ORDER_BIG_ENDIAN__ ? 4321 : 1234) /* as lwIP names them */
#define LWIP_PLATFORM_DIAG(x)
#define LWIP_PLATFORM_ASSERT(x) (fprintf(stderr, "lwIP: %s\n", x), abort())
#define LWIP_RAND() ((uint32_t)rand())

#endif
