/* SPDX-License-Identifier: MIT */
/* Filters before packing, undone. */
#include "carve/unfilter.h"

#include "base/bytes.h"

#define PIECE 4096u

EkUnfilterKind ek_unfilter_of(guint64 number)
{
    switch (number) {
    case 3: return EK_UNFILTER_DELTA;
    case 4: return EK_UNFILTER_X86;
    case 5: return EK_UNFILTER_POWERPC;
    case 7: return EK_UNFILTER_ARM;
    case 8: return EK_UNFILTER_THUMB;
    case 9: return EK_UNFILTER_SPARC;
    case 10: return EK_UNFILTER_ARM64;
    default: return EK_UNFILTER_OTHER;
    }
}

/* Each of these undoes what it can of some bytes, of which the first one is at filter->position,
 * and returns how many are known. */
typedef gsize (*Undo)(EkUnfilter *filter, guint8 *bytes, gsize length);

static gsize undo_delta(EkUnfilter *filter, guint8 *bytes, gsize length)
{
    for (gsize i = 0; i < length; i++) {
        guint32 at = filter->position + (guint32)i;
        bytes[i] = (guint8)(bytes[i] + filter->before[(at - filter->distance) % 256]);
        filter->before[at % 256] = bytes[i];
    }
    return length;
}

/* --- x86 -------------------------------------------------------------------------------------- */

#define BRANCH 0x01u /* in `recent`: it began one and was left as it is */
#define NEAR 0x10u   /* and the last byte of its target would be that of a near one */
#define RECENT 0x77u /* four bytes back they are forgotten */

static gboolean is_sign(guint32 byte)
{
    return byte == 0 || byte == 0xff;
}

/* A branch in the target of another one that was left as it is: its bytes were changed until none
 * of that other one's looks near. `back` is how far back that one is; 0: there is none. */
static guint32 distance_of(guint32 target, guint32 next, guint back)
{
    enum { ROUNDS_MOST = 8 };
    for (guint i = 0; i < ROUNDS_MOST && back > 0; i++) {
        guint32 distance = target - next;
        guint shift = 24 - 8 * back;
        if (!is_sign(distance >> shift & 0xff))
            return distance;
        target = distance ^ ((1u << (shift + 8)) - 1);
    }
    return target - next;
}

static gsize undo_x86(EkUnfilter *filter, guint8 *bytes, gsize length)
{
    gsize i = 0;
    while (i + 5 <= length) {
        guint32 recent = filter->recent;
        gboolean is_branch = (bytes[i] & 0xfe) == 0xe8;
        gboolean is_near = is_branch && is_sign(bytes[i + 4]);
        guint back = recent == BRANCH << 1 ? 1 : recent == BRANCH << 2 ? 2 : 3;
        if (is_near && (recent == 0 || recent == BRANCH << back)) {
            guint32 next = filter->position + (guint32)i + 5;
            guint32 distance = distance_of(ek_span_le32((EkSpan){bytes + i + 1, 4}, 0), next,
                                           recent == 0 ? 0 : back);
            ek_put_le32(bytes + i + 1, distance & 0xffffff);
            bytes[i + 4] = (distance >> 24 & 1) != 0 ? 0xff : 0;
            filter->recent = 0;
            i += 5;
        } else {
            recent |= (is_branch ? BRANCH : 0) | (is_near ? NEAR : 0);
            filter->recent = (recent & RECENT) << 1;
            i++;
        }
    }
    return i;
}

/* --- instructions of four bytes --------------------------------------------------------------- */

static guint32 undo_powerpc(guint32 code, guint32 at)
{
    return code >> 26 == 0x12 && (code & 3) == 1 ? 0x48000001 | ((code - at) & 0x03fffffc) : code;
}

static guint32 undo_arm(guint32 code, guint32 at)
{
    return code >> 24 == 0xeb ? 0xeb000000 | ((code - ((at + 8) >> 2)) & 0xffffff) : code;
}

static guint32 undo_sparc(guint32 code, guint32 at)
{
    if (code >> 22 != 0x100 && code >> 22 != 0x1ff)
        return code;
    guint32 distance = (code << 2) - at;
    guint32 sign = (distance >> 24 & 1) != 0 ? 0x3fc00000 : 0;
    return 0x40000000 | sign | (distance >> 2 & 0x3fffff);
}

/* Calls, and addresses of pages that are not far away. */
static guint32 undo_arm64(guint32 code, guint32 at)
{
    if (code >> 26 == 0x25)
        return 0x94000000 | ((code - (at >> 2)) & 0x03ffffff);
    guint32 page = (code >> 29 & 3) | (code >> 3 & 0x1ffffc);
    if ((code & 0x9f000000) != 0x90000000 || ((page + 0x20000) & 0x1c0000) != 0)
        return code;
    page -= at >> 12;
    guint32 sign = (page & 0x20000) != 0 ? 0xe00000 : 0;
    return (code & 0x9000001f) | (page & 3) << 29 | (page & 0x3fffc) << 3 | sign;
}

static gsize undo_words(EkUnfilter *filter, guint8 *bytes, gsize length)
{
    gsize i = 0;
    for (; i + 4 <= length; i += 4) {
        guint32 at = filter->position + (guint32)i;
        EkSpan word = {bytes + i, 4};
        if (filter->kind == EK_UNFILTER_POWERPC)
            ek_put_be32(bytes + i, undo_powerpc(ek_span_be32(word, 0), at));
        else if (filter->kind == EK_UNFILTER_SPARC)
            ek_put_be32(bytes + i, undo_sparc(ek_span_be32(word, 0), at));
        else if (filter->kind == EK_UNFILTER_ARM)
            ek_put_le32(bytes + i, undo_arm(ek_span_le32(word, 0), at));
        else
            ek_put_le32(bytes + i, undo_arm64(ek_span_le32(word, 0), at));
    }
    return i;
}

/* A call is two instructions of two bytes. */
static gsize undo_thumb(EkUnfilter *filter, guint8 *bytes, gsize length)
{
    gsize i = 0;
    for (; i + 4 <= length; i += 2) {
        guint32 high = ek_span_le16((EkSpan){bytes + i, 2}, 0);
        guint32 low = ek_span_le16((EkSpan){bytes + i + 2, 2}, 0);
        if (high >> 11 != 0x1e || low >> 11 != 0x1f)
            continue;
        guint32 target = (high & 0x7ff) << 11 | (low & 0x7ff);
        guint32 distance = target - ((filter->position + (guint32)i + 4) >> 1);
        ek_put_le16(bytes + i, (guint16)(0xf000 | (distance >> 11 & 0x7ff)));
        ek_put_le16(bytes + i + 2, (guint16)(0xf800 | (distance & 0x7ff)));
        i += 2;
    }
    return i;
}

/* --- a stream --------------------------------------------------------------------------------- */

static gsize undo(EkUnfilter *filter, guint8 *bytes, gsize length)
{
    static const Undo undos[EK_UNFILTER_OTHER] = {
        [EK_UNFILTER_DELTA] = undo_delta,   [EK_UNFILTER_X86] = undo_x86,
        [EK_UNFILTER_POWERPC] = undo_words, [EK_UNFILTER_ARM] = undo_words,
        [EK_UNFILTER_THUMB] = undo_thumb,   [EK_UNFILTER_SPARC] = undo_words,
        [EK_UNFILTER_ARM64] = undo_words};
    return filter->kind < EK_UNFILTER_OTHER && undos[filter->kind] != NULL
               ? undos[filter->kind](filter, bytes, length)
               : length;
}

void ek_unfilter_push(EkUnfilter *filter, const guint8 *bytes, gsize length, EkUnfilterTake take,
                      void *data)
{
    guint8 piece[EK_UNFILTER_AHEAD + PIECE];
    if (filter->kind == EK_UNFILTER_NONE) {
        take(data, bytes, length);
        return;
    }
    while (length > 0) {
        gsize more = MIN(length, PIECE);
        memcpy(piece, filter->ahead, filter->waiting);
        memcpy(piece + filter->waiting, bytes, more);
        gsize all = filter->waiting + more;
        gsize known = undo(filter, piece, all);
        take(data, piece, known);
        filter->position += (guint32)known;
        filter->waiting = (guint)(all - known);
        memcpy(filter->ahead, piece + known, filter->waiting);
        bytes += more;
        length -= more;
    }
}

void ek_unfilter_finish(EkUnfilter *filter, EkUnfilterTake take, void *data)
{
    take(data, filter->ahead, filter->waiting);
    filter->waiting = 0;
}
