/* In place of `bambino check`, in a build without the receiver. */
#include "cli.h"

int cli_check(int argc, const char **argv)
{
    (void)argc;
    (void)argv;
    return cli_error("this build has no measuring receiver; run `bambino check` on another machine, which is where "
                     "its figures mean something, or build with BAMBINO_CHECK");
}
