/* cmocka with the headers that it wants before it. */
#ifndef BMB_TESTS_CHECK_H
#define BMB_TESTS_CHECK_H

#include <setjmp.h>
#include <stdarg.h>
#include <stddef.h>
#include <stdint.h>

#include <cmocka.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#endif
