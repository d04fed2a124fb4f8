/* Announcing in the network what this device serves: DNS-SD (RFC 6763) by the machine's Avahi daemon, so that players
 * and browsers list it. Calls of that library wait for the daemon, which may hang: a thread of its own makes them, once
 * there is something to announce, and stays until the process ends. The daemon then says by itself that the services
 * are gone. */
#include "announce.h"

#include <avahi-client/client.h>
#include <avahi-client/publish.h>
#include <avahi-common/alternative.h>
#include <avahi-common/domain.h>
#include <avahi-common/error.h>
#include <avahi-common/malloc.h>
#include <avahi-common/simple-watch.h>
#include <pthread.h>
#include <signal.h>
#include <string.h>

#define AGAIN_MS 10000 /* until the next try, where there is no D-Bus */
#define RENAMES_MOST 50u

static struct {
    pthread_mutex_t lock;
    cli_announcement wanted; /* under the lock, as are: */
    unsigned version;
    char said[200];
    bool news, is_trouble;
    AvahiSimplePoll *poll; /* from here on the thread's, but for being woken */
    AvahiClient *client;
    AvahiEntryGroup *group;
    cli_announcement done;
    unsigned done_version;
    char name[AVAHI_LABEL_MAX]; /* of the device, as the network leaves it to us */
    unsigned renames;
    bool lost, taken;
} here = { .lock = PTHREAD_MUTEX_INITIALIZER };

bool cli_announce_there(void)
{
    return true;
}

static void tell(bool trouble, const char *format, const char *a, const char *b)
{
    pthread_mutex_lock(&here.lock);
    char text[sizeof here.said];
    snprintf(text, sizeof text, format, a, b);
    if (strcmp(text, here.said) != 0) {
        memcpy(here.said, text, sizeof text);
        here.is_trouble = trouble;
        here.news = true;
    }
    pthread_mutex_unlock(&here.lock);
}

bool cli_announce_news(char *text, size_t room, bool *trouble)
{
    pthread_mutex_lock(&here.lock);
    bool news = here.news;
    here.news = false;
    snprintf(text, room, "%s", here.said);
    *trouble = here.is_trouble;
    pthread_mutex_unlock(&here.lock);
    return news;
}

/* "DEVICE", or "DEVICE: FEED", cut where a character ends: a label has 63 bytes. */
static void label_of(const cli_announced *s, char *out)
{
    char text[2 * AVAHI_LABEL_MAX];
    snprintf(text, sizeof text, "%s%s%s", here.name, s->title[0] != '\0' ? ": " : "", s->title);
    size_t n = strlen(text);
    if (n > AVAHI_LABEL_MAX - 1) n = AVAHI_LABEL_MAX - 1;
    while (n > 0 && (text[n] & 0xC0) == 0x80) n--;
    memcpy(out, text, n);
    out[n] = '\0';
}

static int add_all(void)
{
    int err = 0;
    for (size_t i = 0; i < here.done.count && err >= 0; i++) {
        const cli_announced *s = &here.done.service[i];
        char label[AVAHI_LABEL_MAX], path[sizeof s->path + 8];
        label_of(s, label);
        snprintf(path, sizeof path, "path=%s", s->path);
        err = avahi_entry_group_add_service(here.group, s->interface > 0 ? s->interface : AVAHI_IF_UNSPEC,
                                            s->ipv4 ? AVAHI_PROTO_INET : AVAHI_PROTO_UNSPEC, 0, label, s->type, NULL,
                                            NULL, s->port, path, NULL);
    }
    return err < 0 ? err : avahi_entry_group_commit(here.group);
}

/* Somebody else has the name. false: it was so too often. */
static bool another_name(void)
{
    if (++here.renames > RENAMES_MOST) return false;
    char *next = avahi_alternative_service_name(here.name);
    if (next == NULL) return false;
    snprintf(here.name, sizeof here.name, "%s", next);
    avahi_free(next);
    return true;
}

static void on_group(AvahiEntryGroup *group, AvahiEntryGroupState state, void *ctx)
{
    (void)ctx;
    if (state == AVAHI_ENTRY_GROUP_ESTABLISHED)
        tell(false, "announced in the network as \"%s\", by the host name %s", here.name,
             avahi_client_get_host_name_fqdn(here.client));
    if (state == AVAHI_ENTRY_GROUP_COLLISION) here.taken = true;
    if (state == AVAHI_ENTRY_GROUP_FAILURE)
        tell(true, "announcing failed: %s%s", avahi_strerror(avahi_client_errno(avahi_entry_group_get_client(group))),
             "");
}

static void publish(void)
{
    int err = 0;
    here.taken = false;
    if (here.client == NULL || avahi_client_get_state(here.client) != AVAHI_CLIENT_S_RUNNING) return;
    if (here.group == NULL) here.group = avahi_entry_group_new(here.client, on_group, NULL);
    if (here.group == NULL) return;
    do {
        err = avahi_entry_group_reset(here.group);
        if (err >= 0 && here.done.count > 0) err = add_all();
    } while (err == AVAHI_ERR_COLLISION && another_name());
    if (err >= 0 && here.done.count == 0) tell(false, "nothing is announced any more%s%s", "", "");
    if (err < 0) tell(true, "announcing \"%s\" failed: %s", here.name, avahi_strerror(err));
}

static void on_client(AvahiClient *client, AvahiClientState state, void *ctx)
{
    (void)ctx;
    here.client = client;                                   /* it may call before it is returned */
    if (state == AVAHI_CLIENT_S_RUNNING) here.taken = true; /* published from the loop */
    if (state == AVAHI_CLIENT_FAILURE) here.lost = true;
    if (state == AVAHI_CLIENT_CONNECTING)
        tell(true, "announcing waits for the Avahi daemon, which does not run (package avahi-daemon)%s%s", "", "");
}

static void reconnect(void)
{
    int err = 0;
    /* It may be back at once: CONNECTING, which tells, is skipped then. */
    if (here.lost) tell(true, "announcing waits for the Avahi daemon, which ended or lost us%s%s", "", "");
    if (here.client != NULL) avahi_client_free(here.client); /* with its group */
    here.client = NULL;
    here.group = NULL;
    here.lost = false;
    here.client = avahi_client_new(avahi_simple_poll_get(here.poll), AVAHI_CLIENT_NO_FAIL, on_client, NULL, &err);
    if (here.client == NULL)
        tell(true, "nothing is announced: the Avahi daemon cannot be asked: %s%s", avahi_strerror(err), "");
}

/* What is wanted now; true: it is another than before. */
static bool take_over(void)
{
    pthread_mutex_lock(&here.lock);
    bool other = here.version != here.done_version;
    if (other && strcmp(here.done.device, here.wanted.device) != 0) {
        snprintf(here.name, sizeof here.name, "%s", here.wanted.device);
        here.renames = 0;
    }
    here.done = here.wanted;
    here.done_version = here.version;
    pthread_mutex_unlock(&here.lock);
    return other;
}

static void *work(void *ctx)
{
    (void)ctx;
    for (;;) {
        bool other = take_over();
        if (here.client == NULL || here.lost) reconnect();
        bool collided =
            here.taken && here.group != NULL && avahi_entry_group_get_state(here.group) == AVAHI_ENTRY_GROUP_COLLISION;
        if (collided && !another_name()) {
            here.taken = false; /* somebody means it: no more */
            tell(true, "nothing is announced: \"%s\", too, is somebody else's%s", here.name, "");
        }
        if (other || here.taken) publish();
        (void)avahi_simple_poll_iterate(here.poll, here.client == NULL ? AGAIN_MS : -1);
    }
    return NULL;
}

void cli_announce(const cli_announcement *wanted)
{
    pthread_mutex_lock(&here.lock);
    bool other = memcmp(&here.wanted, wanted, sizeof *wanted) != 0;
    if (other) {
        here.wanted = *wanted;
        here.version++;
    }
    pthread_mutex_unlock(&here.lock);
    if (!other) return;
    if (here.poll == NULL && wanted->count == 0) return;
    if (here.poll != NULL) {
        avahi_simple_poll_wakeup(here.poll);
        return;
    }
    here.poll = avahi_simple_poll_new();
    pthread_t thread;
    sigset_t all, before;
    sigfillset(&all);
    pthread_sigmask(SIG_BLOCK, &all, &before); /* signals are the loop's */
    if (here.poll == NULL || pthread_create(&thread, NULL, work, NULL) != 0)
        tell(true, "nothing is announced: there is not enough memory%s%s", "", "");
    pthread_sigmask(SIG_SETMASK, &before, NULL);
}
