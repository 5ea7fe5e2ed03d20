/* SPDX-License-Identifier: MIT */
/* tar (POSIX.1-1988 ustar and later): headers with a sum, each followed by its file in whole
 * blocks, and two empty blocks at the end. */
#include "carve/followed.h"
#include "carve/parts.h"
#include "carve/types/all.h"

#define BLOCK 512u
#define RECORD 10240u
#define PLACES_MOST 65536u /* blocks of places of one sparse file */
#define MEMBERS_MOST 10000000u

static const EkSignature signatures[] = {{257, 5, {'u', 's', 't', 'a', 'r'}, {0}}};

static guint64 octal(EkSpan span, gsize at, gsize length)
{
    guint64 value = 0;
    /* Large sizes are binary. */
    if ((ek_span_u8(span, at) & 0x80) != 0)
        return ek_span_be64(span, at + length - 8);
    for (gsize i = 0; i < length; i++) {
        guint8 c = ek_span_u8(span, at + i);
        if (c >= '0' && c <= '7')
            value = value << 3 | (guint64)(c - '0');
        else if (c != ' ' || value != 0)
            break;
    }
    return value;
}

/* Some writers took the bytes for signed ones. */
static gboolean begin(EkSpan span)
{
    gint64 sum = 8 * ' ';
    gint64 negative = 0;
    if (span.length < BLOCK)
        return FALSE;
    for (gsize i = 0; i < BLOCK; i++) {
        guint8 byte = i >= 148 && i < 156 ? 0 : span.data[i];
        sum += byte;
        negative += byte >= 0x80 ? 256 : 0;
    }
    gint64 told = (gint64)octal(span, 148, 8);
    return (told == sum || told == sum - negative) && ek_span_u8(span, 0) != 0;
}

/* Where it is up to. */
typedef struct {
    EkByte at;
    EkByte sure;   /* up to here it surely is of it: headers, and entries that are right */
    guint64 told;  /* the size of the next entry, where one is told before its header; 0: none */
    EkRange wrong; /* an entry that is not right, with the next header behind it; 0 bytes: none */
} Place;

static gboolean is_header(EkContent *content, EkByte at)
{
    EkSpan head = ek_content_some(content, at, BLOCK);
    return head.length == BLOCK && begin(head);
}

/* Where the places of a sparse file do not fit into its header, blocks of them follow it. */
static EkByte header_bytes(EkContent *content, EkByte at)
{
    EkSpan head = ek_content_some(content, at, BLOCK);
    gboolean has_more = ek_span_u8(head, 156) == 'S' && ek_span_u8(head, 482) == 1;
    EkByte bytes = BLOCK;
    for (guint i = 0; has_more && i < PLACES_MOST; i++, bytes += BLOCK)
        has_more = ek_span_u8(ek_content_some(content, at + bytes, BLOCK), 504) == 1;
    return bytes;
}

/* Only what is longer than a block can be in pieces. Where the next header stands right behind one
 * that is wrong, it was so when it was packed. */
static gboolean take_entry(EkContent *content, EkFollowed *followed, Place *place, EkByte size)
{
    EkByte first = place->at + header_bytes(content, place->at);
    EkByte next = first + ek_divide_up(size, BLOCK) * BLOCK;
    EkByte there = ek_content_bytes(content);
    gboolean is_there = next <= there && ek_content_at(content, next - 1, 1).length == 1;
    EkVerification entry = {0};
    if (size > BLOCK && first < there)
        entry = ek_parts_verify_one(content, first, MIN(size, there - first));
    gboolean is_wrong = entry.verified == EK_VERIFIED_WRONG;
    gboolean goes_on = is_there && (!is_wrong || is_header(content, next));
    if (!goes_on && is_wrong)
        ek_parts_break(followed, &entry, first, BLOCK, "an entry of it breaks");
    else if (!goes_on)
        ek_followed_break(followed, first, place->at, BLOCK, "no header where one must stand");
    if (!goes_on)
        return FALSE;
    place->sure = first;
    if (size <= BLOCK || (entry.verified == EK_VERIFIED_RIGHT &&
                          (entry.at == size || entry.followed.proof >= EK_PROOF_DECODED)))
        place->sure = next;
    if (is_wrong)
        place->wrong = (EkRange){first, size};
    place->at = next;
    return TRUE;
}

/* Digits at *at, which is left behind them. */
static guint64 decimal(EkSpan span, gsize *at)
{
    guint64 value = 0;
    for (; g_ascii_isdigit((gchar)ek_span_u8(span, *at)) && value < G_MAXINT64 / 16; ++*at)
        value = value * 10 + (guint64)(span.data[*at] - '0');
    return value;
}

/* The size of the next entry, where the records of a header before it tell one (POSIX.1-2001: their
 * length, a key and a value, as in "13 size=7011" with a line end); 0: they do not. */
static guint64 told_size(EkSpan records)
{
    gsize at = 0;
    while (at < records.length) {
        gsize inside = at;
        guint64 length = decimal(records, &inside);
        if (ek_span_equals(records, inside, " size=", 6)) {
            inside += 6;
            return decimal(records, &inside);
        }
        if (length == 0 || length > records.length)
            break;
        at += (gsize)length;
    }
    return 0;
}

static void take_first(EkFollowed *followed, EkSpan head)
{
    gsize length = 0;
    while (length < 100 && ek_span_u8(head, length) != 0)
        length++;
    ek_followed_words(followed, ek_span_part(head, 0, length));
    ek_followed_date(followed, ek_timestamp_utc((gint64)octal(head, 136, 12)));
}

/* Behind an entry that nothing speaks for the empty blocks may be another's: unless they fill up a
 * record, as most writers do. */
static void end(EkContent *content, EkFollowed *followed, const Place *place)
{
    EkByte bytes = ek_content_bytes(content);
    EkByte end = MIN(place->at + (EkByte)2 * BLOCK, bytes);
    EkByte padded = ek_divide_up(end, RECORD) * RECORD;
    gboolean is_padded =
        padded <= bytes && ek_content_is_zero(content, place->at, padded - place->at);
    /* One whose first entries are missing looks like this too. */
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, is_padded ? padded : end, EK_PROOF_TABLES,
                    "the sums of all headers; whether the first one is the beginning is not known");
    followed->is_wrong = place->wrong.bytes > 0;
    followed->broken = (EkBroken){.first = place->wrong.first, .bytes = place->wrong.bytes};
    if (place->sure < place->at && !is_padded)
        followed->sure = place->sure;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Place place = {0};
    ek_content_kept(content, &place, sizeof place);
    for (guint i = 0; i < MEMBERS_MOST; i++) {
        EkSpan head = ek_content_some(content, place.at, BLOCK);
        if (head.length == BLOCK && ek_bytes_are_zero(head.data, BLOCK) && place.at > 0)
            break;
        guint64 size = octal(head, 124, 12);
        guint8 kind = ek_span_u8(head, 156);
        gboolean has_data = kind < '1' || kind > '6';
        if (place.told > 0 && kind != 'x')
            size = place.told;
        if (!begin(head) || size > G_MAXINT64 / 4) {
            ek_followed_break(followed, place.sure, place.at, BLOCK,
                              "no header where one must stand");
            return;
        }
        if (place.at == 0)
            take_first(followed, head);
        gsize records = (gsize)MIN(size, RECORD);
        place.told =
            kind == 'x' ? told_size(ek_content_some(content, place.at + BLOCK, records)) : 0;
        if (!take_entry(content, followed, &place, has_data ? size : 0))
            return;
        ek_content_keep(content, place.at, &place, sizeof place, TRUE);
    }
    end(content, followed, &place);
}

const EkCarveType ek_carve_tar = {
    .name = "tar",
    .ending = "tar",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the sum of each header, and the entries, to the empty blocks at the end",
    .names = "the first entry and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .repeats = TRUE,
};
