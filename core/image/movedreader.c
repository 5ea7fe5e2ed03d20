/* SPDX-License-Identifier: MIT */
/* The reader that gives the copies of blocks that were moved, as a journal has them. */
#include "image/reader.h"

#include "base/error.h"

typedef struct {
    EkReader reader;
    EkReader *inner;
    const EkMoves *moves;
} Moved;

static EkByte moved_bytes(const EkReader *reader)
{
    return ek_reader_bytes(((const Moved *)reader)->inner);
}

/* The part of a moved block that lies in [first, end). */
static EkRange part_of(const Moved *moved, const EkMove *move, EkByte first, EkByte end)
{
    EkByte from = MAX(move->at, first);
    return (EkRange){from, MIN(move->at + moved->moves->block_bytes, end) - from};
}

static gboolean moved_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                           GError **error)
{
    const Moved *moved = (const Moved *)reader;
    EkByte end = first + length;
    const EkMove *move;
    if (!ek_reader_read(moved->inner, first, buffer, length, NULL, error))
        return FALSE;
    for (EkByte at = first; (move = ek_moves_next(moved->moves, at, end)) != NULL;) {
        EkRange part = part_of(moved, move, first, end);
        EkByte inside = part.first - move->at;
        guint8 *into = buffer + (part.first - first);
        if (!ek_reader_read(moved->inner, move->from + inside, into, (gsize)part.bytes, NULL,
                            error))
            return FALSE;
        for (EkByte i = inside;
             move->patch && i < MIN(sizeof moved->moves->first, inside + part.bytes); i++)
            into[i - inside] = moved->moves->first[i];
        at = ek_range_end(part);
    }
    return TRUE;
}

static void add_known(EkKnown *sum, EkKnown known)
{
    sum->good += known.good;
    sum->bad += known.bad;
    sum->unread += known.unread;
}

static EkKnown moved_known(const EkReader *reader, EkByte first, EkByte length)
{
    const Moved *moved = (const Moved *)reader;
    EkByte at = first;
    EkByte end = first + length;
    EkKnown known = {0};
    const EkMove *move;
    while ((move = ek_moves_next(moved->moves, at, end)) != NULL) {
        EkRange part = part_of(moved, move, at, end);
        add_known(&known, ek_reader_known(moved->inner, at, part.first - at));
        add_known(&known,
                  ek_reader_known(moved->inner, move->from + (part.first - move->at), part.bytes));
        at = ek_range_end(part);
    }
    add_known(&known, ek_reader_known(moved->inner, at, end - at));
    return known;
}

static gboolean moved_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                                gboolean *bad)
{
    return ek_reader_next_hole(((const Moved *)reader)->inner, from, limit, hole, bad);
}

static gboolean moved_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    return ek_reader_next_data(((Moved *)reader)->inner, from, data);
}

static void moved_free(EkReader *reader)
{
    g_free(reader);
}

EkReader *ek_reader_moved(EkReader *inner, const EkMoves *moves)
{
    static const EkReaderKind kind = {moved_bytes,     moved_read,      moved_known,
                                      moved_next_hole, moved_next_data, moved_free};
    Moved *moved = g_new0(Moved, 1);
    moved->reader.kind = &kind;
    moved->inner = inner;
    moved->moves = moves;
    return &moved->reader;
}
