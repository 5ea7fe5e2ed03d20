/* SPDX-License-Identifier: MIT */
/* tar (POSIX.1-1988 ustar and later): headers with a sum, each followed by its file in whole
 * blocks, and two empty blocks at the end. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCK 512u
#define RECORD 10240u
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

static gboolean begin(EkSpan span)
{
    guint64 sum = 8 * ' ';
    if (span.length < BLOCK)
        return FALSE;
    for (gsize i = 0; i < BLOCK; i++)
        sum += i >= 148 && i < 156 ? 0u : span.data[i];
    return sum == octal(span, 148, 8) && ek_span_u8(span, 0) != 0;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    EkByte bytes = ek_content_bytes(content);
    ek_content_kept(content, &at, sizeof at);
    for (guint i = 0; i < MEMBERS_MOST; i++) {
        EkSpan head = ek_content_some(content, at, BLOCK);
        if (head.length == BLOCK && ek_bytes_are_zero(head.data, BLOCK) && at > 0)
            break;
        guint64 size = octal(head, 124, 12);
        guint8 kind = ek_span_u8(head, 156);
        gboolean has_data =
            kind != '1' && kind != '2' && kind != '3' && kind != '4' && kind != '5' && kind != '6';
        EkByte next = at + BLOCK + (has_data ? ek_divide_up(size, BLOCK) * BLOCK : 0);
        if (!begin(head) || size > G_MAXINT64 / 4 || next > bytes) {
            ek_followed_break(followed, at, at, BLOCK, "no header where one must stand");
            return;
        }
        if (at == 0) {
            gsize length = 0;
            while (length < 100 && head.data[length] != 0)
                length++;
            ek_followed_words(followed, ek_span_part(head, 0, length));
            ek_followed_date(followed, ek_timestamp_utc((gint64)octal(head, 136, 12)));
        }
        at = next;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    EkByte end = MIN(at + (EkByte)2 * BLOCK, bytes);
    EkByte padded = ek_divide_up(end, RECORD) * RECORD;
    /* Most writers fill up to whole records. */
    if (padded <= bytes && ek_content_is_zero(content, at, padded - at))
        end = padded;
    /* One whose first entries are missing looks like this too. */
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES,
                    "the sums of all headers; whether the first one is the beginning is not known");
}

const EkCarveType ek_carve_tar = {
    .name = "tar",
    .ending = "tar",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the sum of each header, to the empty blocks at the end",
    .names = "the first entry and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
