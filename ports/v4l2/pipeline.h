/* Is a video node a part of a sensor pipeline that a program has to set up, by the media controller, before it captures
 * anything? Private to ports/.
 */
#ifndef BMB_V4L2_PIPELINE_H
#define BMB_V4L2_PIPELINE_H

#include <linux/media.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* What the kernel tells of a media device (MEDIA_IOC_G_TOPOLOGY). */
typedef struct v4l2_graph {
    const struct media_v2_entity *entities;
    const struct media_v2_interface *interfaces;
    const struct media_v2_pad *pads;
    const struct media_v2_link *links;
    uint32_t entity_count, interface_count, pad_count, link_count;
} v4l2_graph;

/* How a node gets its pictures, from the sensor on, for people: "Sensor A, Debayer A, Raw Capture 0". false: the node
 * is not in this graph, or nothing stands before it that has a node of its own to be set (a USB camera's units have
 * none). */
bool v4l2_pipeline_of(const v4l2_graph *graph, uint32_t major, uint32_t minor, char *out, size_t room);
/* The same for a video node of this machine: looks through its media devices. */
bool v4l2_pipeline_find(uint32_t major, uint32_t minor, char *out, size_t room);

#endif
