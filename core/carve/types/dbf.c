/* SPDX-License-Identifier: MIT */
/* dBASE tables: a header that describes each field, and records of one length, each of which begins
 * with a blank or a star. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define FIELDS_MOST 255u
#define RECORD_MOST 512u /* in longer ones a foreign block is not noticed */

/* Version 3, then year, month and day. */
static const EkSignature signatures[] = {{0, 4, {0x03, 0, 0, 0}, {0xff, 0, 0xf0, 0xe0}},
                                         {0, 4, {0x83, 0, 0, 0}, {0xff, 0, 0xf0, 0xe0}},
                                         {0, 4, {0x8b, 0, 0, 0}, {0xff, 0, 0xf0, 0xe0}},
                                         {0, 4, {0x30, 0, 0, 0}, {0xff, 0, 0xf0, 0xe0}},
                                         {0, 4, {0xf5, 0, 0, 0}, {0xff, 0, 0xf0, 0xe0}}};

static gboolean is_field(EkSpan field)
{
    gsize length = 0;
    while (length < 11 && ek_span_u8(field, length) != 0) {
        guint8 byte = ek_span_u8(field, length++);
        if (!g_ascii_isalnum(byte) && byte != '_' && byte < 0x80)
            return FALSE;
    }
    return length > 0 && strchr("CNDLMFBGPYTIOV@+0W", ek_span_u8(field, 11)) != NULL &&
           ek_span_u8(field, 11) != 0 && ek_span_u8(field, 16) > 0;
}

static gboolean begin(EkSpan span)
{
    guint16 header = ek_span_le16(span, 8);
    guint16 record = ek_span_le16(span, 10);
    guint bytes = 1;
    guint fields = 0;
    guint8 month = ek_span_u8(span, 2);
    guint8 day = ek_span_u8(span, 3);
    if (month == 0 || month > 12 || day == 0 || day > 31 || header < 65 || record < 2)
        return FALSE;
    for (gsize at = 32; at + 1 < header && fields < FIELDS_MOST; at += 32, fields++) {
        EkSpan field = ek_span_part(span, at, 32);
        if (ek_span_u8(field, 0) == 0x0d)
            break;
        if (field.length < 32 || !is_field(field))
            return FALSE;
        bytes += ek_span_u8(field, 16) +
                 (ek_span_u8(field, 11) == 'C' ? (guint)ek_span_u8(field, 17) << 8 : 0);
    }
    return fields > 0 && bytes == record && ek_span_u8(span, 32 + 32 * (gsize)fields) == 0x0d;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 32);
    guint32 count = ek_span_le32(head, 4);
    EkByte header = ek_span_le16(head, 8);
    EkByte record = ek_span_le16(head, 10);
    EkByte end = header + count * record;
    guint year = 1900u + ek_span_u8(head, 1) + (ek_span_u8(head, 1) < 80 ? 100 : 0);
    g_autofree char *date =
        g_strdup_printf("%04u%02u%02u", year, ek_span_u8(head, 2), ek_span_u8(head, 3));
    ek_followed_date_digits(followed, (EkSpan){(const guint8 *)date, strlen(date)}, TRUE);
    followed->expected = end;
    for (guint32 i = 0; i < count; i++) {
        EkByte at = header + i * record;
        guint8 flag = ek_span_u8(ek_content_some(content, at, 1), 0);
        if ((flag != ' ' && flag != '*') || at + record > ek_content_bytes(content)) {
            ek_followed_break(followed, at, at, header, "a record does not begin as it must");
            return;
        }
    }
    if (ek_span_equals(ek_content_some(content, end, 1), 0, "\x1a", 1))
        end++;
    followed->is_doubtful = record > RECORD_MOST;
    ek_followed_end(followed, end, EK_PROOF_DECODED, "all its records begin where they must");
}

const EkCarveType ek_carve_dbf = {
    .name = "dbf",
    .ending = "dbf",
    .kind = EK_KIND_DATABASE,
    .checks = "its fields, and that each record begins where it must",
    .names = "its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
