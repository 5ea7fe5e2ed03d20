/* SPDX-License-Identifier: MIT */
/* Entries of a FAT folder: what one says, is it an entry at all, is it right in every field, and
 * what label do they hold? By the "FAT32 File System Specification" 1.03. */
#include "volume/fat/entry.h"

#include <string.h>

enum { ATTRIBUTE_LABEL = 0x08, ATTRIBUTE_LONG_NAME = 0x0f, ATTRIBUTES = 0x3f };

EkFatEntry ek_fat_entry_read(EkSpan span, gsize at)
{
    static const guint8 nothing[EK_FAT_NAME_BYTES];
    EkSpan raw = ek_span_part(span, at, EK_FAT_ENTRY_BYTES);
    guint8 attributes = ek_span_u8(raw, 11);
    guint8 first = ek_span_u8(raw, 0);
    gboolean is_long = (attributes & ATTRIBUTES) == ATTRIBUTE_LONG_NAME;
    return (EkFatEntry){
        .name = raw.length >= EK_FAT_NAME_BYTES ? raw.data : nothing,
        .first = first,
        .attributes = attributes,
        .is_end = first == 0,
        .is_deleted = first == EK_FAT_DELETED,
        .is_long = is_long,
        .is_label = !is_long && (attributes & ATTRIBUTE_LABEL) != 0,
        .is_folder = (attributes & (ATTRIBUTE_LABEL | EK_FAT_IS_FOLDER)) == EK_FAT_IS_FOLDER,
        .case_flags = ek_span_u8(raw, 12),
        .cluster = ek_span_le16(raw, 26) | (guint32)ek_span_le16(raw, 20) << 16,
        .size = ek_span_le32(raw, 28),
        .written_date = ek_span_le16(raw, 24),
        .written_time = ek_span_le16(raw, 22),
        .created_date = ek_span_le16(raw, 16),
        .created_time = ek_span_le16(raw, 14),
        .read_date = ek_span_le16(raw, 18),
        .order = first & 0x3fu,
        .is_last = (first & 0x40) != 0,
        .sum = ek_span_u8(raw, 13),
    };
}

void ek_fat_entry_units(EkSpan span, gsize at, gunichar2 units[EK_FAT_LONG_UNITS])
{
    static const guint8 places[EK_FAT_LONG_UNITS] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    for (guint i = 0; i < EK_FAT_LONG_UNITS; i++)
        units[i] = ek_span_le16(span, at + places[i]);
}

gboolean ek_fat_entry_is_dot(const EkFatEntry *entry)
{
    return memcmp(entry->name, ".          ", EK_FAT_NAME_BYTES) == 0;
}

gboolean ek_fat_entry_is_dot_dot(const EkFatEntry *entry)
{
    return memcmp(entry->name, "..         ", EK_FAT_NAME_BYTES) == 0;
}

gboolean ek_fat_begins_folder(EkSpan span, EkFatEntry *self, EkFatEntry *parent)
{
    *self = ek_fat_entry_read(span, 0);
    *parent = ek_fat_entry_read(span, EK_FAT_ENTRY_BYTES);
    return ek_fat_entry_is_dot(self) && ek_fat_entry_is_dot_dot(parent) && self->is_folder &&
           parent->is_folder;
}

gboolean ek_fat_is_plausible(EkSpan span)
{
    EkFatEntry entry = ek_fat_entry_read(span, 0);
    if (entry.is_deleted)
        return TRUE;
    if ((entry.attributes & ~ATTRIBUTES) != 0)
        return FALSE;
    if (entry.is_long)
        return entry.order >= 1 && entry.order <= EK_FAT_LONG_MOST && entry.case_flags == 0 &&
               (entry.cluster & 0xffff) == 0;
    if (entry.first == ' ')
        return FALSE;
    for (gsize i = 0; i < EK_FAT_NAME_BYTES; i++) {
        guint8 c = entry.name[i];
        if (c < 0x20 && !(i == 0 && c == 0x05))
            return FALSE;
        if (c < 0x80 && strchr("\"*+,/:;<=>?[\\]|", c) != NULL)
            return FALSE;
    }
    return TRUE;
}

guint ek_fat_count_entries(EkSpan span, guint *plausible)
{
    guint used = 0;
    *plausible = 0;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length && ek_span_u8(span, at) != 0;
         at += EK_FAT_ENTRY_BYTES) {
        used++;
        *plausible += ek_fat_is_plausible(ek_span_part(span, at, EK_FAT_ENTRY_BYTES)) ? 1 : 0;
    }
    return used;
}

/* Is this a short entry in use, with all of it as the format wants it? */
gboolean ek_fat_is_sound(EkSpan span, const EkFatBoot *boot)
{
    guint8 with_letter[EK_FAT_ENTRY_BYTES];
    if (span.length < sizeof with_letter)
        return FALSE;
    memcpy(with_letter, span.data, sizeof with_letter);
    /* A deleted one has lost its first letter only. */
    if (with_letter[0] == EK_FAT_DELETED)
        with_letter[0] = '_';
    EkSpan there = {with_letter, sizeof with_letter};
    EkFatEntry entry = ek_fat_entry_read(there, 0);
    guint32 cluster = ek_fat_entry_cluster(&entry, boot->bits);
    if (!ek_fat_is_plausible(there) || entry.is_long)
        return FALSE;
    for (gsize i = 0; i < EK_FAT_NAME_BYTES; i++)
        if (g_ascii_islower(entry.name[i]))
            return FALSE;
    if (entry.is_label)
        return cluster == 0 && entry.size == 0;
    if (!ek_fat_entry_written(&entry).is_set)
        return FALSE;
    if (entry.is_folder)
        return ek_fat_cluster_exists(boot, cluster) && entry.size == 0;
    return entry.size == 0 ? cluster == 0 || ek_fat_cluster_exists(boot, cluster)
                           : ek_fat_cluster_exists(boot, cluster) &&
                                 entry.size <= (guint64)boot->clusters * boot->cluster_bytes;
}

guint ek_fat_count_sound(EkSpan span, const EkFatBoot *boot)
{
    guint sound = 0;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length && ek_span_u8(span, at) != 0;
         at += EK_FAT_ENTRY_BYTES)
        sound += ek_span_u8(span, at) != EK_FAT_DELETED &&
                 ek_fat_is_sound(ek_span_part(span, at, EK_FAT_ENTRY_BYTES), boot);
    return sound;
}

gboolean ek_fat_is_folder(EkSpan span)
{
    guint plausible = 0;
    guint used = ek_fat_count_entries(span, &plausible);
    return plausible >= used - used / 4;
}

/* A label has no dot: its eleven bytes are one name. */
static char *label_in(const EkFatEntry *entry)
{
    gboolean escaped = FALSE;
    guint8 part[EK_FAT_NAME_BYTES];
    memset(part, ' ', sizeof part);
    memcpy(part, entry->name, 8);
    g_autofree char *left = ek_fat_short_name(part, 0, &escaped);
    memset(part, ' ', sizeof part);
    memcpy(part, entry->name + 8, 3);
    g_autofree char *right = ek_fat_short_name(part, 0, &escaped);
    gboolean full = entry->name[7] != ' ';
    char *label =
        *right == '\0' ? g_strdup(left) : g_strdup_printf("%s%s%s", left, full ? "" : " ", right);
    return g_strchomp(label);
}

char *ek_fat_label_of(EkSpan span, guint8 *raw)
{
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        if (entry.is_end)
            break;
        if (entry.is_deleted || !entry.is_label)
            continue;
        if (raw != NULL)
            memcpy(raw, entry.name, EK_FAT_NAME_BYTES);
        return label_in(&entry);
    }
    return NULL;
}
