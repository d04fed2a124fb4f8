#include "media/follow.h"

#include "base/bounds.h"

#if BMB_WITH_FOLLOWING

bmb_advice bmb_follow_look(bmb_follower *f, bool held)
{
    uint32_t needed = BMB_FOLLOW_CALM << f->patience;
    if (needed > BMB_FOLLOW_CALM_MOST) needed = BMB_FOLLOW_CALM_MOST;
    if (f->wait > 0) f->wait--;
    if (held) {
        f->calm = 0;
        if (f->bad < BMB_FOLLOW_BAD) f->bad++;
        return f->bad == BMB_FOLLOW_BAD && f->wait == 0 ? BMB_DOWN : BMB_STAY;
    }
    f->bad = 0;
    if (f->calm < BMB_FOLLOW_CALM_MOST) f->calm++;
    if (f->tried != 0 && f->calm >= BMB_FOLLOW_PROVED) {
        f->tried = 0;
        if (f->patience > 0) f->patience--;
    }
    return f->calm >= needed && f->wait == 0 ? BMB_UP : BMB_STAY;
}

void bmb_follow_done(bmb_follower *f, bmb_advice turn)
{
    bool failed = turn == BMB_DOWN && f->tried != 0;
    if (failed && f->patience < BMB_FOLLOW_DOUBLINGS) f->patience++;
    f->tried = turn == BMB_UP;
    f->wait = BMB_FOLLOW_PAUSE;
    f->bad = 0;
    f->calm = 0;
}

#endif
