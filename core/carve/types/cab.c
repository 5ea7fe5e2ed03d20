/* SPDX-License-Identifier: MIT */
/* Cabinets (the published Microsoft Cabinet format): folders of data blocks, each with a sum. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define FOLDERS_MOST 4096u
#define HEADER 36u

static const EkSignature signatures[] = {{0, 8, {'M', 'S', 'C', 'F', 0, 0, 0, 0}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_le32(span, 8) > HEADER && ek_span_u8(span, 25) == 1 &&
           ek_span_le16(span, 26) > 0 && ek_span_le32(span, 16) < ek_span_le32(span, 8) &&
           ek_span_le16(span, 30) < 8;
}

/* Words are put together by exclusive or; up to three bytes at the end the other way round. */
static guint32 sum_of(EkSpan span, guint32 sum)
{
    gsize words = span.length / 4;
    for (gsize i = 0; i < words; i++)
        sum ^= ek_span_le32(span, 4 * i);
    guint32 rest = 0;
    for (gsize i = 4 * words; i < span.length; i++)
        rest = rest << 8 | span.data[i];
    return sum ^ rest;
}

typedef struct {
    EkContent *content;
    gsize reserved; /* bytes of each data block */
    gsize folder_bytes;
    EkByte end;
    EkByte broken;     /* bytes of the block that was looked at last */
    gboolean is_loose; /* a block without a sum */
} Cabinet;

static gboolean pass_folder(Cabinet *cabinet, EkByte at, guint16 blocks)
{
    for (guint i = 0; i < blocks; i++) {
        gsize head = 8 + cabinet->reserved;
        guint16 bytes = ek_span_le16(ek_content_some(cabinet->content, at, 8), 4);
        EkSpan block = ek_content_at(cabinet->content, at, head + bytes);
        cabinet->broken = head + bytes;
        if (block.length == 0)
            return FALSE;
        guint32 sum = sum_of(ek_span_part(block, head, bytes), 0);
        sum = sum_of(ek_span_part(block, 4, head - 4), sum);
        guint32 told = ek_span_le32(block, 0);
        if (told != 0 && told != sum)
            return FALSE;
        cabinet->is_loose = cabinet->is_loose || told == 0;
        at += head + bytes;
        cabinet->end = MAX(cabinet->end, at);
    }
    return TRUE;
}

/* The list of files fills the place up to the first data. */
static gboolean has_files(EkContent *content, EkByte at, guint16 count, EkByte data)
{
    for (guint i = 0; i < count && at < data; i++) {
        EkSpan file = ek_content_some(content, at, 16 + 256);
        gsize length = 16;
        while (length < file.length && file.data[length] != 0)
            length++;
        at += length + 1;
    }
    return at <= data && data - at < 8;
}

/* Where the list of folders begins: behind what is reserved, and the names of other cabinets. */
static EkByte folders_of(Cabinet *cabinet, EkSpan head)
{
    guint16 flags = ek_span_le16(head, 30);
    EkByte at = HEADER;
    if ((flags & 4) != 0) {
        cabinet->folder_bytes += ek_span_u8(head, 38);
        cabinet->reserved = ek_span_u8(head, 39);
        at += 4 + (EkByte)ek_span_le16(head, 36);
    }
    guint names = ((flags & 1) != 0 ? 2 : 0) + ((flags & 2) != 0 ? 2 : 0);
    for (guint i = 0; i < names; i++) {
        EkSpan name = ek_content_some(cabinet->content, at, 256);
        gsize length = 0;
        while (length < name.length && name.data[length] != 0)
            length++;
        at += length + 1;
    }
    return at;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Cabinet cabinet = {.content = content, .folder_bytes = 8};
    EkSpan head = ek_content_some(content, 0, 40);
    EkByte told = ek_span_le32(head, 8);
    EkByte files = ek_span_le32(head, 16);
    guint folders = MIN(ek_span_le16(head, 26), FOLDERS_MOST);
    EkByte list = folders_of(&cabinet, head);
    EkSpan first = ek_content_some(content, files, 272);
    followed->expected = told;
    ek_followed_words(followed, ek_span_part(first, 16, 256));
    ek_followed_date(followed, ek_timestamp_dos(ek_span_le16(first, 10), ek_span_le16(first, 12)));
    for (guint i = 0; i < folders; i++) {
        EkSpan folder = ek_content_at(content, list + i * cabinet.folder_bytes, 8);
        gboolean is_packed = (ek_span_le16(folder, 6) & 15) != 0;
        if (folder.length == 0 ||
            !pass_folder(&cabinet, ek_span_le32(folder, 0), ek_span_le16(folder, 4))) {
            EkByte right = MAX(cabinet.end, files);
            followed->texture = is_packed ? EK_TEXTURE_PACKED : EK_TEXTURE_ANY;
            followed->broken =
                (EkBroken){.first = right, .bytes = cabinet.broken, .check = EK_PART_PLAIN};
            ek_followed_break(followed, MAX(HEADER, cabinet.end),
                              MIN(right + cabinet.broken, ek_content_bytes(content)), HEADER,
                              "the sum of a data block is wrong");
            return;
        }
    }
    if (!has_files(content, files, ek_span_le16(ek_content_some(content, 0, 40), 28),
                   ek_span_le32(ek_content_some(content, list, 8), 0))) {
        ek_followed_break(followed, HEADER, MIN(files, ek_content_bytes(content)), HEADER,
                          "its list of files does not end where its data begin");
        return;
    }
    if (told < cabinet.end || told > ek_content_bytes(content)) {
        ek_followed_break(followed, HEADER, MIN(told, ek_content_bytes(content)), HEADER,
                          "it does not end where its header says");
        return;
    }
    followed->is_doubtful = cabinet.is_loose || told > cabinet.end + 8;
    ek_followed_end(followed, told, EK_PROOF_DECODED, "the sums of all its data blocks");
}

const EkCarveType ek_carve_cab = {
    .name = "cab",
    .ending = "cab",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the sum of each data block, and its length",
    .names = "the first file and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
