/* read_strip WIDTH HEIGHT COUNT: reads luma planes from standard input until COUNT were decoded, and says what the
 * strips told. Exit status 0: all were there, once, and in order. */
#include <stdio.h>
#include <stdlib.h>

#include "support/pictures.h"

int main(int argc, char **argv)
{
    pictures p;
    if (argc != 4) return 2;
    size_t count = (size_t)atol(argv[3]);
    pictures_read(&p, (uint16_t)atoi(argv[1]), (uint16_t)atoi(argv[2]), count, 0, "cat");
    return p.count == count && p.unreadable + p.repeated + p.backward + p.missing == 0 ? 0 : 1;
}
