/* SPDX-License-Identifier: MIT */
/* What the parts of planning share while a plan is made. */
#ifndef EK_REBUILD_PLANNER_H
#define EK_REBUILD_PLANNER_H

#include "rebuild/plan.h"

/* What a partition is planned for. */
typedef struct {
    guint number;           /* of the volume; 0: it was asked for */
    const EkVolume *volume; /* NULL: it was asked for, and nothing was found of it */
    const char *filesystem;
    EkRange range;     /* of the partition it needs */
    gboolean is_exact; /* the user says so: no old table knows better */
    gboolean is_taken; /* nothing says so: it ends where it may at most */
} EkChosen;

typedef struct {
    const EkPlanInput *input;
    const EkPlanWishes *wishes;
    EkReader *reader; /* as read */
    EkByte bytes;
    guint32 sector_size; /* of the image */
    guint32 table_size;  /* of the sectors that the table counts in */
    EkPlan *plan;
    GArray *chosen; /* EkChosen in order of position */
    gboolean has_current;
    gboolean table_unread;
    guint dropped;   /* partitions that the scheme had no room for */
    EkTable current; /* that rules the drive */
    gboolean has_map;
    EkTable map; /* what is left of an Apple partition map */
} EkPlanner;

void ek_planner_warn(EkPlanner *planner, const char *format, ...) G_GNUC_PRINTF(2, 3);

/* Chooses the volumes of the layout (choose.c). */
gboolean ek_planner_choose(EkPlanner *planner, GError **error);

/* Chooses the scheme, and lays out and composes the table (layout.c). */
gboolean ek_planner_lay_out(EkPlanner *planner, GError **error);

/* Is this a FAT volume with the boot folder of EFI, beside other volumes? (efi.c) */
gboolean ek_planner_is_efi(const EkPlanner *planner, const EkChosen *chosen);

/* Slots, links and the extended partition of an MBR (chain.c). `table` has the partitions in order
 * of position, those whose slot is not known with the index G_MAXUINT. */
void ek_planner_chain(EkPlanner *planner, EkTable *table);

/* Warns of what lies outside of all partitions (gaps.c). */
void ek_planner_look_at_gaps(EkPlanner *planner);

/* Opens what is planned through the plan (through.c). */
void ek_planner_check(EkPlanner *planner);

/* Identifiers that must be made. */
void ek_planner_make_id(const EkPlanner *planner, const char *what, guint8 *id, gsize length);

/* Lays a composed part of a table into the plan: the edits for what differs. An EkTableSink. */
gboolean ek_planner_take_part(void *planner, const char *structure, EkByte first_byte,
                              const guint8 *after, gsize length, const char *what, GError **error);

#endif
