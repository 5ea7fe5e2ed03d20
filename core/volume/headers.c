/* SPDX-License-Identifier: MIT */
#include "volume/headers.h"

EkHeaderState ek_header_look(EkGate *gate, EkByte at, const guint8 *header, gsize length,
                             guint8 *copy)
{
    EkKnown known;
    memset(copy, 0, length);
    if (!ek_gate_read(gate, at, copy, length, &known, NULL))
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
        ek_volume_reason(volume, points, "%s at sector %" G_GUINT64_FORMAT " is valid", which,
                         sector);
        break;
    case EK_HEADER_UNREAD:
        ek_volume_reason(volume, 0, "%s at sector %" G_GUINT64_FORMAT " was not read: not checked",
                         which, sector);
        break;
    case EK_HEADER_DIFFERS:
        ek_volume_reason(volume, 0,
                         "%s is not at sector %" G_GUINT64_FORMAT ": something else stands there",
                         which, sector);
        break;
    case EK_HEADER_OUTSIDE:
        ek_volume_reason(volume, 0,
                         "%s would be at sector %" G_GUINT64_FORMAT ", past the end of the drive",
                         which, sector);
        break;
    }
}

void ek_header_mend(const EkVolume *volume, EkByte at, const char *what, EkMendSink sink,
                    void *data)
{
    gsize length = MIN(volume->own_sector_size, EK_HEADER_MOST);
    EkMend *mend = g_new0(EkMend, 1);
    mend->structure = volume->format->structure;
    mend->first_byte = at;
    mend->length = length;
    mend->after = g_memdup2(volume->header, length);
    mend->what = g_strdup(what);
    mend->from =
        g_strdup_printf("the copy at sector %" G_GUINT64_FORMAT, volume->header_byte / EK_STEP);
    sink(data, mend);
}
