/* SPDX-License-Identifier: MIT */
/* Entries of a FAT folder, looked at one by one: is it an entry at all, is it right in every field,
 * and what label do they hold? By the "FAT32 File System Specification" 1.03. */
#include "volume/fat/fat.h"

#include <string.h>

#define ENTRY_BYTES 32u
#define MAX_LONG_ENTRIES 20u
#define DELETED 0xe5u

enum { ATTRIBUTE_LABEL = 0x08, ATTRIBUTE_FOLDER = 0x10, ATTRIBUTE_LONG_NAME = 0x0f };

gboolean ek_fat_is_plausible(EkSpan entry)
{
    guint8 first = ek_span_u8(entry, 0);
    guint8 attributes = ek_span_u8(entry, 11);
    if (first == 0xe5)
        return TRUE;
    if ((attributes & 0xc0) != 0)
        return FALSE;
    if (attributes == ATTRIBUTE_LONG_NAME)
        return (first & 0x3f) >= 1 && (first & 0x3f) <= MAX_LONG_ENTRIES &&
               ek_span_u8(entry, 12) == 0 && ek_span_le16(entry, 26) == 0;
    if (first == ' ')
        return FALSE;
    for (gsize i = 0; i < 11; i++) {
        guint8 c = ek_span_u8(entry, i);
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
    for (gsize at = 0; at + ENTRY_BYTES <= span.length; at += ENTRY_BYTES) {
        EkSpan entry = ek_span_part(span, at, ENTRY_BYTES);
        if (ek_span_u8(entry, 0) == 0)
            break;
        used++;
        *plausible += ek_fat_is_plausible(entry) ? 1 : 0;
    }
    return used;
}

/* Is this a short entry in use, with all of it as the format wants it? */
static gboolean is_sound_entry(EkSpan entry, const EkFatBoot *boot)
{
    guint8 attributes = ek_span_u8(entry, 11);
    guint32 cluster = ek_span_le16(entry, 26);
    guint32 size = ek_span_le32(entry, 28);
    guint16 date = ek_span_le16(entry, 24);
    if (boot->bits == EK_FAT32)
        cluster |= (guint32)ek_span_le16(entry, 20) << 16;
    if (!ek_fat_is_plausible(entry) || ek_span_u8(entry, 0) == DELETED ||
        attributes == ATTRIBUTE_LONG_NAME)
        return FALSE;
    for (gsize i = 0; i < 11; i++)
        if (g_ascii_islower(ek_span_u8(entry, i)))
            return FALSE;
    if ((attributes & ATTRIBUTE_LABEL) != 0)
        return cluster == 0 && size == 0;
    if (!ek_timestamp_dos(date, ek_span_le16(entry, 22)).is_set)
        return FALSE;
    if ((attributes & ATTRIBUTE_FOLDER) != 0)
        return ek_fat_cluster_exists(boot, cluster) && size == 0;
    return size == 0 ? cluster == 0 || ek_fat_cluster_exists(boot, cluster)
                     : ek_fat_cluster_exists(boot, cluster) &&
                           size <= (guint64)boot->clusters * boot->cluster_bytes;
}

guint ek_fat_count_sound(EkSpan span, const EkFatBoot *boot)
{
    guint sound = 0;
    for (gsize at = 0; at + ENTRY_BYTES <= span.length && ek_span_u8(span, at) != 0;
         at += ENTRY_BYTES)
        sound += is_sound_entry(ek_span_part(span, at, ENTRY_BYTES), boot) ? 1 : 0;
    return sound;
}

gboolean ek_fat_is_folder(EkSpan span)
{
    guint plausible = 0;
    guint used = ek_fat_count_entries(span, &plausible);
    return plausible >= used - used / 4;
}

char *ek_fat_label_of(EkSpan span, guint8 *raw)
{
    for (gsize at = 0; at + ENTRY_BYTES <= span.length; at += ENTRY_BYTES) {
        EkSpan entry = ek_span_part(span, at, ENTRY_BYTES);
        guint8 attributes = ek_span_u8(entry, 11);
        if (ek_span_u8(entry, 0) == 0)
            break;
        if (ek_span_u8(entry, 0) == 0xe5 || attributes == ATTRIBUTE_LONG_NAME ||
            (attributes & ATTRIBUTE_LABEL) == 0)
            continue;
        if (raw != NULL)
            memcpy(raw, entry.data, 11);
        /* A label has no dot: its eleven bytes are one name. */
        gboolean escaped = FALSE;
        guint8 base[11];
        memset(base, ' ', sizeof base);
        memcpy(base, entry.data, 8);
        g_autofree char *left = ek_fat_short_name(base, 0, &escaped);
        memset(base, ' ', sizeof base);
        memcpy(base, entry.data + 8, 3);
        g_autofree char *right = ek_fat_short_name(base, 0, &escaped);
        gboolean full = entry.data[7] != ' ';
        char *label = *right == '\0' ? g_strdup(left)
                                     : g_strdup_printf("%s%s%s", left, full ? "" : " ", right);
        return g_strchomp(label);
    }
    return NULL;
}
