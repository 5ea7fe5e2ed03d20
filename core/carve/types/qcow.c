/* SPDX-License-Identifier: MIT */
/* Disk images of the QCOW format, versions 2 and 3 (QEMU's docs/interop/qcow2.txt): the last
 * cluster that its tables count as used. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define TABLE_MOST 65536u /* entries */

static const EkSignature signatures[] = {{0, 8, {'Q', 'F', 'I', 0xfb, 0, 0, 0, 2}, {0}},
                                         {0, 8, {'Q', 'F', 'I', 0xfb, 0, 0, 0, 3}, {0}}};

static gboolean begin(EkSpan span)
{
    guint32 bits = ek_span_be32(span, 20);
    return bits >= 9 && bits <= 21 && ek_span_be64(span, 48) >= (EkByte)1 << bits &&
           ek_span_be64(span, 48) % ((EkByte)1 << bits) == 0 && ek_span_be32(span, 56) > 0;
}

/* The last byte of a block of counts that is not zero; -1: none. */
static gint64 last_used(EkContent *content, EkByte at, EkByte bytes)
{
    gint64 last = -1;
    for (EkByte done = 0; done < bytes; done += EK_CONTENT_SHOWN) {
        EkSpan span =
            ek_content_some(content, at + done, (gsize)MIN(bytes - done, EK_CONTENT_SHOWN));
        for (gsize i = span.length; i > 0; i--)
            if (span.data[i - 1] != 0) {
                last = (gint64)(done + i - 1);
                break;
            }
    }
    return last;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 104);
    EkByte cluster = (EkByte)1 << ek_span_be32(head, 20);
    guint order = ek_span_be32(head, 4) == 3 ? MIN(ek_span_be32(head, 96), 6) : 4;
    EkByte table = ek_span_be64(head, 48);
    EkByte entries = MIN((EkByte)ek_span_be32(head, 56) * cluster / 8, TABLE_MOST);
    EkByte each = cluster * 8 >> order; /* clusters that one block counts */
    EkByte end = 0;
    for (EkByte i = 0; i < entries; i++) {
        EkByte block = ek_span_be64(ek_content_some(content, table + 8 * i, 8), 0);
        if (block == 0)
            continue;
        if (block % cluster != 0 || block + cluster > ek_content_bytes(content)) {
            ek_followed_break(followed, 104, MIN(MAX(end, block), ek_content_bytes(content)), 104,
                              "a table of it is not where it must be");
            return;
        }
        gint64 last = last_used(content, block, cluster);
        if (last >= 0)
            end = (i * each + ((EkByte)last * 8 >> order) + 1) * cluster;
    }
    /* Its header is counted as well. */
    if (end < 2 * cluster)
        return;
    followed->is_doubtful = TRUE;
    ek_followed_end_within(content, followed, end, 104, EK_PROOF_TABLES,
                           "its tables, up to the last cluster in use");
}

const EkCarveType ek_carve_qcow = {
    .name = "qcow",
    .ending = "qcow2",
    .kind = EK_KIND_ARCHIVE,
    .checks = "its tables of clusters; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_disk = TRUE,
};
