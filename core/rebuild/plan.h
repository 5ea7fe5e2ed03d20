/* SPDX-License-Identifier: MIT */
/* The plan: the partition table and the repairs that are proposed, as a list of edits. */
#ifndef EK_REBUILD_PLAN_H
#define EK_REBUILD_PLAN_H

#include "image/imagereader.h"
#include "table/table.h"
#include "volume/standing.h"
#include "volume/volume.h"

/* What opening a planned volume through the plan gave. */
typedef enum {
    EK_PLAN_FAILS,     /* it does not open */
    EK_PLAN_OPENS,     /* its root folder and its files were read */
    EK_PLAN_NOT_OPENED /* its header stands; this version does not read its files */
} EkPlanOpens;

/* "opens" … */
const char *ek_plan_opens_name(EkPlanOpens opens);

/* What a planned volume holds, as far as it was counted; all 0 where it does not open. */
typedef struct {
    guint64 files;
    guint64 damaged; /* of these: bytes of them are missing */
    guint64 folders;
    gboolean is_cut; /* there are more */
    guint matching;  /* files of the sample that begin as their names say */
    guint sampled;
} EkPlanContents;

typedef struct {
    EkTableEntry entry;
    guint volume; /* its number; 0: none, kept from the old table or asked for */
    char *label;  /* of that volume; NULL: none */
    EkPlanContents contents;
    char *note;  /* where it comes from, in words */
    char *now;   /* what the table that stands there says of it, in words */
    char *check; /* what opening it through the plan gave, in words; "" when it holds no volume */
    EkPlanOpens opens;
} EkPlanPartition;

typedef struct {
    guint volume;
    char *what;
    char *from;
} EkPlanRepair;

/* Another layout that could be planned: that in which a volume stands which was left out. */
typedef struct {
    guint volume; /* to --keep */
    char *text;   /* what helps to choose */
} EkPlanAlternative;

/* Bytes at a place, before and after. */
typedef struct {
    char *structure; /* what the bytes are part of: "mbr", "ntfs-boot", "fat-boot" */
    EkByte first_byte;
    gsize length;
    guint8 *before;
    guint8 *after;
    char *why;
} EkEdit;

EkEdit *ek_edit_new(const char *structure, EkByte first_byte, const guint8 *before,
                    const guint8 *after, gsize length, const char *why);
void ek_edit_free(EkEdit *edit);

typedef struct {
    EkScheme scheme;         /* none where no table is planned */
    EkScheme current_scheme; /* of the current partition table */
    guint32 table_sectors;   /* bytes of the sectors that the drive is planned to be shown with */
    GArray *current;         /* EkTableEntry: its partitions, in order of slot */
    GPtrArray *partitions;   /* EkPlanPartition* in order of slot */
    GPtrArray *repairs;      /* EkPlanRepair* */
    GPtrArray *edits;        /* EkEdit*, apart from one another, in order of position */
    GPtrArray *alternatives; /* EkPlanAlternative* */
    GPtrArray *warnings;     /* char* */
    guint layers;            /* layouts of different age that could be planned: 1 or more */
    gboolean opens;          /* there is no planned volume that does not open through the plan */
} EkPlan;

EkPlan *ek_plan_new(void);
void ek_plan_free(EkPlan *plan);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkPlan, ek_plan_free)

/* A volume that may be planned for. */
typedef struct {
    guint number;
    const EkVolume *volume;
    EkStanding standing;
} EkPlanVolume;

/* A partition that only the user knows of. */
typedef struct {
    char *filesystem;
    EkRange range;
} EkPlanAdded;

/* A volume whose partition shall have this length. */
typedef struct {
    guint volume;
    EkByte bytes;
} EkPlanResized;

/* What the user wants otherwise than it would be planned. */
typedef struct {
    GArray *keep;          /* guint: volumes that shall be in it */
    GArray *drop;          /* guint: volumes that shall not */
    GPtrArray *added;      /* EkPlanAdded* */
    GArray *resized;       /* EkPlanResized */
    EkScheme scheme;       /* unknown: by evidence */
    guint layer;           /* from 1, the newest; 0: no matter */
    guint32 table_sectors; /* bytes of the sectors the table counts in; 0: those of the image */
} EkPlanWishes;

EkPlanWishes *ek_plan_wishes_new(void);
void ek_plan_wishes_free(EkPlanWishes *wishes);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkPlanWishes, ek_plan_wishes_free)

typedef struct {
    EkImageReaderParts parts; /* of the reader; `repairs` is not looked at */
    const char *case_id;      /* identifiers that must be made derive from it */
    const EkPlanVolume *volumes;
    gsize volume_count;
    const GPtrArray *tables;    /* EkTable*: all that were found; NULL: none */
    const EkPlanWishes *wishes; /* NULL: none */
} EkPlanInput;

/* Makes the plan, lays it over the image and opens every planned volume through it.
 * EK_ERROR_ABSENT and EK_ERROR_UNSUPPORTED for wishes that cannot be had. */
EkPlan *ek_plan_make(const EkPlanInput *input, GError **error);

/* Puts edits (EkEdit*) in order of position. */
void ek_edits_sort(GPtrArray *edits);

/* The fields of a structure, by the name that edits give it; none where it has no known ones.
 * EkField*, the caller unrefs. */
GPtrArray *ek_structure_fields(const char *structure, EkSpan span, guint32 sector_size);

/* The edits as an overlay. The caller frees. */
EkOverlay *ek_plan_overlay(const GPtrArray *edits);

/* The fields an edit touches: EkField* with offsets from the edit's first byte, in order, the
 * meaning of `after` or, for `before`, of what stands there now. The caller unrefs. */
GPtrArray *ek_edit_fields(const EkEdit *edit, guint32 sector_size, gboolean after);

#endif
