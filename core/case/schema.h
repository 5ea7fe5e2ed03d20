/* SPDX-License-Identifier: MIT */
/* The stores' schema, one text a version (docs/case-format.md). A published text never changes:
 * a new version is a further text. */
#ifndef EK_CASE_SCHEMA_H
#define EK_CASE_SCHEMA_H

#define EK_CASE_SCHEMA_VERSIONS 7
#define EK_MAP_SCHEMA_VERSIONS 3

/* The sums of the newest (ek_sql_schema_sum): what has them need not be compared. */
#define EK_CASE_SCHEMA_SUM "8aad5090fdfd672cff2f62f32f478ac7fe3b255adb9865569d113eeb9028b03c"
#define EK_MAP_SCHEMA_SUM "138270fcffa8901605dcfa13cf80bfdaf1517fb252d2c23f423cf9eac6e56772"

extern const char *const ek_case_schema[EK_CASE_SCHEMA_VERSIONS]; /* case.db */
extern const char *const ek_map_schema[EK_MAP_SCHEMA_VERSIONS];   /* map.db */

#endif
