/* SPDX-License-Identifier: MIT */
/* Databases of the Jet and ACE engines (.mdb, .accdb): pages, each with its type in its first byte.
 * How many there are is not said. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define PAGES_LEAST 4u
#define TYPE_MOST 5u

static const EkSignature signatures[] = {{0, 8, {0, 1, 0, 0, 'S', 't', 'a', 'n'}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_equals(span, 4, "Standard Jet DB", 15) ||
           ek_span_equals(span, 4, "Standard ACE DB", 15);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 32);
    EkByte page = ek_span_u8(head, 20) == 0 ? 2048 : 4096;
    EkByte at = page;
    gboolean is_new = ek_span_equals(head, 13, "ACE", 3);
    while (at + page <= ek_content_bytes(content)) {
        EkSpan start = ek_content_some(content, at, 2);
        if (ek_span_u8(start, 0) == 0 || ek_span_u8(start, 0) > TYPE_MOST ||
            ek_span_u8(start, 1) != 1)
            break;
        at += page;
    }
    ek_followed_ending(followed, is_new ? "accdb" : "mdb");
    followed->is_doubtful = TRUE;
    if (at < PAGES_LEAST * page)
        ek_followed_break(followed, at, at, page, "a page of it is of no known type");
    else
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        "page by page up to the first of no known type");
}

const EkCarveType ek_carve_jetdb = {
    .name = "access",
    .ending = "mdb",
    .kind = EK_KIND_DATABASE,
    .checks = "the type of each page; how many there are is not said, so it stays doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
