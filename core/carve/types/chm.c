/* SPDX-License-Identifier: MIT */
/* Compiled help (.chm): a header that leads to the length of the file and to its directory. */
#include "carve/followed.h"
#include "carve/types/all.h"

static const EkSignature signatures[] = {{0, 8, {'I', 'T', 'S', 'F', 3, 0, 0, 0}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_le32(span, 8) == 0x60 && ek_span_le64(span, 0x40) == 0x18 &&
           ek_span_le64(span, 0x38) >= 0x60;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 0x60);
    EkByte lengths = ek_span_le64(head, 0x38);
    EkByte directory = ek_span_le64(head, 0x48);
    EkSpan told = ek_content_at(content, lengths, 0x18);
    EkByte end = ek_span_le64(told, 8);
    if (ek_span_le32(told, 0) != 0x1fe || end > G_MAXINT64)
        return;
    followed->expected = end;
    if (!ek_span_equals(ek_content_at(content, directory, 4), 0, "ITSP", 4) ||
        end > ek_content_bytes(content)) {
        ek_followed_break(followed, 0x60, MIN(end, ek_content_bytes(content)), 0x60,
                          "its directory is not where its header says");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES,
                    "its directory, and ends where its header says");
}

const EkCarveType ek_carve_chm = {
    .name = "chm",
    .ending = "chm",
    .kind = EK_KIND_DOCUMENT,
    .checks = "its header and directory; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
