/* SPDX-License-Identifier: MIT */
/* The file table of an NTFS volume, and the fragments that any attribute lies in. */
#ifndef EK_VOLUME_NTFS_TABLE_H
#define EK_VOLUME_NTFS_TABLE_H

#include "volume/ntfs/record.h"

/* A run of clusters with its place in what it is a run of. */
typedef struct {
    guint64 at; /* clusters from the beginning */
    guint64 clusters;
    guint64 first; /* of the volume, or EK_NTFS_HOLE */
} EkNtfsFragment;

typedef struct EkNtfsFurther EkNtfsFurther;

typedef struct {
    EkReader *reader;
    EkNtfsBoot boot;
    EkByte first_byte; /* of the volume */
    GArray *fragments; /* EkNtfsFragment: of the table */
    guint64 records;
    guint64 written; /* of them, as far as its first record tells: what stands behind is older */
    EkNtfsFurther *further;
    EkTimestamp made;    /* where that is so: when the volume was formatted, as far as is known */
    gboolean is_guessed; /* its first record, which says where it lies, was not read anywhere */
    gboolean
        is_earlier; /* its first records are gone for good: others stand there, and in the mirror */
    gboolean is_unproved; /* where its clusters lie is not known: records alone are certain */
    GArray *indexes;      /* EkByte: blocks of indexes that a hunt saw; NULL: no matter */
    GArray *only; /* EkRange, by place: where its records stand; NULL: all of the fragments */
} EkNtfsTable;

typedef enum {
    EK_NTFS_FOUND,
    EK_NTFS_EMPTY,  /* nothing was ever there */
    EK_NTFS_BROKEN, /* something that is no record, or another one */
    EK_NTFS_UNREAD
} EkNtfsFound;

/* FALSE when the kept boot sector is none. */
gboolean ek_ntfs_table_open(EkNtfsTable *table, EkReader *reader, const EkVolume *volume);
void ek_ntfs_table_close(EkNtfsTable *table);

/* The size of the clusters that the attributes of a record count; 0: none of them tells. */
guint32 ek_ntfs_clusters_of(EkSpan record);

/* Was a record, which was fixed up, last changed before the volume was formatted, or does it count
 * clusters of another size? Then it is one of another, that was there before. Only where the table
 * is guessed, and of an earlier volume by its clusters alone (traces.c). */
gboolean ek_ntfs_table_is_older(const EkNtfsTable *table, EkSpan record);

/* Without its first record: what lies in one fragment from where the boot sector says, as far as
 * its records say their numbers (traces.c). */
void ek_ntfs_table_guess(EkNtfsTable *table);

/* Is it not known where all of it lies? Then runs of records that were seen (EkRecordRun) can be
 * added. */
gboolean ek_ntfs_table_lacks(const EkNtfsTable *table);
void ek_ntfs_table_adopt(EkNtfsTable *table, const GArray *runs);

/* Appends where its records and their mirror stand (EkRange; earlier.c). */
void ek_ntfs_table_ranges(const EkNtfsTable *table, GArray *ranges);

/* The first record at `number` or behind it that lies somewhere; the number of all when none does.
 */
guint64 ek_ntfs_table_next(const EkNtfsTable *table, guint64 number);

/* Reads a record and undoes its update sequence; the first ones from the mirror where need be. */
EkNtfsFound ek_ntfs_table_read(const EkNtfsTable *table, guint64 number, guint8 *record);

/* Reads a record, of which the end is missing, as far as it is right; *is_torn: it was all read,
 * and is of two times. FALSE when not even its beginning is. */
gboolean ek_ntfs_table_read_part(const EkNtfsTable *table, guint64 number, guint8 *record,
                                 gboolean *is_torn);

/* As ek_ntfs_table_read, of a record that was read already, or could not be. */
EkNtfsFound ek_ntfs_table_take(const EkNtfsTable *table, guint64 number, guint8 *record,
                               gboolean was_read);

/* The fragment that holds a cluster of what lies in `fragments`; NULL: none does. */
const EkNtfsFragment *ek_ntfs_fragment_at(const GArray *fragments, guint64 cluster);

/* Where a record, or a cluster of the volume, begins in the image. EK_UNPLACED: nowhere. */
EkByte ek_ntfs_record_place(const EkNtfsTable *table, guint64 number);
EkByte ek_ntfs_place(const EkNtfsTable *table, guint64 cluster);

/* Adds the runs of a non-resident attribute (EkNtfsFragment). */
void ek_ntfs_add_runs(const EkNtfsAttribute *attribute, GArray *fragments);
void ek_ntfs_sort_fragments(GArray *fragments);

/* Reads what lies in these fragments. FALSE when they do not reach so far, or lie outside. */
gboolean ek_ntfs_read_fragments(const EkNtfsTable *table, const GArray *fragments, guint64 offset,
                                guint8 *buffer, gsize length, EkKnown *known);

/* The numbers of the further records that a record's list of attributes names (guint64), of one
 * type or all (0); *is_whole (NULL: no matter): all of the list was read. The caller unrefs. */
GArray *ek_ntfs_list_records(const EkNtfsTable *table, EkSpan record, guint64 self, guint32 type,
                             gboolean *is_whole);

/* Adds the numbers of further records that call themselves those of a file (a reference, with its
 * generation) and are not among them yet (further.c). */
void ek_ntfs_further_add(const EkNtfsTable *table, guint64 owner, gboolean is_in_use,
                         GArray *records);
EkNtfsFurther *ek_ntfs_further_new(void);
void ek_ntfs_further_free(EkNtfsFurther *further);

#endif
