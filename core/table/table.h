/* SPDX-License-Identifier: MIT */
/* Partition tables: one format, one file, one struct. */
#ifndef EK_TABLE_TABLE_H
#define EK_TABLE_TABLE_H

#include "base/bytes.h"
#include "base/error.h"
#include "base/field.h"
#include "base/units.h"

#define EK_TABLE_MOST 128u /* entries that are kept of one table */

typedef struct {
    guint index;   /* of the slot in the table, from 0 */
    EkRange range; /* bytes on the drive */
    guint8 type;   /* MBR type byte */
    gboolean active;
    gboolean extended; /* holds further tables, no volume of its own */
} EkTableEntry;

typedef struct {
    const char *scheme; /* "mbr" */
    guint32 disk_signature;
    guint count;
    EkTableEntry entries[EK_TABLE_MOST]; /* those in use, in order of slot */
} EkTable;

typedef struct {
    const char *scheme;
    gsize header_bytes;

    /* TRUE when the span (at least header_bytes) holds such a table with at least one partition,
     * which is then decoded into *table. `sector_size` is the one its numbers count in. */
    gboolean (*read)(EkSpan span, guint32 sector_size, EkTable *table);

    /* Composes the table: `header` holds what stands there now and keeps all that is not the
     * table's, as the boot code. EK_ERROR_UNSUPPORTED for what the scheme cannot express. */
    gboolean (*compose)(const EkTable *table, guint32 sector_size, guint8 *header, GError **error);

    /* The fields of the span, in order, covering all of it: EkField*, the caller unrefs. */
    GPtrArray *(*explain)(EkSpan span, guint32 sector_size);
} EkTableFormat;

extern const EkTableFormat ek_table_mbr;

/* All formats, NULL at the end. */
extern const EkTableFormat *const ek_table_formats[];

/* Does this MBR type byte say that another table rules the drive ("GPT", "dynamic disk")? NULL when
 * not. */
const char *ek_mbr_other_ruler(guint8 type);

/* The trade's short name of an MBR type byte: "NTFS / exFAT", "FAT32 LBA"; "" when not known. */
const char *ek_mbr_type_name(guint8 type);

/* The type byte for a volume of this file system: 0 when there is none. */
guint8 ek_mbr_type_for(const char *filesystem);

#endif
