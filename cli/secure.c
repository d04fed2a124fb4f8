/* Encrypted outlets and pushes: which there are, with which certificate, and its replacement while the device runs. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli.h"

#define LOOK_US                                                                                                        \
    2000000u /* between two looks at the owner's files, which are written one after the other, or at addresses */
#define PEM_MOST 32768u
#define ADDRESSES_MOST 16

struct cli_secure {
    bmb_tls tls;
    char certificate_path[2 * CLI_TEXT_MAX + 2], key_path[2 * CLI_TEXT_MAX + 2];
    struct stat stamp[2]; /* of the two, when they were read */
    uint64_t look_us;
    char *certificate, *key;
    const char *names[CLI_CERTIFICATE_NAMES];
    bmb_addr addresses[ADDRESSES_MOST];
    size_t name_count, address_count;
};

/* Which feeds a word or a list of their names means; false: there is no such feed. */
static bool feeds_named(const cli_device *d, const char *section, const char *list, uint64_t *out)
{
    char text[CLI_TEXT_MAX];
    const char *names[CLI_FEEDS_MOST];
    *out = 0;
    snprintf(text, sizeof text, "%s", list);
    for (size_t i = 0; i < d->file.feed_count; i++) names[i] = d->file.feeds[i].name;
    for (char *word = strtok(text, ", \t"); word != NULL; word = strtok(NULL, ", \t")) {
        size_t i = 0;
        while (i < d->file.feed_count && strcmp(names[i], word) != 0) i++;
        if (i == d->file.feed_count) {
            const char *near = cli_nearest(word, names, d->file.feed_count);
            cli_error("%s: [%s]: plain: all, redirect, off or names of feeds are expected, and there is no feed "
                      "\"%s\"%s%s%s",
                      d->file.path, section, word, near != NULL ? "; did you mean " : "", near != NULL ? near : "",
                      near != NULL ? "?" : "");
            return false;
        }
        *out |= 1ull << i;
    }
    return true;
}

/* The plain outlet and the encrypted one of HTTP or RTSP. */
static bool prepare_pair(cli_device *d, bmb_outlet_kind kind, const bmb_addr *plain, const bmb_addr *secure,
                         const char *what)
{
    bmb_config *c = &d->config;
    const char *section = kind == BMB_OUTLET_HTTP ? "http" : "rtsp";
    bool off = strcmp(what, "off") == 0, redirect = strcmp(what, "redirect") == 0;
    bool all = what[0] == '\0' || strcmp(what, "all") == 0;
    if (secure->family == 0 && !all) {
        cli_error("%s: [%s]: plain = %s is meant beside an encrypted port; add secure = yes", d->file.path, section,
                  what);
        return false;
    }
    if (plain->family != 0 && !off) {
        bmb_outlet_config *o = &d->outlets[c->outlet_count++];
        *o = (bmb_outlet_config){ .kind = kind, .listen = *plain };
        if (!all) o->elsewhere = (uint16_t)(c->outlet_count + 1); /* the next one */
        if (!all && !redirect && !feeds_named(d, section, what, &o->only)) return false;
    }
    if (secure->family != 0)
        d->outlets[c->outlet_count++] = (bmb_outlet_config){ .kind = kind, .listen = *secure, .secure = true };
    return true;
}

bool cli_prepare_web(cli_device *d)
{
    const cli_config *f = &d->file;
    return prepare_pair(d, BMB_OUTLET_HTTP, &f->http, &f->https, f->http_plain) &&
           prepare_pair(d, BMB_OUTLET_RTSP, &f->rtsp, &f->rtsps, f->rtsp_plain);
}

static bool is_wanted(const cli_device *d)
{
    for (size_t i = 0; i < d->config.outlet_count; i++)
        if (d->outlets[i].secure) return true;
    for (size_t i = 0; i < d->config.push_count; i++)
        if (d->pushes[i].secure) return true;
    return false;
}

/* A whole file as a text; NULL: it cannot be had, which is told. */
static char *read_text(const char *path, bool secret, struct stat *stamp)
{
    FILE *f = fopen(path, "r");
    char *text = malloc(PEM_MOST);
    size_t n = 0;
    if (f == NULL || text == NULL || fstat(fileno(f), stamp) != 0) {
        cli_error("%s cannot be read: %s", path, strerror(errno));
    } else if (secret && (stamp->st_mode & S_IROTH) != 0) {
        cli_error("%s is a key that everybody on this machine may read; say: chmod o-r %s", path, path);
    } else if ((n = fread(text, 1, PEM_MOST - 1, f)) == PEM_MOST - 1) {
        cli_error("%s is larger than %u bytes: that is no certificate or key", path, PEM_MOST - 1);
        n = 0;
    }
    if (f != NULL) fclose(f);
    if (text != NULL) text[n] = '\0';
    if (n > 0) return text;
    free(text);
    return NULL;
}

static void forget(char **text)
{
    if (*text != NULL) memset(*text, 0, strlen(*text));
    free(*text);
    *text = NULL;
}

static bool read_files(cli_secure *s)
{
    forget(&s->certificate);
    forget(&s->key);
    s->certificate = read_text(s->certificate_path, false, &s->stamp[0]);
    s->key = s->certificate != NULL ? read_text(s->key_path, true, &s->stamp[1]) : NULL;
    return s->key != NULL;
}

static size_t find_addresses(bmb_addr *out)
{
    const bmb_addr any = { .family = 6, .port = 1 }; /* which IPv4's belong to, too */
    return bmb_linux_reachable(&any, out, ADDRESSES_MOST);
}

/* Where it is named; or the service manager's copy of it. */
static void find_file(const cli_config *f, const char *name, const char *credential, char *out, size_t room)
{
    const char *folder = getenv("CREDENTIALS_DIRECTORY");
    snprintf(out, room, "%s/%s", folder != NULL ? folder : "", credential);
    if (folder == NULL || access(out, R_OK) != 0) cli_beside(f, name, out, room);
}

bool cli_secure_open(cli_device *d)
{
    const cli_config *f = &d->file;
    cli_secure_close(d);
    if (!is_wanted(d)) return true;
    if (!bmb_tls_there()) {
        cli_error("%s asks for encryption, and this program was built without TLS: fetch the library's sources with "
                  "scripts/sources build/sources, and build it again",
                  f->path);
        return false;
    }
    if ((f->certificate[0] == '\0') != (f->key[0] == '\0')) {
        cli_error("%s: [tls]: certificate and key go together; one of them is missing", f->path);
        return false;
    }
    cli_secure *s = d->secure = calloc(1, sizeof *s);
    if (s == NULL) return cli_error("there is not enough memory") == 0;
    if (f->certificate[0] != '\0') {
        find_file(f, f->certificate, CLI_CREDENTIAL_CERTIFICATE, s->certificate_path, sizeof s->certificate_path);
        find_file(f, f->key, CLI_CREDENTIAL_KEY, s->key_path, sizeof s->key_path);
        if (!read_files(s)) return false;
    }
    size_t names = 0;
    s->names[names++] = "localhost";
    for (size_t i = 0; i < d->config.name_count && names < CLI_CERTIFICATE_NAMES; i++) {
        size_t same = 0; /* a host may be called localhost, and a name may be given twice */
        while (same < names && strcasecmp(s->names[same], d->config.names[i]) != 0) same++;
        if (same == names) s->names[names++] = d->config.names[i];
    }
    s->name_count = names;
    s->address_count = find_addresses(s->addresses);
    d->under = d->port;
    const bmb_tls_config config = { .under = &d->under,
                                    .name = d->config.name,
                                    .names = s->names,
                                    .name_count = names,
                                    .addresses = s->addresses,
                                    .address_count = s->address_count,
                                    .certificate = s->certificate,
                                    .key = s->key };
    return bmb_tls_lay_over(&s->tls, &config, &d->port) == BMB_OK;
}

const char *cli_secure_trouble(const cli_device *d)
{
    return d->secure != NULL ? d->secure->tls.trouble : NULL;
}

static bool is_newer(const char *path, const struct stat *known)
{
    struct stat now;
    return stat(path, &now) == 0 && (now.st_ino != known->st_ino || now.st_mtim.tv_sec != known->st_mtim.tv_sec ||
                                     now.st_mtim.tv_nsec != known->st_mtim.tv_nsec);
}

static void say_replaced(const cli_secure *s)
{
    cli_say("The certificate was replaced; SHA-256 of the new one:\n  %s", s->tls.fingerprint);
}

/* Two files cannot be replaced at once: where they do not go together yet, the next change is waited for. */
static void look_at_files(cli_secure *s)
{
    bool changed = is_newer(s->certificate_path, &s->stamp[0]) || is_newer(s->key_path, &s->stamp[1]);
    if (!changed || !read_files(s)) return;
    if (bmb_tls_use(&s->tls, s->certificate, s->key) == BMB_OK) {
        say_replaced(s);
    } else {
        cli_error("%s: %s; the former one is still used", s->certificate_path, s->tls.trouble);
    }
}

/* The device's own certificate names the addresses that it has now. */
static void look_at_addresses(cli_secure *s)
{
    bmb_addr now[ADDRESSES_MOST];
    char former[BMB_FINGERPRINT_SIZE];
    size_t count = find_addresses(now);
    if (count == s->address_count && memcmp(now, s->addresses, count * sizeof now[0]) == 0) return;
    memcpy(s->addresses, now, count * sizeof now[0]);
    s->address_count = count;
    memcpy(former, s->tls.fingerprint, sizeof former);
    bmb_err err = bmb_tls_names_change(&s->tls, s->names, s->name_count, s->addresses, s->address_count);
    if (err != BMB_OK) cli_error("TLS: %s", s->tls.trouble != NULL ? s->tls.trouble : bmb_err_text(err));
    if (strcmp(former, s->tls.fingerprint) == 0) return;
    cli_say("This machine has another address.");
    say_replaced(s);
}

uint64_t cli_secure_tend(cli_device *d, uint64_t next)
{
    cli_secure *s = d->secure;
    if (s == NULL) return next;
    uint64_t now = d->port.now_us(d->port.ctx);
    if (now >= s->look_us) {
        s->look_us = now + LOOK_US;
        if (s->key_path[0] != '\0') {
            look_at_files(s);
        } else {
            look_at_addresses(s);
        }
    }
    return next < s->look_us ? next : s->look_us;
}

void cli_secure_say(const cli_device *d)
{
    if (d->secure == NULL) return;
    cli_say("Certificate, SHA-256, to compare with what a browser or player shows:\n  %s", d->secure->tls.fingerprint);
    if (d->secure->tls.trouble != NULL) cli_error("TLS: %s", d->secure->tls.trouble);
}

void cli_secure_close(cli_device *d)
{
    if (d->secure == NULL) return;
    if (d->under.now_us != NULL) d->port = d->under;
    memset(&d->under, 0, sizeof d->under);
    forget(&d->secure->certificate);
    forget(&d->secure->key);
    free(d->secure);
    d->secure = NULL;
}
