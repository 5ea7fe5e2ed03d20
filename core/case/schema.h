/* SPDX-License-Identifier: MIT */
/* The stores' schema, one text a version (docs/case-format.md). A published text never changes:
 * a new version is a further text. */
#ifndef EK_CASE_SCHEMA_H
#define EK_CASE_SCHEMA_H

#define EK_CASE_SCHEMA_VERSIONS 8
#define EK_MAP_SCHEMA_VERSIONS 3

/* The sums of the newest (ek_sql_schema_sum): what has them need not be compared. */
#define EK_CASE_SCHEMA_SUM "10ba62dd87382d2d63d57ff4bc37abfbf1a2a05399f30cc37a20c27c8c38d06f"
#define EK_MAP_SCHEMA_SUM "138270fcffa8901605dcfa13cf80bfdaf1517fb252d2c23f423cf9eac6e56772"

extern const char *const ek_case_schema[EK_CASE_SCHEMA_VERSIONS]; /* case.db */
extern const char *const ek_map_schema[EK_MAP_SCHEMA_VERSIONS];   /* map.db */

#endif
