/* A description of a simulated board: what is taken is within its bounds. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bambino/board.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    static char path[] = "/tmp/fuzz-board-XXXXXX";
    static bmb_board board;
    static int fd = -1;
    char why[200] = "";
    if (fd < 0) fd = mkstemp(path);
    if (fd < 0 || ftruncate(fd, 0) != 0 || pwrite(fd, data, size, 0) != (ssize_t)size) abort();
    memset(&board, 0xA5, sizeof board);
    bmb_err err = bmb_board_load(path, &board, why, sizeof why);
    if (err != BMB_OK && (err == BMB_NOT_FOUND || why[0] == '\0' || memchr(why, '\0', sizeof why) == NULL)) abort();
    if (err != BMB_OK) return 0;
    if (memchr(board.name, '\0', sizeof board.name) == NULL || memchr(board.ssid, '\0', sizeof board.ssid) == NULL)
        abort();
    for (size_t c = 0; c < BMB_CONTROL_COUNT; c++)
        if (board.sensor.controls[c].step != 0 && board.sensor.controls[c].least > board.sensor.controls[c].most)
            abort();
    return 0;
}
