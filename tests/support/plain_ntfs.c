/* SPDX-License-Identifier: MIT */
/* A plain second reader of NTFS. */
#include "plain.h"

#define ROOT 5u
#define FIRST_OF_USERS 24u

typedef struct {
    guint64 number;
    guint64 parent;
    char *name;
    guint64 record; /* in which it stands */
} Name;

typedef struct {
    const Plain *plain;
    PlainVolume *volume;
    guint64 cluster;
    guint64 record_bytes;
    PlainFile table;     /* $MFT */
    guint8 *records;     /* all of them, their update sequences undone */
    GArray *names;       /* Name: of files and folders, by number */
    GHashTable *folders; /* number to Name* */
} Ntfs;

/* Adds the runs of an attribute that begins at the record's byte `at`. */
static void add_runs(const Ntfs *ntfs, const Plain *record, guint64 at, PlainFile *file)
{
    guint64 offset = p64(record, at + 16) * ntfs->cluster;
    guint64 run = at + p16(record, at + 32);
    gint64 lcn = 0;
    while (record->bytes[run] != 0) {
        guint counts = record->bytes[run] & 15u;
        guint places = record->bytes[run] >> 4;
        guint64 count = 0;
        gint64 move = 0;
        for (guint i = 0; i < counts; i++)
            count |= (guint64)record->bytes[run + 1 + i] << 8 * i;
        for (guint i = 0; i < places; i++)
            move |= (gint64)record->bytes[run + 1 + counts + i] << 8 * i;
        if (places > 0 && places < 8 && (move >> (8 * places - 1) & 1) != 0)
            move -= (gint64)1 << 8 * places;
        lcn += move;
        if (places > 0)
            plain_piece(file, offset, count * ntfs->cluster, (guint64)lcn * ntfs->cluster);
        offset += count * ntfs->cluster;
        run += 1 + counts + places;
    }
}

static void fix(guint8 *bytes, gsize length)
{
    Plain record = {bytes, length};
    guint16 at = p16(&record, 4);
    for (guint i = 1; i < p16(&record, 6); i++)
        memcpy(bytes + 512 * i - 2, bytes + at + 2 * i, 2);
}

/* Where in the volume a byte of the table lies. */
static guint64 table_place(const Ntfs *ntfs, guint64 offset)
{
    for (guint i = 0; i < ntfs->table.pieces->len; i++) {
        const PlainPiece *piece = &g_array_index(ntfs->table.pieces, PlainPiece, i);
        if (offset >= piece->offset && offset < piece->offset + piece->bytes)
            return piece->place + (offset - piece->offset);
    }
    g_assert_not_reached();
}

/* Hands each attribute of a type of a file, in all of its records, to `take`. */
typedef void (*Take)(const Ntfs *ntfs, const Plain *record, guint64 at, PlainFile *file);

static void each(const Ntfs *ntfs, guint64 number, guint32 type, Take take, PlainFile *file)
{
    guint64 count = ntfs->table.size / ntfs->record_bytes;
    for (guint64 i = number; i < count; i++) {
        Plain record = {ntfs->records + i * ntfs->record_bytes, ntfs->record_bytes};
        gboolean is_own = i == number || (p64(&record, 32) & 0xffffffffffffull) == number;
        if (memcmp(record.bytes, "FILE", 4) != 0 || (p16(&record, 22) & 1) == 0 || !is_own ||
            (i != number && number == 0))
            continue;
        plain_need(file->map, table_place(ntfs, i * ntfs->record_bytes), ntfs->record_bytes, 0);
        for (guint64 at = p16(&record, 20); p32(&record, at) != 0xffffffffu;
             at += p32(&record, at + 4))
            if (p32(&record, at) == type)
                take(ntfs, &record, at, file);
    }
}

/* The further records of a file may stand before its own: rarely, so they are looked for again. */
static void each_before(const Ntfs *ntfs, guint64 number, guint32 type, Take take, PlainFile *file)
{
    for (guint64 i = 0; i < number; i++) {
        Plain record = {ntfs->records + i * ntfs->record_bytes, ntfs->record_bytes};
        if (memcmp(record.bytes, "FILE", 4) != 0 || (p16(&record, 22) & 1) == 0 ||
            (p64(&record, 32) & 0xffffffffffffull) != number)
            continue;
        plain_need(file->map, table_place(ntfs, i * ntfs->record_bytes), ntfs->record_bytes, 0);
        for (guint64 at = p16(&record, 20); p32(&record, at) != 0xffffffffu;
             at += p32(&record, at + 4))
            if (p32(&record, at) == type)
                take(ntfs, &record, at, file);
    }
}

static void take_data(const Ntfs *ntfs, const Plain *record, guint64 at, PlainFile *file)
{
    if (record->bytes[at + 9] != 0)
        return; /* a named stream */
    if (record->bytes[at + 8] == 0) {
        guint64 into = (guint64)(record->bytes - ntfs->records) + at + p16(record, at + 20);
        file->size = p32(record, at + 16);
        /* The update sequence has two of its bytes elsewhere. */
        file->is_packed = into / 512 != (into + file->size + 1) / 512;
        if (file->size > 0)
            plain_piece(file, 0, file->size, table_place(ntfs, into));
        return;
    }
    file->is_packed |= (p16(record, at + 12) & 1) != 0;
    if (p64(record, at + 16) == 0)
        file->size = p64(record, at + 48);
    add_runs(ntfs, record, at, file);
}

static void note_list(const Ntfs *ntfs, const Plain *record, guint64 at, PlainFile *file)
{
    (void)record;
    (void)at;
    (void)file;
    ntfs->volume->lists++;
}

static void gather_names(Ntfs *ntfs)
{
    guint64 count = ntfs->table.size / ntfs->record_bytes;
    for (guint64 i = 0; i < count; i++) {
        Plain record = {ntfs->records + i * ntfs->record_bytes, ntfs->record_bytes};
        if (memcmp(record.bytes, "FILE", 4) != 0 || (p16(&record, 22) & 1) == 0)
            continue;
        guint64 base = p64(&record, 32) & 0xffffffffffffull;
        for (guint64 at = p16(&record, 20); p32(&record, at) != 0xffffffffu;
             at += p32(&record, at + 4)) {
            guint64 value = at + p16(&record, at + 20);
            if (p32(&record, at) != 0x30 || record.bytes[value + 65] == 2)
                continue;
            gunichar2 units[256];
            guint length = record.bytes[value + 64];
            for (guint k = 0; k < length; k++)
                units[k] = p16(&record, value + 66 + 2ull * k);
            Name name = {base != 0 ? base : i, p64(&record, value) & 0xffffffffffffull,
                         g_utf16_to_utf8(units, length, NULL, NULL, NULL), i};
            g_array_append_val(ntfs->names, name);
        }
    }
    for (guint i = 0; i < ntfs->names->len; i++) {
        Name *name = &g_array_index(ntfs->names, Name, i);
        Plain record = {ntfs->records + name->number * ntfs->record_bytes, ntfs->record_bytes};
        if ((p16(&record, 22) & 2) != 0)
            g_hash_table_insert(ntfs->folders, &name->number, name);
    }
}

/* A name stands in the file's record, or in a further one of its. */
static void need_name(const Ntfs *ntfs, const Name *name)
{
    GArray *way = ntfs->volume->way;
    plain_need(way, table_place(ntfs, name->record * ntfs->record_bytes), ntfs->record_bytes, 0);
    plain_need(way, table_place(ntfs, name->number * ntfs->record_bytes), ntfs->record_bytes, 0);
}

static char *path_of(const Ntfs *ntfs, const Name *name)
{
    char *path = g_strdup(name->name);
    g_array_set_size(ntfs->volume->way, 0);
    need_name(ntfs, name);
    for (guint64 parent = name->parent; parent != ROOT;) {
        const Name *folder = g_hash_table_lookup(ntfs->folders, &parent);
        if (folder == NULL)
            break;
        need_name(ntfs, folder);
        char *longer = g_strdup_printf("%s/%s", folder->name, path);
        g_free(path);
        path = longer;
        parent = folder->parent;
    }
    return path;
}

static void load_table(Ntfs *ntfs, guint64 place)
{
    g_autofree guint8 *first = g_memdup2(ntfs->plain->bytes + place, ntfs->record_bytes);
    Plain record = {first, ntfs->record_bytes};
    fix(first, ntfs->record_bytes);
    for (guint64 at = p16(&record, 20); p32(&record, at) != 0xffffffffu;
         at += p32(&record, at + 4)) {
        if (p32(&record, at) == 0x20)
            ntfs->volume->table_is_long = TRUE;
        if (p32(&record, at) != 0x80)
            continue;
        ntfs->table.size = p64(&record, at + 48);
        add_runs(ntfs, &record, at, &ntfs->table);
    }
    ntfs->records = g_malloc0(ntfs->table.size);
    /* What the first runs hold tells where the others are; then all is read. */
    for (guint turn = 0; turn < 2; turn++) {
        for (guint i = 0; i < ntfs->table.pieces->len; i++) {
            const PlainPiece *piece = &g_array_index(ntfs->table.pieces, PlainPiece, i);
            memcpy(ntfs->records + piece->offset, ntfs->plain->bytes + piece->place, piece->bytes);
        }
        for (guint64 at = 0; at < ntfs->table.size; at += ntfs->record_bytes)
            if (memcmp(ntfs->records + at, "FILE", 4) == 0)
                fix(ntfs->records + at, ntfs->record_bytes);
        for (guint64 i = 1;
             turn == 0 && ntfs->volume->table_is_long && i < ntfs->table.size / ntfs->record_bytes;
             i++) {
            Plain other = {ntfs->records + i * ntfs->record_bytes, ntfs->record_bytes};
            if (memcmp(other.bytes, "FILE", 4) != 0 || p64(&other, 32) == 0 ||
                (p64(&other, 32) & 0xffffffffffffull) != 0)
                continue;
            for (guint64 at = p16(&other, 20); p32(&other, at) != 0xffffffffu;
                 at += p32(&other, at + 4))
                if (p32(&other, at) == 0x80)
                    add_runs(ntfs, &other, at, &ntfs->table);
        }
    }
}

void plain_ntfs(const Plain *plain, PlainVolume *volume)
{
    Ntfs ntfs = {.plain = plain,
                 .volume = volume,
                 .cluster = (guint64)p16(plain, 11) * plain->bytes[13],
                 .table = {.pieces = g_array_new(FALSE, FALSE, sizeof(PlainPiece))},
                 .names = g_array_new(FALSE, FALSE, sizeof(Name)),
                 .folders = g_hash_table_new(g_int64_hash, g_int64_equal)};
    gint8 record = (gint8)plain->bytes[64];
    ntfs.record_bytes = record < 0 ? 1ull << -record : (guint64)record * ntfs.cluster;
    load_table(&ntfs, p64(plain, 48) * ntfs.cluster);
    gather_names(&ntfs);
    for (guint i = 0; i < ntfs.names->len; i++) {
        Name *name = &g_array_index(ntfs.names, Name, i);
        if (name->number < FIRST_OF_USERS || g_hash_table_contains(ntfs.folders, &name->number))
            continue;
        char *path = path_of(&ntfs, name);
        if (g_str_has_prefix(path, "$Extend/")) {
            g_free(path);
            continue;
        }
        PlainFile *file = plain_file(volume, path, 0);
        file->size = G_MAXINT64;
        each(&ntfs, name->number, 0x80, take_data, file);
        each_before(&ntfs, name->number, 0x80, take_data, file);
        each(&ntfs, name->number, 0x20, note_list, file);
        if (file->size == G_MAXINT64)
            file->size = 0;
    }
    for (guint i = 0; i < ntfs.names->len; i++)
        g_free(g_array_index(ntfs.names, Name, i).name);
    g_array_unref(ntfs.names);
    g_hash_table_unref(ntfs.folders);
    g_array_unref(ntfs.table.pieces);
    g_free(ntfs.records);
}
