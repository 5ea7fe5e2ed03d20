/* SPDX-License-Identifier: MIT */
/* What names files besides their own records: the entries of a folder's index, and of the journal
 * of changes. Only for this folder. */
#ifndef EK_VOLUME_NTFS_INDEX_H
#define EK_VOLUME_NTFS_INDEX_H

#include "volume/ntfs/streams.h"

typedef struct {
    guint64 file; /* a reference */
    EkNtfsNamed named;
    gboolean is_deleted; /* it stands behind the last entry, or the journal or the log says so */
    guint64 logged;      /* sequence number of what the log says; 0: it stands elsewhere */
} EkNtfsEntry;

/* Takes an entry; its spans are valid only then. Returns FALSE to stop. */
typedef gboolean (*EkNtfsEntrySink)(void *data, const EkNtfsEntry *entry);

/* Hands on the entries of a block of an index, and what is left of older ones behind them. The
 * update sequence is undone in place; what stands in and behind a sector that it does not fit is
 * left out. FALSE when the sink stopped it. */
gboolean ek_ntfs_index_block(guint8 *block, gsize length, EkNtfsEntrySink sink, void *data);

/* The same of the content of an index root. */
gboolean ek_ntfs_index_root(EkSpan root, EkNtfsEntrySink sink, void *data);

#define EK_NTFS_PAGE 4096u /* of the journal, and of the log: no entry goes over the end of one */

/* Hands on the entries of a page of the journal of changes ($UsnJrnl:$J, records of version 2). */
gboolean ek_ntfs_changes_page(EkSpan page, EkNtfsEntrySink sink, void *data);

/* Hands on the entries that operations in a page of the log ($LogFile) put into folders or took out
 * of them, and the names of records that they made. The update sequence is undone in place. FALSE
 * when the sink stopped it. */
gboolean ek_ntfs_log_page(guint8 *page, gsize length, EkNtfsEntrySink sink, void *data);

/* Files and folders whose records are gone, as far as folders of others and the journal name them:
 * handed on with EK_FILE_NAMED. `with_deleted`: also what is named as deleted. A second pass over
 * the table, in its marks too. FALSE when the sink stopped it. */
gboolean ek_ntfs_walk_named(const EkNtfsTable *table, gboolean with_deleted,
                            const EkFileSink *sink);

/* Hands on a file of whose record only the beginning is left, and no content, by its names. FALSE
 * when the sink stopped it. */
gboolean ek_ntfs_pass_named(const EkNtfsTable *table, guint64 number, EkSpan record,
                            const EkFileSink *sink);

#endif
