/* SPDX-License-Identifier: MIT */
/* SQLite databases (the file format of version 3): as many pages as the header says, each one that
 * a database can have there; and where its trees lead to each of them once, with their keys in
 * order, none is another's. */
#include "carve/sqlitetree.h"
#include "carve/types/all.h"

static const EkSignature signatures[] = {{0, 8, {'S', 'Q', 'L', 'i', 't', 'e', ' ', 'f'}, {0}}};

static guint32 page_size(EkSpan head)
{
    guint32 size = ek_span_be16(head, 16);
    return size == 1 ? 65536 : size;
}

static gboolean begin(EkSpan span)
{
    guint32 size = page_size(span);
    return ek_span_equals(span, 0, "SQLite format 3", 16) && size >= 512 &&
           (size & (size - 1)) == 0 && ek_span_u8(span, 21) == 64 && ek_span_u8(span, 22) == 32 &&
           ek_span_u8(span, 23) == 32 && ek_span_be32(span, 28) > 0;
}

typedef EkSqlite Database;

/* The pages that the list of free ones names. */
static void find_free(Database *database, guint32 trunk, guint32 count)
{
    while (trunk > 0 && trunk <= database->pages && count-- > 0 &&
           g_hash_table_add(database->free_pages, GUINT_TO_POINTER(trunk))) {
        EkSpan page = ek_sqlite_page(database, trunk);
        guint32 leaves = MIN(ek_span_be32(page, 4), database->size / 4);
        for (guint32 i = 0; i < leaves; i++)
            g_hash_table_add(database->free_pages,
                             GUINT_TO_POINTER(ek_span_be32(page, 8 + 4 * (gsize)i)));
        trunk = ek_span_be32(page, 0);
    }
}

/* All of a tree's page is cells, gaps that it lists, and the space between. */
static gboolean is_tree_page(Database *database, EkSpan page, gsize head)
{
    guint8 kind = ek_span_u8(page, head);
    gsize list = head + (kind == 2 || kind == 5 ? 12 : 8);
    guint32 cells = ek_span_be16(page, head + 3);
    guint32 content = ek_span_be16(page, head + 5);
    gsize used = list + 2 * (gsize)cells;
    if (content == 0)
        content = 65536;
    if (content < used || content > database->usable)
        return FALSE;
    used = database->usable - content;
    for (guint32 i = 0; i < cells; i++) {
        gsize at = ek_span_be16(page, list + 2 * (gsize)i);
        if (at < content)
            return FALSE;
        used -= MIN(used, ek_sqlite_cell(page, at, kind, database->usable).bytes);
    }
    gsize gaps = ek_span_u8(page, head + 7);
    gsize gap = ek_span_be16(page, head + 1);
    for (guint i = 0; gap != 0 && i < database->usable / 4; i++) {
        gaps += ek_span_be16(page, gap + 2);
        gsize next = ek_span_be16(page, gap);
        if (next != 0 && next < gap + 4)
            return FALSE;
        gap = next;
    }
    return used == gaps;
}

/* A page of a tree (then *sure), one that goes on, or one of the map of who points where. */
static gboolean is_page(Database *database, guint32 number, gboolean *sure)
{
    *sure = FALSE;
    gsize head = number == 1 ? 100 : 0;
    EkSpan page = ek_sqlite_page(database, number);
    guint8 kind = ek_span_u8(page, head);
    if (page.length == 0)
        return FALSE;
    /* A page may be anything once it is free, but not the beginning of another one. */
    if (number > 1 && ek_span_equals(page, 0, "SQLite format 3", 16))
        return FALSE;
    if (g_hash_table_contains(database->free_pages, GUINT_TO_POINTER(number)))
        return TRUE;
    *sure =
        (kind == 2 || kind == 5 || kind == 10 || kind == 13) && is_tree_page(database, page, head);
    if (*sure)
        return TRUE;
    if (number == 1 || ek_bytes_are_zero(page.data, page.length))
        return FALSE;
    return ek_span_be32(page, 0) <= database->pages ||
           (database->has_map && kind >= 1 && kind <= 5 &&
            ek_span_be32(page, 1) <= database->pages);
}

/* Only pages of trees are like nothing else. */
typedef struct {
    guint32 next; /* page */
    guint32 sure; /* the last one of a tree */
} Kept;

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 100);
    g_autoptr(GHashTable) free_pages = g_hash_table_new(NULL, NULL);
    Database database = {content,
                         page_size(head),
                         page_size(head) - ek_span_u8(head, 20),
                         ek_span_be32(head, 28),
                         ek_span_be32(head, 52) != 0,
                         free_pages};
    guint32 trunk = ek_span_be32(head, 32);
    guint32 count = ek_span_be32(head, 36);
    EkByte length = (EkByte)database.size * database.pages;
    /* Once the work shall end, nothing is given out. */
    if (database.size == 0)
        return;
    gboolean is_told = ek_span_be32(head, 24) == ek_span_be32(head, 92);
    followed->expected = is_told ? length : 0;
    find_free(&database, trunk, MIN(count, database.pages));
    guint32 lock = ek_sqlite_lock_page(&database);
    Kept kept = {1, 0};
    ek_content_kept(content, &kept, sizeof kept);
    while (kept.next <= database.pages) {
        gboolean is_sure = FALSE;
        if (kept.next != lock && !is_page(&database, kept.next, &is_sure)) {
            EkByte at = (EkByte)(kept.next - 1) * database.size;
            ek_followed_break(followed, (EkByte)kept.sure * database.size,
                              MIN(at, ek_content_bytes(content)), 512, "a page of it is none");
            /* The first one alone may be little more than the header. */
            if (kept.sure == 1)
                followed->sure = EK_STEP;
            return;
        }
        kept.sure = is_sure ? kept.next : kept.sure;
        kept.next++;
        ek_content_keep(content, (EkByte)(kept.next - 1) * database.size, &kept, sizeof kept, TRUE);
    }
    gboolean is_proved = is_told && ek_sqlite_is_proved(&database);
    ek_followed_end(followed, length,
                    is_proved ? EK_PROOF_DECODED
                    : is_told ? EK_PROOF_TABLES
                              : EK_PROOF_LENGTH,
                    is_proved ? "each of its pages, and the trees that lead to all of them"
                              : "each of its pages");
}

const EkCarveType ek_carve_sqlite = {
    .name = "sqlite",
    .ending = "sqlite",
    .kind = EK_KIND_DATABASE,
    .checks = "each page, and that its trees lead to all of them, where none is longer than 4 KiB "
              "or free",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
