/* SPDX-License-Identifier: MIT */
/* Mach-O programs, for one processor or for several: what their load commands name. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define COMMANDS_MOST 2000u
#define PROGRAMS_MOST 16u

static const EkSignature signatures[] = {{0, 4, {0xce, 0xfa, 0xed, 0xfe}, {0}},
                                         {0, 4, {0xcf, 0xfa, 0xed, 0xfe}, {0}},
                                         {0, 7, {0xca, 0xfe, 0xba, 0xbe, 0, 0, 0}, {0}}};

static gboolean is_processor(guint32 processor)
{
    guint32 family = processor & 0x00ffffff;
    return family == 7 || family == 12 || family == 18;
}

static gboolean begin(EkSpan span)
{
    if (ek_span_u8(span, 0) == 0xca) {
        guint32 count = ek_span_be32(span, 4);
        return count > 0 && count <= PROGRAMS_MOST && is_processor(ek_span_be32(span, 8)) &&
               ek_span_be32(span, 16) >= 8 + 20 * count;
    }
    guint32 count = ek_span_le32(span, 16);
    return is_processor(ek_span_le32(span, 4)) && ek_span_le32(span, 12) > 0 &&
           ek_span_le32(span, 12) <= 12 && count > 0 && count <= COMMANDS_MOST &&
           ek_span_le32(span, 20) >= 8 * count;
}

/* Where a command says that something ends; 0: it names nothing. */
static EkByte end_of(EkSpan command)
{
    guint32 kind = ek_span_le32(command, 0);
    EkByte names;
    switch (kind) {
    case 0x01: return (EkByte)ek_span_le32(command, 32) + ek_span_le32(command, 36);
    case 0x19:
        names = ek_span_le64(command, 40);
        return names < G_MAXINT64 / 2 && ek_span_le64(command, 48) < G_MAXINT64 / 2
                   ? names + ek_span_le64(command, 48)
                   : G_MAXINT64;
    case 0x02: return (EkByte)ek_span_le32(command, 16) + ek_span_le32(command, 20);
    case 0x1d:
    case 0x1e:
    case 0x26:
    case 0x29:
    case 0x2b:
    case 0x2e:
    case 0x80000033:
    case 0x80000034: return (EkByte)ek_span_le32(command, 8) + ek_span_le32(command, 12);
    default: return 0;
    }
}

/* The length of the program at `first`; 0: it breaks. */
static EkByte pass_program(EkContent *content, EkByte first)
{
    EkSpan head = ek_content_some(content, first, 32);
    EkByte at = first + (ek_span_u8(head, 0) == 0xcf ? 32 : 28);
    guint32 count = MIN(ek_span_le32(head, 16), COMMANDS_MOST);
    EkByte end = 0;
    if (!begin(head) || ek_span_u8(head, 0) == 0xca)
        return 0;
    for (guint32 i = 0; i < count; i++) {
        EkSpan command = ek_content_some(content, at, 64);
        guint32 bytes = ek_span_le32(command, 4);
        if (bytes < 8 || bytes > 65536 || command.length < 8)
            return 0;
        end = MAX(end, end_of(command));
        at += bytes;
    }
    return end;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 8);
    gboolean is_fat = ek_span_u8(head, 0) == 0xca;
    guint count = is_fat ? ek_span_be32(head, 4) : 1;
    EkByte end = 0;
    for (guint i = 0; i < count; i++) {
        EkSpan entry = ek_content_at(content, 8 + 20 * (EkByte)i, is_fat ? 20 : 0);
        EkByte first = is_fat ? ek_span_be32(entry, 8) : 0;
        EkByte told = ek_span_be32(entry, 12);
        EkByte length = pass_program(content, first);
        if (length == 0 || length > ek_content_bytes(content) ||
            first + length > ek_content_bytes(content) || (is_fat && length > told)) {
            ek_followed_break(followed, is_fat ? 8 : 28,
                              MIN(first + length, ek_content_bytes(content)), 28,
                              "what its commands name is not there");
            return;
        }
        end = MAX(end, first + (is_fat ? told : length));
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, MIN(end, ek_content_bytes(content)), EK_PROOF_TABLES,
                    "ends where its load commands say");
}

const EkCarveType ek_carve_macho = {
    .name = "mach-o",
    .ending = "macho",
    .kind = EK_KIND_PROGRAM,
    .checks = "that what its load commands name is there; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_solid = TRUE,
};
