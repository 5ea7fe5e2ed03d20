/* SPDX-License-Identifier: MIT */
/* Walking through the trees. A block that is another's would have to be a page of the same kind,
 * with rows between those before and behind it, and as many of them. */
#include "carve/sqlitetree.h"

#include "carve/sqlitemade.h"

#include <string.h>

#define DEEP_MOST 20u
#define PAGES_MOST (1u << 26) /* of one that is walked through */
#define TREES_MOST 65536u
#define COLUMNS_SEEN 64u

/* --- cells ------------------------------------------------------------------------------------ */

static gsize pass_number(EkSpan page, gsize at, guint64 *value)
{
    *value = 0;
    for (gsize i = 0; i < 9; i++) {
        guint8 byte = ek_span_u8(page, at + i);
        *value = *value << (i == 8 ? 8 : 7) | (i == 8 ? byte : byte & 0x7fu);
        if ((byte & 0x80) == 0 || i == 8)
            return i + 1;
    }
    return 9;
}

EkSqliteCell ek_sqlite_cell(EkSpan page, gsize at, guint8 kind, guint32 usable)
{
    EkSqliteCell cell = {0};
    gboolean is_table = kind == EK_SQLITE_TABLE_INNER || kind == EK_SQLITE_TABLE_LEAF;
    guint64 row = 0;
    gsize head = 0;
    if (kind == EK_SQLITE_TABLE_INNER || kind == EK_SQLITE_INDEX_INNER) {
        cell.child = ek_span_be32(page, at);
        head = 4;
    }
    if (kind != EK_SQLITE_TABLE_INNER)
        head += pass_number(page, at + head, &cell.payload);
    if (is_table)
        head += pass_number(page, at + head, &row);
    cell.row = (gint64)row;
    cell.local_at = at + head;
    guint64 most = is_table ? usable - 35 : (usable - 12) * 64 / 255 - 23;
    guint64 least = (usable - 12) * 32 / 255 - 23;
    guint64 rest = cell.payload;
    if (cell.payload > most) {
        rest = least + (cell.payload - least) % (usable - 4);
        if (rest > most)
            rest = least;
        head += 4;
    }
    cell.local = (gsize)rest;
    cell.bytes = head + cell.local;
    if (kind != EK_SQLITE_TABLE_INNER)
        cell.bytes = MAX(cell.bytes, 4);
    return cell;
}

EkSpan ek_sqlite_page(EkSqlite *database, guint32 number)
{
    return ek_content_at(database->content, (EkByte)(number - 1) * database->size, database->size);
}

guint32 ek_sqlite_lock_page(const EkSqlite *database)
{
    return (guint32)(((EkByte)1 << 30) / database->size) + 1;
}

/* Bytes of a value of this type; G_MAXUINT64: there is no such type. */
static guint64 value_bytes(guint64 type)
{
    static const guint8 bytes[] = {0, 1, 2, 3, 4, 6, 8, 8, 0, 0};
    if (type < G_N_ELEMENTS(bytes))
        return bytes[type];
    return type < 12 ? G_MAXUINT64 : (type - 12) / 2;
}

/* What a record tells of itself. */
typedef struct {
    guint values;
    gboolean has_nothing[COLUMNS_SEEN]; /* its values that are NULL */
    guint64 first_at;                   /* where its first value is, in bytes of the record */
    guint64 first; /* the types of that one, and of the last one that has bytes */
    guint64 last;
} Record;

/* Its header says what its values are, and they have as many bytes as there are. */
static gboolean take_record(EkSpan page, const EkSqliteCell *cell, Record *record)
{
    EkSpan span = ek_span_part(page, cell->local_at, cell->local);
    guint64 head = 0;
    gsize at = pass_number(span, 0, &head);
    guint64 sum = head;
    if (head > span.length || head < at)
        return FALSE;
    *record = (Record){.first_at = head};
    for (guint i = 0; at < head; i++) {
        guint64 type = 0;
        at += pass_number(span, at, &type);
        guint64 bytes = value_bytes(type);
        if (bytes > cell->payload)
            return FALSE;
        if (i == 0)
            record->first = type;
        if (i < COLUMNS_SEEN)
            record->has_nothing[i] = type == 0;
        record->values++;
        if (bytes > 0)
            record->last = type;
        sum += bytes;
    }
    return at == head && sum == cell->payload;
}

/* --- the order of an index -------------------------------------------------------------------- */

#define KEY 64u /* bytes of a text that are compared */

/* A value, so far as it tells where an entry belongs. */
typedef struct {
    enum { KEY_NOTHING, KEY_NUMBER, KEY_TEXT, KEY_BYTES } kind;
    gdouble number;
    gsize length;
    guint8 bytes[KEY];
} Key;

static Key key_of(EkSpan record, guint64 type, guint64 at)
{
    Key key = {.kind = KEY_NOTHING};
    EkSpan value =
        ek_span_part(record, (gsize)MIN(at, record.length), (gsize)MIN(value_bytes(type), KEY));
    if (type >= 12) {
        key.kind = type % 2 == 1 ? KEY_TEXT : KEY_BYTES;
        key.length = value.length;
        memcpy(key.bytes, value.data, value.length);
    } else if (type == 7) {
        guint64 bits = ek_span_be64(value, 0);
        memcpy(&key.number, &bits, sizeof key.number);
        key.kind = KEY_NUMBER;
    } else if (type > 0) {
        guint64 bits = type == 9;
        for (gsize i = 0; i < value.length; i++)
            bits =
                (i == 0 && (value.data[0] & 0x80) != 0 ? ~(guint64)0 : bits) << 8 | value.data[i];
        key.number = (gdouble)(gint64)bits;
        key.kind = KEY_NUMBER;
    }
    return key;
}

static gint compare(const Key *one, const Key *other, gboolean any_case)
{
    if (one->kind != other->kind)
        return one->kind < other->kind ? -1 : 1;
    if (one->kind == KEY_NUMBER)
        return one->number < other->number ? -1 : one->number > other->number;
    gsize length = MIN(one->length, other->length);
    gint order = 0;
    for (gsize i = 0; i < length && order == 0; i++)
        order = any_case ? g_ascii_tolower((gchar)one->bytes[i]) -
                               g_ascii_tolower((gchar)other->bytes[i])
                         : one->bytes[i] - other->bytes[i];
    return order != 0 || length == KEY   ? order
           : one->length < other->length ? -1
                                         : one->length > other->length;
}

/* Orders that the entries of a tree may have. */
enum {
    ORDER_UP = 1,
    ORDER_DOWN = 2,
    ORDER_UP_ANY_CASE = 4,
    ORDER_DOWN_ANY_CASE = 8,
    ORDER_ALL = 15
};

static guint orders_between(const Key *one, const Key *other)
{
    gint exact = compare(one, other, FALSE);
    gint any_case = compare(one, other, TRUE);
    return (exact <= 0 ? ORDER_UP : 0u) | (exact >= 0 ? ORDER_DOWN : 0u) |
           (any_case <= 0 ? ORDER_UP_ANY_CASE : 0u) | (any_case >= 0 ? ORDER_DOWN_ANY_CASE : 0u);
}

/* --- the walk --------------------------------------------------------------------------------- */

/* A tree, by the row of the schema that names it. */
typedef struct {
    char *table; /* that it is, or that it is an index of */
    guint32 root;
    guint64 entries;
    gboolean is_index;
    gboolean is_partial; /* an index that may leave rows out */
    EkSqliteMade made;   /* of a table */
    guint orders;        /* that its entries may have */
    Key last;            /* of its last entry */
} Tree;

typedef struct {
    EkSqlite *database;
    guint8 *seen;  /* a bit a page */
    guint32 left;  /* pages that were not seen */
    GArray *trees; /* Tree; NULL: that of the schema was walked through */
    Tree *tree;
    gboolean may_hide; /* a block may lie in a record unnoticed */
    gboolean has_row;  /* `row` is that of the last one */
    gint64 row;
} Walk;

static void tree_clear(void *data)
{
    g_free(((Tree *)data)->table);
}

/* FALSE: there is no such page, or something led to it before. */
static gboolean see(Walk *walk, guint32 number)
{
    guint8 bit = (guint8)(1u << number % 8);
    if (number == 0 || number > walk->database->pages || (walk->seen[number / 8] & bit) != 0)
        return FALSE;
    walk->seen[number / 8] |= bit;
    walk->left--;
    return TRUE;
}

/* The pages that a record goes on through. All that tells them from a foreign block is the number
 * that each begins with; in the last one, where that is 0, a text has no zeros either. */
static gboolean pass_chain(Walk *walk, EkSpan page, const EkSqliteCell *cell, const Record *record)
{
    guint64 left = cell->payload - cell->local;
    guint32 number = ek_span_be32(page, cell->local_at + cell->local);
    guint32 each = walk->database->usable - 4;
    while (left > 0) {
        if (!see(walk, number))
            return FALSE;
        EkSpan next = ek_sqlite_page(walk->database, number);
        number = ek_span_be32(next, 0);
        if (left > each) {
            left -= each;
            continue;
        }
        gboolean is_text = record->last >= 13 && record->last % 2 == 1 &&
                           value_bytes(record->last) >= left &&
                           memchr(next.data + 4, 0, (gsize)left) == NULL;
        walk->may_hide = walk->may_hide || (!is_text && walk->database->size >= EK_FOLLOWED_BLOCK);
        return number == 0 && next.length > 0;
    }
    return TRUE;
}

/* A row of the schema: type, name, table, root page, and how it was made. */
static gboolean take_schema(Walk *walk, EkSpan page, const EkSqliteCell *cell)
{
    EkSpan record = ek_span_part(page, cell->local_at, cell->local);
    guint64 types[5] = {0};
    guint64 head = 0;
    gsize at = pass_number(record, 0, &head);
    guint64 value = head;
    guint64 places[5];
    for (guint i = 0; i < 5; i++) {
        at += pass_number(record, at, &types[i]);
        places[i] = value;
        value += value_bytes(types[i]);
        if (value_bytes(types[i]) > cell->payload)
            return FALSE;
    }
    gsize width = (gsize)MIN(value_bytes(types[3]), 8);
    if (places[3] + width > record.length || walk->trees->len >= TREES_MOST)
        return FALSE;
    guint64 root = types[3] == 9;
    for (gsize i = 0; i < width; i++)
        root = root << 8 | ek_span_u8(record, (gsize)places[3] + i);
    if (root == 0 || root > walk->database->pages)
        return root == 0; /* it has no tree */
    EkSpan made = ek_span_part(record, (gsize)MIN(places[4], record.length), record.length);
    made.length = (gsize)MIN(made.length, value_bytes(types[4]));
    gboolean is_short = made.length < value_bytes(types[4]);
    g_autofree char *words = g_ascii_strup((const char *)made.data, (gssize)made.length);
    gboolean is_index = ek_span_u8(record, (gsize)places[0]) == 'i';
    Tree tree = {
        .table = g_strndup((const char *)record.data + places[2], (gsize)(places[3] - places[2])),
        .root = (guint32)root,
        .is_index = is_index,
        .is_partial = strstr(words, "WHERE") != NULL || is_short,
        .made = ek_sqlite_made(is_index || is_short ? "" : words)};
    g_array_append_val(walk->trees, tree);
    return TRUE;
}

/* The next row, in order, up to that of the cell above. */
static gboolean take_row(Walk *walk, gint64 row)
{
    gboolean is_later = !walk->has_row || row > walk->row;
    walk->has_row = TRUE;
    walk->row = row;
    return is_later;
}

/* Does a row have no more values than its table columns, and none where its number stands for one?
 */
static gboolean fits_table(const EkSqliteMade *made, const Record *record)
{
    if (made->columns == 0)
        return TRUE;
    return record->values > 0 && record->values <= made->columns &&
           (made->row_column == 0 || made->row_column > MIN(record->values, COLUMNS_SEEN) ||
            record->has_nothing[made->row_column - 1]);
}

/* The next entry of an index. */
static void take_key(Tree *tree, EkSpan span, const Record *record)
{
    Key key = key_of(span, record->first, record->first_at);
    if (tree->entries > 0)
        tree->orders &= orders_between(&tree->last, &key);
    tree->last = key;
}

static gboolean visit(Walk *walk, guint32 number, gboolean is_table, guint depth);

/* A cell of a page: what is below it, and what is in it. */
static gboolean take_cell(Walk *walk, EkSpan page, gsize at, guint8 kind, guint depth)
{
    EkSqliteCell cell = ek_sqlite_cell(page, at, kind, walk->database->usable);
    gboolean is_table = kind == EK_SQLITE_TABLE_INNER || kind == EK_SQLITE_TABLE_LEAF;
    if (cell.child != 0 && !visit(walk, cell.child, is_table, depth + 1))
        return FALSE;
    if (kind == EK_SQLITE_TABLE_INNER) {
        gboolean is_right = !walk->has_row || walk->row <= cell.row;
        walk->has_row = TRUE;
        walk->row = cell.row;
        return is_right;
    }
    Record record;
    if ((is_table && !take_row(walk, cell.row)) || !take_record(page, &cell, &record))
        return FALSE;
    if (walk->tree->root == 1 && !take_schema(walk, page, &cell))
        return FALSE;
    if (is_table && !fits_table(&walk->tree->made, &record))
        return FALSE;
    if (!is_table)
        take_key(walk->tree, ek_span_part(page, cell.local_at, cell.local), &record);
    walk->tree->entries++;
    return pass_chain(walk, page, &cell, &record);
}

static gboolean visit(Walk *walk, guint32 number, gboolean is_table, guint depth)
{
    gsize head = number == 1 ? 100 : 0;
    if (depth > DEEP_MOST || !see(walk, number))
        return FALSE;
    EkSpan shown = ek_sqlite_page(walk->database, number);
    g_autofree guint8 *kept = g_memdup2(shown.data, shown.length);
    EkSpan page = {kept, shown.length};
    guint8 kind = ek_span_u8(page, head);
    gboolean is_inner = kind == EK_SQLITE_TABLE_INNER || kind == EK_SQLITE_INDEX_INNER;
    gboolean fits = is_table ? kind == EK_SQLITE_TABLE_INNER || kind == EK_SQLITE_TABLE_LEAF
                             : kind == EK_SQLITE_INDEX_INNER || kind == EK_SQLITE_INDEX_LEAF;
    guint32 cells = ek_span_be16(page, head + 3);
    gsize list = head + (is_inner ? 12 : 8);
    for (guint32 i = 0; fits && i < cells; i++)
        fits = take_cell(walk, page, ek_span_be16(page, list + 2 * (gsize)i), kind, depth);
    return fits && (!is_inner || visit(walk, ek_span_be32(page, head + 8), is_table, depth + 1));
}

static gboolean walk_tree(Walk *walk, Tree *tree)
{
    walk->tree = tree;
    walk->has_row = FALSE;
    tree->orders = ORDER_ALL;
    return visit(walk, tree->root, !tree->is_index && !tree->made.has_no_rows, 0);
}

/* --- what no tree leads to -------------------------------------------------------------------- */

/* Pages of the map begin with page 2, one behind as many as one has entries for. */
static gboolean is_map(Walk *walk, guint32 number)
{
    EkSpan page = ek_sqlite_page(walk->database, number);
    for (gsize at = 0; at + 5 <= walk->database->usable; at += 5) {
        guint8 kind = ek_span_u8(page, at);
        gboolean is_there = number + at / 5 < walk->database->pages;
        if (kind > 5 || (is_there && ek_span_be32(page, at + 1) > walk->database->pages))
            return FALSE;
    }
    return page.length > 0 && ek_span_u8(page, 0) != 0;
}

static gboolean pass_maps(Walk *walk)
{
    guint32 each = walk->database->usable / 5 + 1;
    for (guint64 number = 2; walk->database->has_map && number <= walk->database->pages;
         number += each) {
        if (number == ek_sqlite_lock_page(walk->database))
            number++;
        if (number <= walk->database->pages &&
            (!is_map(walk, (guint32)number) || !see(walk, (guint32)number)))
            return FALSE;
    }
    return TRUE;
}

/* Does an index have as many entries as its table? */
static gboolean are_counted(const Walk *walk)
{
    g_autoptr(GHashTable) rows = g_hash_table_new(g_str_hash, g_str_equal);
    for (guint i = 0; i < walk->trees->len; i++) {
        Tree *tree = &g_array_index(walk->trees, Tree, i);
        if (!tree->is_index)
            g_hash_table_insert(rows, tree->table, tree);
    }
    for (guint i = 0; i < walk->trees->len; i++) {
        const Tree *tree = &g_array_index(walk->trees, Tree, i);
        const Tree *table = tree->is_index ? g_hash_table_lookup(rows, tree->table) : tree;
        if (table == NULL || tree->entries > table->entries ||
            (tree->entries < table->entries && !tree->is_partial))
            return FALSE;
    }
    return TRUE;
}

gboolean ek_sqlite_is_proved(EkSqlite *database)
{
    guint32 lock = ek_sqlite_lock_page(database);
    /* In a longer page, or a free one, a block would not be noticed. */
    if (database->size > EK_FOLLOWED_BLOCK || database->pages > PAGES_MOST ||
        g_hash_table_size(database->free_pages) > 0)
        return FALSE;
    g_autofree guint8 *seen = g_malloc0(database->pages / 8 + 1);
    g_autoptr(GArray) trees = g_array_new(FALSE, FALSE, sizeof(Tree));
    g_array_set_clear_func(trees, tree_clear);
    Walk walk = {.database = database, .seen = seen, .left = database->pages, .trees = trees};
    Tree schema = {.root = 1};
    gboolean fine = walk_tree(&walk, &schema) && pass_maps(&walk) &&
                    (lock > database->pages || see(&walk, lock));
    for (guint i = 0; fine && i < trees->len; i++)
        fine = walk_tree(&walk, &g_array_index(trees, Tree, i)) &&
               g_array_index(trees, Tree, i).orders != 0;
    return fine && !walk.may_hide && walk.left == 0 && are_counted(&walk);
}
