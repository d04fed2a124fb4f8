/* The page: documents for a browser that show the feeds, the figures and the settings of a device. They are compiled
 * in.
 *
 *     config.assets = bmb_pages;
 *     config.asset_count = bmb_page_count;
 *
 * Programs link bambino_pages. In firmware the array comes from the C file that cmake/embed.cmake makes of pages/.
 */
#ifndef BAMBINO_PAGES_H
#define BAMBINO_PAGES_H

#include "bambino/device.h"

#ifdef __cplusplus
extern "C" {
#endif

extern const bmb_asset bmb_pages[]; /* bmb_page_count of them; static, never changed */
extern const size_t bmb_page_count;

#ifdef __cplusplus
}
#endif
#endif
