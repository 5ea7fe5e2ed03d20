/* SPDX-License-Identifier: MIT */
/* The stores' schema, one text a version (docs/case-format.md). A published text never changes:
 * a new version is a further text. */
#ifndef EK_CASE_SCHEMA_H
#define EK_CASE_SCHEMA_H

#define EK_CASE_SCHEMA_VERSIONS 5
#define EK_MAP_SCHEMA_VERSIONS 3

extern const char *const ek_case_schema[EK_CASE_SCHEMA_VERSIONS]; /* case.db */
extern const char *const ek_map_schema[EK_MAP_SCHEMA_VERSIONS];   /* map.db */

#endif
