/* Nothing but MJPEG and stills over HTTP, and what checks a configuration. */
#define BMB_WITH_STATUS 0
#define BMB_WITH_PAGE 0
#define BMB_WITH_SIZED_STILLS 0
#define BMB_WITH_RTSP 0
#define BMB_WITH_MULTICAST 0
#define BMB_WITH_PLAIN 0
#define BMB_WITH_PUSH 0
#define BMB_WITH_H264 0
#define BMB_WITH_CONTROLS 0
#define BMB_WITH_WALL_CLOCK 0
#define BMB_WITH_VIEWER_RATES 0
#define BMB_WITH_RESTING 0
#define BMB_WITH_REPORTS 0
#define BMB_GATHER_MOST 2
#define BMB_WITH_ACCESS 0
#define BMB_WITH_TLS 0
#define BMB_WITH_EVENTS 0
