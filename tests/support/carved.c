/* SPDX-License-Identifier: MIT */
/* Drives put together for the search by content. */
#include "carved.h"

#include "base/checksum.h"
#include "check.h"

#include <string.h>

typedef struct {
    GPtrArray *found; /* EkFound */
    guint64 searched;
} Results;

/* What is handed on is the search's own: a copy is kept. */
static gboolean take(void *data, const EkFound *found, GError **error)
{
    Results *results = data;
    EkFound *copy = g_memdup2(found, sizeof *found);
    (void)error;
    copy->places = g_array_copy(found->places);
    copy->why = g_strdup(found->why);
    g_ptr_array_add(results->found, copy);
    return TRUE;
}

static gboolean count(void *data, EkRange range, guint64 crowded, GError **error)
{
    Results *results = data;
    (void)crowded;
    (void)error;
    results->searched += range.bytes;
    return TRUE;
}

EkByte carved_place(const EkFound *found)
{
    return g_array_index(found->places, EkRange, 0).first;
}

static gint by_byte(gconstpointer a, gconstpointer b)
{
    EkByte one = *(const EkByte *)a;
    EkByte other = *(const EkByte *)b;
    return one < other ? -1 : one > other;
}

/* Is anything known of blocks of numbers? */
static gboolean settle(EkCarve *carve, const GPtrArray *found)
{
    g_autoptr(GArray) firsts = g_array_new(FALSE, FALSE, sizeof(EkByte));
    for (guint i = 0; i < found->len; i++) {
        EkByte first = carved_place(found->pdata[i]);
        g_array_append_val(firsts, first);
    }
    g_array_sort(firsts, by_byte);
    return ek_carve_settle(carve, firsts);
}

/* Joins what breaks, some at a time. */
static void join_all(EkCarve *carve, GPtrArray *found, guint threads, gboolean only_listed)
{
    g_autoptr(GArray) tasks = g_array_new(FALSE, FALSE, sizeof(EkJoinTask));
    for (guint i = 0; i < found->len; i++) {
        const EkFound *one = found->pdata[i];
        gboolean is_open =
            only_listed ? one->state != EK_CONTENT_WHOLE
                        : one->state == EK_CONTENT_CUT ||
                              (!one->is_told && (one->followed.may_end || ek_found_held(one) == 0));
        EkJoinTask task = {is_open ? one->type : NULL, carved_place(one), only_listed, NULL};
        g_array_append_val(tasks, task);
    }
    for (guint i = 0; i < tasks->len;) {
        EkJoinTask *some = &g_array_index(tasks, EkJoinTask, i);
        guint done = ek_carve_join_many(carve, some, MIN(tasks->len - i, MAX(3 * threads, 4)),
                                        EK_CARVE_TRIES);
        CHECK(done > 0);
        for (guint k = 0; k < done; k++) {
            if (some[k].joined == NULL)
                continue;
            ek_found_free(found->pdata[i + k]);
            found->pdata[i + k] = some[k].joined;
        }
        i += MAX(done, 1);
    }
}

GPtrArray *carved_search(Bench *bench, guint threads, gboolean joins)
{
    GPtrArray *found = g_ptr_array_new_with_free_func((GDestroyNotify)ek_found_free);
    Results results = {found, 0};
    gint cancel = 0;
    g_autoptr(GArray) ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkRange all = {0, ek_reader_bytes(bench->reader)};
    g_array_append_val(ground, all);
    EkCarveOrder order = {bench->reader, ground, NULL, threads, !joins, 4096};
    EkCarveSink sink = {&results, take, count, NULL};
    g_autoptr(EkCarve) carve = ek_carve_new(&order, &sink, &cancel);
    g_autoptr(GArray) good = bench_good(bench);
    GError *error = NULL;
    CHECK(ek_carve_scan(carve, good, &error));
    g_clear_error(&error);
    if (!joins)
        return found;
    ek_carve_release_rests(carve);
    if (settle(carve, found))
        join_all(carve, found, threads, TRUE);
    join_all(carve, found, threads, FALSE);
    return found;
}

const EkFound *carved_at(const GPtrArray *found, EkByte at)
{
    for (guint i = 0; i < found->len; i++)
        if (carved_place(found->pdata[i]) == at)
            return found->pdata[i];
    return NULL;
}

gboolean carved_is_same(const Bench *bench, const EkFound *found, const Specimen *specimen)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    for (guint i = 0; i < found->places->len; i++) {
        EkRange place = g_array_index(found->places, EkRange, i);
        g_autofree guint8 *part =
            ek_reader_read_new(bench->reader, place.first, (gsize)place.bytes, NULL, NULL);
        g_byte_array_append(bytes, part, (guint)place.bytes);
    }
    gsize common = MIN(bytes->len, specimen->length);
    return memcmp(bytes->data, specimen->data, common) == 0 &&
           ek_bytes_are_zero(bytes->data + common, bytes->len - common) &&
           ek_bytes_are_zero(specimen->data + common, specimen->length - common);
}

/* --- drives ---------------------------------------------------------------------------------- */

void drive_pad(Drive *drive, gsize grid, gboolean with_noise)
{
    gsize over = drive->bytes->len % grid;
    gsize more = over == 0 ? 0 : grid - over;
    gsize at = drive->bytes->len;
    g_byte_array_set_size(drive->bytes, (guint)(at + more));
    if (with_noise)
        fill_noise(drive->bytes->data + at, more, drive->seed++);
    else
        memset(drive->bytes->data + at, 0, more);
}

void drive_noise(Drive *drive, gsize length)
{
    gsize at = drive->bytes->len;
    g_byte_array_set_size(drive->bytes, (guint)(at + length));
    fill_noise(drive->bytes->data + at, length, drive->seed++);
}

void drive_text(Drive *drive, gsize length)
{
    g_autoptr(GString) text = g_string_new(NULL);
    while (text->len < length)
        g_string_append_printf(text, "accession %u;Silene;%u seeds\n", (guint)text->len,
                               drive->seed++ % 90);
    drive_put(drive, (const guint8 *)text->str, length);
}

EkByte drive_put(Drive *drive, const guint8 *data, gsize length)
{
    EkByte at = drive->bytes->len;
    g_byte_array_append(drive->bytes, data, (guint)length);
    return at;
}

Drive drive_new(guint32 seed)
{
    Drive drive = {g_byte_array_new(), seed};
    drive_noise(&drive, 8192);
    return drive;
}

void drive_open(Drive *drive, Bench *bench)
{
    drive_pad(drive, 4096, FALSE);
    bench_open(bench, drive->bytes->data, drive->bytes->len);
}

static void put_be32(GByteArray *bytes, guint32 value)
{
    guint8 raw[4];
    ek_put_be32(raw, value);
    g_byte_array_append(bytes, raw, sizeof raw);
}

void png_chunk(GByteArray *png, const char *name, const guint8 *data, guint length)
{
    gsize first = png->len + 4;
    put_be32(png, length);
    g_byte_array_append(png, (const guint8 *)name, 4);
    g_byte_array_append(png, data, length);
    put_be32(png, ek_crc32((EkSpan){png->data + first, png->len - first}));
}
