/* The page, MJPEG, stills and the status over HTTP; RTSP with RTP and RTCP; a multicast group. */
#define BMB_WITH_SIZED_STILLS 0
#define BMB_WITH_TUNNEL 0
#define BMB_WITH_PLAIN 0
#define BMB_WITH_PUSH 0
#define BMB_WITH_H264 0
#define BMB_WITH_CONTROLS 0
#define BMB_WITH_IPV6 0
#define BMB_WITH_WALL_CLOCK 0
#define BMB_WITH_RESTING 0
#define BMB_WITH_VIEWER_RATES 0
#define BMB_GATHER_MOST 8
#define BMB_WITH_ACCESS 0
#define BMB_WITH_TLS 0
#define BMB_WITH_EVENTS 0
#define BMB_WITH_CHANGES 0
#define BMB_WITH_DAYLIGHT 0
#define BMB_WITH_SERVICE 0
