/* SPDX-License-Identifier: MIT */
/* B-trees of HFS+: nodes and records, bounded. */
#include "volume/hfsplus/hfsplus.h"

#define HEADER_RECORDS 3u
#define KIND_LEAF 0xffu
#define KIND_HEADER 1u
#define NODE_LEAST 512u
#define DEPTH_MOST 16u
#define NAME_MOST 255u /* UTF-16 units */

gboolean ek_hfs_tree_read(EkSpan span, EkHfsTree *tree)
{
    *tree = (EkHfsTree){
        .node_bytes = ek_span_be16(span, 32),
        .nodes = ek_span_be32(span, 36),
        .first_leaf = ek_span_be32(span, 24),
        .key_most = ek_span_be16(span, 34),
        .is_sensitive = ek_span_u8(span, 51) == 0xbc,
    };
    return ek_span_u8(span, 8) == KIND_HEADER && ek_span_u8(span, 9) == 0 &&
           ek_span_be16(span, 10) == HEADER_RECORDS && ek_is_power_of_two(tree->node_bytes) &&
           tree->node_bytes >= NODE_LEAST && tree->node_bytes <= EK_HFS_NODE_MOST &&
           ek_span_be16(span, 14) <= DEPTH_MOST;
}

gboolean ek_hfs_leaf_read(EkSpan span, EkHfsLeaf *leaf)
{
    guint key_bytes = ek_span_be16(span, 14);
    guint units = ek_span_be16(span, 20);
    *leaf = (EkHfsLeaf){
        .next = ek_span_be32(span, 0),
        .previous = ek_span_be32(span, 4),
        .records = ek_span_be16(span, 10),
        .parent = ek_span_be32(span, 16),
    };
    if (ek_span_u8(span, 8) != KIND_LEAF || ek_span_u8(span, 9) != 1 ||
        ek_span_be16(span, 12) != 0 || leaf->records == 0 || leaf->parent == 0 ||
        units > NAME_MOST || key_bytes != 6 + units * 2)
        return FALSE;
    guint type = ek_span_be16(span, 16 + key_bytes);
    /* Folder, file, and the threads of both. */
    return type >= 1 && type <= 4;
}
