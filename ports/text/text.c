#include "bambino/text.h"

#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include "base/bytes.h"

static size_t format(char *out, size_t room, const char *fmt, ...) __attribute__((format(printf, 3, 4)));

static size_t format(char *out, size_t room, const char *fmt, ...)
{
    if (room == 0) return 0;
    va_list args;
    va_start(args, fmt);
    int n = vsnprintf(out, room, fmt, args);
    va_end(args);
    if (n < 0) return 0;
    return (size_t)n < room ? (size_t)n : room - 1;
}

size_t bmb_addr_text(const bmb_addr *addr, bool with_port, char *out, size_t room)
{
    char ip[48];
    bmb_writer w = bmb_writer_of(ip, sizeof ip - 1);
    bmb_put_ip(&w, addr);
    ip[bmb_written(&w)] = '\0';
    const char *open = addr->family == 6 ? "[" : "", *close = addr->family == 6 ? "]" : "";
    if (!with_port) return format(out, room, "%s%s%s", open, ip, close);
    return format(out, room, "%s%s%s:%u", open, ip, close, addr->port);
}

const char *bmb_format_text(bmb_stream_format format)
{
    return format == BMB_FORMAT_TS ? "MPEG transport stream" : bmb_stream_format_name(format);
}

const char *bmb_err_text(bmb_err err)
{
    static const char *const texts[] = {
        [BMB_OK] = "no error",
        [BMB_AGAIN] = "nothing there yet",
        [BMB_GONE] = "it is gone",
        [BMB_BAD_ARG] = "the value is out of range",
        [BMB_BAD_DATA] = "the data does not follow its format",
        [BMB_NO_MEMORY] = "there is not enough memory",
        [BMB_NO_ROOM] = "it does not fit",
        [BMB_LIMIT] = "a limit is reached",
        [BMB_IN_USE] = "it is in use by somebody else",
        [BMB_NOT_FOUND] = "there is none of that name",
        [BMB_DENIED] = "permission denied",
        [BMB_UNKNOWN] = "it is not known",
        [BMB_UNSUPPORTED] = "it cannot do that",
        [BMB_TIMED_OUT] = "no answer in time",
        [BMB_NO_ROUTE] = "no network leads there",
        [BMB_REFUSED] = "nobody listens there",
        [BMB_FAILED] = "the system reports a failure",
        [BMB_NO_SIGNAL] = "no signal arrives at its input",
    };
    return (size_t)err < sizeof texts / sizeof texts[0] ? texts[err] : texts[BMB_FAILED];
}

const char *bmb_camera_fault_text(bmb_camera_fault fault, bmb_err err)
{
    switch (fault) {
    case BMB_CAMERA_FAULT_SILENT:
        return "nothing answers on its I2C bus. Seat the ribbon with its contacts towards the connector's, and close "
               "the "
               "latch";
    case BMB_CAMERA_FAULT_WIRING:
        return "I2C gives no sense at these pins, or no pixel clock comes. Choose the wiring of this very board";
    case BMB_CAMERA_FAULT_OTHER:
        return "another sensor answers than the one expected. Name the one that is plugged in, or plug in the other";
    case BMB_CAMERA_FAULT_SUPPLY:
        return "it went away under load. Use a supply that gives more current, and a short, thick cable";
    case BMB_CAMERA_FAULT_NONE:
        break;
    }
    return bmb_err_text(err);
}

typedef struct mode_text {
    char text[40];
} mode_text;

static mode_text mode_of(const bmb_event *e)
{
    mode_text m = { .text = "" };
    format(m.text, sizeof m.text, "%" PRId64 "x%" PRId64 " at %g/s", e->value >> 16, e->value & 0xFFFF,
           (double)e->extra / 1000.0);
    return m;
}

/* Why RFC 2435 cannot carry an image, and what to do; in the order of bmb_jpeg_rtp. */
static const char *refusal_text(int64_t refusal)
{
    static const char *const texts[] = {
        "for no reason",
        "they are not baseline: switch progressive coding off",
        "they have not three components of 8 bits: choose colour",
        "their sampling is neither 4:2:0 nor 4:2:2: choose one of these",
        "their Huffman tables are optimised: switch that off",
        "they need other than two quantisation tables of 8 bits: choose another quality",
        "their size is over 2040 or no multiple of 8: choose another size",
    };
    bool known = refusal >= 0 && (size_t)refusal < sizeof texts / sizeof texts[0];
    return texts[known ? (size_t)refusal : 0];
}

/* Why a push does not get through, and what to look at. */
static size_t push_failed(const bmb_event *e, const char *feed, const char *peer, char *out, size_t room)
{
    const char *why =
        e->err == BMB_REFUSED    ? "nobody listens there. Start the receiver, and check the port"
        : e->err == BMB_NO_ROUTE ? "no host answers at that address, or no network leads there. Check the address, and "
                                   "this board's own network"
        : e->err == BMB_TIMED_OUT ? "no answer. Check the address, that the host is switched on, and its firewall"
                                  : bmb_err_text(e->err);
    size_t n = format(out, room, "feed \"%s\" to %s: %s", feed, peer, why);
    if (e->value == 0) return n + format(out + n, room - n, "; sending goes on");
    return n + format(out + n, room - n, "; next try in %.1f s", (double)e->value / 1000.0);
}

/* Why a session was ended that nobody asked to end. */
static const char *ending_text(int64_t ending)
{
    switch ((bmb_ending)ending) {
    case BMB_ENDING_UNREACHABLE:
        return "is not there any more, nobody listens at its port";
    case BMB_ENDING_ABANDONED:
        return "has closed its control connection, and reports nothing";
    case BMB_ENDING_BYE:
        return "has said goodbye";
    case BMB_ENDING_DENIED:
        return "may not watch any more";
    case BMB_ENDING_SILENT:
        break;
    }
    return "has given no sign of life";
}

static size_t report(const bmb_event *e, const char *feed, const char *peer, char *out, size_t room)
{
    const bmb_traffic none = { 0 }, *t = e->traffic != NULL ? e->traffic : &none;
    char blocked[48] = "";
    if (t->blocked_ms > 0)
        format(blocked, sizeof blocked, ", the network took no more for %" PRIu32 " ms", t->blocked_ms);
    if (e->value < 0)
        return format(out, room, "feed \"%s\" to %s: %" PRIu32 " frames, %.1f KiB%s", feed, peer, t->frames,
                      (double)t->bytes / 1024.0, blocked);
    return format(out, room, "outlet %s: %" PRId64 " viewers, %" PRIu32 " frames, %.1f KiB%s", peer, e->value,
                  t->frames, (double)t->bytes / 1024.0, blocked);
}

#if BMB_WITH_VERDICTS
static size_t held_back(const bmb_event *e, const char *feed, const char *peer, char *out, size_t room)
{
    bmb_cause cause = BMB_CAUSE_NOTHING;
    const double is = (double)e->value / 1000.0, of = (double)e->extra / 1000.0;
    while (cause < BMB_CAUSE_LOSS && e->text != NULL && strcmp(e->text, bmb_cause_name(cause)) != 0) cause++;
    switch (cause) {
    case BMB_CAUSE_CAMERA:
        return format(out, room, "feed \"%s\": its camera delivers %.1f of %g pictures a second", feed, is, of);
    case BMB_CAUSE_PROCESSOR:
        return format(
            out, room,
            "feed \"%s\": the processor makes %.1f of %g pictures a second and never pauses; lower size or rate", feed,
            is, of);
    case BMB_CAUSE_MEMORY:
        return format(out, room,
                      "feed \"%s\": frames of %" PRId64 " bytes find no room, for %" PRId64
                      " bytes there is; raise frame-max or reel, or lower size or quality",
                      feed, e->extra, e->value);
    case BMB_CAUSE_LIMIT:
        if (peer[0] != '\0')
            return format(out, room,
                          "feed \"%s\": %s gets its share of the uplink, %.1f of %.1f Mbit/s; pictures are left out",
                          feed, peer, is, of);
        return format(out, room, "feed \"%s\": pictures are left out to hold %" PRId64 " kbit/s", feed, e->value);
    case BMB_CAUSE_LINK:
        return format(out, room, "feed \"%s\": the link to %s carries %.1f of %.1f Mbit/s; pictures are left out", feed,
                      peer, is, of);
    case BMB_CAUSE_READER:
        return format(out, room, "feed \"%s\": %s reads %.1f of %.1f Mbit/s; pictures are left out", feed, peer, is,
                      of);
    case BMB_CAUSE_LOSS:
        return format(out, room, "feed \"%s\": %s reports that %.0f %% of the packets are lost on their way", feed,
                      peer, 100.0 * is / (of > 0 ? of : 1));
    default:
        return format(out, room, "feed \"%s\": nothing holds %s back any more", feed, peer[0] != '\0' ? peer : "it");
    }
}
#else
static size_t held_back(const bmb_event *e, const char *feed, const char *peer, char *out, size_t room)
{
    (void)e, (void)feed, (void)peer, (void)out, (void)room;
    return 0;
}
#endif

/* What followed a link, and how. */
static size_t followed(const bmb_event *e, const char *feed, const char *peer, char *out, size_t room)
{
#if BMB_WITH_FOLLOWING
    switch (e->code) {
    case BMB_EVENT_STEPPED:
        if (e->value == 0)
            return format(out, room, "feed \"%s\": %s is given %s again", feed, peer,
                          strcmp(e->text, feed) == 0 ? "all of it" : e->text);
        if (e->extra == 0) return format(out, room, "feed \"%s\": %s is given %s", feed, peer, e->text);
        return format(out, room, "feed \"%s\": %s is given %s, its link carries %" PRId64 " kbit/s", feed, peer,
                      e->text, e->extra);
    case BMB_EVENT_FOLLOWED:
        if (e->value == e->extra)
            return format(out, room, "feed \"%s\": its bit rate is %" PRId64 " kbit/s again, as it is set", feed,
                          e->value);
        return format(out, room, "feed \"%s\": its bit rate is %" PRId64 " of %" PRId64 " kbit/s, it follows a link",
                      feed, e->value, e->extra);
    case BMB_EVENT_UPLINK_FULL:
        return format(out, room,
                      "feed \"%s\": %s was refused, the uplink would need %" PRId64
                      " kbit/s and uplink-kbps is %" PRId64,
                      feed, peer, e->value, e->extra);
    default:
        break;
    }
#else
    (void)e, (void)feed, (void)peer, (void)out, (void)room;
#endif
    return 0;
}

static size_t users(const bmb_event *e, char *out, size_t room)
{
#if BMB_WITH_ACCESS
    const char *why = e->text != NULL ? e->text : bmb_err_text(e->err);
    if (e->code == BMB_EVENT_USERS_READ) return format(out, room, "users: %" PRId64 " may sign in", e->value);
    if (e->value == 0)
        return format(out, room, "users: nobody gets in, since the file of users cannot be read: %s", why);
    return format(out, room, "users: the file of users cannot be read: %s. The %" PRId64 " that were read last stay",
                  why, e->value);
#else
    (void)e, (void)out, (void)room;
    return 0;
#endif
}

size_t bmb_event_text(const bmb_event *e, char *out, size_t room)
{
    char peer[BMB_ADDR_TEXT_MAX] = "";
    const char *feed = e->feed != NULL ? e->feed : "";
    if (e->peer != NULL) bmb_addr_text(e->peer, true, peer, sizeof peer);
    switch (e->code) {
    case BMB_EVENT_CAMERA_STARTED:
        return format(out, room, "feed \"%s\": camera started, %s", feed, mode_of(e).text);
    case BMB_EVENT_CAMERA_ADJUSTED:
        return format(out, room, "feed \"%s\": the camera chose %s instead of the mode asked for", feed,
                      mode_of(e).text);
    case BMB_EVENT_CAMERA_FAILED:
        return format(out, room, "feed \"%s\": %s: %s; next try in %.1f s", feed,
                      e->err == BMB_NO_SIGNAL ? "no signal" : "the camera failed",
                      e->text != NULL ? e->text : bmb_camera_fault_text((bmb_camera_fault)e->value, e->err),
                      (double)e->extra / 1000.0);
    case BMB_EVENT_CAMERA_SAYS:
        return format(out, room, "camera \"%s\" says: %s", feed, e->text != NULL ? e->text : "");
    case BMB_EVENT_CAMERA_STALLED:
        return format(out, room,
                      "feed \"%s\": no frame for %.1f s; the camera is stopped and started again in %.1f s. "
                      "Check its cable and its supply",
                      feed, (double)e->value / 1000.0, (double)e->extra / 1000.0);
    case BMB_EVENT_CAMERA_BACK:
        return format(out, room, "feed \"%s\": the camera is back after %.1f s", feed, (double)e->value / 1000.0);
    case BMB_EVENT_CONTROL_REFUSED: {
        const char *control = bmb_control_name((bmb_control)e->value);
        return format(out, room, "feed \"%s\": the camera refused %s = %" PRId64 ": %s", feed,
                      control != NULL ? control : "a control", e->extra, bmb_err_text(e->err));
    }
    case BMB_EVENT_CONTROL_LOWERED: {
        const char *control = bmb_control_name((bmb_control)e->value);
        return format(out, room,
                      "feed \"%s\": %s is %" PRId64 " from now on, its pictures did not fit; raise frame-max for more",
                      feed, control != NULL ? control : "a control", e->extra);
    }
    case BMB_EVENT_SIGNED_IN:
        return format(out, room, "%s signed in as \"%s\"", peer, e->text);
    case BMB_EVENT_SIGN_IN_FAILED:
        if (e->text == NULL) return format(out, room, "%s could not sign in, there is no user of the name given", peer);
        return format(out, room, "%s could not sign in as \"%s\"", peer, e->text);
    case BMB_EVENT_CHANGED_BY: {
        const char *control = bmb_control_name((bmb_control)e->value);
        return format(out, room, "feed \"%s\": %s changed %s from %" PRId32 " to %" PRId32 " (%s)", feed,
                      e->text != NULL ? e->text : "somebody", control != NULL ? control : "a control",
                      (int32_t)(e->extra >> 32), (int32_t)e->extra, peer);
    }
    case BMB_EVENT_LENT:
        return format(out, room, "feed \"%s\": %s lent it, link %" PRId64 " (%s)", feed, e->text, e->value, peer);
    case BMB_EVENT_LINK_ENDED:
        return format(out, room, "%s called link %" PRId64 " back (%s)", e->text, e->value, peer);
    case BMB_EVENT_GROUP_WITHHELD:
        return format(out, room,
                      "feed \"%s\": nothing is sent to group %s, where everybody in the network could watch and not "
                      "everybody may; set multicast-open = yes if they shall",
                      feed, peer);
    case BMB_EVENT_NAME_REFUSED:
        return format(out, room,
                      "%s asked for a host called \"%s\", which is not this one's name; if it is, add it to names",
                      peer, e->text);
    case BMB_EVENT_FRAMING_REFUSED:
        return format(
            out, room,
            "a page of %s shows a feed, and %s's browser leaves the place empty; to allow it, set origins = %s "
            "or embed = yes in [device]",
            e->text, peer, e->text);
    case BMB_EVENT_HANDSHAKE_FAILED:
        return format(out, room, "%s: no encrypted connection: %s (error 0x%04" PRIX64 ")", peer,
                      e->text != NULL ? e->text : bmb_err_text(e->err), e->value);
    case BMB_EVENT_FEED_CHANGED:
        return format(out, room, "feed \"%s\" is changed to %ux%u at %g/s", feed, (unsigned)(e->value >> 16),
                      (unsigned)(e->value & 0xFFFF), (double)e->extra / 1000.0);
    case BMB_EVENT_FEED_ADDED:
        return format(out, room, "feed \"%s\" was added", feed);
    case BMB_EVENT_FEED_PAUSED:
        return format(out, room, "feed \"%s\" was paused; nobody can watch it until it is started again", feed);
    case BMB_EVENT_SETTINGS_CHANGED:
        if (e->extra > 0)
            return format(out, room,
                          "%s changed %" PRId64 " setting(s), which return in %" PRId64 " s unless confirmed (%s)",
                          e->text != NULL ? e->text : "somebody", e->value, e->extra, peer);
        return format(out, room, "%s changed %" PRId64 " setting(s) (%s)", e->text != NULL ? e->text : "somebody",
                      e->value, peer);
    case BMB_EVENT_SETTINGS_RETURNED:
        return format(out, room, "%" PRId64 " setting(s) are what they were before: nobody confirmed the change",
                      e->value);
    case BMB_EVENT_DAYLIGHT:
        return format(out, room, "feed \"%s\": it is %s, its pictures' brightness is %" PRId64 " of 255", feed,
                      e->value != 0 ? "night" : "day", e->extra);
    case BMB_EVENT_CAMERA_RESTS:
        return format(out, room, "feed \"%s\": the camera is off until somebody watches", feed);
    case BMB_EVENT_USERS_READ:
    case BMB_EVENT_USERS_UNREADABLE:
        return users(e, out, room);
    case BMB_EVENT_HELD_BACK:
        return held_back(e, feed, peer, out, room);
    case BMB_EVENT_STEPPED:
    case BMB_EVENT_FOLLOWED:
    case BMB_EVENT_UPLINK_FULL:
        return followed(e, feed, peer, out, room);
    case BMB_EVENT_SETTINGS_NOT_KEPT:
        return format(out, room, "changed settings could not be stored (%s); a restart would lose them",
                      bmb_err_text(e->err));
    case BMB_EVENT_FRAME_BAD:
        return format(out, room,
                      "feed \"%s\": a frame of %" PRId64 " bytes is cut off or garbled and was dropped (%" PRId64
                      " so far)",
                      feed, e->value, e->extra);
    case BMB_EVENT_FRAME_TOO_LARGE:
        return format(out, room,
                      "feed \"%s\": a frame of %" PRId64 " bytes was dropped, frame-max is %" PRId64
                      "; raise it, or lower size or quality",
                      feed, e->value, e->extra);
    case BMB_EVENT_CODEC_REFUSED:
        return format(out, room, "feed \"%s\": its JPEG images cannot be sent over RTP, %s; HTTP still serves them",
                      feed, refusal_text(e->value));
    case BMB_EVENT_VIEWER_CAME:
        return format(out, room, "feed \"%s\": %s watches (%" PRId64 " now)", feed, peer, e->value);
    case BMB_EVENT_VIEWER_LEFT:
        return format(out, room, "feed \"%s\": %s left after %" PRId64 " frames (%" PRId64 " watch)", feed, peer,
                      e->extra, e->value);
    case BMB_EVENT_VIEWER_STALLED:
        return format(out, room, "%s%s%s%s took nothing for %.1f s and was closed", e->feed != NULL ? "feed \"" : "",
                      feed, e->feed != NULL ? "\": " : "", peer, (double)e->value / 1000.0);
    case BMB_EVENT_VIEWER_SHED:
        return format(out, room,
                      "feed \"%s\": %s was closed, it held memory that the next frame needed; "
                      "raise reel to let more slow viewers in",
                      feed, peer);
    case BMB_EVENT_VIEWER_REFUSED:
        return format(out, room, "feed \"%s\": %s was refused, %" PRId64 " viewers are the limit; raise viewers", feed,
                      peer, e->value);
    case BMB_EVENT_ACCEPT_PAUSED:
        return format(out, room,
                      "a connection could not be accepted: the system has no file or memory left; next try in %" PRId64
                      " ms. Raise the open-files limit",
                      e->value);
    case BMB_EVENT_CONNECTIONS_FULL:
        return format(out, room, "%s was turned away, all %" PRId64 " connections are in use; raise viewers", peer,
                      e->value);
    case BMB_EVENT_MULTICAST_STARTED:
        return format(out, room, "feed \"%s\": sending to group %s", feed, peer);
    case BMB_EVENT_MULTICAST_STOPPED:
        return format(out, room, "feed \"%s\": group %s has no viewer left, stopped after %" PRId64 " frames", feed,
                      peer, e->extra);
    case BMB_EVENT_VIEWER_BEHIND:
        return format(out, room,
                      "feed \"%s\": a receiver that keeps all missed %" PRId64
                      " frames, they had left the reel before it could take them; raise reel, or lower the bit rate",
                      feed, e->value);
    case BMB_EVENT_PUSH_STARTED:
        return format(out, room, "feed \"%s\": sending to %s", feed, peer);
    case BMB_EVENT_PUSH_FAILED:
        return push_failed(e, feed, peer, out, room);
    case BMB_EVENT_PUSH_LOST:
        return format(out, room, "feed \"%s\": %s closed the connection after %" PRId64 " frames; next try in %.1f s",
                      feed, peer, e->extra, (double)e->value / 1000.0);
    case BMB_EVENT_PUSH_UNREAD:
        return format(out, room,
                      "feed \"%s\": %s has read nothing for %.1f s. Check that a player really reads there, and the "
                      "network between; next try in %.1f s",
                      feed, peer, (double)e->value / 1000.0, (double)e->extra / 1000.0);
    case BMB_EVENT_PUSH_HEARD:
        return format(out, room, "feed \"%s\": %s refuses no more, somebody listens there now", feed, peer);
    case BMB_EVENT_STILL_GAP:
        return format(out, room,
                      "feed \"%s\": a still of another size was taken, the stream had no frame for %" PRId64 " ms",
                      feed, e->value);
    case BMB_EVENT_FEED_REMOVED:
        return format(out, room, "feed \"%s\" is out of service", feed);
    case BMB_EVENT_CONTROLS_RESTORED:
        return format(out, room, "feed \"%s\": %" PRId64 " controls are as they were set last", feed, e->value);
    case BMB_EVENT_CONTROLS_NOT_KEPT:
        return format(out, room, "feed \"%s\": controls cannot be kept for the next start: %s; check the state folder",
                      feed, bmb_err_text(e->err));
    case BMB_EVENT_NOT_FOUND:
        return format(out, room, "%s asked for an address that does not exist: %s", peer,
                      e->text != NULL ? e->text : "");
    case BMB_EVENT_SESSION_ENDED:
        return format(out, room, "feed \"%s\": %s %s; its session is over", feed, peer, ending_text(e->value));
    case BMB_EVENT_SUPPRESSED:
        return format(out, room,
                      "%" PRId64 " more events about viewers and connections are not listed, there were too "
                      "many at once",
                      e->value);
    case BMB_EVENT_REPORT:
        return report(e, feed, peer, out, room);
    }
    return format(out, room, "event %d", (int)e->code);
}

/* A configuration member as files spell it. */
static const char *key_text(const char *key)
{
    static const struct {
        const char *member, *key;
    } names[] = {
        { "frame_max", "frame-max" },   { "reel_bytes", "reel" },       { "request_buffer", "request-buffer" },
        { "rtp_packet", "rtp-packet" }, { "stall_ms", "stall-ms" },     { "request_ms", "request-ms" },
        { "idle_ms", "idle-ms" },       { "session_ms", "session-ms" }, { "unsent_ms", "unsent-ms" },
    };
    if (key == NULL) return "a value";
    for (size_t i = 0; i < sizeof names / sizeof names[0]; i++)
        if (strcmp(names[i].member, key) == 0) return names[i].key;
    return key;
}

static size_t feed_fault(const bmb_fault *f, char *out, size_t room)
{
    const char *name = f->name != NULL ? f->name : "";
    if (f->err == BMB_IN_USE && strcmp(key_text(f->key), "camera") == 0)
        return format(out, room,
                      "camera \"%s\" has no stream left for another feed; take one feed off, or use another camera",
                      name);
    if (f->err == BMB_UNSUPPORTED && strcmp(key_text(f->key), "together") == 0)
        return format(
            out, room,
            "feed \"%s\": its camera cannot deliver this beside the other feeds of the same camera; lower its "
            "size or rate, or choose the other codec",
            name);
#if BMB_WITH_FOLLOWING
    if (f->err == BMB_NOT_FOUND && strcmp(key_text(f->key), "step") == 0)
        return format(out, room,
                      "feed \"%s\": its step is none of the other feeds; name one of them, or leave step out", name);
    if (f->err == BMB_UNSUPPORTED && strcmp(key_text(f->key), "step") == 0)
        return format(out, room, "feed \"%s\": its step has another codec; viewers cannot be given that instead", name);
#endif
    if (f->err == BMB_IN_USE && strcmp(key_text(f->key), "multicast") == 0)
        return format(out, room, "feed \"%s\": another feed has the same multicast group; choose another one", name);
    if (strcmp(key_text(f->key), "multicast") == 0)
        return format(
            out, room,
            "feed \"%s\": multicast needs an address in 224.0.0.0/4 or ff00::/8 and an even port from 1024 on", name);
    if (f->err == BMB_IN_USE) return format(out, room, "feed \"%s\" is there twice; rename one", name);
    if (strcmp(key_text(f->key), "name") == 0)
        return format(out, room, "feed name \"%s\": use 1 to %d of a-z 0-9 - _", name, BMB_NAME_MAX - 1);
    return format(out, room, "feed \"%s\": %s = %" PRId64 " is out of range, the nearest possible is %" PRId64, name,
                  key_text(f->key), f->asked, f->have);
}

/* A format that does not exist for this codec or this way of sending. */
static size_t format_fault(const bmb_fault *f, char *out, size_t room)
{
    const char *name = bmb_stream_format_name((bmb_stream_format)f->asked);
    const char *codec = f->have == BMB_CODEC_H264 ? "H.264" : "JPEG";
    return format(out, room,
                  "feed \"%s\" is %s: format %s cannot carry it here. Over TCP raw and framed carry both codecs and ts "
                  "H.264; over UDP rtp carries both and ts H.264",
                  f->name != NULL ? f->name : "", codec, name != NULL ? name : "unknown");
}

size_t bmb_fault_text(const bmb_fault *f, char *out, size_t room)
{
    const char *part = f->part != NULL ? f->part : "";
    if (strcmp(part, "memory") == 0)
        return format(out, room,
                      "%" PRId64 " bytes of memory are needed, %" PRId64 " are there, %" PRId64
                      " are missing; the largest part are the %s: lower those first",
                      f->asked, f->have, f->asked - f->have, key_text(f->key));
    if (f->key != NULL && strcmp(f->key, "format") == 0) return format_fault(f, out, room);
    if (strcmp(part, "push") == 0 && f->err == BMB_BAD_ARG)
        return format(out, room, "a push needs the number of a feed, an address and a port");
    if (f->err == BMB_NOT_FOUND && f->key != NULL && strcmp(f->key, "feed") == 0)
        return format(out, room, "%s: there is no feed %" PRId64 "; this format needs one of the %" PRId64, part,
                      f->asked, f->have);
    if (strcmp(part, "build") == 0)
        return format(out, room,
                      "this program was built without something that is asked for here: %s is 0 (bambino/options.h); "
                      "build it with that, or take it out of the configuration",
                      key_text(f->key));
    if (strcmp(part, "port") == 0 && f->err != BMB_UNSUPPORTED)
        return format(out, room, "encryption could not be set up: %s", bmb_err_text(f->err));
    if (strcmp(part, "port") == 0)
        return format(out, room, "the port lacks a function: %s needs %s", f->name != NULL ? f->name : "it",
                      key_text(f->key));
    if (strcmp(part, "feed") == 0) return feed_fault(f, out, room);
    if (strcmp(part, "camera") == 0)
        return format(out, room, "camera \"%s\" is not attached; `bambino cameras` lists those that are",
                      f->name != NULL ? f->name : "");
    if (strcmp(part, "outlet") == 0) {
        char addr[BMB_ADDR_TEXT_MAX];
        bmb_addr_text(&f->addr, true, addr, sizeof addr);
        const char *advice = f->err == BMB_IN_USE   ? "another program listens there; stop it, or choose another port"
                             : f->err == BMB_DENIED ? "ports below 1024 need privileges; choose a higher one"
                             : f->err == BMB_NOT_FOUND ? "no interface of this machine has that address"
                                                       : bmb_err_text(f->err);
        return format(out, room, "cannot listen at %s: %s", addr, advice);
    }
    return format(out, room, "%s = %" PRId64 " is out of range, the nearest possible is %" PRId64, key_text(f->key),
                  f->asked, f->have);
}
