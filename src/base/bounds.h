/* What bounds memory and time, each with the reason for its value. */
#ifndef BMB_BASE_BOUNDS_H
#define BMB_BASE_BOUNDS_H

#include "bambino/options.h"

/* What only changes need elsewhere is its file's own without them. */
#if BMB_WITH_CHANGES
#define BMB_FOR_CHANGES
#else
#define BMB_FOR_CHANGES static
#endif

#define BMB_FEEDS_MOST 64u  /* a bit each in a word */
#define BMB_STREAMS_MOST 8u /* of one camera that are asked about together */
#define BMB_TRACKS_MOST 1u  /* of a feed: its pictures */
#define BMB_OUTLETS_MOST 10u
/* Events per step: bounds one step's time, the rest comes with the next. A small stack is not filled with them. */
#define BMB_READY_MOST (BMB_GATHER_MOST < 32 ? 8u : 32u)
#define BMB_SLOTS_LEAST 6u          /* frames in a reel however small */
#define BMB_SLOTS_MOST 64u          /* two seconds at 30/s; beyond that a viewer goes on at a key frame anyway */
#define BMB_SLOTS_PER_FRAME 4u      /* frames are mostly far smaller than the largest one */
#define BMB_LENT_MOST 2u            /* frames that one viewer may have sent and that are not yet acknowledged */
#define BMB_DRAIN_US 1000000u       /* after a refusal: time for the peer to read it before the connection is closed */
#define BMB_REST_US 2000000u        /* an encoder rests once nobody has watched for so long: players come again */
#define BMB_AWAKE_US 1000000u       /* a camera whose encoder rested has so long to deliver what it sees now */
#define BMB_FRESH_US 100000u        /* and what is no older than that is what it sees now */
#define BMB_STILL_WAIT_US 3000000u  /* a still waits so long for the first frame */
#define BMB_STILL_MOST_US 4000000u  /* a camera that gives no still by then is started again for its stream */
#define BMB_ACCEPT_PAUSE_US 500000u /* after the system refused a connection */
#define BMB_STALL_LEAST_US 2000000u /* a camera may be silent so long, or ten frame intervals if that is more */
#define BMB_START_MOST_US 8000000u  /* but so long for its first frame: some programs and sensors are slow to begin */
#define BMB_RETRY_FIRST_MS 500u     /* first pause before a camera is started again; doubles up to … */
#define BMB_RETRY_MOST_MS 30000u
#define BMB_RECOVERED_US 5000000u /* a camera that ran for so long begins with the first pause again */
#define BMB_UNSENT_LEAST 16384u   /* bytes in a socket's buffer: less would cost a call per few packets */
#define BMB_TUNE_US 1000000u      /* between two looks at what a slow viewer's link carries */
#define BMB_AHEAD_US 5000u /* of a slow path's time may be under way when a frame begins, so that it never idles … */
#define BMB_AHEAD_LEAST 3000u           /* … or so many bytes: two packets, for paths that are not known yet */
#define BMB_LOOK_MOST_US 20000u         /* between two looks at whether a path is free */
#define BMB_ROUND_TRIP_MOST_US 1000000u /* more is a queue, whatever the system says */
#define BMB_TIGHT 60u                   /* frames that must find it free before a path counts as wide again */
#define BMB_LAG_US 500000u         /* an H.264 viewer that is further behind the newest frame goes on at a key frame */
#define BMB_KEY_PAUSE_US 500000u   /* least time between two requests for a key frame, over all viewers of a feed */
#define BMB_BURST 16u              /* packets that leave at once: about 22 KB, what a small switch or radio buffers */
#define BMB_BURST_GAP_US 1000u     /* least pause between bursts, the resolution of the port's wait */
#define BMB_CARRY_BURST_US 2000u   /* of a narrow link's time are sent at once */
#define BMB_CARRY_PAUSE_US 400000u /* between two reports that are followed, at least, and at most twice that */
#define BMB_CARRY_SHARE 90u        /* per cent of what arrived is sent from then on */
#define BMB_CARRY_LEAST 64u        /* kbit/s: less is no stream */
#define BMB_CARRY_TRIES 3u       /* cuts that do not help: the link is wide enough, and loses some of everything … */
#define BMB_CARRY_DEAF 60u       /* … which is believed for so many reports */
#define BMB_REPORT_US 5000000u   /* between two RTCP sender reports (RFC 3550 6.2) */
#define BMB_DATAGRAMS 16u        /* RTCP datagrams taken in one step */
#define BMB_UNPLAYED_US 3000000u /* a session that was set up has so long to be played before it gives way */
#define BMB_ORPHAN_US                                                                                                  \
    10000000u                    /* a receiver whose control connection is gone must report within: receivers of such  \
                                    streams report every 2.5 to 7.5 s (RFC 3550 6.2) */
#define BMB_ANSWERED_MOST 4096u  /* packets: an answer about an older one counts for nothing */
#define BMB_UNREACHABLE_LEAST 6u /* answers "port unreachable" in a row, no sign of life between them, … */
#define BMB_UNREACHABLE_US 2000000u    /* … over so long: the receiver is gone */
#define BMB_SETTLED_US 2000000u        /* a stream's bit rate is told once it was measured for so long */
#define BMB_TAME_US 300000u            /* between two steps down of a quality whose frames do not fit */
#define BMB_PASS_US 1000000u           /* between two looks at who watches by a right that may have ended */
#define BMB_LEND_MINUTES_MOST 5256000u /* ten years: the end of a link is a time in 32 bits */
#define BMB_KEEP_AFTER_US 2000000u     /* changed controls are stored after: one write for a hand that turns a knob */
#define BMB_KEEP_PAUSE_US 10000000u    /* and not again before: a medium may take long for a write, and wears out */
#define BMB_KEEP_AGAIN_US 30000000u    /* and again, where the storage failed */
#define BMB_DAYLIGHT_US 1000000u       /* between two looks at how bright the pictures are */
#define BMB_BODY_US 300000u     /* whoever sends a body may hold the place for it so long, when another wants it … */
#define BMB_BODY_RATE 16384u    /* … and by what has come, at so many bytes a second */
#define BMB_FIGURES_US 1000000u /* between two tellings of figures to whoever asked for them */
#define BMB_PUSHES_MOST 16u
#define BMB_JUDGE_CALM_TIMES 10u /* … and so many before another thing than trouble that was told is */
#define BMB_JUDGE_TIMES 2u       /* so many looks, a second apart, must see the same before it is told */
#define BMB_STEADY_US 2500000u   /* rates are judged when they have been measured for so long */
#define BMB_FULL_MS 3000u        /* a frame that found no room is looked at for so long */
#define BMB_BUSY 900u            /* thousandths of its time that an encoder works: there is no more of it */
#define BMB_LOSS_LEAST 10u       /* of 256 packets: four per cent; less is mended, or hardly seen … */
#define BMB_LOSS_CERTAIN 26u     /* … and so many say at once that a link is too narrow; fewer may be chance */
#define BMB_FOLLOW_BAD 2u        /* looks, a second apart, that must find a stream held before it goes down, … */
#define BMB_FOLLOW_CALM 15u      /* … and so many good ones before it goes up, doubled … */
#define BMB_FOLLOW_DOUBLINGS 4u  /* … so often at most, … */
#define BMB_FOLLOW_CALM_MOST 120u
#define BMB_FOLLOW_PROVED 20u   /* good ones after which going up was right */
#define BMB_FOLLOW_PAUSE 5u     /* looks between two changes: nobody likes a picture that changes all the time */
#define BMB_FOLLOW_LATE_MS 300u /* frames that are older than that when they are sent are held up */
#define BMB_FOLLOW_SHARE 80u    /* per cent of what a link carries: the rest is for key frames */
#define BMB_FOLLOW_LEAST 8u     /* an encoder goes down to that part of its bit rate … */
#define BMB_FOLLOW_LEAST_KBPS 64u
#define BMB_SHARE_MOST_US 2000000 /* a frame that is larger than a share allows is paid for so long, at most … */
#define BMB_SHARE_SAVED_US 200000 /* … and so much of an unused share may be used later */
#define BMB_SHARE_ROUNDS 8u
#define BMB_SHARE_LEAST_MFPS 5000u   /* JPEG at fewer frames than that, in 1000 s, is not worth a share */
#define BMB_SENT_MOST 16u            /* frames whose packets may be asked for again: half a second at 30/s */
#define BMB_REPEAT_BURST 65536u      /* bytes that may be repeated at once, … */
#define BMB_REPEAT_SHARE 25u         /* … and per cent of the stream's bit rate for long */
#define BMB_REPEAT_SLICES 12u        /* of one packet: the most are those of parameter sets together, and one more */
#define BMB_MISSED_MOST 64u          /* packets that one report may ask for */
#define BMB_DIAL_MOST_US 5000000u    /* a connection that is not made by then is given up */
#define BMB_PUSH_RETRY_FIRST_MS 500u /* first pause before a push is tried again; doubles up to … */
#define BMB_PUSH_RETRY_MOST_MS 10000u
#define BMB_PUSH_TELL_FIRST_MS 30000u /* trouble that goes on is told again after; that doubles up to … */
#define BMB_PUSH_TELL_MOST_MS 3600000u
#define BMB_PUSH_QUIET_US                                                                                              \
    5000000u /* UDP: no answer for so long: the destination takes it. Hosts answer once a second at most,              \
                and an address that is not there is given up every three seconds */
#define BMB_REPORT_OUT_US 1000000u /* between two reports of what went out */
#define BMB_QUALITY_FIRST 75       /* JPEG bit rate: where a camera does not tell its quality */
#define BMB_QUALITY_LEAST 20u      /* below, blocks are all that is seen */
#define BMB_JPEG_LEAD_MOST 4096u   /* bytes before an image that are cut off: a page at most, or a driver is broken */
#define BMB_QUALITY_MOST 90u       /* above, images grow without looking better */
#define BMB_TS_BURST_US 25000u     /* a frame of a transport stream leaves within, so that PCRs stay close */
#define BMB_TOKEN_UDP 12u          /* tokens of sockets: outlets first, then UDP sockets, then connections */
#define BMB_TOKEN_CONN 16u
#define BMB_CHUNK_ROOM 16u /* of a tx buffer: chunk size line, line ends, separators */

#endif
