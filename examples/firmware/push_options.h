/* One feed, sent over UDP; nothing listens. */
#define BMB_WITH_HTTP 0
#define BMB_WITH_RTSP 0
#define BMB_WITH_MULTICAST 0
#define BMB_WITH_PLAIN 0
#define BMB_WITH_FRAMED 0
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
#define BMB_WITH_SERVICE 0
