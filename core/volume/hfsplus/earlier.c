/* SPDX-License-Identifier: MIT */
/* An HFS+ volume that another one was made over in the same way: its catalog lay where the newer
 * one's lies, and what that one does not use of it still holds leaves. That blocks are as large and
 * begin where they did is proved by leaves that name each other by their numbers, and by files that
 * have as many blocks as they are long. */
#include "volume/hfsplus/catalog.h"
#include "volume/hfsplus/hfsplus.h"

#define VOTES_LEAST 3u /* records that only an earlier volume can have */
#define VOTES_LEAST_DEEP 1u
#define SAMPLES_MOST 4096u

typedef struct {
    guint leaves;
    guint linked; /* that name another one, and are named by it */
    guint files;
    guint fitting; /* that have as many blocks as they need */
    guint folders;
    EkTimestamp used;
} Seen;

static void take_record(const EkHfsCatalog *catalog, EkSpan record, Seen *seen)
{
    EkHfsEntry entry;
    if (!ek_hfs_entry_read(record, &entry))
        return;
    EkTimestamp modified = ek_hfs_timestamp(entry.body, 16);
    ek_timestamp_advance(&seen->used, modified);
    seen->folders += entry.type == EK_HFS_RECORD_FOLDER ? 1 : 0;
    guint64 bytes = ek_span_be64(entry.body, EK_HFS_DATA_FORK);
    guint32 blocks = ek_span_be32(entry.body, EK_HFS_DATA_FORK + 12);
    if (entry.type != EK_HFS_RECORD_FILE || bytes == 0 || seen->files == SAMPLES_MOST)
        return;
    seen->files++;
    seen->fitting += ek_divide_up(bytes, catalog->region.block_bytes) == blocks ? 1 : 0;
}

static Seen look(const EkHfsCatalog *catalog)
{
    g_autofree guint8 *node = g_malloc(catalog->tree.node_bytes);
    EkSpan span = {node, catalog->tree.node_bytes};
    Seen seen = {0};
    for (guint64 at = 1; at < catalog->older.count; at++) {
        EkKnown known;
        EkHfsLeaf leaf;
        if (!ek_cluster_bitmap_has(&catalog->older, at) ||
            !ek_hfs_fork_read(&catalog->region, &catalog->fork, at * span.length, node, span.length,
                              &known) ||
            !ek_hfs_leaf_read(span, &leaf))
            continue;
        seen.leaves++;
        seen.linked += leaf.next != 0 && ek_hfs_catalog_follows(catalog, leaf.next, at) ? 1 : 0;
        for (guint i = 0; i < ek_span_be16(span, 10); i++)
            take_record(catalog, ek_hfs_record_of(span, i), &seen);
    }
    return seen;
}

static EkVolume *compose(const EkVolume *newer, const EkHfsCatalog *catalog, const Seen *seen,
                         guint votes)
{
    EkVolume *volume = ek_volume_new_under(newer);
    volume->metadata_byte = newer->metadata_byte;
    volume->used = seen->used;
    ek_volume_property_number(volume, "bytes per allocation block", catalog->region.block_bytes);
    ek_volume_reason(volume, (int)MIN(25 + votes / 4, 50u),
                     "%u records in free nodes of the catalog are older than the volume that is "
                     "there now, or have numbers it has not given yet",
                     votes);
    ek_volume_reason(volume, seen->linked > 0 ? 20 : 0,
                     "%u of their %u leaves name the next one, which names them back", seen->linked,
                     seen->leaves);
    ek_volume_reason(volume, (int)MIN(seen->fitting * 2, 20u),
                     "%u of %u files have as many blocks of %u bytes as they are long",
                     seen->fitting, seen->files, catalog->region.block_bytes);
    return volume;
}

gboolean ek_hfs_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error)
{
    guint least =
        sightings->is_deep || sightings->expected != NULL ? VOTES_LEAST_DEEP : VOTES_LEAST;
    (void)error;
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *newer = sightings->volumes->pdata[i];
        EkHfsCatalog catalog;
        if (!g_str_equal(newer->filesystem, "hfsplus") || newer->is_earlier)
            continue;
        if (ek_hfs_catalog_open(&catalog, reader, newer) && !catalog.is_headless) {
            guint votes = ek_hfs_catalog_find_older(&catalog);
            Seen seen = look(&catalog);
            /* Blocks of another size would lead into other files. */
            if (votes >= least && seen.fitting * 4 >= seen.files * 3) {
                EkVolume *volume = compose(newer, &catalog, &seen, votes);
                ek_volume_expected(volume, sightings);
                sink(data, volume);
            }
        }
        ek_hfs_catalog_clear(&catalog);
    }
    return TRUE;
}
