/* What is compiled into the core. All of it, unless a program says otherwise: in a header of its own that is named when
 * the core is compiled, -DBMB_OPTIONS_FILE='"loco_options.h"', and sets some of these to 0 or a number to another one;
 * or one by one, -DBMB_WITH_TS=0. A configuration that asks for what was left out is refused by bmb_open() and
 * bmb_budget_of(): BMB_UNSUPPORTED, part "build", and the option's name in key.
 *
 * Above each stands what it costs in flash on a Cortex-M3 (gcc 12, -Os): what an image with everything else loses
 * without it. docs/options.md has the table, also of RAM, and scripts/option-costs measures it anew.
 */
#ifndef BAMBINO_OPTIONS_H
#define BAMBINO_OPTIONS_H

#ifdef BMB_OPTIONS_FILE
/* cppcheck-suppress preprocessorErrorDirective */
#include BMB_OPTIONS_FILE
#endif

/* What is served. */
/* 7.9 KB, and 10.2 of http-parser */
#ifndef BMB_WITH_HTTP
#define BMB_WITH_HTTP 1 /* outlets of HTTP: MJPEG and stills */
#endif
/* 5.5 KB, 0.5 beside the framed protocol; and 2.1 of cJSON */
#ifndef BMB_WITH_STATUS
#define BMB_WITH_STATUS 1 /* /status.json */
#endif
/* nearly nothing, and the documents */
#ifndef BMB_WITH_PAGE
#define BMB_WITH_PAGE 1 /* documents of the program's own, such as the page (bmb_config.assets) */
#endif
/* 2.9 KB; RAM: 96 bytes for each event that is kept */
#ifndef BMB_WITH_EVENTS
#define BMB_WITH_EVENTS 1 /* /events: what happened lately, and what happens (bmb_config.events) */
#endif
/* 1.3 KB; RAM: the largest body that is taken */
#ifndef BMB_WITH_SERVICE
#define BMB_WITH_SERVICE 1 /* requests that the program answers itself (bmb_config.service), with BMB_WITH_ACCESS */
#endif
/* 1.9 KB */
#ifndef BMB_WITH_SIZED_STILLS
#define BMB_WITH_SIZED_STILLS 1 /* stills of another size or codec than the stream */
#endif
/* 11.0 KB, 16.7 where nothing else needs RTP */
#ifndef BMB_WITH_RTSP
#define BMB_WITH_RTSP 1 /* outlets of RTSP, with RTP and RTCP over UDP and over the connection */
#endif
/* 0.5 KB */
#ifndef BMB_WITH_TUNNEL
#define BMB_WITH_TUNNEL 1 /* RTSP through HTTP, for players behind proxies */
#endif
/* 1.2 KB */
#ifndef BMB_WITH_MULTICAST
#define BMB_WITH_MULTICAST 1 /* groups */
#endif
/* 0.9 KB where nothing is pushed and nothing framed; beside those nothing */
#ifndef BMB_WITH_PLAIN
#define BMB_WITH_PLAIN 1 /* outlets of plain TCP */
#endif
/* 2.7 KB */
#ifndef BMB_WITH_FRAMED
#define BMB_WITH_FRAMED 1 /* the framed protocol, over plain TCP */
#endif
/* 2.6 KB */
#ifndef BMB_WITH_PUSH
#define BMB_WITH_PUSH 1 /* feeds that are sent without being asked */
#endif

/* What is sent. */
/* 4.2 KB, with TS */
#ifndef BMB_WITH_H264
#define BMB_WITH_H264 1
#endif
/* 2.1 KB */
#ifndef BMB_WITH_TS
#define BMB_WITH_TS 1 /* MPEG-2 transport streams */
#endif

/* What can be turned. */
/* 3.9 KB, with the rate and day and night */
#ifndef BMB_WITH_CONTROLS
#define BMB_WITH_CONTROLS 1 /* controls: settings at the start, changes, and keeping them */
#endif
/* 1.1 KB */
#ifndef BMB_WITH_RATE
#define BMB_WITH_RATE 1 /* holding a bit rate of JPEG */
#endif

/* 2.8 KB; RAM, where it is asked for: a copy of the configuration's rows */
#ifndef BMB_WITH_CHANGES
#define BMB_WITH_CHANGES 1 /* size, rate and codec of feeds while the device runs (bmb_config.reserve) */
#endif
/* 2.0 KB */
#ifndef BMB_WITH_COMING
#define BMB_WITH_COMING 1 /* feeds, outlets and pushes that come and go while it runs, with BMB_WITH_CHANGES */
#endif

/* 5.5 KB */
#ifndef BMB_WITH_SETTINGS
#define BMB_WITH_SETTINGS 1 /* settings of feeds over HTTP (bambino/settings.h) */
#endif
/* 1.2 KB */
#ifndef BMB_WITH_DAYLIGHT
#define BMB_WITH_DAYLIGHT 1 /* night mode by the brightness of JPEG pictures (bmb_feed_config.daylight) */
#endif
/* 0.3 KB, 0.8 without BMB_WITH_DAYLIGHT */
#ifndef BMB_WITH_REPAIR
#define BMB_WITH_REPAIR                                                                                                \
    1 /* JPEG images with bytes before their start, or without their end marker; frames left out                       \
       */
#endif

/* Who may do what. */
/* 16.5 KB; RAM: 56 bytes for each viewer, and 3 KB where there are accounts */
#ifndef BMB_WITH_ACCESS
#define BMB_WITH_ACCESS                                                                                                \
    1 /* accounts and signing in, lent links (bambino/access.h), and what a network asks for that is not trusted:      \
         names and origins that browsers come with, places shared by host, controls that cannot make a feed useless */
#endif

/* 0.9 KB, and about 100 of Mbed TLS */
#ifndef BMB_WITH_TLS
#define BMB_WITH_TLS 1 /* outlets and pushes that a port encrypts (bmb_port.encryption, bambino/tls.h) */
#endif

/* What a board may have, and how it is looked after. */
/* 0.3 KB */
#ifndef BMB_WITH_PATHS
#define BMB_WITH_PATHS 1 /* pictures begin when the path is free for them, where the port knows (bmb_net.path) */
#endif
/* 0.4 KB; RAM: 48 bytes for each viewer */
#ifndef BMB_WITH_IPV6
#define BMB_WITH_IPV6 1 /* addresses of IPv6; ports and programs are compiled with the same choice */
#endif
/* 0.5 KB */
#ifndef BMB_WITH_WALL_CLOCK
#define BMB_WITH_WALL_CLOCK 1 /* dates in answers and frames, NTP times in reports, where the port knows the time */
#endif
/* 0.2 KB; RAM: 40 bytes for each viewer */
#ifndef BMB_WITH_VIEWER_RATES
#define BMB_WITH_VIEWER_RATES 1 /* frames and bits a second of each viewer; 40 bytes for each of them */
#endif
/* 1.1 KB; RAM: 8 bytes for each viewer, 24 for each feed */
#ifndef BMB_WITH_VERDICTS
#define BMB_WITH_VERDICTS 1 /* what holds feeds and viewers back (bmb_verdict), with BMB_WITH_VIEWER_RATES */
#endif
/* 3.6 KB; RAM: 16 bytes for each feed, 8 for each viewer */
#ifndef BMB_WITH_FOLLOWING
#define BMB_WITH_FOLLOWING                                                                                             \
    1 /* streams follow their links: steps and bit rates of feeds (bmb_feed_config.step, .follow), and a budget of the \
         uplink (bmb_config.uplink_kbps), with BMB_WITH_VERDICTS and BMB_WITH_PATHS */
#endif
/* 1.7 KB; RAM: 8 bytes for each viewer, and where it is asked for 160 for each of RTSP */
#ifndef BMB_WITH_REPEATS
#define BMB_WITH_REPEATS 1 /* RTP packets that a receiver misses are sent again (bmb_config.repeats) */
#endif
/* 1.0 KB; RAM, for each group that has it: the largest RTP packet */
#ifndef BMB_WITH_PARITY
#define BMB_WITH_PARITY 1 /* groups with forward error correction (bmb_multicast.parity) */
#endif
/* 0.3 KB */
#ifndef BMB_WITH_RESTING
#define BMB_WITH_RESTING 1 /* encoders and cameras that rest while nobody watches (bmb_cameras.want, camera_rests) */
#endif
/* 0.4 KB */
#ifndef BMB_WITH_REPORTS
#define BMB_WITH_REPORTS 1 /* BMB_EVENT_REPORT: what went out, each second */
#endif
/* 3.3 KB */
#ifndef BMB_WITH_CHECKS
#define BMB_WITH_CHECKS                                                                                                \
    1 /* values out of range, and functions that the port lacks, are found at opening and named. For a configuration   \
         that is compiled in, and was opened once with them. What was left out here, missing cameras and too little    \
         memory are found without, too */
#endif

/* How much is sent with one call of the port: pieces of a stream, or packets. 64 is what segmentation offload takes,
 * and costs 4.4 KB of RAM; stacks that take packet by packet need no more than 8, which cost 0.7 KB. 2 to 64. */
#ifndef BMB_GATHER_MOST
#define BMB_GATHER_MOST 64
#endif

/* What follows from these. */
#define BMB_WITH_RTP (BMB_WITH_RTSP || BMB_WITH_MULTICAST || BMB_WITH_PUSH)
#if BMB_WITH_TUNNEL && !(BMB_WITH_HTTP && BMB_WITH_RTSP)
#undef BMB_WITH_TUNNEL
#define BMB_WITH_TUNNEL 0
#endif
#if BMB_WITH_FRAMED && !(BMB_WITH_PLAIN || BMB_WITH_PUSH)
#undef BMB_WITH_FRAMED
#define BMB_WITH_FRAMED 0
#endif
#if !BMB_WITH_HTTP
#undef BMB_WITH_STATUS
#undef BMB_WITH_PAGE
#undef BMB_WITH_SIZED_STILLS
#undef BMB_WITH_EVENTS
#define BMB_WITH_EVENTS 0
#define BMB_WITH_STATUS 0
#define BMB_WITH_PAGE 0
#define BMB_WITH_SIZED_STILLS 0
#endif
#if !BMB_WITH_HTTP || !BMB_WITH_ACCESS
#undef BMB_WITH_SERVICE
#define BMB_WITH_SERVICE 0
#endif
#if !BMB_WITH_SERVICE || !BMB_WITH_CHANGES || !BMB_WITH_CONTROLS
#undef BMB_WITH_SETTINGS
#define BMB_WITH_SETTINGS 0
#endif
#if !BMB_WITH_CHANGES
#undef BMB_WITH_COMING
#define BMB_WITH_COMING 0
#endif
#if !BMB_WITH_VIEWER_RATES
#undef BMB_WITH_VERDICTS
#define BMB_WITH_VERDICTS 0
#endif
#if !BMB_WITH_VERDICTS || !BMB_WITH_PATHS
#undef BMB_WITH_FOLLOWING
#define BMB_WITH_FOLLOWING 0
#endif
#if !BMB_WITH_STATUS
#undef BMB_WITH_EVENTS
#define BMB_WITH_EVENTS 0
#endif
#if !BMB_WITH_MULTICAST
#undef BMB_WITH_PARITY
#define BMB_WITH_PARITY 0
#endif
#if !BMB_WITH_RTSP
#undef BMB_WITH_REPEATS
#define BMB_WITH_REPEATS 0
#endif
#if !BMB_WITH_H264
#undef BMB_WITH_TS
#define BMB_WITH_TS 0
#endif
#if !BMB_WITH_CONTROLS
#undef BMB_WITH_DAYLIGHT
#define BMB_WITH_DAYLIGHT 0
#undef BMB_WITH_RATE
#define BMB_WITH_RATE 0
#endif
#if BMB_GATHER_MOST < 2 || BMB_GATHER_MOST > 64
#error "BMB_GATHER_MOST is 2 to 64"
#endif

#endif
