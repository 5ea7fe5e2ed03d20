/* SPDX-License-Identifier: MIT */
/* An ext volume that another one was made over in the same way: a quick format writes neither the
 * tables of inodes nor what they lead to. Inodes where the newer volume says that it never wrote
 * any are those of the older one; that places and numbers are the same is proved by folders whose
 * first block calls itself by the number of their inode, or by sums that all agree in one seed. */
#include "volume/ext/remnants.h"
#include "volume/headers.h"

#define GROUPS_MOST 256u       /* that are looked at */
#define LOOK_BYTES (16u << 10) /* of the inodes of each */
#define INODES_LEAST 3u
#define FOLDERS_LEAST 1u
#define ALIKE_LEAST 4u
#define EXTENT_BYTES 12u
#define EXTENT_MOST 32768u /* blocks */

typedef struct {
    guint inodes;
    guint folders; /* that call themselves by their number */
    guint others;  /* that call themselves by another */
    guint sized;   /* whose blocks come to what they state */
    guint unsized; /* and those that do not */
    guint alike;   /* whose sum is right with one seed */
    EkTimestamp used;
} Seen;

/* What the inodes of all groups are counted in. */
typedef struct {
    Seen seen;
    GHashTable *seeds; /* seed to how many inodes have it */
} Look;

typedef struct {
    const EkExtVolume *volume;
    guint32 number;
    EkPresence part;
} Asking;

/* Is this the first block of the folder? Its first entry is itself. */
static gboolean take_first(void *data, const EkExtent *extent)
{
    Asking *asking = data;
    guint8 start[12];
    if (extent->offset != 0 || extent->first_byte == EK_UNPLACED)
        return FALSE;
    if (ek_presence_read(asking->volume->reader, extent->first_byte, start, sizeof start) !=
        EK_PRESENT)
        return FALSE;
    EkSpan span = {start, sizeof start};
    asking->part = EK_ABSENT;
    if (ek_span_u8(span, 6) == 1 && ek_span_u8(span, 8) == '.' && ek_span_le16(span, 4) == 12)
        asking->part = ek_span_le32(span, 0) == asking->number ? EK_PRESENT : EK_ABSENT;
    return FALSE;
}

/* Blocks are of the size that the newer volume has when they come to the sectors stated. */
static void weigh_size(const EkExtVolume *volume, const EkExtInode *inode, Seen *seen)
{
    guint64 blocks = 0;
    EkSpan map = inode->map;
    /* A map of one level: blocks of a deeper one count as well. */
    if ((inode->flags & (EK_EXT_EXTENTS | EK_EXT_HUGE)) != EK_EXT_EXTENTS ||
        ek_span_le16(map, 6) != 0 || inode->attributes != 0 || inode->size == 0)
        return;
    for (gsize i = 1; i <= ek_span_le16(map, 2); i++) {
        guint16 length = ek_span_le16(map, EXTENT_BYTES * i + 4);
        /* What is allocated and not written has more. */
        blocks += length > EXTENT_MOST ? length - EXTENT_MOST : length;
    }
    gboolean fits = blocks * volume->super.block_bytes == inode->sectors * EK_STEP;
    seen->sized += fits ? 1 : 0;
    seen->unsized += fits ? 0 : 1;
}

static void take_seed(Look *look, EkSpan span, guint32 number)
{
    guint32 seed;
    if (!ek_ext_inode_seed(span, number, &seed))
        return;
    guint count = GPOINTER_TO_UINT(g_hash_table_lookup(look->seeds, GUINT_TO_POINTER(seed))) + 1;
    g_hash_table_insert(look->seeds, GUINT_TO_POINTER(seed), GUINT_TO_POINTER(count));
    look->seen.alike = MAX(look->seen.alike, count);
}

static void take_inode(EkExtVolume *volume, EkSpan span, EkByte at, guint32 number, Look *look)
{
    EkExtInode inode = ek_ext_inode_read(span);
    Asking asking = {volume, number, EK_UNREAD};
    Seen *seen = &look->seen;
    guint32 seed;
    if (inode.mode == 0 || inode.links == 0 || !ek_ext_inode_is_possible(volume, span))
        return;
    /* The newer volume's own, where its descriptors are not up to date. */
    if (ek_ext_inode_seed(span, number, &seed) && seed == volume->super.seed)
        return;
    seen->inodes++;
    ek_timestamp_advance(&seen->used, inode.modified);
    take_seed(look, span, number);
    weigh_size(volume, &inode, seen);
    if ((inode.mode & EK_EXT_TYPE) != EK_EXT_FOLDER || (inode.flags & EK_EXT_INLINE) != 0)
        return;
    ek_ext_extents(volume, span, &inode, at, take_first, &asking);
    seen->folders += asking.part == EK_PRESENT;
    seen->others += asking.part == EK_ABSENT;
}

/* The first inodes of a group that the newer volume never wrote. */
static void look_at_group(EkExtVolume *volume, guint64 number, guint8 *window, Look *look)
{
    guint32 bytes = volume->super.inode_bytes;
    guint32 per_group = volume->super.inodes_per_group;
    EkExtGroup group = ek_ext_group(volume, number);
    EkByte table = group.table != 0 ? ek_ext_block_byte(volume, group.table) : EK_UNPLACED;
    guint32 count = MIN(LOOK_BYTES / bytes, per_group - MIN(group.used, per_group));
    EkByte first = table + (EkByte)group.used * bytes;
    EkKnown known;
    if (table == EK_UNPLACED || count == 0 ||
        !ek_reader_read(volume->reader, first, window, (gsize)count * bytes, &known, NULL) ||
        ek_bytes_are_zero(window, (gsize)count * bytes))
        return;
    for (guint32 i = 0; i < count; i++)
        take_inode(volume, (EkSpan){window + (gsize)i * bytes, bytes}, first + (EkByte)i * bytes,
                   (guint32)(number * per_group) + group.used + i + 1, look);
}

static Seen look_at(EkExtVolume *volume)
{
    g_autofree guint8 *window = g_malloc(LOOK_BYTES);
    guint64 groups = volume->super.groups;
    guint64 step = MAX(groups / GROUPS_MOST, 1);
    g_autoptr(GHashTable) seeds = g_hash_table_new(NULL, NULL);
    Look look = {.seeds = seeds};
    for (guint64 i = 0; i < groups; i += step)
        look_at_group(volume, i, window, &look);
    return look.seen;
}

static gboolean is_proved(const Seen *seen)
{
    gboolean by_folders = seen->inodes >= INODES_LEAST && seen->folders >= FOLDERS_LEAST;
    gboolean by_sums =
        seen->alike >= ALIKE_LEAST && seen->alike > seen->inodes / 2 && seen->sized > seen->unsized;
    return (by_folders || by_sums) && seen->folders >= seen->others;
}

static EkVolume *compose(const EkVolume *newer, const Seen *seen)
{
    EkVolume *volume = ek_volume_new_under(newer);
    volume->metadata_byte = newer->header_byte;
    volume->used = seen->used;
    ek_volume_reason(volume, (int)MIN(20 + seen->inodes / 4, 50u),
                     "inodes are in use where the volume that is there now never wrote any");
    if (seen->alike >= ALIKE_LEAST)
        ek_volume_reason(volume, 20,
                         "the checksums of %u inodes agree in the numbers they have here",
                         seen->alike);
    if (seen->folders > 0)
        ek_volume_reason(volume, (int)MIN(10 * seen->folders, 30u),
                         "%u folders are where their inodes state, under the same layout",
                         seen->folders);
    return volume;
}

gboolean ek_ext_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error)
{
    (void)error;
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *newer = sightings->volumes->pdata[i];
        EkExtVolume volume;
        if (!g_str_has_prefix(newer->filesystem, "ext") || newer->is_earlier ||
            !ek_ext_volume_open(&volume, reader, newer) || !volume.has_unused)
            continue;
        Seen seen = look_at(&volume);
        if (is_proved(&seen))
            sink(data, compose(newer, &seen));
    }
    ek_ext_infer_remnants(reader, sightings, sink, data);
    return TRUE;
}
