#include "serve/http_route.h"

#include <string.h>

#include "base/bounds.h"
#include "base/http_text.h"
#include "serve/reason.h"

#define ERROR_TEXT_MOST 512u /* with its head it fits the least room for answers */
#define ERROR_HEAD_MOST (BMB_WITH_ACCESS ? 420u : 256u)

/* What cannot be told is told as a bad request. */
static unsigned told(unsigned status)
{
    return bmb_reason(BMB_REASON_HTTP, status) != NULL ? status : 400;
}

/* Headers that go with a status. */
static const char *extra_of(unsigned status, const bmb_http_terms *terms)
{
    if (status == 405) return bmb_http_extra(terms) != NULL ? "" : "Allow: GET, HEAD\r\n";
    return status == 409 || status == 503 ? "Retry-After: 5\r\n" : "";
}

/* path is "/NAME.EXT" */
static bool find_feed(const bmb_config *config, const bmb_path *path, const char *extension, uint16_t *feed)
{
    size_t tail = strlen(extension), size = path->size;
    if (size < tail + 2 || !bmb_same_nocase(path->text + size - tail, tail, extension)) return false;
    for (size_t i = 0; i < config->feed_count; i++) {
        if (!bmb_same_nocase(path->text + 1, size - tail - 1, config->feeds[i].name)) continue;
        *feed = (uint16_t)i;
        return true;
    }
    return false;
}

/* "/NAME-WIDTHxHEIGHT.jpg" */
static bool find_still(const bmb_config *config, const bmb_path *p, bmb_route *out)
{
    uint32_t width, height;
    const char *path = p->text;
    size_t end = p->size, cross = 0, dash = 0;
    const char *suffix = bmb_format_still()->info.suffix;
    size_t tail = strlen(suffix);
    if (end < tail + 6 || !bmb_same_nocase(path + end - tail, tail, suffix)) return false;
    end -= tail;
    for (size_t i = 1; i < end; i++) {
        if (path[i] == 'x') cross = i;
        if (path[i] == '-') dash = i;
    }
    if (dash < 2 || cross <= dash || !bmb_read_dec(path + dash + 1, cross - dash - 1, 8192, &width) ||
        !bmb_read_dec(path + cross + 1, end - cross - 1, 8192, &height))
        return false;
    for (size_t i = 0; i < config->feed_count; i++) {
        if (!bmb_same_nocase(path + 1, dash - 1, config->feeds[i].name)) continue;
        out->feed = (uint16_t)i;
        out->width = (uint16_t)width;
        out->height = (uint16_t)height;
        return true;
    }
    return false;
}

static const bmb_asset *find_asset(const bmb_config *config, const bmb_path *path)
{
    for (size_t i = 0; i < config->asset_count; i++)
        if (bmb_same(path->text, path->size, config->assets[i].path)) return &config->assets[i];
    return NULL;
}

/* The format at whose suffix a feed was found that can be served so. */
static const bmb_format *find_format(const bmb_config *config, const bmb_path *path, uint16_t *feed)
{
    const bmb_format *format;
    for (size_t i = 0; (format = bmb_format_row(i)) != NULL; i++)
        if (format->info.suffix != NULL && find_feed(config, path, format->info.suffix, feed) &&
            bmb_format_over_http(format, config->feeds[*feed].mode.codec))
            break;
    return format;
}

/* Takes a part of the path, up to a slash. */
static bmb_text part_of(bmb_text *path)
{
    bmb_text part = { path->at, 0 };
    while (part.size < path->size && part.at[part.size] != '/') part.size++;
    size_t used = part.size < path->size ? part.size + 1 : part.size;
    path->at += used;
    path->size -= used;
    return part;
}

/* /lend/FEED/MINUTES[/VIEWERS] */
static bmb_route_kind find_lending(const bmb_config *config, bmb_text path, bmb_route *out)
{
    bmb_text feed = part_of(&path), minutes = part_of(&path), viewers = part_of(&path);
    uint32_t times = 0;
    if (!bmb_read_dec(minutes.at, minutes.size, BMB_LEND_MINUTES_MOST, &out->value) || path.size > 0 ||
        (viewers.size > 0 && !bmb_read_dec(viewers.at, viewers.size, BMB_LINK_OWNERS - 1u, &times)))
        return BMB_ROUTE_ERROR;
    out->times = (uint16_t)times;
    for (size_t i = 0; i < config->feed_count; i++) {
        if (!bmb_same_nocase(feed.at, feed.size, config->feeds[i].name)) continue;
        out->feed = (uint16_t)i;
        return BMB_ROUTE_LEND;
    }
    return BMB_ROUTE_ERROR;
}

/* What is changed by asking for it. */
static bmb_route_kind find_act(const bmb_config *config, const bmb_path *path, bmb_route *out)
{
    bmb_text rest = { path->text, path->size };
    if (bmb_path_is(path, "/sign-in")) return BMB_ROUTE_SIGN_IN;
    if (bmb_path_is(path, "/sign-out")) return BMB_ROUTE_SIGN_OUT;
    (void)part_of(&rest);
    bmb_text what = part_of(&rest);
    if (bmb_same(what.at, what.size, "lend")) return find_lending(config, rest, out);
    bmb_text number = part_of(&rest);
    if (rest.size > 0 && !bmb_read_dec(rest.at, rest.size, UINT32_MAX, &out->until)) return BMB_ROUTE_ERROR;
    bool numbered = bmb_read_dec(number.at, number.size, UINT32_MAX, &out->value);
    if (numbered && bmb_same(what.at, what.size, "end-link")) return BMB_ROUTE_END_LINK;
    if (numbered && bmb_same(what.at, what.size, "end-sign-in")) return BMB_ROUTE_END_SIGN_IN;
    return BMB_ROUTE_ERROR;
}

static bmb_route_kind find(const bmb_config *config, const bmb_path *path, bmb_route *out)
{
    if (path->size == 0 || path->text[0] != '/' || path->size == BMB_PATH_MAX) return BMB_ROUTE_ERROR;
    if (BMB_WITH_STATUS && bmb_path_is(path, "/status.json")) return BMB_ROUTE_STATUS;
    if (BMB_WITH_EVENTS && config->events > 0 && bmb_path_is(path, "/events")) return BMB_ROUTE_EVENTS;
    out->value = BMB_WITH_EVENTS && config->events > 0 && bmb_path_is(path, "/events/figures");
    if (out->value == 1) return BMB_ROUTE_EVENTS;
    if (BMB_WITH_ACCESS && bmb_path_is(path, "/who.json")) return BMB_ROUTE_WHO;
    out->asset = BMB_WITH_PAGE ? find_asset(config, path) : NULL;
    if (out->asset != NULL) return BMB_ROUTE_ASSET;
    out->format = find_format(config, path, &out->feed);
    if (out->format != NULL) return BMB_ROUTE_FEED;
    /* A feed that is no JPEG: its camera may have a stream besides that is. */
    if (BMB_WITH_SIZED_STILLS && find_feed(config, path, bmb_format_still()->info.suffix, &out->feed))
        return BMB_ROUTE_STILL;
    if (BMB_WITH_SIZED_STILLS && find_still(config, path, out)) return BMB_ROUTE_STILL;
    bool group = BMB_WITH_MULTICAST && find_feed(config, path, ".sdp", &out->feed) &&
                 config->feeds[out->feed].multicast.group.family != 0;
    return group ? BMB_ROUTE_SDP : BMB_ROUTE_ERROR;
}

#if BMB_WITH_SERVICE
bmb_method bmb_http_method_of(uint8_t method)
{
    switch (method) {
    case BMB_HTTP_POST:
        return BMB_METHOD_POST;
    case BMB_HTTP_PUT:
        return BMB_METHOD_PUT;
    case BMB_HTTP_PATCH:
        return BMB_METHOD_PATCH;
    case BMB_HTTP_DELETE:
        return BMB_METHOD_DELETE;
    default:
        return BMB_METHOD_GET;
    }
}

bool bmb_http_has_settings(const bmb_config *config)
{
    static const char path[] = "/settings";
    bmb_role needs = BMB_ROLE_NONE;
    return config->service != NULL &&
           config->service->find(config->service->ctx, BMB_METHOD_GET, path, sizeof path - 1, &needs);
}

static bool find_service(const bmb_config *config, const bmb_http_parse *request, bmb_route *out)
{
    bmb_role needs = BMB_ROLE_NONE;
    const bmb_path *path = &request->path;
    bool ours = config->service != NULL && out->link.size == 0 && path->size > 0 && path->size < BMB_PATH_MAX &&
                path->text[0] == '/' &&
                config->service->find(config->service->ctx, bmb_http_method_of(request->method), path->text, path->size,
                                      &needs);
    if (ours) out->kind = BMB_ROUTE_SERVICE;
    if (ours) out->role = (uint8_t)needs;
    return ours;
}
#else
bool bmb_http_has_settings(const bmb_config *config)
{
    (void)config;
    return false;
}

static bool find_service(const bmb_config *config, const bmb_http_parse *request, bmb_route *out)
{
    (void)config, (void)request, (void)out;
    return false;
}
#endif

static bool is_of_feed(bmb_route_kind kind)
{
    return kind == BMB_ROUTE_FEED || kind == BMB_ROUTE_STILL || kind == BMB_ROUTE_SDP || kind == BMB_ROUTE_LEND;
}

bmb_route bmb_http_route(const bmb_config *config, bmb_http_parse *request)
{
    bmb_route route = { .kind = BMB_ROUTE_ERROR, .status = request->error };
    if (request->error != 0) return route;
    if (BMB_WITH_ACCESS) route.link = bmb_path_take_link(&request->path);
    bool posts = BMB_WITH_ACCESS && request->method == BMB_HTTP_POST;
    bmb_route other = { .kind = BMB_ROUTE_ERROR };
    route.status = 404;
    if (BMB_WITH_TUNNEL && request->cookie != 0) {
        route.kind = BMB_ROUTE_TUNNEL;
    } else if (find_service(config, request, &route)) {
        /* the program's own */
    } else if (BMB_WITH_SERVICE && request->method > BMB_HTTP_POST) {
        other.kind = find(config, &request->path, &other);
    } else if (posts) {
        route.kind = find_act(config, &request->path, &route);
        if (route.kind == BMB_ROUTE_ERROR) other.kind = find(config, &request->path, &other);
    } else {
        route.kind = find(config, &request->path, &route);
        if (BMB_WITH_ACCESS && route.kind == BMB_ROUTE_ERROR) other.kind = find_act(config, &request->path, &other);
        if (other.kind != BMB_ROUTE_ERROR) route.value = 1;
    }
    if (route.kind == BMB_ROUTE_ERROR && other.kind != BMB_ROUTE_ERROR) { /* it is there, for another method */
        route.status = 405;
        route.feed = other.feed;
        route.of_feed = is_of_feed(other.kind);
    }
    return route;
}

#if BMB_WITH_ACCESS
/* What browsers may do with it, and with a page of ours (Content Security Policy Level 3). */
static void put_policy(bmb_writer *w, const char *type, const bmb_http_terms *terms)
{
    bool embeds = terms->config != NULL && terms->config->embed;
    bmb_put_http_policy(w, embeds, terms->origin);
    if (strncmp(type, "text/html", 9) == 0)
        bmb_put_text(w,
                     "Content-Security-Policy: default-src 'none'; img-src 'self' blob: data:; media-src 'self'; "
                     "script-src 'self'; style-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; "
                     "frame-ancestors %s\r\nReferrer-Policy: no-referrer\r\n",
                     embeds ? "*" : "'self'");
    if (terms->extra != NULL) bmb_put_str(w, terms->extra);
}
#endif

/* What does not change may be kept, if it is asked about each time; all else is old at once. */
static void put_caching(bmb_writer *w, const bmb_http_terms *terms)
{
#if BMB_WITH_PAGE
    const bmb_asset *asset = terms->asset;
    if (asset != NULL && asset->encoding != NULL)
        bmb_put_text(w, "\r\nContent-Encoding: %s\r\nVary: Accept-Encoding", asset->encoding);
    if (asset != NULL && asset->etag != NULL) {
        bmb_put_text(w, "\r\nCache-Control: no-cache\r\nETag: %s\r\n", asset->etag);
        return;
    }
#else
    (void)terms;
#endif
#if BMB_WITH_ACCESS
    if (terms->etag != NULL) {
        bmb_put_text(w, "\r\nCache-Control: no-cache\r\nETag: %s\r\n", terms->etag);
        return;
    }
#endif
    bmb_put_str(w, "\r\nCache-Control: no-store\r\n");
}

void bmb_http_head(bmb_writer *w, unsigned status, const char *type, size_t length, const bmb_http_terms *terms)
{
    bmb_put_text(w, "HTTP/1.1 %u %s", status, bmb_reason(BMB_REASON_HTTP, status));
    bool nothing = BMB_WITH_ACCESS && (status == 204 || status == 304);
    if (!nothing) bmb_put_text(w, "\r\nContent-Type: %s", type);
    if (nothing) {
        /* nothing follows, and nothing may say how much (RFC 9110 8.6) */
    } else if (length != SIZE_MAX) {
        bmb_put_text(w, "\r\nContent-Length: %u", (unsigned)length);
    } else if (!terms->old) {
        bmb_put_str(w, "\r\nTransfer-Encoding: chunked");
    }
    put_caching(w, terms);
    bmb_put_http_date(w, terms->wall_us);
    bmb_put_str(w, extra_of(status, terms));
#if BMB_WITH_ACCESS
    put_policy(w, type, terms);
#endif
    bmb_put_http_end(w, terms->keep_alive, terms->old);
}

static void put_address(bmb_writer *w, const char *name, const char *extension)
{
    if ((size_t)(w->end - w->at) < strlen(name) + strlen(extension) + 2) return;
    bmb_put_text(w, "/%s%s\n", name, extension);
}

/* The addresses of all feeds, a line each, as far as there is room. */
static void put_addresses(bmb_writer *w, const bmb_config *config, uint64_t removed)
{
    bmb_put_str(w, "There are:\n");
    const bmb_format *format;
    for (size_t i = 0; i < config->feed_count; i++)
        for (size_t k = 0; (format = bmb_format_row(k)) != NULL; k++)
            if ((removed >> i & 1) == 0 && bmb_format_over_http(format, config->feeds[i].mode.codec))
                put_address(w, config->feeds[i].name, format->info.suffix);
}

void bmb_http_error(bmb_writer *w, unsigned status, const bmb_http_terms *terms, const bmb_config *config,
                    uint64_t removed, bool rtsp)
{
    status = told(status);
    /* The text is written first, since the head tells its length: behind the head's room, and moved up to it. */
    size_t room = (size_t)(w->end - w->at), head = ERROR_HEAD_MOST;
    if (bmb_http_extra(terms) != NULL) head += strlen(bmb_http_extra(terms));
    size_t most = room > head ? room - head : 0;
    uint8_t *text = w->at + (room - most);
    bmb_writer body = bmb_writer_of(text, most < ERROR_TEXT_MOST ? most : ERROR_TEXT_MOST);
    bmb_put_text(&body, "%u %s\n", status, bmb_reason(BMB_REASON_HTTP, status));
#if BMB_WITH_ACCESS || BMB_WITH_FOLLOWING
    if (terms->why != NULL) bmb_put_str(&body, terms->why);
#endif
    if (BMB_WITH_RTSP && status == 404 && config != NULL && rtsp) {
        bmb_put_str(&body, "Players find the feeds here, at rtsp:// with this host and port.\n");
        for (size_t i = 0; i < config->feed_count; i++)
            if ((removed >> i & 1) == 0) put_address(&body, config->feeds[i].name, "");
    } else if (status == 404 && config != NULL) {
        put_addresses(&body, config, removed);
    }
    size_t size = bmb_written(&body);
    bmb_http_head(w, status, "text/plain; charset=utf-8", size, terms);
    if (terms->head_only || w->failed) return;
    memmove(w->at, text, size);
    w->at += size;
}
