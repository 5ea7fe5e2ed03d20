/* SPDX-License-Identifier: MIT */
/* Sets of entries of an exFAT folder. */
#include "volume/exfat/set.h"

#define FOLDER_ATTRIBUTE 0x10u
#define ONE_PIECE 2u   /* of a stream's flags: the FAT says nothing of it */
#define TAIL_LEAST 16u /* bytes behind an end that tell something */

gsize ek_exfat_set_bytes(EkSpan span)
{
    gsize entries = ek_span_u8(span, 1) + 1ul;
    if ((ek_span_u8(span, 0) | EK_EXFAT_IN_USE) != EK_EXFAT_FILE || entries < EK_EXFAT_SET_LEAST ||
        entries > EK_EXFAT_SET_MOST)
        return 0;
    return entries * EK_EXFAT_ENTRY_BYTES;
}

/* Over all of a set but for its own two bytes; `in_use` is set in the type of each entry, as it was
 * before it was deleted (0: as it is). */
static guint16 sum_of(EkSpan set, guint8 in_use)
{
    guint16 sum = 0;
    for (gsize i = 0; i < set.length; i++) {
        guint8 byte = ek_span_u8(set, i);
        if (i == 2 || i == 3)
            continue;
        if (i % EK_EXFAT_ENTRY_BYTES == 0)
            byte |= in_use;
        sum = (guint16)((guint)(sum >> 1 | (guint)sum << 15) + byte);
    }
    return sum;
}

gboolean ek_exfat_set_read(EkSpan span, EkExfatSet *set)
{
    gsize bytes = ek_exfat_set_bytes(span);
    EkSpan stream = ek_span_part(span, EK_EXFAT_ENTRY_BYTES, EK_EXFAT_ENTRY_BYTES);
    if (bytes == 0 || bytes > span.length ||
        (ek_span_u8(stream, 0) | EK_EXFAT_IN_USE) != EK_EXFAT_STREAM)
        return FALSE;
    guint16 attributes = ek_span_le16(span, 4);
    gboolean is_deleted = (ek_span_u8(span, 0) & EK_EXFAT_IN_USE) == 0;
    *set = (EkExfatSet){
        .is_deleted = is_deleted,
        .is_folder = (attributes & FOLDER_ATTRIBUTE) != 0,
        .is_sound = sum_of(ek_span_part(span, 0, bytes), is_deleted ? EK_EXFAT_IN_USE : 0) ==
                    ek_span_le16(span, 2),
        .one_piece = (ek_span_u8(stream, 1) & ONE_PIECE) != 0,
        .attributes = attributes,
        .cluster = ek_span_le32(stream, 20),
        .name_units = ek_span_u8(stream, 3),
        .bytes = MIN(ek_span_le64(stream, 24), G_MAXINT64),
        .valid = MIN(ek_span_le64(stream, 8), G_MAXINT64),
    };
    return TRUE;
}

EkPresence ek_exfat_look_at_end(EkReader *reader, const EkExfatSet *set, EkByte heap,
                                guint32 cluster_bytes)
{
    guint8 sector[EK_STEP];
    gsize used = (gsize)(set->bytes % EK_STEP);
    EkByte first = heap + (EkByte)(set->cluster - 2) * cluster_bytes;
    EkByte at = first + set->bytes / EK_STEP * EK_STEP;
    /* A chain may lead anywhere, and ends on a boundary of sectors tell nothing. */
    if (set->is_folder || set->cluster < 2 || set->bytes == 0 || set->valid < set->bytes ||
        (!set->one_piece && set->bytes > cluster_bytes) || used == 0 ||
        used > sizeof sector - TAIL_LEAST || set->bytes > ek_reader_bytes(reader) ||
        ek_presence_read(reader, at, sector, sizeof sector) != EK_PRESENT ||
        ek_bytes_are_zero(sector, sizeof sector))
        return EK_UNREAD;
    return sector[used - 1] != 0 && ek_bytes_are_zero(sector + used, sizeof sector - used)
               ? EK_PRESENT
               : EK_ABSENT;
}
