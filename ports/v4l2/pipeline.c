#include "v4l2/pipeline.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#define DEVICES_MOST 16u /* /dev/media0 and so on */
#define CHAIN_MOST 8u    /* entities between a sensor and memory; boards have three to six */
#define THINGS_MOST 4096u
#define LINK_TYPE 0xF0000000u /* MEDIA_LNK_FL_LINK_TYPE, which shifts into the sign of an int */

static const struct media_v2_pad *pad_of(const v4l2_graph *g, uint32_t id)
{
    for (uint32_t i = 0; i < g->pad_count; i++)
        if (g->pads[i].id == id) return &g->pads[i];
    return NULL;
}

static const struct media_v2_entity *entity_of(const v4l2_graph *g, uint32_t id)
{
    for (uint32_t i = 0; i < g->entity_count; i++)
        if (g->entities[i].id == id) return &g->entities[i];
    return NULL;
}

static bool is_kind(const struct media_v2_link *l, uint32_t kind)
{
    return (l->flags & LINK_TYPE) == kind;
}

/* The entity of an interface: a node in /dev. */
static uint32_t entity_behind(const v4l2_graph *g, uint32_t interface)
{
    for (uint32_t i = 0; i < g->link_count; i++)
        if (is_kind(&g->links[i], MEDIA_LNK_FL_INTERFACE_LINK) && g->links[i].source_id == interface)
            return g->links[i].sink_id;
    return 0;
}

static uint32_t entity_of_node(const v4l2_graph *g, uint32_t major, uint32_t minor)
{
    for (uint32_t i = 0; i < g->interface_count; i++) {
        const struct media_v2_interface *in = &g->interfaces[i];
        if (in->intf_type == MEDIA_INTF_T_V4L_VIDEO && in->devnode.major == major && in->devnode.minor == minor)
            return entity_behind(g, in->id);
    }
    return 0;
}

/* Has it a node of its own, by which a program sets it? */
static bool is_set_up(const v4l2_graph *g, uint32_t entity)
{
    for (uint32_t i = 0; i < g->interface_count; i++)
        if (g->interfaces[i].intf_type == MEDIA_INTF_T_V4L_SUBDEV && entity_behind(g, g->interfaces[i].id) == entity)
            return true;
    return false;
}

/* What feeds an entity: along a link that is on, else along any. 0: nothing does. */
static uint32_t before(const v4l2_graph *g, uint32_t entity)
{
    uint32_t found = 0;
    for (uint32_t i = 0; i < g->link_count; i++) {
        const struct media_v2_link *l = &g->links[i];
        if (!is_kind(l, MEDIA_LNK_FL_DATA_LINK)) continue;
        const struct media_v2_pad *sink = pad_of(g, l->sink_id), *source = pad_of(g, l->source_id);
        if (sink == NULL || source == NULL || sink->entity_id != entity) continue;
        if (found == 0 || (l->flags & MEDIA_LNK_FL_ENABLED) != 0) found = source->entity_id;
        if ((l->flags & MEDIA_LNK_FL_ENABLED) != 0) break;
    }
    return found;
}

bool v4l2_pipeline_of(const v4l2_graph *g, uint32_t major, uint32_t minor, char *out, size_t room)
{
    uint32_t chain[CHAIN_MOST], count = 0;
    bool any = false;
    out[0] = '\0';
    for (uint32_t at = entity_of_node(g, major, minor); at != 0 && count < CHAIN_MOST; at = before(g, at)) {
        if (count > 0) any = any || is_set_up(g, at);
        chain[count++] = at;
    }
    if (!any) return false;
    for (size_t used = 0; count-- > 0;) {
        const struct media_v2_entity *e = entity_of(g, chain[count]);
        if (e == NULL) continue;
        int n = snprintf(out + used, room - used, "%s%.*s", used > 0 ? ", " : "", (int)sizeof e->name, e->name);
        if (n < 0 || (size_t)n >= room - used) break;
        used += (size_t)n;
    }
    return true;
}

/* Two calls: how many there are, and what they are. NULL: no memory, or it says nothing. */
static void *read_topology(int fd, v4l2_graph *g)
{
    struct media_v2_topology t = { 0 };
    if (ioctl(fd, MEDIA_IOC_G_TOPOLOGY, &t) < 0 || t.num_entities > THINGS_MOST || t.num_interfaces > THINGS_MOST ||
        t.num_pads > THINGS_MOST || t.num_links > THINGS_MOST)
        return NULL;
    size_t entities = t.num_entities * sizeof(struct media_v2_entity);
    size_t interfaces = t.num_interfaces * sizeof(struct media_v2_interface);
    size_t pads = t.num_pads * sizeof(struct media_v2_pad), links = t.num_links * sizeof(struct media_v2_link);
    char *all = calloc(1, entities + interfaces + pads + links + 1);
    if (all == NULL) return NULL;
    t.ptr_entities = (uintptr_t)all;
    t.ptr_interfaces = (uintptr_t)(all + entities);
    t.ptr_pads = (uintptr_t)(all + entities + interfaces);
    t.ptr_links = (uintptr_t)(all + entities + interfaces + pads);
    if (ioctl(fd, MEDIA_IOC_G_TOPOLOGY, &t) < 0) {
        free(all);
        return NULL;
    }
    *g = (v4l2_graph){ .entities = (void *)(uintptr_t)t.ptr_entities,
                       .interfaces = (void *)(uintptr_t)t.ptr_interfaces,
                       .pads = (void *)(uintptr_t)t.ptr_pads,
                       .links = (void *)(uintptr_t)t.ptr_links,
                       .entity_count = t.num_entities,
                       .interface_count = t.num_interfaces,
                       .pad_count = t.num_pads,
                       .link_count = t.num_links };
    return all;
}

bool v4l2_pipeline_find(uint32_t major, uint32_t minor, char *out, size_t room)
{
    bool found = false;
    for (unsigned i = 0; !found && i < DEVICES_MOST; i++) {
        char path[32];
        v4l2_graph g;
        snprintf(path, sizeof path, "/dev/media%u", i);
        int fd = open(path, O_RDWR | O_CLOEXEC);
        if (fd < 0) continue;
        void *all = read_topology(fd, &g);
        found = all != NULL && v4l2_pipeline_of(&g, major, minor, out, room);
        free(all);
        close(fd);
    }
    return found;
}
