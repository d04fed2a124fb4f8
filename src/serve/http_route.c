#include "serve/http_route.h"

#include <string.h>

typedef struct status_row {
    uint16_t status;
    const char *phrase;
    const char *extra; /* headers that go with it */
} status_row;

static const status_row statuses[] = {
    { 200, "OK", "" },
    { 400, "Bad Request", "" },
    { 404, "Not Found", "" },
    { 405, "Method Not Allowed", "Allow: GET, HEAD\r\n" },
    { 408, "Request Timeout", "" },
    { 409, "Conflict", "Retry-After: 5\r\n" },
    { 413, "Content Too Large", "" },
    { 414, "URI Too Long", "" },
    { 431, "Request Header Fields Too Large", "" },
    { 503, "Service Unavailable", "Retry-After: 5\r\n" },
    { 505, "HTTP Version Not Supported", "" },
};

static const status_row *status_of(unsigned status)
{
    for (size_t i = 0; i < sizeof statuses / sizeof statuses[0]; i++)
        if (statuses[i].status == status) return &statuses[i];
    return &statuses[1];
}

static bmb_route error_route(uint16_t status)
{
    return (bmb_route){ .kind = BMB_ROUTE_ERROR, .status = status };
}

/* path is "/NAME.EXT" without its NUL. */
static bool find_feed(const bmb_config *config, const char *path, size_t size, const char *extension, uint16_t *feed)
{
    size_t tail = strlen(extension);
    if (size < tail + 2 || memcmp(path + size - tail, extension, tail) != 0) return false;
    for (size_t i = 0; i < config->feed_count; i++) {
        if (!bmb_same(path + 1, size - tail - 1, config->feeds[i].name)) continue;
        *feed = (uint16_t)i;
        return true;
    }
    return false;
}

/* "/NAME-WIDTHxHEIGHT.jpg" */
static bool find_still(const bmb_config *config, const char *path, size_t size, bmb_route *out)
{
    uint32_t width, height;
    size_t end = size, cross = 0, dash = 0;
    if (size < 10 || memcmp(path + size - 4, ".jpg", 4) != 0) return false;
    end -= 4;
    for (size_t i = 1; i < end; i++) {
        if (path[i] == 'x') cross = i;
        if (path[i] == '-') dash = i;
    }
    if (dash < 2 || cross <= dash || !bmb_read_dec(path + dash + 1, cross - dash - 1, 8192, &width) ||
        !bmb_read_dec(path + cross + 1, end - cross - 1, 8192, &height))
        return false;
    for (size_t i = 0; i < config->feed_count; i++) {
        if (!bmb_same(path + 1, dash - 1, config->feeds[i].name) || config->feeds[i].mode.codec != BMB_CODEC_JPEG)
            continue;
        *out = (bmb_route){
            .kind = BMB_ROUTE_STILL, .feed = (uint16_t)i, .width = (uint16_t)width, .height = (uint16_t)height
        };
        return true;
    }
    return false;
}

bmb_route bmb_http_route(const bmb_config *config, const bmb_http_parse *request)
{
    if (request->error != 0) return error_route(request->error);
    if (request->method == BMB_HTTP_OTHER) return error_route(405);
    const char *path = request->path;
    size_t size = request->path_size;
    if (size == 0 || path[0] != '/' || size == BMB_HTTP_PATH_MAX) return error_route(404);

    if (bmb_same(path, size, "/status.json")) return (bmb_route){ .kind = BMB_ROUTE_STATUS };
    for (size_t i = 0; i < config->asset_count; i++)
        if (bmb_same(path, size, config->assets[i].path))
            return (bmb_route){ .kind = BMB_ROUTE_ASSET, .asset = &config->assets[i] };

    uint16_t feed;
    for (size_t i = 0; i < bmb_format_count; i++) {
        const bmb_format *format = &bmb_formats[i];
        if (find_feed(config, path, size, format->extension, &feed) && config->feeds[feed].mode.codec == format->codec)
            return (bmb_route){ .kind = BMB_ROUTE_FEED, .feed = feed, .format = format };
    }
    bmb_route still;
    if (find_still(config, path, size, &still)) return still;
    if (find_feed(config, path, size, ".sdp", &feed) && config->feeds[feed].multicast.group.family != 0)
        return (bmb_route){ .kind = BMB_ROUTE_SDP, .feed = feed };
    return error_route(404);
}

void bmb_http_head(bmb_writer *w, unsigned status, const char *type, size_t length, bool keep_alive, bool old)
{
    const status_row *row = status_of(status);
    bmb_put_str(w, "HTTP/1.1 ");
    bmb_put_dec(w, row->status);
    bmb_put_u8(w, ' ');
    bmb_put_str(w, row->phrase);
    bmb_put_str(w, "\r\nContent-Type: ");
    bmb_put_str(w, type);
    if (length != SIZE_MAX) {
        bmb_put_str(w, "\r\nContent-Length: ");
        bmb_put_dec(w, length);
    } else if (!old) {
        bmb_put_str(w, "\r\nTransfer-Encoding: chunked");
    }
    bmb_put_str(w, "\r\nCache-Control: no-store\r\n");
    bmb_put_str(w, row->extra);
    bmb_put_str(w, keep_alive ? "\r\n" : "Connection: close\r\n\r\n");
}

void bmb_http_error(bmb_writer *w, unsigned status, bool keep_alive, bool head_only)
{
    const status_row *row = status_of(status);
    size_t length = 3 + 1 + strlen(row->phrase) + 1;
    bmb_http_head(w, status, "text/plain; charset=utf-8", length, keep_alive, false);
    if (head_only) return;
    bmb_put_dec(w, row->status);
    bmb_put_u8(w, ' ');
    bmb_put_str(w, row->phrase);
    bmb_put_u8(w, '\n');
}
