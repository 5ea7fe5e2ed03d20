/* SPDX-License-Identifier: MIT */
/* The compound file of MS-CFB: older office files, mails, installers. A table says of each sector
 * which comes next; the file ends behind the last one in use. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define FREE 0xffffffffu
#define END 0xfffffffeu
#define TABLE 0xfffffffdu
#define TABLES_OF 0xfffffffcu
#define SECTORS_MOST (1u << 24)
#define LEAST 512u
#define HEAD_TABLES 109u
#define TABLES_ASKED 4096u /* that are looked at for one that is not in its place */

static const EkSignature signatures[] = {
    {0, 8, {0xd0, 0xcf, 0x11, 0xe0, 0xa1, 0xb1, 0x1a, 0xe1}, {0}}};

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    guint32 size;
    GArray *tables; /* guint32: sectors that hold the table */
    guint32 sectors;
    guint32 last; /* of the sectors that were looked at: what is behind it nothing checks */
} Compound;

static gboolean begin(EkSpan span)
{
    guint16 version = ek_span_le16(span, 26);
    guint16 shift = ek_span_le16(span, 30);
    return ek_span_le16(span, 28) == 0xfffe && ek_span_le16(span, 32) == 6 &&
           ((version == 3 && shift == 9) || (version == 4 && shift == 12)) &&
           ek_span_le32(span, 44) > 0 && ek_span_le32(span, 44) < SECTORS_MOST / 128;
}

static EkByte place_of(const Compound *compound, guint32 sector)
{
    return (EkByte)compound->size * ((EkByte)sector + 1);
}

/* Where the table is: the first 109 sectors of it stand in the header. */
static gboolean find_tables(Compound *compound)
{
    EkSpan head = ek_content_some(compound->content, 0, 512);
    guint32 count = ek_span_le32(head, 44);
    guint32 next = ek_span_le32(head, 68);
    guint32 further = ek_span_le32(head, 72);
    for (guint32 i = 0; i < MIN(count, HEAD_TABLES); i++) {
        guint32 sector = ek_span_le32(head, 76 + 4 * (gsize)i);
        g_array_append_val(compound->tables, sector);
    }
    guint32 each = compound->size / 4 - 1;
    for (guint32 i = 0; i < further && compound->tables->len < count; i++) {
        EkSpan list = ek_content_at(compound->content, place_of(compound, next), compound->size);
        for (guint32 k = 0; k < each && compound->tables->len < count; k++) {
            guint32 sector = ek_span_le32(list, 4 * (gsize)k);
            g_array_append_val(compound->tables, sector);
        }
        next = ek_span_le32(list, 4 * (gsize)each);
    }
    return compound->tables->len == count;
}

/* What comes behind a sector. */
static guint32 next_of(Compound *compound, guint32 sector)
{
    guint32 each = compound->size / 4;
    if (sector / each >= compound->tables->len)
        return FREE;
    guint32 table = g_array_index(compound->tables, guint32, sector / each);
    EkSpan word = ek_content_at(compound->content,
                                place_of(compound, table) + 4 * (EkByte)(sector % each), 4);
    return word.length == 4 ? ek_span_le32(word, 0) : FREE;
}

/* Goes over the whole table: each entry is one, and the table's own sectors are marked so. */
static gboolean check_table(Compound *compound)
{
    guint32 each = compound->size / 4;
    guint32 total = each * compound->tables->len;
    for (guint32 i = 0; i < compound->tables->len; i++) {
        guint32 table = g_array_index(compound->tables, guint32, i);
        EkSpan sector = ek_content_at(compound->content, place_of(compound, table), compound->size);
        compound->last = MAX(compound->last, table);
        if (sector.length == 0)
            return FALSE;
        for (guint32 k = 0; k < each; k++) {
            guint32 next = ek_span_le32(sector, 4 * (gsize)k);
            if (next >= total && next < TABLES_OF)
                return FALSE;
            if (next != FREE)
                compound->sectors = i * each + k + 1;
        }
    }
    for (guint32 i = 0; i < compound->tables->len; i++)
        if (next_of(compound, g_array_index(compound->tables, guint32, i)) != TABLE)
            return FALSE;
    return TRUE;
}

/* --- what must stand where -------------------------------------------------------------------- */

enum { IS_TABLE, IS_LIST, IS_DIRECTORY };

/* The entries from the sector `first` on: each sector, as far as one goes on right behind itself,
 * by its own number; no two go on in the same one, and those of the table itself, from `own` on (1:
 * the first; 0: in another part of it), are marked. */
static gboolean is_table(EkSpan span, guint32 total, guint32 first, guint32 own)
{
    guint32 last = FREE;
    guint used = 0;
    guint on = 0;
    for (gsize at = 0; at + 4 <= span.length; at += 4) {
        guint32 next = ek_span_le32(span, at);
        if ((next >= total && next < TABLES_OF) || (next < TABLES_OF && next == last) ||
            (at / 4 + 1 == own && next != TABLE))
            return FALSE;
        used += next < TABLES_OF;
        on += next < TABLES_OF && next == first + (guint32)(at / 4) + 1;
        last = next;
    }
    /* Streams are a few sectors long at least. */
    return used > 0 ? on >= used / 4 && on > 0 : own > 0;
}

/* Numbers of sectors of the table, and at the end of the next such list. */
static gboolean is_list(EkSpan span, guint32 size)
{
    guint32 last = FREE;
    for (gsize at = 0; at + 4 <= span.length; at += 4) {
        guint32 sector = ek_span_le32(span, at);
        gboolean is_end = at + 4 == size;
        if (is_end
                ? sector >= SECTORS_MOST && sector < END
                : (sector >= SECTORS_MOST && sector != FREE) || (sector != FREE && sector == last))
            return FALSE;
        last = sector;
    }
    return ek_span_le32(span, 0) != FREE;
}

static gboolean is_directory(EkSpan span)
{
    static const char name[] = "R\0o\0o\0t\0 \0E\0n\0t\0r\0y\0\0";
    return ek_span_equals(span, 0, name, MIN(sizeof name - 1, span.length)) &&
           (span.length < 67 || (ek_span_le16(span, 64) == 22 && ek_span_u8(span, 66) == 5));
}

/* `told`: which of them, and above that the table's own entry; `sum`: all entries, and above that
 * the first of a part of the table, or the bytes of a sector. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    switch (landmark->told & 3) {
    case IS_TABLE:
        return is_table(span, (guint32)landmark->sum, (guint32)(landmark->sum >> 32),
                        (guint32)(landmark->told >> 2));
    case IS_LIST: return is_list(span, (guint32)landmark->sum);
    default: return is_directory(span);
    }
}

static EkLandmark landmark_in(const Compound *compound, guint32 sector, guint64 told, guint64 sum)
{
    return (EkLandmark){.at = place_of(compound, sector),
                        .shown = compound->size,
                        .told = told,
                        .sum = sum,
                        .stands = stands};
}

/* The part of the table with this number. */
static EkLandmark table_in(const Compound *compound, guint32 sector, guint32 number)
{
    guint32 each = compound->size / 4;
    guint32 own = sector / each == number ? sector % each + 1 : 0;
    guint64 total = (guint64)each * ek_span_le32(ek_content_some(compound->content, 44, 4), 0);
    return landmark_in(compound, sector, IS_TABLE | (guint64)own << 2,
                       (guint64)number * each << 32 | (guint32)total);
}

static gboolean is_there(const Compound *compound, const EkLandmark *landmark)
{
    EkSpan span = ek_content_at(compound->content, landmark->at, compound->size);
    return span.length > 0 && stands(landmark, span);
}

/* Where it does not stand, and nothing before it is missing, it is the landmark. */
static void ask(Compound *compound, EkLandmark landmark)
{
    EkLandmark *first = &compound->followed->landmark;
    if (landmark.at < place_of(compound, SECTORS_MOST) && !is_there(compound, &landmark) &&
        (first->stands == NULL || landmark.at < first->at))
        *first = landmark;
}

/* The first of its parts that is not in its place. */
static void find_landmark(Compound *compound)
{
    EkContent *content = compound->content;
    EkSpan head = ek_content_some(content, 0, 512);
    guint32 directory = ek_span_le32(head, 48);
    guint32 list = ek_span_le32(head, 68);
    guint32 lists = MIN(ek_span_le32(head, 72), TABLES_ASKED);
    guint32 known = HEAD_TABLES;
    ask(compound, landmark_in(compound, directory, IS_DIRECTORY, 0));
    for (guint32 i = 0; i < lists && list < SECTORS_MOST; i++) {
        EkLandmark landmark = landmark_in(compound, list, IS_LIST, compound->size);
        ask(compound, landmark);
        /* What it names is asked only where that is one: other parts look much like it. */
        EkSpan word = ek_content_some(content, landmark.at, 4);
        EkLandmark named = table_in(compound, ek_span_le32(word, 0), known);
        if (!is_there(compound, &landmark) || !is_there(compound, &named))
            break;
        known += compound->size / 4 - 1;
        list = ek_span_le32(ek_content_some(content, place_of(compound, list + 1) - 4, 4), 0);
    }
    for (guint32 i = 0; i < MIN(compound->tables->len, MIN(known, TABLES_ASKED)); i++)
        ask(compound, table_in(compound, g_array_index(compound->tables, guint32, i), i));
}

/* --- names ------------------------------------------------------------------------------------ */

static const struct {
    const char *stream;
    const char *ending;
} by_stream[] = {{"WordDocument", "doc"},  {"Workbook", "xls"},
                 {"Book", "xls"},          {"PowerPoint Document", "ppt"},
                 {"VisioDocument", "vsd"}, {"__properties_version1.0", "msg"},
                 {"Quill", "pub"}};

/* Names in the directory say what it is. FALSE where an entry is none. */
static gboolean take_directory(Compound *compound)
{
    guint32 sector = ek_span_le32(ek_content_some(compound->content, 48, 4), 0);
    guint entries = 0;
    for (guint32 i = 0; i < compound->sectors && sector < TABLES_OF; i++) {
        compound->last = MAX(compound->last, sector);
        for (guint32 k = 0; k < compound->size / 128; k++) {
            EkSpan entry =
                ek_content_at(compound->content, place_of(compound, sector) + 128 * (EkByte)k, 128);
            guint16 length = ek_span_le16(entry, 64);
            if (entry.length == 0 || length > 64 || ek_span_u8(entry, 66) > 5)
                return FALSE;
            g_autoptr(GString) text = g_string_new(NULL);
            ek_name_utf16(text, ek_span_part(entry, 0, length >= 2 ? length - 2u : 0), FALSE);
            for (gsize n = 0; n < G_N_ELEMENTS(by_stream); n++)
                if (g_str_equal(text->str, by_stream[n].stream))
                    ek_followed_ending(compound->followed, by_stream[n].ending);
            entries += length > 0;
        }
        sector = next_of(compound, sector);
    }
    return entries > 0;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 512);
    g_autoptr(GArray) tables = g_array_new(FALSE, FALSE, sizeof(guint32));
    Compound compound = {content, followed, 1u << ek_span_le16(head, 30), tables, 0, 0};
    if (find_tables(&compound) && check_table(&compound) && take_directory(&compound) &&
        place_of(&compound, compound.sectors) - compound.size < ek_content_bytes(content)) {
        EkByte end = MIN(place_of(&compound, compound.sectors), ek_content_bytes(content));
        followed->is_doubtful = compound.last < compound.sectors / 2;
        ek_followed_end(followed, end, EK_PROOF_TABLES, "its table of sectors, and its directory");
        return;
    }
    find_landmark(&compound);
    EkByte guess = compound.sectors > 0 ? place_of(&compound, compound.sectors) : 512;
    ek_followed_break(followed, 512, MIN(guess, ek_content_bytes(content)), LEAST,
                      "its table of sectors is not where its header says");
}

const EkCarveType ek_carve_ole = {
    .name = "ole",
    .ending = "ole",
    .kind = EK_KIND_DOCUMENT,
    .checks = "the table of sectors and the directory; longer than 4 KiB it stays doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
};
