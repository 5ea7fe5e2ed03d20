/* SPDX-License-Identifier: MIT */
/* What many types do while they follow. */
#ifndef EK_CARVE_FOLLOWED_H
#define EK_CARVE_FOLLOWED_H

#include "carve/type.h"

/* Its structure ends at `length`. */
void ek_followed_end(EkFollowed *followed, EkByte length, EkProof proof, const char *why);

#define EK_GROUND_ENDS "the searched area ends" /* why it is cut */

/* Its structure ends at `end`, as it says, or it is cut where the content ends before that; up to
 * `sure` it surely is one. */
void ek_followed_end_within(EkContent *content, EkFollowed *followed, EkByte end, EkByte sure,
                            EkProof proof, const char *why);

/* It is no more right at `at`; up to `sure` it surely was. Too little of it (`sure` below `least`)
 * is none. */
void ek_followed_break(EkFollowed *followed, EkByte sure, EkByte at, EkByte least, const char *why);

/* Takes a text for its own words, when it has none yet: UTF-8, or Latin-1 where it is none; blanks
 * at the ends, and what no name can have, go. */
void ek_followed_words(EkFollowed *followed, EkSpan text);

/* Appends to its words, behind a blank. */
void ek_followed_add_words(EkFollowed *followed, EkSpan text);

/* The same of UTF-16. */
void ek_followed_words_utf16(EkFollowed *followed, EkSpan units, gboolean big_endian);

/* "2025:06-14 10.32:05" and its like, digits in this order: its date, when it is a likely one. */
void ek_followed_date_digits(EkFollowed *followed, EkSpan text, gboolean is_local);

void ek_followed_date(EkFollowed *followed, EkTimestamp date);

/* The ending of its name. */
void ek_followed_ending(EkFollowed *followed, const char *ending);

/* Calls for these bytes of it, a multiple of 4 at once but for the last. FALSE where they are not
 * all there, or the call says no: then at once. */
typedef gboolean (*EkContentTake)(void *data, EkSpan span);
gboolean ek_content_each(EkContent *content, EkByte offset, EkByte bytes, EkContentTake take,
                         void *data);

/* The CRC-32 (IEEE 802.3) of a part of it; FALSE where it has not so many bytes,
 * or not all were read. */
gboolean ek_content_crc32(EkContent *content, EkByte offset, EkByte bytes, guint32 *sum);

/* The first place at or behind `offset`, before `limit`, where these bytes stand; FALSE: none. */
gboolean ek_content_seek(EkContent *content, EkByte offset, EkByte limit, const void *bytes,
                         gsize length, EkByte *found);

/* Blanks and line ends at `at` are the text's too, as most writers leave some; where what follows
 * them is neither zeros nor another block, it may as well be somebody else's: then the text is
 * doubtful. Returns where the text ends. */
EkByte ek_followed_line_end(EkContent *content, EkFollowed *followed, EkByte at);

/* Clusters are multiples of this, from the beginning of a file on: what is overwritten in a file is
 * at least one of them. */
#define EK_FOLLOWED_BLOCK 4096u

/* Does a whole block lie in [first, end) of a file? Where nothing is checked in there, a foreign
 * one would not be noticed. */
static inline gboolean ek_may_hide(EkByte first, EkByte end)
{
    return ek_divide_up(first, EK_FOLLOWED_BLOCK) * EK_FOLLOWED_BLOCK + EK_FOLLOWED_BLOCK <= end;
}

/* No honest packer makes so much of so little: it is not unpacked, as many may stand there, and
 * each would cost as much. */
static inline gboolean ek_unpacks_too_much(EkByte packed, guint64 unpacked)
{
    return unpacked > (1u << 20) && (unpacked >> 10) > packed + 1024;
}

/* What is recognised last in a file begins at `last`, and ends at `end`, behind which nothing goes
 * on: does the file end there? FALSE where it may as well have been cut off, which happens where a
 * sector ends, or a block: zeros behind it up to the next block speak against the former. */
gboolean ek_content_ends_at(EkContent *content, EkByte last, EkByte end);

/* Behind `count` parts of a file that each could be one (members, streams, frames) another one
 * begins at `at`: is it of this file? Where a block begins it may as well be a file of its own:
 * then this one is doubtful. */
gboolean ek_followed_has_more(EkFollowed *followed, EkByte at, guint count);

/* A byte of text in ASCII, or of more than ASCII: no mark of control. */
static inline gboolean ek_byte_is_text(guint8 c)
{
    return c >= 0x20 ? c != 0x7f : c == '\t' || c == '\n' || c == '\r' || c == '\f';
}

/* Is all of it one value, as what was never written is? Pure. */
gboolean ek_block_is_filler(EkSpan block);

/* May a block be of these? Of text its first bytes count, as its last block has others behind them.
 * Pure. */
gboolean ek_block_may_be(EkSpan block, EkTexture texture);

/* The first whole block of [at, end) of it that may not; `end`: all may. A block has `bytes`, of
 * which the first 4096 count. */
EkByte ek_content_first_unlike(EkContent *content, EkByte at, EkByte end, EkByte bytes,
                               EkTexture texture);

/* Where nothing in it tells its end: are there zeros behind it up to the next sector, as whoever
 * writes a file leaves them, and none right before it? FALSE too where a sector ends with it. */
gboolean ek_content_is_padded(EkContent *content, EkByte end);

/* Are all of these bytes zero? FALSE too where there are not so many. */
gboolean ek_content_is_zero(EkContent *content, EkByte offset, EkByte bytes);

#endif
