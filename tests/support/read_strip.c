/* read_strip WIDTH HEIGHT COUNT [LOOP]: reads luma planes from standard input until COUNT were decoded, and says what
 * the strips told. Exit status 0: so many came, each whole, once, and in order. Those that are missing are told and no
 * failure: a machine that is held up draws, sends or decodes fewer. LOOP: of a clip that begins again after so many
 * pictures. */
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
    return p.count == count && p.unreadable + p.repeated + p.backward == 0 ? 0 : 1;
}
