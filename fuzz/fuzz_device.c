/* A whole device and its peers, see tests/support/scene.h. */
#include <stdlib.h>

#include "support/scene.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    if (size < 4 || size > 20000) return 0;
    scene_run(data, size, getenv("FUZZ_TRACE") != NULL ? stderr : NULL);
    return 0;
}
