#include "wire/jpeg_light.h"

#include "wire/jpeg_scan.h"

int bmb_jpeg_brightness(const uint8_t *data, const bmb_jpeg *j)
{
    bmb_jpeg_sum sum;
    const uint8_t table = j->component[0].quant;
    if (table >= 4 || j->quant_at[table] == 0 || j->quant_16bit[table]) return -1;
    if (!bmb_jpeg_scan(data, j, j->scan_end, &sum)) return -1;
    /* The DC coefficient is eight times the mean of its block, from which 128 was taken (A.3.1, A.3.3). */
    int64_t mean = 128 + sum.dc * data[j->quant_at[table]] / (8 * (int64_t)sum.blocks);
    return mean < 0 ? 0 : mean > 255 ? 255 : (int)mean;
}
