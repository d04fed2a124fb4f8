/* The version of the library that these headers belong to. */
#ifndef BAMBINO_VERSION_H
#define BAMBINO_VERSION_H

#define BMB_VERSION "0.1.0"

#endif
