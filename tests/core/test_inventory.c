/* SPDX-License-Identifier: MIT */
/* Tests of the inventory. */
#include "case/inventory.h"
#include "case/inventoryrows.h"
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <string.h>
#include <sys/resource.h>

#define CLUSTER 4096u
#define DRIVE (1u << 20)
#define ROOT 5u

typedef struct {
    Bench bench;
    EkCase *opened;
    EkInventory *inventory;
    guint8 *drive;
    gint cancel;
    EkFileSink sink;
} Shelf;

#define EMPTY 30u /* clusters */
#define PICTURE 31u

static void shelf_open(Shelf *shelf)
{
    GError *error = NULL;
    EkCaseInfo info = {.source = (char *)"/dev/fen",
                       .kind = (char *)"block",
                       .path = (char *)"/dev/fen",
                       .image = (char *)"case/image.raw",
                       .sector_size = 512,
                       .physical_sector_size = 512,
                       .bytes = DRIVE,
                       .sectors = DRIVE / 512};
    *shelf = (Shelf){.drive = g_malloc0(DRIVE)};
    fill_noise(shelf->drive, DRIVE, 7);
    /* Nothing, which is of no kind; and what a picture begins with. */
    memset(shelf->drive + EMPTY * CLUSTER, 0, CLUSTER);
    memcpy(shelf->drive + PICTURE * CLUSTER, "\x89PNG\r\n\x1a\n", 8);
    bench_open(&shelf->bench, shelf->drive, DRIVE);
    shelf->opened = ek_case_create("case", &info, "", &error);
    shelf->inventory = ek_inventory_open(shelf->opened, 1, "basis", TRUE, &error);
    shelf->sink = ek_inventory_sink(shelf->inventory, &shelf->cancel);
    CHECK_FINE(&error);
}

static void shelf_close(Shelf *shelf)
{
    ek_inventory_close(shelf->inventory);
    ek_case_close(shelf->opened);
    bench_close(&shelf->bench);
    g_free(shelf->drive);
}

static void finish(Shelf *shelf)
{
    GError *error = NULL;
    g_autoptr(GPtrArray) newer = g_ptr_array_new();
    EkGround ground = {.reader = shelf->bench.reader, .newer = newer};
    CHECK(ek_inventory_end(shelf->inventory, &error));
    CHECK(ek_inventory_finish(shelf->inventory, ROOT, &ground, &error));
    CHECK_FINE(&error);
}

/* A file of one cluster at `place` (0: none), under `name` in `parent` (NULL: nameless). */
static void put(Shelf *shelf, guint64 number, EkFileType type, guint flags, guint64 parent,
                guint32 parent_generation, const char *name, guint64 place)
{
    EkFile file = {.number = number,
                   .type = type,
                   .flags = flags,
                   .generation = 3,
                   .size = type == EK_TYPE_FILE ? CLUSTER : 0};
    EkExtent extent = {0, CLUSTER, place, CLUSTER, FALSE, FALSE, 0};
    EkFileName called = {.file = number,
                         .parent = parent,
                         .parent_generation = parent_generation,
                         .is_deleted = (flags & EK_FILE_DELETED) != 0,
                         .text = name};
    CHECK(shelf->sink.file(shelf->sink.data, &file));
    if (place != 0)
        CHECK(shelf->sink.extent(shelf->sink.data, number, &extent));
    if (name != NULL)
        CHECK(shelf->sink.name(shelf->sink.data, &called));
}

static gboolean add_line(void *data, const char *path, const EkItem *item)
{
    g_string_append_printf(data, "%s%s %s\n", path, item->file.type == EK_TYPE_FOLDER ? "/" : "",
                           ek_condition_name(item->damage.condition));
    return TRUE;
}

static char *tree_of(Shelf *shelf, guint with)
{
    GError *error = NULL;
    GString *text = g_string_new(NULL);
    CHECK(ek_inventory_walk(shelf->inventory, ROOT, EK_WITH_BELOW | with, add_line, text, &error));
    CHECK_FINE(&error);
    return g_string_free(text, FALSE);
}

/* A further name for what has one already. */
static void put_name(Shelf *shelf, guint64 number, guint64 parent, const char *name)
{
    EkFileName called = {.file = number, .parent = parent, .text = name};
    CHECK(shelf->sink.name(shelf->sink.data, &called));
}

static gboolean count_item(void *data, const char *path, const EkItem *item)
{
    (void)path;
    (void)item;
    return ++*(guint64 *)data < 1000000;
}

/* Each of 40 levels with two names: 2^40 ways down, one of which is gone. */
static void a_folder_with_two_names_is_entered_once(void)
{
    Shelf shelf;
    GError *error = NULL;
    guint64 entries = 0;
    guint64 number = 0;
    shelf_open(&shelf);
    for (guint64 i = 0; i < 40; i++) {
        put(&shelf, 100 + i, EK_TYPE_FOLDER, 0, i == 0 ? ROOT : 99 + i, 0, "one", 0);
        put_name(&shelf, 100 + i, i == 0 ? ROOT : 99 + i, "two");
    }
    put(&shelf, 200, EK_TYPE_FILE, 0, 139, 0, "seeds", 0);
    put_name(&shelf, 100, 139, "back to the top"); /* and a circle */
    put_name(&shelf, ROOT, 139, "root");
    finish(&shelf);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, count_item, &entries, &error));
    CHECK_NUMBER(entries, 40 + 40 + 1 + 1 + 1);
    g_autofree char *tree = tree_of(&shelf, 0);
    CHECK(strstr(tree, "one/one/one/one/") != NULL && strstr(tree, "two/") != NULL);
    CHECK(strstr(tree, "two/one") == NULL && strstr(tree, "top/") != NULL);
    CHECK(strstr(tree, "top/one") == NULL && strstr(tree, "root/one") == NULL);
    /* Its other name still leads into it. */
    CHECK(ek_inventory_find(shelf.inventory, "two/one/two", &number, &error));
    CHECK_NUMBER(number, 102);
    g_autofree char *sum = ek_sql_schema_sum(shelf.inventory->store, &error);
    CHECK_TEXT(sum, EK_INVENTORY_SUM);
    shelf_close(&shelf);
}

/* Nested far deeper than a path can be, and all of them still there. */
static void folders_are_nested_to_a_bound(void)
{
    Shelf shelf;
    GError *error = NULL;
    guint64 entries = 0;
    const guint64 levels = 50000;
    shelf_open(&shelf);
    for (guint64 i = 0; i < levels; i++)
        put(&shelf, 100 + i, EK_TYPE_FOLDER, 0, i == 0 ? ROOT : 99 + i, 0, "d", 0);
    put(&shelf, 99999, EK_TYPE_FILE, 0, 99 + levels, 0, "seeds", 0);
    finish(&shelf);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, count_item, &entries, &error));
    CHECK_NUMBER(entries, levels + 2);
    g_autofree char *path = ek_inventory_path(shelf.inventory, 99999);
    CHECK(path != NULL && strlen(path) < 2 * EK_INVENTORY_DEPTH + 32);
    CHECK(g_str_has_prefix(path, "no folder/d/") && g_str_has_suffix(path, "/d/seeds"));
    shelf_close(&shelf);
}

static gboolean note_lost(void *data, const char *path, const EkItem *item)
{
    g_string_append_printf(data, "%s%s\n", path, item->is_lost ? " lost" : "");
    return TRUE;
}

/* A file or folder of the volume may have the name of what is made for those without a folder. */
static void what_is_called_like_the_orphans_is_no_orphan(void)
{
    Shelf shelf;
    GError *error = NULL;
    g_autoptr(GString) text = g_string_new(NULL);
    shelf_open(&shelf);
    put(&shelf, 10, EK_TYPE_FOLDER, 0, ROOT, 0, "no folder", 0);
    put(&shelf, 11, EK_TYPE_FILE, 0, 10, 3, "at home", 0);
    put(&shelf, 12, EK_TYPE_FILE, 0, 77, 3, "lost", 0);
    finish(&shelf);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, note_lost, text, &error));
    CHECK_TEXT(text->str,
               "no folder\nno folder (2)\nno folder/at home\nno folder (2)/folder 77 lost\n"
               "no folder (2)/folder 77/lost lost\n");
    shelf_close(&shelf);
}

static gboolean add_name(void *data, const char *path, const EkItem *item)
{
    g_string_append_printf(data, "%s=%s ", path, item->name);
    return TRUE;
}

static gboolean pick_item(void *data, const char *path, const EkItem *item)
{
    Shelf *shelf = data;
    EkPick by_name = {.item = item, .path = path, .word = item->name, .rank = 0};
    EkPick by_number = {.item = item, .path = path, .rank = -(gint64)item->file.number};
    return ek_inventory_pick(shelf->inventory, shelf->cancel == 0 ? &by_name : &by_number, NULL);
}

/* In the order that was asked for, whatever the walk's. */
static void picks_come_in_order(void)
{
    Shelf shelf;
    GError *error = NULL;
    g_autoptr(GString) names = g_string_new(NULL);
    g_autoptr(GString) numbers = g_string_new(NULL);
    shelf_open(&shelf);
    put(&shelf, 20, EK_TYPE_FOLDER, 0, ROOT, 0, "b", 0);
    put(&shelf, 21, EK_TYPE_FILE, 0, 20, 3, "a", 0);
    put(&shelf, 22, EK_TYPE_FILE, 0, 20, 3, "c", 0);
    finish(&shelf);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, pick_item, &shelf, &error));
    CHECK(ek_inventory_take_picked(shelf.inventory, add_name, names, &error));
    CHECK_TEXT(names->str, "b/a=a b=b b/c=c ");
    shelf.cancel = 1;
    ek_inventory_watch(shelf.inventory, NULL);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, pick_item, &shelf, &error));
    CHECK(ek_inventory_take_picked(shelf.inventory, add_name, numbers, &error));
    CHECK_TEXT(numbers->str, "b/c=c b/a=a b=b ");
    EkBelow below = {1, 2, 3, 4, 5, 6};
    EkBelow back;
    CHECK(ek_inventory_put_below(shelf.inventory, 20, &below, &error));
    CHECK(ek_inventory_get_below(shelf.inventory, 20, &back, &error) && back.hurt == 4 &&
          back.doubtful == 5 && back.deleted == 6);
    CHECK(ek_inventory_get_below(shelf.inventory, 21, &back, &error) && back.files == 0);
    CHECK_FINE(&error);
    shelf_close(&shelf);
}

/* A walk that is called off ends, and so does everything that asks the store at length. */
static void a_walk_is_called_off(void)
{
    Shelf shelf;
    GError *error = NULL;
    guint64 entries = 0;
    gint cancel = 1;
    shelf_open(&shelf);
    for (guint64 i = 0; i < 100; i++)
        put(&shelf, 100 + i, EK_TYPE_FILE, 0, ROOT, 0, "f", 0);
    finish(&shelf);
    ek_inventory_watch(shelf.inventory, &cancel);
    CHECK(ek_inventory_walk(shelf.inventory, ROOT, EK_WITH_BELOW, count_item, &entries, &error));
    CHECK_NUMBER(entries, 0);
    shelf_close(&shelf);
}

static void files_are_found_by_path_and_number(void)
{
    Shelf shelf;
    GError *error = NULL;
    guint64 number = 0;
    shelf_open(&shelf);
    put(&shelf, 10, EK_TYPE_FOLDER, 0, ROOT, 0, "Germination photos", 0);
    put(&shelf, 11, EK_TYPE_FOLDER, 0, 10, 3, "Tray 01", 0);
    put(&shelf, 12, EK_TYPE_FILE, 0, 11, 3, "Größe.jpg", 8 * CLUSTER);
    put(&shelf, 13, EK_TYPE_FILE, 0, ROOT, 0, "a", 0);
    put(&shelf, 14, EK_TYPE_FILE, 0, ROOT, 0, "A", 0);
    finish(&shelf);
    CHECK(ek_inventory_find(shelf.inventory, "/germination PHOTOS//tray 01/GRÖSSE.JPG", &number,
                            &error));
    CHECK_NUMBER(number, 12);
    CHECK(!ek_inventory_find(shelf.inventory, "germination photos/none", &number, &error));
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "no \"none\" in \"/germination photos\"");
    CHECK(ek_inventory_find(shelf.inventory, "Germination photos/Tray 01/Größe.jpg", &number,
                            &error));
    CHECK_NUMBER(number, 12);
    CHECK(ek_inventory_find(shelf.inventory, "A", &number, &error));
    CHECK_NUMBER(number, 14);
    CHECK(ek_inventory_find(shelf.inventory, "@11", &number, &error));
    CHECK_NUMBER(number, 11);
    CHECK(!ek_inventory_find(shelf.inventory, "@99", &number, &error));
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "no file @99");
    g_autofree char *tree = tree_of(&shelf, 0);
    CHECK_TEXT(tree, "A whole\nGermination photos/ whole\na whole\nGermination photos/Tray 01/ "
                     "whole\nGermination photos/Tray 01/Größe.jpg whole\n");
    EkInventoryTotals totals = ek_inventory_totals(shelf.inventory);
    CHECK_NUMBER(totals.files, 3);
    CHECK_NUMBER(totals.folders, 2);
    CHECK_NUMBER(totals.bytes, 3 * CLUSTER);
    shelf_close(&shelf);
}

/* Parents that are gone, are files, or came later under the same number; circles; no name at all.
 */
static void what_lost_its_folder_is_kept_together(void)
{
    Shelf shelf;
    shelf_open(&shelf);
    put(&shelf, 20, EK_TYPE_FILE, 0, 77, 1, "first", 0);
    put(&shelf, 21, EK_TYPE_FILE, 0, 77, 1, "second", 0);
    put(&shelf, 22, EK_TYPE_FILE, 0, 20, 3, "in a file", 0);
    put(&shelf, 23, EK_TYPE_FOLDER, 0, ROOT, 0, "folder", 0);
    put(&shelf, 24, EK_TYPE_FILE, 0, 23, 3, "of now", 0);
    put(&shelf, 25, EK_TYPE_FILE, 0, 23, 2, "of before", 0);
    put(&shelf, 26, EK_TYPE_FILE, 0, 0, 0, NULL, 0);
    put(&shelf, 30, EK_TYPE_FOLDER, 0, 31, 3, "snake", 0);
    put(&shelf, 31, EK_TYPE_FOLDER, 0, 30, 3, "tail", 0);
    put(&shelf, 32, EK_TYPE_FILE, 0, 31, 3, "scale", 0);
    put(&shelf, 33, EK_TYPE_FOLDER, 0, 33, 3, "self", 0);
    put(&shelf, 40, EK_TYPE_FOLDER, EK_FILE_DELETED, ROOT, 0, "gone", 0);
    put(&shelf, 41, EK_TYPE_FILE, EK_FILE_DELETED, 40, 2, "gone with it", 0);
    finish(&shelf);
    g_autofree char *tree = tree_of(&shelf, 0);
    g_autofree char *deleted = tree_of(&shelf, EK_WITH_DELETED);
    CHECK_TEXT(
        tree, "folder/ whole\nno folder/ whole\nfolder/of now whole\nno folder/file 26 whole\n"
              "no folder/folder 20/ whole\nno folder/folder 23/ whole\nno folder/folder 77/ whole\n"
              "no folder/self/ whole\nno folder/tail/ whole\nno folder/folder 20/in a file whole\n"
              "no folder/folder 23/of before whole\nno folder/folder 77/first whole\n"
              "no folder/folder 77/second whole\nno folder/tail/scale whole\n"
              "no folder/tail/snake/ whole\n");
    CHECK_CONTAINS(deleted, "gone/gone with it whole\n");
    shelf_close(&shelf);
}

static void conditions_come_from_map_and_later_owners(void)
{
    Shelf shelf;
    GError *error = NULL;
    shelf_open(&shelf);
    put(&shelf, 10, EK_TYPE_FILE, 0, ROOT, 0, "whole", 8 * CLUSTER);
    put(&shelf, 11, EK_TYPE_FILE, 0, ROOT, 0, "bad", 9 * CLUSTER);
    put(&shelf, 12, EK_TYPE_FILE, 0, ROOT, 0, "outside", DRIVE);
    put(&shelf, 13, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "under", 8 * CLUSTER - 512);
    put(&shelf, 14, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "over", 10 * CLUSTER - 512);
    put(&shelf, 15, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "free", 20 * CLUSTER);
    put(&shelf, 16, EK_TYPE_FILE, 0, ROOT, 0, "nowhere", EK_UNPLACED);
    bench_hole(&shelf.bench, 9 * CLUSTER / 512, 2, EK_STATE_BAD);
    bench_hole(&shelf.bench, 9 * CLUSTER / 512 + 4, 1, EK_STATE_SET_ASIDE);
    finish(&shelf);
    g_autofree char *tree = tree_of(&shelf, EK_WITH_DELETED);
    CHECK_TEXT(tree, "bad holed\nfree whole\nnowhere unplaced\noutside unplaced\n"
                     "over overwritten\nunder overwritten\nwhole whole\n");
    EkInventoryTotals totals = ek_inventory_totals(shelf.inventory);
    CHECK_NUMBER(totals.by_condition[EK_CONDITION_HOLED], 1);
    CHECK_NUMBER(totals.by_condition[EK_CONDITION_UNPLACED], 2);
    CHECK_NUMBER(totals.deleted, 3);
    g_autoptr(GArray) extents = ek_inventory_extents(shelf.inventory, 11, &error);
    g_autoptr(GArray) holes = ek_files_holes(shelf.bench.reader, extents);
    CHECK_NUMBER(holes->len, 2);
    CHECK_NUMBER(g_array_index(holes, EkHole, 1).offset, 2048);
    CHECK_NUMBER(g_array_index(holes, EkHole, 1).bytes, 512);
    shelf_close(&shelf);
}

/* What lies in another layer is kept as that, and is not read from this one. */
static void an_extent_names_its_layer(void)
{
    Shelf shelf;
    GError *error = NULL;
    shelf_open(&shelf);
    put(&shelf, ek_number_in_tree(3, 10), EK_TYPE_FILE, 0, ROOT, 0, "inside", 0);
    put(&shelf, 10, EK_TYPE_FILE, 0, ROOT, 0, "outside", 8 * CLUSTER);
    EkExtent extent = {0, CLUSTER, 9 * CLUSTER, CLUSTER, FALSE, FALSE, 70000};
    CHECK(shelf.sink.extent(shelf.sink.data, ek_number_in_tree(3, 10), &extent));
    finish(&shelf);
    g_autofree char *tree = tree_of(&shelf, 0);
    CHECK_TEXT(tree, "inside unplaced\noutside whole\n");
    g_autoptr(GArray) extents =
        ek_inventory_extents(shelf.inventory, ek_number_in_tree(3, 10), &error);
    CHECK_NUMBER(extents->len, 1);
    CHECK_NUMBER(g_array_index(extents, EkExtent, 0).layer, 70000);
    CHECK_NUMBER(g_array_index(extents, EkExtent, 0).first_byte, 9 * CLUSTER);
    CHECK_NUMBER(ek_extent_place(&g_array_index(extents, EkExtent, 0)), EK_UNPLACED);
    shelf_close(&shelf);
}

/* A deleted file's region may be another's by now. */
static void deleted_ones_of_another_kind_are_doubtful(void)
{
    Shelf shelf;
    shelf_open(&shelf);
    put(&shelf, 10, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "day 07.png", PICTURE * CLUSTER);
    put(&shelf, 11, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "day 08.png", 20 * CLUSTER);
    put(&shelf, 12, EK_TYPE_FILE, EK_FILE_DELETED, ROOT, 0, "table", EMPTY * CLUSTER);
    put(&shelf, 13, EK_TYPE_FILE, 0, ROOT, 0, "there.png", 22 * CLUSTER);
    finish(&shelf);
    g_autofree char *tree = tree_of(&shelf, EK_WITH_DELETED);
    CHECK_TEXT(tree, "day 07.png whole\nday 08.png doubtful\ntable doubtful\nthere.png whole\n");
    shelf_close(&shelf);
}

/* Two that are deleted cannot both be whole on the same region: the later one is. */
static void of_two_deleted_ones_the_later_is_whole(void)
{
    Shelf shelf;
    shelf_open(&shelf);
    static const gint64 made[] = {1000, 3000, 2000};
    for (guint i = 0; i < 3; i++) {
        g_autofree char *name = g_strdup_printf("%u", i);
        EkFile file = {.number = 40 + i,
                       .type = EK_TYPE_FILE,
                       .flags = EK_FILE_DELETED,
                       .size = CLUSTER,
                       .created = ek_timestamp_utc(made[i])};
        EkExtent extent = {0, CLUSTER, 8 * CLUSTER, CLUSTER, FALSE, FALSE, 0};
        EkFileName called = {.file = 40 + i, .parent = ROOT, .is_deleted = TRUE, .text = name};
        CHECK(shelf.sink.file(shelf.sink.data, &file));
        CHECK(shelf.sink.extent(shelf.sink.data, file.number, &extent));
        CHECK(shelf.sink.name(shelf.sink.data, &called));
    }
    finish(&shelf);
    g_autofree char *tree = tree_of(&shelf, EK_WITH_DELETED);
    CHECK_TEXT(tree, "0 overwritten\n1 whole\n2 overwritten\n");
    shelf_close(&shelf);
}

static void an_interrupted_one_goes_on(void)
{
    Shelf shelf;
    GError *error = NULL;
    shelf_open(&shelf);
    put(&shelf, 10, EK_TYPE_FILE, 0, ROOT, 0, "first", 0);
    CHECK(shelf.sink.mark(shelf.sink.data, 11, 11, 20));
    shelf.cancel = 1;
    CHECK(!shelf.sink.mark(shelf.sink.data, 11, 11, 20));
    CHECK(!ek_inventory_commit(shelf.inventory, &error));
    CHECK_ERROR(&error, EK_ERROR_CANCELLED, "interrupted");
    ek_inventory_close(shelf.inventory);
    shelf.cancel = 0;
    shelf.inventory = ek_inventory_open(shelf.opened, 1, "basis", TRUE, &error);
    CHECK_NUMBER(ek_inventory_mark(shelf.inventory), 11);
    CHECK(!ek_inventory_is_finished(shelf.inventory));
    shelf.sink = ek_inventory_sink(shelf.inventory, &shelf.cancel);
    put(&shelf, 11, EK_TYPE_FILE, 0, ROOT, 0, "second", 0);
    finish(&shelf);
    ek_inventory_close(shelf.inventory);
    shelf.inventory = ek_inventory_open(shelf.opened, 1, "basis", FALSE, &error);
    CHECK(ek_inventory_is_finished(shelf.inventory));
    g_autofree char *tree = tree_of(&shelf, 0);
    CHECK_TEXT(tree, "first whole\nsecond whole\n");
    ek_inventory_close(shelf.inventory);
    /* What it stood on has changed: it begins anew. */
    shelf.inventory = ek_inventory_open(shelf.opened, 1, "another basis", TRUE, &error);
    CHECK(!ek_inventory_is_finished(shelf.inventory));
    CHECK_NUMBER(ek_inventory_mark(shelf.inventory), 0);
    CHECK_FINE(&error);
    shelf_close(&shelf);
}

/* Kilobytes that this process has had in memory at most. */
static guint64 peak_kib(void)
{
    struct rusage usage;
    CHECK(getrusage(RUSAGE_SELF, &usage) == 0);
    return (guint64)usage.ru_maxrss;
}

typedef struct {
    guint64 count;
    gboolean is_in_order;
    char last[64];
} Heap;

static gboolean count_heap(void *data, const char *path, const EkItem *item)
{
    Heap *heap = data;
    (void)path;
    heap->is_in_order = heap->is_in_order && strcmp(heap->last, item->name) < 0;
    g_strlcpy(heap->last, item->name, sizeof heap->last);
    heap->count++;
    return TRUE;
}

/* All in one folder: a program that ran wild. */
static void one_folder_may_hold_very_many(void)
{
    Shelf shelf;
    Heap heap = {.is_in_order = TRUE};
    const guint64 files = 200000;
    shelf_open(&shelf);
    put(&shelf, 100, EK_TYPE_FOLDER, 0, ROOT, 0, "heap", 0);
    for (guint64 i = 0; i < files; i++) {
        g_autofree char *name = g_strdup_printf("reading %" G_GUINT64_FORMAT, i * 7919 % files);
        put(&shelf, 101 + i, EK_TYPE_FILE, 0, 100, 0, name, 0);
    }
    finish(&shelf);
    CHECK(ek_inventory_walk(shelf.inventory, 100, 0, count_heap, &heap, NULL));
    CHECK_NUMBER(heap.count, files);
    CHECK(heap.is_in_order);
    shelf_close(&shelf);
}

/* Many files cost time, not memory. */
static void many_files_take_little_memory(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_INVENTORY");
    guint64 files = wanted != NULL ? g_ascii_strtoull(wanted, NULL, 10) : 100000;
    Shelf shelf;
    guint64 before = peak_kib();
    shelf_open(&shelf);
    bench_hole(&shelf.bench, 80, 8, EK_STATE_BAD);
    for (guint64 i = 0; i < files; i++) {
        guint64 folder = i / 100 * 101 + 100;
        if (i % 100 == 0) {
            g_autofree char *tray = g_strdup_printf("tray %" G_GUINT64_FORMAT, i / 100);
            put(&shelf, folder, EK_TYPE_FOLDER, 0, ROOT, 0, tray, 0);
        }
        g_autofree char *name = g_strdup_printf("day %" G_GUINT64_FORMAT ".csv", i % 100);
        put(&shelf, folder + 1 + i % 100, EK_TYPE_FILE, 0, folder, 0, name,
            CLUSTER * (1 + i % (DRIVE / CLUSTER - 1)));
        if (i % 1000 == 999)
            CHECK(shelf.sink.mark(shelf.sink.data, folder + 100, i, files));
    }
    finish(&shelf);
    EkInventoryTotals totals = ek_inventory_totals(shelf.inventory);
    CHECK_NUMBER(totals.files, files);
    CHECK_NUMBER(totals.folders, (files + 99) / 100);
    /* All of them lie across each other. */
    CHECK(totals.by_condition[EK_CONDITION_DOUBTFUL] > files / 1000);
    guint64 number = 0;
    CHECK(ek_inventory_find(shelf.inventory, "tray 7/day 42.csv", &number, NULL));
    CHECK_NUMBER(number, 7 * 101 + 100 + 43);
    if (!is_sanitized())
        CHECK(peak_kib() - before < 128 * 1024);
    if (wanted != NULL)
        printf("%" G_GUINT64_FORMAT " files: %" G_GUINT64_FORMAT " MiB resident at most\n", files,
               peak_kib() / 1024);
    shelf_close(&shelf);
}

int main(void)
{
    static const Test tests[] = {
        {"a folder with two names is entered once", a_folder_with_two_names_is_entered_once},
        {"folders are nested to a bound", folders_are_nested_to_a_bound},
        {"what is called like the orphans is no orphan",
         what_is_called_like_the_orphans_is_no_orphan},
        {"picks come in order", picks_come_in_order},
        {"a walk is called off", a_walk_is_called_off},
        {"files are found by path and number", files_are_found_by_path_and_number},
        {"what lost its folder is kept together", what_lost_its_folder_is_kept_together},
        {"conditions come from the map and later owners",
         conditions_come_from_map_and_later_owners},
        {"one folder may hold very many", one_folder_may_hold_very_many},
        {"many files take little memory", many_files_take_little_memory},
        {"an extent names its layer", an_extent_names_its_layer},
        {"of two deleted ones the later is whole", of_two_deleted_ones_the_later_is_whole},
        {"deleted ones of another kind are doubtful", deleted_ones_of_another_kind_are_doubtful},
        {"an interrupted one goes on", an_interrupted_one_goes_on},
    };
    return RUN_TESTS("inventory", tests);
}
