/* read_strip WIDTH HEIGHT COUNT [LOOP]: reads luma planes from standard input until COUNT were decoded, and says what
 * the strips told. Exit status 0: all were there, once, and in order. LOOP: of a clip that begins again after so many
 * pictures, and pictures may be missing. */
#include <stdio.h>
#include <stdlib.h>

#include "support/pictures.h"

int main(int argc, char **argv)
{
    pictures p;
    if (argc != 4 && argc != 5) return 2;
    pictures_loop = argc == 5 ? (uint32_t)atol(argv[4]) : 0;
    size_t count = (size_t)atol(argv[3]);
    pictures_read(&p, (uint16_t)atoi(argv[1]), (uint16_t)atoi(argv[2]), count, 0, "cat");
    size_t missing = pictures_loop == 0 ? p.missing : 0;
    return p.count == count && p.unreadable + p.repeated + p.backward + missing == 0 ? 0 : 1;
}
