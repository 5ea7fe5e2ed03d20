/* SPDX-License-Identifier: MIT */
/* Partition tables: one format, one file, one struct. */
#ifndef EK_TABLE_TABLE_H
#define EK_TABLE_TABLE_H

#include "base/bytes.h"
#include "base/error.h"
#include "base/field.h"
#include "base/signature.h"
#include "base/units.h"
#include "image/reader.h"

#define EK_TABLE_MOST 128u      /* entries that are kept of one table */
#define EK_MBR_PROTECTIVE 0xeeu /* type of an MBR's entry that protects a GPT */
#define EK_TABLE_NAME 128u      /* bytes of a name, its end included */
#define EK_GPT_NAME_BYTES 72u
#define EK_APM_TEXT 32u /* bytes of a name, and of a type */
#define EK_MBR_PRIMARIES 4u
#define EK_MBR_ACTIVE 0x80u /* first byte of an entry */
#define EK_MBR_ENTRIES 446u /* where they begin */
#define EK_MBR_ENTRY_BYTES 16u

typedef enum {
    EK_SCHEME_UNKNOWN,
    EK_SCHEME_NONE, /* there is no table */
    EK_SCHEME_MBR,
    EK_SCHEME_EBR, /* a link to a logical partition */
    EK_SCHEME_GPT,
    EK_SCHEME_GPT_ENTRIES, /* without the header that names them */
    EK_SCHEME_APM,
    EK_SCHEMES
} EkScheme;

typedef struct {
    guint index;   /* of the slot in the table, from 0 */
    EkRange range; /* bytes on the drive */
    guint8 type;   /* MBR type byte */
    gboolean active;
    gboolean extended;               /* of the table itself, no volume: holds further tables; APM:
                                      * the map, and what is free */
    gboolean logical;                /* named by a table inside an extended partition */
    EkByte link_byte;                /* logical: where its link of the chain stands */
    guint8 type_uuid[16];            /* GPT: as it stands there; zeros elsewhere */
    guint8 uuid[16];                 /* GPT: as it stands there; zeros elsewhere */
    guint64 attributes;              /* GPT */
    char name[EK_TABLE_NAME];        /* UTF-8; GPT and APM */
    char type_text[EK_APM_TEXT + 1]; /* APM: "Apple_HFS" */
    guint8 units[EK_GPT_NAME_BYTES]; /* GPT: the name as it stands there, UTF-16LE */
} EkTableEntry;

typedef struct {
    EkScheme scheme;
    EkByte first_byte;      /* where it stands in the image */
    guint32 sector_size;    /* in which its numbers count */
    guint32 disk_signature; /* MBR */
    guint8 uuid[16];        /* GPT: of the drive */
    EkSector place;         /* GPT: where it stands, as it says */
    EkSector other_place;   /* GPT: where its other copy stands, as it says */
    EkSector entries_place; /* GPT: where its entries begin, as it says */
    guint32 entry_bytes;    /* GPT */
    guint32 entry_count;    /* GPT: slots, used or not */
    EkSector first_usable;  /* GPT */
    EkSector last_usable;   /* GPT */
    EkByte drive_bytes;     /* to compose a GPT for; 0: as long as the image */
    gboolean is_whole;      /* all checksums fit, no link of a chain is missing */
    guint count;
    EkTableEntry entries[EK_TABLE_MOST]; /* those in use, in order of slot */
} EkTable;

/* Receives a part of a composed table, in no order: `after` is what shall stand at first_byte,
 * `structure` the scheme that explains it, `what` it in words. FALSE to stop with *error. */
typedef gboolean (*EkTableSink)(void *data, const char *structure, EkByte first_byte,
                                const guint8 *after, gsize length, const char *what,
                                GError **error);

typedef struct {
    EkScheme scheme;
    gsize header_bytes;
    const EkSignature *signatures; /* what stands in the first 512 bytes of such a table */
    gsize signature_count;

    /* TRUE when the span (at least header_bytes) holds such a table with at least one partition,
     * which is then decoded into *table. `sector_size` is the one its numbers count in. */
    gboolean (*read)(EkSpan span, guint32 sector_size, EkTable *table);

    /* Reads what of the table stands elsewhere than in its first sector, which is at `at` in the
     * image: entries, chained tables. FALSE when it cannot be read, or contradicts itself. NULL
     * where `read` gives everything. */
    gboolean (*follow)(EkReader *reader, EkByte at, EkTable *table);

    /* Composes the whole table for a drive as long as the reader's image, of which all is kept that
     * is not the table's, as the boot code. EK_ERROR_UNSUPPORTED for what the scheme cannot
     * express. NULL where this version does not. */
    gboolean (*compose)(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                        GError **error);

    /* The fields of the span, in order, covering all of it: EkField*, the caller unrefs. NULL for
     * what is never composed. */
    GPtrArray *(*explain)(EkSpan span, guint32 sector_size);
} EkTableFormat;

extern const EkTableFormat ek_table_mbr;
extern const EkTableFormat ek_table_ebr; /* one link of an extended partition's chain */
extern const EkTableFormat ek_table_gpt;
extern const EkTableFormat ek_table_gpt_entries; /* without their header */
extern const EkTableFormat ek_table_apm;

/* All formats, NULL at the end. */
extern const EkTableFormat *const ek_table_formats[];

/* Reads a table whole: its first sector at `at` (in bytes), and what follows from there. FALSE when
 * there is none of this scheme. */
gboolean ek_table_load(const EkTableFormat *format, EkReader *reader, EkByte at,
                       guint32 sector_size, EkTable *table);

/* The table that rules the drive, as the system would see it: a GPT, an APM, an MBR with its
 * logical partitions. `sector_size` is the drive's. FALSE when there is none; *unread says whether
 * that may be because its sectors were not read. */
gboolean ek_table_current(EkReader *reader, guint32 sector_size, EkTable *table, gboolean *unread);

/* The map of the drive by whatever of its entries is left, also without its first or its block 0.
 * FALSE when there is none. */
gboolean ek_apm_gather(EkReader *reader, EkTable *table);

/* The GPT type with such a short name (ek_gpt_type_name), 16 bytes as they stand on the drive; NULL
 * when there is none, or `name` is NULL. */
const guint8 *ek_gpt_type_named(const char *name);

#define EK_GPT_EFI_SYSTEM "EFI system"

/* Composes a GPT: both copies, and what protects it (gptcompose.c). */
gboolean ek_gpt_compose(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                        GError **error);

/* Bytes that the backup of a GPT of the usual size takes at the end of a drive. */
EkByte ek_gpt_backup_bytes(guint32 sector_size);

/* Does a GPT that was read keep to the specification, on a drive of so many bytes: where its copies
 * stand, room for 128 entries, partitions in the usable sectors and apart from each other? */
gboolean ek_gpt_is_lawful(const EkTable *table, EkByte bytes);

/* How many entries a GPT has room for, unless it says otherwise: the least by the specification. */
guint ek_gpt_usual_entries(void);

/* A scheme in words: "a GPT"; "none" when there is none. */
const char *ek_table_scheme_words(EkScheme scheme);

/* "mbr", "gpt-entries": as it is shown and stored. */
const char *ek_scheme_name(EkScheme scheme);

/* FALSE for a name that is none. */
gboolean ek_scheme_from_name(const char *name, EkScheme *scheme);

/* Sets a name, cut to what a GPT has room for. */
void ek_gpt_set_name(EkTableEntry *entry, const char *name);

/* The trade's short name of a GPT type: "EFI system", "Linux"; "" when not known. `uuid` is the 16
 * bytes as they stand on the drive. */
const char *ek_gpt_type_name(const guint8 *uuid);

/* Adds the partition that an entry of a GPT names to the table; one that cannot be makes the table
 * not whole. `span` is the entry. */
void ek_gpt_take_entry(EkSpan span, guint index, EkTable *table);

/* Are these the entries that this GPT's header speaks of? */
gboolean ek_gpt_holds(const EkTable *table, const EkTable *entries);

/* A GPT's UUID as people write it, from the 16 bytes as they stand on the drive. The caller frees.
 */
char *ek_gpt_uuid(const guint8 *uuid);

/* The byte of an MBR at which the entry of a slot begins. */
EkByte ek_mbr_entry_offset(guint slot);

/* Does this MBR type byte say that another table rules the drive ("GPT", "dynamic disk")? NULL when
 * not. */
const char *ek_mbr_other_ruler(guint8 type);

/* The trade's short name of an MBR type byte: "NTFS / exFAT", "FAT32 (LBA)"; "" when not known. */
const char *ek_mbr_type_name(guint8 type);

/* Do systems accept a partition of this type for a file system whose `usual` type is that (0: it
 * has none, anything fits)? */
gboolean ek_mbr_type_fits(guint8 type, guint8 usual);

#endif
