/* SPDX-License-Identifier: MIT */
/* What makes the beginning of an ext volume right again: the primary superblock, and the group
 * descriptors behind it. Copies of both stand in some groups; what they count is old, and is
 * counted again. */
#include "volume/ext/compose.h"
#include "volume/ext/ext.h"
#include "volume/ext/journal.h"
#include "volume/headers.h"

#include <string.h>

#define DESCRIPTORS_MOST (16u << 20) /* bytes */
#define HOLDERS_MOST 16u
#define LAST_ORPHAN 232u /* in a superblock */

static EkByte descriptors_byte(const EkVolume *volume, const EkExtSuper *super, EkByte place)
{
    /* With blocks of 1024 bytes the superblock has a block of its own. */
    return volume->first_byte + place / super->block_bytes * super->block_bytes +
           super->block_bytes;
}

static gboolean is_plausible(const EkExtSuper *super, EkSpan span)
{
    EkExtDescriptor descriptor = ek_ext_descriptor_read(span);
    return ek_ext_descriptor_is_possible(&descriptor, super);
}

/* A copy of all descriptors in which every one can be; NULL: none was read. The caller frees. */
static guint8 *load_copy(EkReader *reader, const EkVolume *volume, const EkExtSuper *super,
                         gsize length, EkByte *at)
{
    guint64 holders[HOLDERS_MOST];
    guint count = ek_ext_super_groups(super, holders, HOLDERS_MOST);
    for (guint i = 0; i < count; i++) {
        if (holders[i] == 0)
            continue;
        *at = descriptors_byte(volume, super, ek_ext_super_place(super, holders[i]));
        g_autofree guint8 *copy = g_malloc(length);
        gboolean is_good = ek_presence_read(reader, *at, copy, length) == EK_PRESENT;
        EkSpan span = {copy, length};
        for (guint64 group = 0; group < super->groups && is_good; group++)
            is_good = is_plausible(super, ek_span_part(span, (gsize)group * super->descriptor_bytes,
                                                       super->descriptor_bytes));
        if (is_good)
            return g_steal_pointer(&copy);
    }
    return NULL;
}

/* The descriptors as they shall stand: those that were not read, or that cannot be, from a copy and
 * counted again. */
typedef struct {
    guint8 *wanted; /* NULL: nothing is known of them */
    gsize length;
    EkByte first;
    EkByte copy_at;
    gboolean is_changed;
} Descriptors;

static Descriptors load_descriptors(EkExtRecount *recount, const EkVolume *volume)
{
    const EkExtSuper *super = &recount->super;
    EkReader *reader = recount->reader;
    guint32 bytes = super->descriptor_bytes;
    Descriptors all = {
        .length =
            (gsize)MIN(ek_divide_up(super->groups * bytes, super->block_bytes) * super->block_bytes,
                       G_MAXUINT32),
        .first = descriptors_byte(volume, super, EK_EXT_SUPER_OFFSET),
    };
    if (super->meta_bg || all.length > DESCRIPTORS_MOST)
        return all;
    g_autofree guint8 *wanted = g_malloc0(all.length);
    if (!ek_reader_read(reader, all.first, wanted, all.length, NULL, NULL))
        return all;
    g_autofree guint8 *copy = load_copy(reader, volume, super, all.length, &all.copy_at);
    recount->descriptors = wanted;
    for (guint64 group = 0; group < super->groups; group++) {
        gsize place = (gsize)group * bytes;
        if (ek_reader_known(reader, all.first + place, bytes).good == bytes &&
            is_plausible(super, (EkSpan){wanted + place, bytes}))
            continue;
        if (copy == NULL)
            return all;
        memcpy(wanted + place, copy + place, bytes);
        ek_ext_recount_group(recount, group);
        all.is_changed = TRUE;
    }
    all.wanted = g_steal_pointer(&wanted);
    return all;
}

/* Of another volume, or with a sum that does not fit: no system mounts it. */
static gboolean is_right(EkSpan there, EkSpan good)
{
    EkExtSuper own;
    return ek_ext_super_agrees(there, good, 0) && ek_ext_super_read(there, &own) &&
           (!own.has_checksum || own.checksum_fits);
}

/* FALSE when the volume would have other groups then. */
static gboolean set_length(const EkVolume *volume, EkExtSuper *super)
{
    guint64 blocks = volume->bytes / super->block_bytes;
    guint64 before = super->first_data_block + (super->groups - 1) * super->blocks_per_group;
    super->blocks = blocks;
    return blocks > before && blocks - before <= super->blocks_per_group;
}

/* The journal has a copy of what was changed in the superblock, which is all of it: nothing is lost
 * then. FALSE when there is none, or it is of another geometry. */
static gboolean take_journal_s(const EkVolume *volume, EkExtRecount *recount)
{
    EkExtVolume files;
    EkExtSuper said;
    guint8 super[EK_EXT_SUPER_BYTES];
    EkSpan span = {super, sizeof super};
    EkExtJournal *journal =
        ek_ext_volume_open(&files, recount->reader, volume) ? ek_ext_journal_open(&files) : NULL;
    gboolean has_copy = journal != NULL && ek_ext_journal_super(journal, &files, super);
    g_clear_pointer(&journal, ek_ext_journal_close);
    if (!has_copy || !ek_ext_super_read(span, &said))
        return FALSE;
    const EkExtSuper *own = &recount->super;
    EkByte bytes = said.blocks * said.block_bytes;
    if (said.block_bytes != own->block_bytes || said.blocks_per_group != own->blocks_per_group ||
        said.inode_bytes != own->inode_bytes || said.groups != own->groups ||
        said.descriptor_bytes != own->descriptor_bytes || bytes > volume->bytes ||
        volume->bytes - bytes >= said.block_bytes)
        return FALSE;
    /* It was in use then: whether its journal is due is told by the journal. */
    ek_put_le32(super + 96, ek_span_le32(span, 96) & ~EK_EXT_INCOMPAT_RECOVER);
    ek_put_le32(super + LAST_ORPHAN, 0);
    memcpy(recount->raw, super, sizeof super);
    recount->super = said;
    return TRUE;
}

/* No superblock is left: one is taken from the journal, else composed, with all its copies. */
static gboolean repair_composed(EkReader *reader, const EkVolume *volume, EkRepairSink sink,
                                void *data)
{
    const char *from = "the copy in the journal, with free counts recalculated";
    guint8 good[EK_EXT_SUPER_BYTES] = {0};
    EkSpan span = {good, sizeof good};
    EkExtRecount recount = {.reader = reader, .first_byte = volume->first_byte, .raw = good};
    guint64 holders[HOLDERS_MOST];
    memcpy(good, volume->header, EK_HEADER_BYTES);
    if (!ek_ext_super_read(span, &recount.super))
        return TRUE;
    recount.super.descriptor_bytes = ek_span_le16(span, 254) > 32 ? 64 : 32;
    recount.super.sparse = TRUE;
    gboolean has_copy = take_journal_s(volume, &recount);
    /* Where it ends must be known: a table tells, or the user. */
    if (!has_copy && (volume->length_is_least || !set_length(volume, &recount.super)))
        return TRUE;
    Descriptors all = load_descriptors(&recount, volume);
    if (all.wanted == NULL || (!has_copy && !ek_ext_compose_super(&recount, volume))) {
        g_free(all.wanted);
        return TRUE;
    }
    if (!has_copy)
        from = "other metadata (new UUID, label lost)";
    for (guint64 group = 0; group < recount.super.groups; group++)
        if (all.is_changed)
            ek_ext_recount_group(&recount, group);
        else
            ek_ext_sum_group(&recount, group);
    ek_ext_recount_super(&recount);
    guint count = ek_ext_super_groups(&recount.super, holders, HOLDERS_MOST);
    for (guint i = 0; i < count; i++) {
        g_autofree char *what =
            holders[i] == 0 ? g_strdup("primary superblock")
                            : g_strdup_printf("superblock of group %" G_GUINT64_FORMAT, holders[i]);
        ek_ext_super_set_group(good, (guint16)holders[i]);
        ek_header_repair_range(reader, volume->format->structure,
                               volume->first_byte + ek_ext_super_place(&recount.super, holders[i]),
                               good, sizeof good, what, from, sink, data);
    }
    ek_header_repair_range(reader, "ext-descriptors", all.first, all.wanted, all.length,
                           "group descriptors", from, sink, data);
    g_free(all.wanted);
    return TRUE;
}

gboolean ek_ext_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error)
{
    guint8 good[EK_EXT_SUPER_BYTES];
    guint8 there[EK_EXT_SUPER_BYTES];
    EkSpan span = {good, sizeof good};
    EkExtSuper super;
    if (volume->composed)
        return repair_composed(reader, volume, sink, data);
    if (!ek_reader_read(reader, volume->header_byte, good, sizeof good, NULL, error))
        return FALSE;
    if (!ek_ext_super_read(span, &super))
        return ek_error_set(error, EK_ERROR_DAMAGED,
                            "the superblock at sector %" G_GUINT64_FORMAT " is none any more",
                            volume->header_byte / EK_STEP);
    EkExtRecount recount = {reader, volume->first_byte, super, good, NULL};
    Descriptors all = load_descriptors(&recount, volume);
    EkByte at = volume->first_byte + EK_EXT_SUPER_OFFSET;
    if (ek_presence_read(reader, at, there, sizeof there) != EK_PRESENT ||
        !is_right((EkSpan){there, sizeof there}, span)) {
        if (all.wanted != NULL)
            ek_ext_recount_super(&recount);
        ek_ext_super_set_group(good, 0);
        g_autofree char *from = g_strdup_printf(
            "the copy of group %u at sector %" G_GUINT64_FORMAT "%s", super.group,
            volume->header_byte / EK_STEP, all.wanted != NULL ? ", counted again" : "");
        ek_header_repair_range(reader, volume->format->structure, at, good, sizeof good,
                               "primary superblock", from, sink, data);
    }
    g_autofree char *from = g_strdup_printf(
        "the copy at sector %" G_GUINT64_FORMAT ", counted again", all.copy_at / EK_STEP);
    if (all.wanted != NULL && all.is_changed)
        ek_header_repair_range(reader, "ext-descriptors", all.first, all.wanted, all.length,
                               "group descriptors", from, sink, data);
    g_free(all.wanted);
    return TRUE;
}
