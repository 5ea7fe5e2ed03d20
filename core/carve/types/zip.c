/* SPDX-License-Identifier: MIT */
/* ZIP (APPNOTE.TXT), and what is made of it: office files, books, programs. Entries are unpacked
 * and checked by their CRC-32, and then against the central directory behind them. */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/types/all.h"

#define NAMES_MOST 8192u /* bytes of an entry's name and what comes with it */
#define ENTRIES_MOST 1000000u
#define LEAST 256u
#define UNKNOWN_MOST (256u << 20) /* bytes of an entry whose length is not known before */

static const EkSignature signatures[] = {{0, 4, {'P', 'K', 3, 4}, {0}}};

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    EkByte at;
    guint32 entries;
    EkByte broke;
    gboolean is_proved; /* the last entry has bytes, and these their sum */
    gboolean is_loose;  /* an entry could not be checked */
    gboolean is_tail;   /* its beginning is missing */
    EkByte other;       /* where another one begins whose directory it came to; 0: none */
    gboolean is_office;
    const char *why;
} Zip;

/* Names have letters in any code, and no control characters. */
static gboolean is_name(EkSpan name)
{
    for (gsize i = 0; i < name.length; i++)
        if (name.data[i] < 0x20 || name.data[i] == 0x7f)
            return FALSE;
    return TRUE;
}

static gboolean begin(EkSpan span)
{
    guint16 method = ek_span_le16(span, 8);
    guint16 name = ek_span_le16(span, 26);
    return (ek_span_u8(span, 4) < 100) && (method <= 20 || (method >= 93 && method <= 99)) &&
           name > 0 && name < 4096 && is_name(ek_span_part(span, 30, name));
}

/* --- what it is ------------------------------------------------------------------------------ */

static const struct {
    const char *entry; /* what its name begins with */
    const char *ending;
} by_entry[] = {{"word/", "docx"},
                {"xl/", "xlsx"},
                {"ppt/", "pptx"},
                {"AndroidManifest.", "apk"},
                {"META-INF/MANIFEST.", "jar"},
                {"visio/", "vsdx"}};

static const struct {
    const char *media;
    const char *ending;
} by_media[] = {{"application/epub+zip", "epub"},
                {"application/vnd.oasis.opendocument.text", "odt"},
                {"application/vnd.oasis.opendocument.spreadsheet", "ods"},
                {"application/vnd.oasis.opendocument.presentation", "odp"},
                {"application/vnd.oasis.opendocument.graphics", "odg"}};

static void take_name(Zip *zip, EkSpan name, EkSpan stored)
{
    for (gsize i = 0; i < G_N_ELEMENTS(by_entry) && *zip->followed->ending == '\0'; i++)
        if (ek_span_equals(name, 0, by_entry[i].entry, strlen(by_entry[i].entry)))
            ek_followed_ending(zip->followed, by_entry[i].ending);
    if (zip->entries == 0 && name.length == 8 && ek_span_equals(name, 0, "mimetype", 8))
        for (gsize i = 0; i < G_N_ELEMENTS(by_media); i++)
            if (ek_span_equals(stored, 0, by_media[i].media, strlen(by_media[i].media)))
                ek_followed_ending(zip->followed, by_media[i].ending);
    zip->is_office = zip->is_office || *zip->followed->ending != '\0' ||
                     ek_span_equals(name, 0, "[Content_Types].xml", 19);
    if (!zip->is_office && zip->entries == 0 && name.length > 0)
        ek_followed_words(zip->followed, name);
    else if (zip->is_office && *zip->followed->words != '\0' && zip->entries <= 1)
        *zip->followed->words = '\0';
}

/* --- entries --------------------------------------------------------------------------------- */

typedef struct {
    guint16 flags;
    guint16 method;
    guint32 sum;
    EkByte packed;
    EkByte unpacked;
    EkByte data;
} Entry;

/* Sizes of more than 32 bits stand in a further field. */
static void take_extra(Entry *entry, EkSpan extra)
{
    for (gsize at = 0; at + 4 <= extra.length; at += 4 + (gsize)ek_span_le16(extra, at + 2)) {
        if (ek_span_le16(extra, at) != 1)
            continue;
        gsize value = at + 4;
        if (entry->unpacked == G_MAXUINT32) {
            entry->unpacked = ek_span_le64(extra, value);
            value += 8;
        }
        if (entry->packed == G_MAXUINT32)
            entry->packed = ek_span_le64(extra, value);
    }
}

/* Behind data whose size was not known before. */
static gboolean take_descriptor(Zip *zip, EkByte at, guint32 sum, EkByte packed, EkByte unpacked)
{
    EkSpan tail = ek_content_some(zip->content, at, 24);
    gsize skip = ek_span_equals(tail, 0, "PK\x07\x08", 4) ? 4 : 0;
    gboolean is_short = ek_span_le32(tail, skip + 4) == (guint32)packed &&
                        ek_span_le32(tail, skip + 8) == (guint32)unpacked;
    gboolean is_long =
        ek_span_le64(tail, skip + 4) == packed && ek_span_le64(tail, skip + 12) == unpacked;
    if (ek_span_le32(tail, skip) != sum || (!is_short && !is_long))
        return FALSE;
    EkSpan next = ek_content_some(zip->content, at + skip + 12, 4);
    zip->at = at + skip + (is_long && !(is_short && ek_span_equals(next, 0, "PK", 2)) ? 20 : 12);
    return TRUE;
}

/* Data of unknown length that cannot be unpacked: up to the record behind them that fits. */
static gboolean pass_unknown(Zip *zip, const Entry *entry)
{
    EkByte at = entry->data;
    EkByte limit = MIN(ek_content_bytes(zip->content), at + UNKNOWN_MOST);
    EkByte found = 0;
    while (ek_content_seek(zip->content, at, limit, "PK\x07\x08", 4, &found)) {
        EkSpan tail = ek_content_some(zip->content, found, 16);
        if (ek_span_le32(tail, 8) == (guint32)(found - entry->data)) {
            zip->at = found + 16;
            zip->is_loose = TRUE;
            return TRUE;
        }
        at = found + 4;
    }
    zip->broke = limit;
    return FALSE;
}

static gboolean take_data(Zip *zip, const Entry *entry)
{
    gboolean is_later = (entry->flags & 8) != 0;
    gboolean is_secret = (entry->flags & 1) != 0;
    EkByte packed = entry->packed;
    EkByte unpacked = entry->unpacked;
    guint32 sum = 0;
    zip->broke = entry->data;
    if (entry->method == 8 && !is_secret) {
        EkStream stream = {.offset = entry->data,
                           .most = is_later && packed == 0 ? G_MAXINT64 : packed,
                           .has_sum = TRUE};
        gboolean fine = ek_content_inflate(zip->content, &stream);
        packed = stream.packed;
        unpacked = stream.unpacked;
        sum = stream.sum;
        zip->broke = entry->data + ek_stream_broke(&stream);
        zip->followed->texture = EK_TEXTURE_PACKED;
        if (!fine || (!is_later && (sum != entry->sum || packed != entry->packed)))
            return FALSE;
    } else if (is_later && packed == 0) {
        return pass_unknown(zip, entry);
    } else if (entry->method == 0 && !is_secret) {
        gboolean fine = ek_content_crc32(zip->content, entry->data, packed, &sum);
        zip->broke = MIN(entry->data + packed, ek_content_bytes(zip->content));
        if (!is_later)
            zip->followed->broken = (EkBroken){entry->data, packed, EK_PART_SUMMED, entry->sum};
        if (!fine || (!is_later && sum != entry->sum))
            return FALSE;
        zip->followed->broken.bytes = 0;
    } else {
        zip->is_loose = TRUE;
        sum = entry->sum;
        zip->broke = MIN(entry->data + packed, ek_content_bytes(zip->content));
        if (packed > ek_content_bytes(zip->content) - entry->data)
            return FALSE;
    }
    zip->at = entry->data + packed;
    zip->is_proved = packed > 0 && (entry->method == 0 || entry->method == 8) && !is_secret;
    gboolean is_right = !is_later || take_descriptor(zip, zip->at, sum, packed, unpacked);
    if (is_right)
        zip->followed->texture = EK_TEXTURE_ANY;
    return is_right;
}

/* One entry. FALSE where there is none: `why` tells when there should be. */
static gboolean take_entry(Zip *zip)
{
    EkSpan head = ek_content_some(zip->content, zip->at, 30);
    if (!ek_span_equals(head, 0, "PK\x03\x04", 4))
        return FALSE;
    gsize name = ek_span_le16(head, 26);
    gsize extra = ek_span_le16(head, 28);
    Entry entry = {.flags = ek_span_le16(head, 6),
                   .method = ek_span_le16(head, 8),
                   .sum = ek_span_le32(head, 14),
                   .packed = ek_span_le32(head, 18),
                   .unpacked = ek_span_le32(head, 22),
                   .data = zip->at + 30 + name + extra};
    EkTimestamp date = ek_timestamp_dos(ek_span_le16(head, 12), ek_span_le16(head, 10));
    EkSpan rest = ek_content_some(zip->content, zip->at + 30, MIN(name + extra + 64, NAMES_MOST));
    take_name(zip, ek_span_part(rest, 0, name), ek_span_part(rest, name + extra, 64));
    take_extra(&entry, ek_span_part(rest, name, extra));
    if (!zip->is_office)
        ek_followed_date(zip->followed, date);
    zip->broke = zip->at;
    if (entry.packed > G_MAXINT64 || !take_data(zip, &entry)) {
        zip->why = "an entry of it breaks";
        return FALSE;
    }
    zip->entries++;
    return TRUE;
}

/* The directory behind the entries, and its end with the comment. */
static gboolean take_directory(Zip *zip)
{
    EkByte first = zip->at;
    guint64 count = 0;
    EkSpan head;
    zip->broke = zip->at;
    while (head = ek_content_some(zip->content, zip->at, 46),
           ek_span_equals(head, 0, "PK\x01\x02", 4)) {
        zip->at +=
            46 + (EkByte)ek_span_le16(head, 28) + ek_span_le16(head, 30) + ek_span_le16(head, 32);
        count++;
    }
    EkByte bytes = zip->at - first;
    if (ek_span_equals(head, 0, "PK\x06\x06", 4)) {
        EkByte size = ek_span_le64(head, 4);
        zip->at += 12 + MIN(size, 4096);
        head = ek_content_some(zip->content, zip->at, 20);
        if (ek_span_equals(head, 0, "PK\x06\x07", 4))
            zip->at += 20;
        head = ek_content_some(zip->content, zip->at, 22);
    }
    zip->broke = zip->at;
    /* Where the directory is tells whether entries before these are missing. */
    zip->is_tail = ek_span_equals(head, 0, "PK\x05\x06", 4) &&
                   ek_span_le32(head, 16) != G_MAXUINT32 &&
                   ek_span_le32(head, 16) != (guint32)first;
    if (zip->is_tail && ek_span_le32(head, 16) < first) {
        zip->other = first - ek_span_le32(head, 16);
        return FALSE;
    }
    if (head.length < 22 || !ek_span_equals(head, 0, "PK\x05\x06", 4) ||
        (ek_span_le16(head, 10) != G_MAXUINT16 && ek_span_le16(head, 10) != (count & 0xffff)) ||
        (ek_span_le32(head, 12) != G_MAXUINT32 && ek_span_le32(head, 12) != (guint32)bytes) ||
        count < zip->entries)
        return FALSE;
    zip->at += 22 + (EkByte)ek_span_le16(head, 20);
    return zip->at <= ek_content_bytes(zip->content);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Zip zip = {.content = content, .followed = followed};
    EkByte sure = 0;
    ek_content_kept(content, &zip.at, sizeof zip.at);
    zip.entries = zip.at > 0 ? 1 : 0;
    while (zip.entries < ENTRIES_MOST && take_entry(&zip)) {
        sure = zip.is_proved ? zip.at : sure;
        ek_content_keep(content, zip.at, &zip.at, sizeof zip.at, TRUE);
    }
    if (zip.why == NULL && zip.entries > 0 && take_directory(&zip)) {
        if (zip.is_tail) {
            followed->is_tail = TRUE;
            ek_followed_end(followed, zip.at, EK_PROOF_LENGTH,
                            "its directory names entries that come before these");
            return;
        }
        ek_followed_end(followed, zip.at, zip.is_loose ? EK_PROOF_TABLES : EK_PROOF_FULL,
                        zip.is_loose ? "its directory, and what of its entries can be unpacked"
                                     : "the checksums of all entries, and its directory");
        return;
    }
    if (zip.other > 0) {
        sure = zip.broke = zip.other;
        ek_content_forget(content);
        ek_followed_break(followed, sure, sure, LEAST, "another one begins in it");
        return;
    }
    if (zip.entries == 0 && zip.broke < 8192)
        sure = 0;
    else
        sure = MAX(sure, MIN(LEAST, zip.broke));
    ek_followed_break(followed, MIN(sure, zip.broke), zip.broke, LEAST,
                      zip.why != NULL ? zip.why : "its directory is not where it must be");
}

const EkCarveType ek_carve_zip = {
    .name = "zip",
    .ending = "zip",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the CRC-32 of each unpacked entry, and the directory",
    .names = "the first entry and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
