/* SPDX-License-Identifier: MIT */
/* 7z: a header with a checksum says where the directory at the end is, which has one too, and says
 * how the files are packed; each has a checksum. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/lzmacontent.h"
#include "carve/sevenheader.h"
#include "carve/types/all.h"

#include <string.h>

#define HEAD 32u
#define DIRECTORY_MOST (64u << 20) /* bytes, packed or not, that are looked for */
#define HEADER_MOST (16u << 20)    /* bytes of an unpacked directory that are read */
#define PACKED_TWICE 4u            /* directories may be packed more than once */
#define PIECE (32u << 10)

static const EkSignature signatures[] = {{0, 6, {'7', 'z', 0xbc, 0xaf, 0x27, 0x1c}, {0}}};

static gboolean begin(EkSpan span)
{
    EkSpan head = ek_span_part(span, 12, 20);
    return head.length == 20 && ek_crc32(head) == ek_span_le32(span, 8);
}

/* The directory, packed or plain, by its sum. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint8 first = ek_span_u8(span, 0);
    if (first != 0x01 && first != 0x17)
        return FALSE;
    return span.length < landmark->told ||
           ek_crc32(ek_span_part(span, 0, (gsize)landmark->told)) == (guint32)landmark->sum;
}

/* --- unpacking -------------------------------------------------------------------------------- */

typedef enum { UNPACKED_RIGHT, UNPACKED_WRONG, UNPACKED_NOT } Outcome;

/* A folder that is unpacked, and the part of it that is at hand. */
typedef struct {
    EkContent *content;
    const EkSevenHeader *header;
    EkByte at; /* of the packed bytes that come next */
    EkByte end;
    guint part;
    guint part_end;
    guint64 taken; /* bytes of the part */
    guint32 sum;
    gboolean is_wrong;
    gboolean has_unsummed; /* a part without a checksum */
    GByteArray *kept;      /* what came out; NULL: it is not wanted */
    EkUnfilter filter;
} Unpacking;

/* The part that ends is right when its sum is. */
static void end_parts(Unpacking *unpacking)
{
    while (unpacking->part < unpacking->part_end) {
        const EkSevenPart *part =
            &g_array_index(unpacking->header->parts, EkSevenPart, unpacking->part);
        if (unpacking->taken < part->bytes)
            return;
        unpacking->has_unsummed |= !part->has_sum && part->bytes > 0;
        unpacking->is_wrong |= part->has_sum && ~unpacking->sum != part->sum;
        unpacking->part++;
        unpacking->taken = 0;
        unpacking->sum = ~0u;
    }
}

static void take_plain(void *data, const guint8 *bytes, gsize length)
{
    Unpacking *unpacking = data;
    if (unpacking->kept != NULL)
        g_byte_array_append(unpacking->kept, bytes, (guint)length);
    while (length > 0 && unpacking->part < unpacking->part_end) {
        const EkSevenPart *part =
            &g_array_index(unpacking->header->parts, EkSevenPart, unpacking->part);
        gsize own = (gsize)MIN(length, part->bytes - unpacking->taken);
        unpacking->sum = ek_crc32_from(unpacking->sum, (EkSpan){bytes, own});
        unpacking->taken += own;
        bytes += own;
        length -= own;
        end_parts(unpacking);
    }
    unpacking->is_wrong |= length > 0;
}

static void take(void *data, const guint8 *bytes, gsize length)
{
    Unpacking *unpacking = data;
    ek_unfilter_push(&unpacking->filter, bytes, length, take_plain, unpacking);
}

static EkSpan more(void *data)
{
    Unpacking *unpacking = data;
    gsize length = (gsize)MIN(PIECE, unpacking->end - unpacking->at);
    EkSpan span = ek_content_some(unpacking->content, unpacking->at, length);
    unpacking->at += span.length;
    return span;
}

/* FALSE: it does not decode. *gave_up: that is not known. */
static gboolean unpack_by(const EkSevenFolder *folder, Unpacking *unpacking, gboolean *gave_up)
{
    EkSpan properties = {folder->properties, sizeof folder->properties};
    if (folder->method == EK_SEVEN_PLAIN) {
        for (EkSpan span = more(unpacking); span.length > 0; span = more(unpacking))
            take(unpacking, span.data, span.length);
        return TRUE;
    }
    gboolean is_two = folder->method == EK_SEVEN_LZMA2;
    guint64 window = is_two ? ek_lzma2_window(folder->properties[0]) : ek_span_le32(properties, 1);
    *gave_up = is_two && window == 0;
    if (*gave_up)
        return TRUE;
    g_autoptr(EkLzma) lzma = ek_lzma_new(window);
    EkBroken broken = {0};
    EkByte at = unpacking->at;
    EkLzmaUnpacking packed = {lzma, take, unpacking, 0};
    gboolean fine = is_two ? ek_content_lzma2(unpacking->content, &at, &packed, &broken)
                           : ek_lzma_stream(lzma, folder->properties[0], folder->unpacked, more,
                                            take, unpacking);
    *gave_up = ek_lzma_gave_up(lzma);
    if (is_two)
        unpacking->at = at;
    return fine && (!is_two || at == unpacking->end);
}

/* So little packs no more than this, if it is honest. */
static gboolean is_too_much(const EkSevenFolder *folder)
{
    return ek_unpacks_too_much(folder->packed, folder->unpacked);
}

/* `kept` takes what comes out, when it is not NULL. *reached is where it went wrong. */
static Outcome unpack(EkContent *content, const EkSevenHeader *header, const EkSevenFolder *folder,
                      GByteArray *kept, EkByte *reached)
{
    EkByte at = HEAD + folder->packed_at;
    gboolean gave_up = FALSE;
    if (folder->method == EK_SEVEN_OTHER || is_too_much(folder))
        return UNPACKED_NOT;
    Unpacking unpacking = {.content = content,
                           .header = header,
                           .at = at,
                           .end = at + folder->packed,
                           .part = folder->first_part,
                           .part_end = folder->first_part + folder->part_count,
                           .sum = ~0u,
                           .kept = kept,
                           .filter = folder->filter};
    end_parts(&unpacking);
    gboolean fine = unpack_by(folder, &unpacking, &gave_up);
    if (gave_up)
        return UNPACKED_NOT;
    ek_unfilter_finish(&unpacking.filter, take_plain, &unpacking);
    *reached = unpacking.at;
    if (!fine || unpacking.is_wrong || unpacking.part < unpacking.part_end)
        return UNPACKED_WRONG;
    return unpacking.has_unsummed ? UNPACKED_NOT : UNPACKED_RIGHT;
}

/* --- the directory ---------------------------------------------------------------------------- */

/* Its bytes, where it is not too long; its sum is right. NULL: it is. The caller unrefs. */
static GByteArray *load(EkContent *content, EkByte at, gsize length)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    while (length > 0) {
        gsize part = MIN(length, PIECE);
        EkSpan span = ek_content_at(content, at, part);
        if (span.length == 0)
            return NULL;
        g_byte_array_append(bytes, span.data, (guint)part);
        at += part;
        length -= part;
    }
    return g_steal_pointer(&bytes);
}

/* NULL: it cannot be read here. The caller frees. */
static EkSevenHeader *read_directory(EkContent *content, EkByte at, gsize length)
{
    g_autoptr(GByteArray) bytes = length <= HEADER_MOST ? load(content, at, length) : NULL;
    for (guint i = 0; i < PACKED_TWICE && bytes != NULL; i++) {
        EkSpan span = {bytes->data, bytes->len};
        g_autoptr(EkSevenHeader) header = ek_seven_header_read(span);
        if (header == NULL)
            return NULL;
        if (!ek_seven_is_packed(span))
            return g_steal_pointer(&header);
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, 0);
        g_autoptr(GByteArray) unpacked = g_byte_array_new();
        EkByte reached = 0;
        if (header->folders->len != 1 || folder->unpacked > HEADER_MOST ||
            unpack(content, header, folder, unpacked, &reached) != UNPACKED_RIGHT)
            return NULL;
        g_byte_array_unref(bytes);
        bytes = g_steal_pointer(&unpacked);
    }
    return NULL;
}

/* All folders. What is wrong goes before what is not known. */
static Outcome unpack_all(EkContent *content, const EkSevenHeader *header, EkBroken *broken)
{
    Outcome outcome = UNPACKED_RIGHT;
    for (guint i = 0; i < header->folders->len; i++) {
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        EkByte at = HEAD + folder->packed_at;
        EkByte reached = at;
        Outcome one = unpack(content, header, folder, NULL, &reached);
        if (one == UNPACKED_WRONG) {
            *broken = (EkBroken){.first = at, .bytes = MAX(reached, at + 1) - at};
            return one;
        }
        outcome = one == UNPACKED_NOT ? one : outcome;
    }
    return outcome;
}

/* Its directory is right; and what it leads to? */
static void end_at(EkContent *content, EkFollowed *followed, EkByte end, EkByte at, gsize length)
{
    g_autoptr(EkSevenHeader) header = length > 0 ? read_directory(content, at, length) : NULL;
    Outcome outcome =
        header != NULL ? unpack_all(content, header, &followed->broken) : UNPACKED_NOT;
    followed->is_doubtful = outcome != UNPACKED_RIGHT;
    followed->is_wrong = outcome == UNPACKED_WRONG;
    if (header != NULL && header->name != NULL)
        ek_followed_words(followed, (EkSpan){(const guint8 *)header->name, strlen(header->name)});
    if (header != NULL)
        ek_followed_date(followed, header->date);
    ek_followed_end(followed, end,
                    length == 0                 ? EK_PROOF_LENGTH
                    : outcome == UNPACKED_RIGHT ? EK_PROOF_FULL
                                                : EK_PROOF_TABLES,
                    outcome == UNPACKED_RIGHT   ? "each file unpacked to its CRC-32"
                    : outcome == UNPACKED_WRONG ? "the checksums of its header and of the "
                                                  "directory at its end; a file in it does not "
                                                  "unpack to its CRC-32"
                                                : "the checksums of its header and of the "
                                                  "directory at its end; its contents are not "
                                                  "checked");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, HEAD);
    guint64 offset = ek_span_le64(head, 12);
    guint64 size = ek_span_le64(head, 20);
    guint32 told = ek_span_le32(head, 28);
    guint32 sum = 0;
    if (offset > G_MAXINT64 / 2 || size > DIRECTORY_MOST)
        return;
    EkByte end = HEAD + offset + size;
    followed->expected = end;
    if (end <= ek_content_bytes(content) && ek_content_crc32(content, HEAD + offset, size, &sum) &&
        sum == told) {
        end_at(content, followed, end, HEAD + offset, (gsize)size);
        return;
    }
    ek_followed_break(followed, HEAD, MIN(end, ek_content_bytes(content)), HEAD,
                      "its directory is not where its header says");
    if (size > EK_LANDMARK_GLANCE && size <= EK_CONTENT_SHOWN)
        followed->landmark = (EkLandmark){
            .at = HEAD + offset, .shown = (gsize)size, .told = size, .sum = told, .stands = stands};
}

const EkCarveType ek_carve_sevenzip = {
    .name = "7z",
    .ending = "7z",
    .kind = EK_KIND_ARCHIVE,
    .checks = "each file unpacked to its CRC-32 (LZMA and LZMA2), and the directory at the end; "
              "others stay doubtful",
    .names = "the first entry and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
};
