/* SPDX-License-Identifier: MIT */
/* What the file systems with a primary and a backup boot sector share. */
#include "volume/headers.h"

EkHeaderState ek_header_look(EkReader *reader, EkByte at, const guint8 *header, gsize length,
                             guint8 *copy)
{
    EkKnown known;
    memset(copy, 0, length);
    if (!ek_reader_read(reader, at, copy, length, &known, NULL))
        return EK_HEADER_OUTSIDE;
    if (known.good < length)
        return EK_HEADER_UNREAD;
    return memcmp(copy, header, length) == 0 ? EK_HEADER_AGREES : EK_HEADER_DIFFERS;
}

void ek_header_reason(EkVolume *volume, EkHeaderState state, const char *which, EkByte at,
                      int points)
{
    EkSector sector = at / EK_STEP;
    switch (state) {
    case EK_HEADER_AGREES:
        volume->headers++;
        ek_volume_reason(volume, points, "%s at sector %" G_GUINT64_FORMAT " is valid", which,
                         sector);
        break;
    case EK_HEADER_UNREAD:
        ek_volume_reason(volume, 0,
                         "%s at sector %" G_GUINT64_FORMAT " could not be checked (unread)", which,
                         sector);
        break;
    case EK_HEADER_DIFFERS:
        volume->contradicted++;
        ek_volume_reason(volume, 0,
                         "%s not found at sector %" G_GUINT64_FORMAT " (other data there)", which,
                         sector);
        break;
    case EK_HEADER_OUTSIDE:
        ek_volume_reason(volume, 0,
                         "%s would be at sector %" G_GUINT64_FORMAT ", past the end of the drive",
                         which, sector);
        break;
    }
}

void ek_header_repair(const EkVolume *volume, EkByte at, const char *what, EkRepairSink sink,
                      void *data)
{
    gsize length = MIN(volume->own_sector_size, EK_HEADER_BYTES);
    EkRepair *repair = g_new0(EkRepair, 1);
    repair->structure = volume->format->structure;
    repair->first_byte = at;
    repair->length = length;
    repair->after = g_memdup2(volume->header, length);
    repair->what = g_strdup(what);
    repair->from = volume->composed
                       ? g_strdup_printf("other metadata")
                       : g_strdup_printf("the backup copy at sector %" G_GUINT64_FORMAT,
                                         volume->header_byte / EK_STEP);
    sink(data, repair);
}

void ek_header_repair_range(EkReader *reader, const char *structure, EkByte at,
                            const guint8 *wanted, gsize length, const char *what, const char *from,
                            EkRepairSink sink, void *data)
{
    gsize first = length;
    gsize end = 0;
    for (gsize i = 0; i < length; i += EK_STEP) {
        guint8 there[EK_STEP];
        if (ek_presence_read(reader, at + i, there, sizeof there) == EK_PRESENT &&
            memcmp(there, wanted + i, sizeof there) == 0)
            continue;
        first = MIN(first, i);
        end = i + EK_STEP;
    }
    if (first >= end)
        return;
    EkRepair *repair = g_new0(EkRepair, 1);
    repair->structure = structure;
    repair->first_byte = at + first;
    repair->length = end - first;
    repair->after = g_memdup2(wanted + first, repair->length);
    repair->what = g_strdup(what);
    repair->from = g_strdup(from);
    sink(data, repair);
}

EkPresence ek_presence_read(EkReader *reader, EkByte at, guint8 *buffer, gsize length)
{
    EkKnown known;
    memset(buffer, 0, length);
    if (at > G_MAXINT64 || !ek_reader_read(reader, at, buffer, length, &known, NULL))
        return EK_ABSENT;
    return known.good < length ? EK_UNREAD : EK_PRESENT;
}

void ek_presence_reason(EkVolume *volume, EkPresence part, const char *what, EkByte at, int points)
{
    EkSector sector = at / EK_STEP;
    switch (part) {
    case EK_PRESENT:
        ek_volume_reason(volume, points,
                         "%s found at sector %" G_GUINT64_FORMAT ", as the header states", what,
                         sector);
        break;
    case EK_UNREAD:
        ek_volume_reason(volume, 0,
                         "%s at sector %" G_GUINT64_FORMAT " could not be checked (unread)", what,
                         sector);
        break;
    case EK_ABSENT:
        volume->contradicted++;
        ek_volume_reason(volume, 0, "%s is not at sector %" G_GUINT64_FORMAT, what, sector);
        break;
    }
}

EkVolume *ek_header_begin(const char *filesystem, EkReader *reader, const EkCandidate *candidate,
                          guint8 *data, gsize length, GError **error)
{
    EkByte limit = ek_reader_bytes(reader);
    gsize there = (gsize)MIN(length, limit - MIN(candidate->header_byte, limit));
    memset(data, 0, length);
    if (!ek_reader_read(reader, candidate->header_byte, data, there, NULL, error))
        return NULL;
    EkVolume *volume = ek_volume_new(NULL, filesystem);
    volume->first_byte = candidate->first_byte;
    volume->header_byte = candidate->header_byte;
    volume->own_sector_size = EK_STEP;
    volume->by_backup = candidate->role == EK_ROLE_BACKUP;
    memcpy(volume->header, data, EK_HEADER_BYTES);
    return volume;
}

gboolean ek_is_usual_start(EkByte at)
{
    const EkByte track = 63 * EK_STEP;
    const EkByte cylinder = 255 * track;
    return at % ((EkByte)1 << 20) == 0 || at % cylinder == 0 || at % cylinder == track;
}

void ek_header_end(EkVolume *volume, gboolean stands)
{
    volume->is_confirmed = stands;
    if (!stands)
        ek_volume_reason(volume, -100,
                         "none of the structures it points to were found: not a volume");
}

#define BITMAP_READ 4096u /* bytes: as much as costs no more than one */

/* How many bytes have all bits set, or none. */
static gsize alike_bytes(const guint8 *bits, gsize length, gboolean are_set)
{
    const guint8 wanted = are_set ? 0xff : 0;
    gsize count = 0;
    while (count < length && bits[count] == wanted)
        count++;
    return count;
}

EkUsage ek_usage_bits(EkReader *reader, EkByte at, guint64 bit, guint64 most, guint64 *same)
{
    guint8 bits[BITMAP_READ];
    gsize skip = (gsize)(bit % 8);
    guint64 bits_most = MIN(most, (guint64)sizeof bits * 8 - skip);
    gsize length = (gsize)ek_divide_up(skip + bits_most, 8);
    EkByte place = 0;
    *same = 1;
    if (!g_uint64_checked_add(&place, at, bit / 8))
        return EK_USAGE_UNKNOWN;
    /* Where not all of it was read, a byte may have been. */
    if (ek_presence_read(reader, place, bits, length) != EK_PRESENT) {
        length = 1;
        if (ek_presence_read(reader, place, bits, length) != EK_PRESENT)
            return EK_USAGE_UNKNOWN;
    }
    gboolean is_used = (bits[0] >> skip & 1) != 0;
    gsize end = skip + (gsize)MIN(bits_most, (guint64)length * 8 - skip);
    gsize next = skip + 1;
    while (next < end) {
        gsize whole = next % 8 == 0 ? alike_bytes(bits + next / 8, (end - next) / 8, is_used) : 0;
        next += whole * 8;
        if (next >= end || ((bits[next / 8] >> next % 8 & 1) != 0) != is_used)
            break;
        next++;
    }
    *same = next - skip;
    return is_used ? EK_USAGE_USED : EK_USAGE_FREE;
}

EkUsage ek_usage_bit(EkReader *reader, EkByte at, guint64 bit)
{
    guint64 same = 0;
    return ek_usage_bits(reader, at, bit, 1, &same);
}

EkUsage ek_usage_of_range(EkReader *reader, const GPtrArray *volumes, EkRange range, EkByte *same)
{
    EkUsage usage = EK_USAGE_FREE;
    *same = range.bytes;
    for (guint i = 0; i < volumes->len && usage != EK_USAGE_USED; i++) {
        const EkVolume *volume = volumes->pdata[i];
        EkRange own = ek_volume_range(volume);
        EkByte alike = 0;
        if (!ek_range_holds(own, range.first)) {
            if (own.first > range.first)
                *same = MIN(*same, own.first - range.first);
            continue;
        }
        EkRange inside = {range.first, MIN(*same, ek_range_end(own) - range.first)};
        EkUsage its = ek_volume_use(volume, reader, inside, &alike);
        *same = MIN(inside.bytes, alike);
        usage = its != EK_USAGE_FREE ? its : usage;
    }
    return usage;
}

EkUsage ek_usage_by_any(EkReader *reader, const GPtrArray *volumes, EkByte at)
{
    EkByte same = 0;
    return ek_usage_of_range(reader, volumes, (EkRange){at, 1}, &same);
}

gboolean ek_may_hold_data(EkReader *reader, EkByte at, EkByte bytes, EkRange *data)
{
    if (at >= ek_range_end(*data) && !ek_reader_next_data(reader, at, data))
        *data = (EkRange){G_MAXINT64, 1};
    return at + bytes > data->first;
}
