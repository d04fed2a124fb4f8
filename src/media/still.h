/* A still of another size or codec than the stream, while the feed streams. Where the camera has a stream that no feed
 * uses, it is taken from that one, and the viewers notice nothing. Else the camera is stopped, started in the still's
 * mode, and started again for the stream: the viewers see a gap, which is told. The picture goes out of the driver's
 * own buffer; no memory is needed for it.
 */
#ifndef BMB_MEDIA_STILL_H
#define BMB_MEDIA_STILL_H

#include "media/feed.h"

/* Where stills go. data: the driver's, until bmb_still_done; size 0: there is none after all. */
typedef struct bmb_still_taker {
    void (*take)(struct bmb_still_taker *taker, void *asker, const uint8_t *data, size_t size);
} bmb_still_taker;

/* BMB_IN_USE: another one is being taken, or the camera does not run; BMB_UNSUPPORTED: no such size. */
bmb_err bmb_still_begin(bmb_context *x, const bmb_feeds *feeds, bmb_feed *feed, void *asker, uint16_t width,
                        uint16_t height);
/* Can a still in the feed's own size be had without a gap? Of JPEG it can. */
bool bmb_still_is_beside(const bmb_context *x, const bmb_feeds *feeds, const bmb_feed *feed);
/* What the camera has, while it runs for a still. */
void bmb_still_take(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker);
/* The feed ends: whoever waits gets none. */
void bmb_still_cancel(bmb_context *x, bmb_feed *feed, bmb_still_taker *taker);
/* The asker has its picture, or goes. */
void bmb_still_done(bmb_context *x, const bmb_feeds *feeds, const void *asker);

#endif
