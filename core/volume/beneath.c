/* SPDX-License-Identifier: MIT */
/* The reader that leaves out what newer volumes use. */
#include "volume/beneath.h"

#include "volume/headers.h"

typedef struct {
    EkReader reader;
    EkReader *inner;
    const GPtrArray *newer;
    EkRange run; /* the last one that was asked for, and... */
    gboolean is_used;
} Beneath;

static EkByte beneath_bytes(const EkReader *reader)
{
    return ek_reader_bytes(((const Beneath *)reader)->inner);
}

/* The run of alike bytes from `first` on, up to `end`. */
static EkByte run_of(Beneath *beneath, EkByte first, EkByte end, gboolean *is_used)
{
    if (!ek_range_holds(beneath->run, first)) {
        EkByte most = beneath_bytes(&beneath->reader) - first;
        EkByte same = 0;
        beneath->is_used = ek_usage_of_range(beneath->inner, beneath->newer, (EkRange){first, most},
                                             &same) == EK_USAGE_USED;
        beneath->run = (EkRange){first, MAX(same, 1)};
    }
    *is_used = beneath->is_used;
    return MIN(ek_range_end(beneath->run), end) - first;
}

static gboolean beneath_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                             GError **error)
{
    Beneath *beneath = (Beneath *)reader;
    EkByte end = first + length;
    if (!ek_reader_read(beneath->inner, first, buffer, length, NULL, error))
        return FALSE;
    for (EkByte at = first; at < end;) {
        gboolean is_used = FALSE;
        EkByte same = run_of(beneath, at, end, &is_used);
        if (is_used)
            memset(buffer + (at - first), 0, (gsize)same);
        at += same;
    }
    return TRUE;
}

static EkKnown beneath_known(const EkReader *reader, EkByte first, EkByte length)
{
    Beneath *beneath = (Beneath *)reader;
    EkKnown known = {0};
    for (EkByte at = first; at < first + length;) {
        gboolean is_used = FALSE;
        EkByte same = run_of(beneath, at, first + length, &is_used);
        EkKnown here = ek_reader_known(beneath->inner, at, same);
        known.good += is_used ? 0 : here.good;
        known.bad += is_used ? same : here.bad;
        known.unread += is_used ? 0 : here.unread;
        at += same;
    }
    return known;
}

static gboolean beneath_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                                  gboolean *bad)
{
    return ek_reader_next_hole(((const Beneath *)reader)->inner, from, limit, hole, bad);
}

static gboolean beneath_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    return ek_reader_next_data(((Beneath *)reader)->inner, from, data);
}

static void beneath_free(EkReader *reader)
{
    g_free(reader);
}

static const EkReaderKind kind = {beneath_bytes,     beneath_read,      beneath_known,
                                  beneath_next_hole, beneath_next_data, beneath_free};

EkReader *ek_reader_beneath(EkReader *inner, const GPtrArray *newer)
{
    Beneath *beneath = g_new0(Beneath, 1);
    beneath->reader.kind = &kind;
    beneath->inner = inner;
    beneath->newer = newer;
    return &beneath->reader;
}

EkReader *ek_reader_whole(EkReader *reader)
{
    return reader->kind == &kind ? ((Beneath *)reader)->inner : reader;
}
