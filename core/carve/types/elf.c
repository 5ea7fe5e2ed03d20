/* SPDX-License-Identifier: MIT */
/* ELF: a table says where each section is, and mostly lies behind them all. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define SECTIONS_MOST 4096u
#define LEAST 512u

static const EkSignature elf_signatures[] = {{0, 4, {0x7f, 'E', 'L', 'F'}, {0}}};

typedef struct {
    EkContent *content;
    gboolean is_wide;
    gboolean big;
} Elf;

static guint64 get(const Elf *elf, EkSpan span, gsize at, guint width)
{
    switch (width) {
    case 2: return elf->big ? ek_span_be16(span, at) : ek_span_le16(span, at);
    case 4: return elf->big ? ek_span_be32(span, at) : ek_span_le32(span, at);
    default: return elf->big ? ek_span_be64(span, at) : ek_span_le64(span, at);
    }
}

static gboolean begin_elf(EkSpan span)
{
    guint8 width = ek_span_u8(span, 4);
    guint8 order = ek_span_u8(span, 5);
    return (width == 1 || width == 2) && (order == 1 || order == 2) && ek_span_u8(span, 6) == 1;
}

/* The first entry of a table of sections is empty, and all sections that follow lie before it. */
static gboolean stands_elf(const EkLandmark *landmark, EkSpan span)
{
    Elf elf = {NULL, (landmark->told & 1) != 0, (landmark->told & 2) != 0};
    guint word = elf.is_wide ? 8 : 4;
    gsize each = elf.is_wide ? 64 : 40;
    if (!ek_bytes_are_zero(span.data, MIN(span.length, each)))
        return FALSE;
    for (gsize at = each; at + each <= span.length; at += each) {
        guint64 type = get(&elf, span, at + 4, 4);
        guint64 first = get(&elf, span, at + 8 + 2 * word, word);
        guint64 length = get(&elf, span, at + 8 + 3 * word, word);
        if (type == 0 || first < each || first > landmark->at ||
            (type != 8 && length > landmark->at - first))
            return FALSE;
    }
    return TRUE;
}

static void follow_elf(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 64);
    Elf elf = {content, ek_span_u8(head, 4) == 2, ek_span_u8(head, 5) == 2};
    guint word = elf.is_wide ? 8 : 4;
    guint64 kind = get(&elf, head, 16, 2);
    guint64 parts = get(&elf, head, 24 + word, word);
    guint64 table = get(&elf, head, 24 + 2 * word, word);
    gsize tail = 24 + 3 * (gsize)word + 4;
    guint64 part_count = get(&elf, head, tail + 4, 2);
    guint64 each = get(&elf, head, tail + 6, 2);
    guint64 count = get(&elf, head, tail + 8, 2);
    EkByte bytes = ek_content_bytes(content);
    EkByte end = table + each * count;
    ek_followed_ending(followed, kind == 3 ? "so" : kind == 1 ? "o" : "elf");
    if (table == 0 || count == 0 || count > SECTIONS_MOST || each != (elf.is_wide ? 64 : 40) ||
        table > G_MAXINT64 / 2 || parts > G_MAXINT64 / 2 || part_count > SECTIONS_MOST)
        return;
    gboolean fine = end <= bytes;
    for (guint64 i = 0; i < count && fine; i++) {
        EkSpan entry = ek_content_some(content, table + i * each, (gsize)each);
        guint64 type = get(&elf, entry, 4, 4);
        guint64 at = get(&elf, entry, 8 + 2 * word, word);
        guint64 length = get(&elf, entry, 8 + 3 * word, word);
        if (i == 0 || type == 0)
            fine = i == 0 && type == 0;
        else if (type != 8 && (at > bytes || length > bytes - at))
            fine = FALSE;
        else if (type != 8)
            end = MAX(end, at + length);
    }
    followed->is_doubtful = TRUE;
    if (fine) {
        ek_followed_end(followed, end, EK_PROOF_TABLES,
                        "its table of sections, and each section; their contents are not checked");
    } else {
        ek_followed_break(followed, 64, MIN(end, bytes), 64,
                          "its table of sections is not where its header says");
        if (count > 3)
            followed->landmark = (EkLandmark){.at = table,
                                              .shown = (gsize)(each * 4),
                                              .told = (elf.is_wide ? 1u : 0u) | (elf.big ? 2u : 0u),
                                              .stands = stands_elf};
    }
}

const EkCarveType ek_carve_elf = {
    .name = "elf",
    .ending = "elf",
    .kind = EK_KIND_PROGRAM,
    .checks = "the table of sections, and that each is there; always doubtful",
    .signatures = elf_signatures,
    .signature_count = G_N_ELEMENTS(elf_signatures),
    .begin = begin_elf,
    .follow = follow_elf,
    .by_landmark = TRUE,
    .is_solid = TRUE,
};
