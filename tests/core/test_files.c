/* SPDX-License-Identifier: MIT */
/* Tests of core/files. */
#include "base/digest.h"
#include "check.h"
#include "files/files.h"
#include "files/names.h"
#include "files/numberset.h"
#include "fixture.h"
#include "listing.h"
#include "volume/fat/fat.h"
#include "volume/formats.h"

#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

typedef struct {
    FatVolume *fat;
    guint8 photo[5000];
    guint8 sound[9000];
    guint32 photo_at;
    guint32 sound_at;
    FatFolder root; /* where more entries may go */
} Tray;

/* A volume with a folder in a folder, long names, a file in pieces. */
static Tray *tray_new(guint bits)
{
    Tray *tray = g_new0(Tray, 1);
    FatVolume *fat = fat_volume_new(bits, 0);
    FatFolder root = fat_root(fat);
    fill_noise(tray->photo, sizeof tray->photo, 1);
    fill_noise(tray->sound, sizeof tray->sound, 2);
    tray->fat = fat;
    fat_add(fat, &root, "TRAYS      ", NULL, 0x08, 0, 0);
    fat_add(fat, &root, "NOTES   TXT", NULL, 0x20, 0, 0);
    fat_add(fat, &root, "\xe5OTES   BAK", NULL, 0x20, 9, 900);
    FatFolder photos = fat_add_folder(fat, &root, "GERMIN~1   ", "Germination photos");
    FatFolder tray_1 = fat_add_folder(fat, &photos, "TRAY01     ", NULL);
    tray->photo_at = fat_store(fat, tray->photo, sizeof tray->photo, 1);
    fat_add(fat, &tray_1, "DAY07~1 JPG", "Day 07 – Größe und Länge der Keimlinge.jpg", 0x20,
            tray->photo_at, sizeof tray->photo);
    tray->sound_at = fat_store(fat, tray->sound, sizeof tray->sound, 3);
    fat_add(fat, &root, "WARBLER WAV", "warbler.wav", 0x20, tray->sound_at, sizeof tray->sound);
    tray->root = root;
    return tray;
}

static void tray_free(Tray *tray)
{
    fat_volume_free(tray->fat);
    g_free(tray);
}

static void open_files(Bench *bench, Tray *tray, EkFiles *files)
{
    GError *error = NULL;
    bench_open(bench, tray->fat->data, tray->fat->length);
    EkCandidate candidate = {0, 0, EK_ROLE_PRIMARY};
    g_autoptr(EkVolume) volume = ek_volume_measure(&ek_fs_fat, bench->reader, &candidate, &error);
    CHECK(volume != NULL && volume->is_confirmed);
    CHECK(ek_files_open(files, bench->reader, volume, &error));
    CHECK_FINE(&error);
}

static void close_files(Bench *bench, EkFiles *files)
{
    ek_files_close(files);
    bench_close(bench);
}

static void the_tree_is_walked(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        Bench bench;
        EkFiles files;
        Tray *tray = tray_new(widths[i]);
        open_files(&bench, tray, &files);
        g_autoptr(Listing) listing = listing_new(&files, 0);
        g_autofree char *tree = listing_tree(listing, FALSE);
        g_autofree char *deleted = listing_tree(listing, TRUE);
        CHECK_TEXT(tree, "Germination photos/ 0\n"
                         "Germination photos/TRAY01/ 0\n"
                         "Germination photos/TRAY01/Day 07 – Größe und Länge der Keimlinge.jpg "
                         "5000\n"
                         "NOTES.TXT 0\n"
                         "warbler.wav 9000\n");
        CHECK_TEXT(deleted, "_OTES.BAK 900\n");
        CHECK_NUMBER(listing->folders_damaged, 0);
        const Listed *file = listing_find(listing, "warbler.wav");
        g_autofree char *modified = ek_timestamp_text(&file->file.modified);
        CHECK_TEXT(modified, "2025-12-31T23:59:58");
        CHECK(file->file.modified.is_local);
        close_files(&bench, &files);
        tray_free(tray);
    }
}

/* The letter that a deleted name has lost is found by the sum that its long name keeps. */
static void deleted_names_are_whole_where_they_were_long(void)
{
    Bench bench;
    EkFiles files;
    Tray *tray = tray_new(16);
    FatVolume *fat = tray->fat;
    gsize before = tray->root.used;
    fat_add(fat, &tray->root, "MOSSAN~1JPG", "Moss and liverwort.jpg", 0x20, 30, 700);
    for (gsize i = before; i < tray->root.used; i++)
        fat_entry(fat, &tray->root, i)[0] = 0xe5;
    open_files(&bench, tray, &files);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    const Listed *file = listing_find(listing, "Moss and liverwort.jpg");
    CHECK(file != NULL);
    if (file != NULL) {
        CHECK_NUMBER(file->file.flags, EK_FILE_DELETED | EK_FILE_GUESSED);
        CHECK_NUMBER(file->extents->len, 1);
        CHECK_NUMBER(g_array_index(file->extents, EkExtent, 0).first_byte,
                     fat->data_start + 28 * 512);
    }
    close_files(&bench, &files);
    tray_free(tray);
}

static void damage_comes_from_the_read_map(void)
{
    Bench bench;
    EkFiles files;
    Tray *tray = tray_new(16);
    open_files(&bench, tray, &files);
    EkSector data = tray->fat->data_start / 512;
    /* The third and fourth of its pieces, every third cluster. */
    bench_hole(&bench, data + tray->sound_at - 2 + 6, 1, EK_STATE_BAD);
    bench_hole(&bench, data + tray->sound_at - 2 + 9, 1, EK_STATE_SET_ASIDE);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    g_autoptr(GArray) holes = NULL;
    g_autoptr(GArray) none = NULL;
    EkDamage damage = listing_damage(listing, listing_find(listing, "warbler.wav"), &holes);
    CHECK_NUMBER(damage.condition, EK_CONDITION_HOLED);
    CHECK_NUMBER(damage.bad_bytes, 512);
    CHECK_NUMBER(damage.unread_bytes, 512);
    CHECK_NUMBER(holes->len, 1); /* they meet in the file */
    CHECK_NUMBER(g_array_index(holes, EkHole, 0).offset, 1024);
    CHECK_NUMBER(g_array_index(holes, EkHole, 0).bytes, 1024);
    damage = listing_damage(listing, listing_find(listing, "NOTES.TXT"), &none);
    CHECK_NUMBER(damage.condition, EK_CONDITION_WHOLE);
    close_files(&bench, &files);
    tray_free(tray);
}

static void the_second_fat_serves_where_the_first_was_not_read(void)
{
    Bench bench;
    EkFiles files;
    GError *error = NULL;
    Tray *tray = tray_new(16);
    open_files(&bench, tray, &files);
    g_autoptr(GArray) holes = NULL;
    g_autoptr(GArray) others = NULL;
    bench_hole(&bench, tray->fat->reserved, tray->fat->fat_sectors, EK_STATE_BAD);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    EkDamage damage = listing_damage(listing, listing_find(listing, "warbler.wav"), &holes);
    CHECK_NUMBER(damage.condition, EK_CONDITION_WHOLE);
    ek_files_close(&files);
    /* Without the second one, only the first cluster is known: the others are taken to follow. */
    bench_hole(&bench, tray->fat->reserved + tray->fat->fat_sectors, tray->fat->fat_sectors,
               EK_STATE_BAD);
    EkVolume *volume = ek_volume_new(&ek_fs_fat, "fat16");
    memcpy(volume->header, tray->fat->data, 512);
    CHECK(ek_files_open(&files, bench.reader, volume, &error));
    g_autoptr(Listing) again = listing_new(&files, 0);
    damage = listing_damage(again, listing_find(again, "warbler.wav"), &others);
    CHECK_NUMBER(damage.unplaced_bytes, 0);
    CHECK((listing_find(again, "warbler.wav")->file.flags & EK_FILE_GUESSED) != 0);
    ek_volume_free(volume);
    close_files(&bench, &files);
    tray_free(tray);
}

/* Where the folder above was not read, a folder is found by what it says of itself, once, and what
 * is below it is in its place. */
static void folders_that_nothing_leads_to_are_found(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        Bench bench;
        EkFiles files;
        Tray *tray = tray_new(widths[i]);
        FatVolume *fat = tray->fat;
        guint32 root = fat_root(fat).cluster;
        guint32 folders = root != 0 ? root : 1;
        open_files(&bench, tray, &files);
        gsize at = root != 0 ? fat->data_start / 512 + (root - 2) * fat->per_cluster
                             : fat->reserved + fat->fats * fat->fat_sectors;
        bench_hole(&bench, at, 1, EK_STATE_BAD);
        g_autoptr(Listing) listing = listing_new(&files, 0);
        g_autofree char *tree = listing_tree(listing, FALSE);
        CHECK_TEXT(tree, "?/TRAY01/ 0\n"
                         "?/TRAY01/Day 07 – Größe und Länge der Keimlinge.jpg 5000\n");
        CHECK_NUMBER(listing->folders_damaged, 1);
        CHECK_NUMBER(listing->made_names, 1);
        CHECK_NUMBER(listing->listed->len, 3);
        /* Nor the one below the root: the first folder that was made. */
        bench_hole(&bench, fat->data_start / 512 + (folders + 1 - 2) * fat->per_cluster,
                   fat->per_cluster, EK_STATE_UNTOUCHED);
        g_autoptr(Listing) deeper = listing_new(&files, 0);
        g_autofree char *rest = listing_tree(deeper, FALSE);
        CHECK_TEXT(rest, "?/Day 07 – Größe und Länge der Keimlinge.jpg 5000\n");
        /* Half a walk finds no more than that. */
        g_autoptr(Listing) cut = listing_new(&files, 1);
        CHECK_NUMBER(cut->listed->len, 1);
        close_files(&bench, &files);
        tray_free(tray);
    }
}

/* Cut at any mark, a walk that goes on from there hands on the rest, and nothing twice. */
static void a_walk_goes_on_where_it_was_cut(void)
{
    static const guint widths[] = {12, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        Bench bench;
        EkFiles files;
        Tray *tray = tray_new(widths[i]);
        open_files(&bench, tray, &files);
        bench_hole(&bench, tray->fat->data_start / 512 + tray->fat->per_cluster, 1,
                   EK_STATE_UNTOUCHED);
        g_autoptr(Listing) whole = listing_new(&files, 0);
        g_autofree char *wanted = listing_lines(whole);
        CHECK(whole->marks > 1);
        for (guint cut = 1; cut <= whole->marks; cut++) {
            g_autoptr(Listing) parts = listing_new_cut(&files, cut);
            g_autofree char *got = listing_lines(parts);
            CHECK_TEXT(got, wanted);
        }
        close_files(&bench, &files);
        tray_free(tray);
    }
}

static void circles_and_lies_are_cut(void)
{
    Bench bench;
    EkFiles files;
    Tray *tray = tray_new(16);
    FatVolume *fat = tray->fat;
    FatFolder root = tray->root;
    /* A folder that is the one above it; one whose chain bites its tail and never ends; a file
     * longer than its chain; one that begins outside. */
    FatFolder loop = fat_add_folder(fat, &root, "LOOP       ", NULL);
    fat_add(fat, &loop, "AGAIN      ", NULL, 0x10, loop.cluster, 0);
    FatFolder tail = fat_add_folder(fat, &root, "TAIL       ", NULL);
    for (int i = 0; i < 14; i++)
        fat_add(fat, &tail, "SAME    TXT", NULL, 0x20, 0, 0);
    fat_set(fat, tail.cluster, tail.cluster);
    fat_add(fat, &root, "LONGER  BIN", NULL, 0x20, tray->photo_at, 0xfffffff0u);
    fat_add(fat, &root, "OUTSIDE BIN", NULL, 0x20, 0xfff0, 600);
    open_files(&bench, tray, &files);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    g_autofree char *tree = listing_tree(listing, FALSE);
    g_autoptr(GArray) holes = NULL;
    g_autoptr(GArray) others = NULL;
    CHECK_NUMBER(listing->folders_damaged, 2);
    CHECK(listing->damage.cut_short);
    CHECK_CONTAINS(tree, "LOOP/AGAIN/ 0\n");
    CHECK_CONTAINS(tree, "TAIL/SAME.TXT 0\n");
    EkDamage damage = listing_damage(listing, listing_find(listing, "LONGER.BIN"), &holes);
    CHECK_NUMBER(damage.condition, EK_CONDITION_UNPLACED);
    CHECK_NUMBER(damage.unplaced_bytes, 0xfffffff0u - 5120);
    damage = listing_damage(listing, listing_find(listing, "OUTSIDE.BIN"), &others);
    CHECK_NUMBER(damage.unplaced_bytes, 600);
    close_files(&bench, &files);
    tray_free(tray);
}

static void a_folder_with_a_hole_says_so(void)
{
    Bench bench;
    EkFiles files;
    Tray *tray = tray_new(16);
    open_files(&bench, tray, &files);
    EkSector root = (tray->fat->data_start - tray->fat->root_entries * 32) / 512;
    bench_hole(&bench, root, 1, EK_STATE_BAD);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    g_autofree char *tree = listing_tree(listing, FALSE);
    /* Files in it are lost; folders tell of themselves. */
    CHECK_TEXT(tree, "?/TRAY01/ 0\n"
                     "?/TRAY01/Day 07 – Größe und Länge der Keimlinge.jpg 5000\n");
    CHECK_NUMBER(listing->damage.bad_bytes, 512);
    close_files(&bench, &files);
    tray_free(tray);
}

static gboolean extract_as(EkExtract *extract, EkFiles *files, const char *path,
                           const Listed *listed, const gint *cancel, EkExtracted *result,
                           GError **error)
{
    EkExtractOrder order = {.path = path,
                            .file = &listed->file,
                            .extents = listed->extents,
                            .if_exists = EK_EXISTS_RENAME};
    return ek_extract_file(extract, files, &order, cancel, result, error);
}

static void extract_writes_what_is_there(void)
{
    Bench bench;
    EkFiles files;
    EkExtracted result;
    GError *error = NULL;
    gint cancel = 0;
    gsize length = 0;
    Tray *tray = tray_new(32);
    open_files(&bench, tray, &files);
    g_autoptr(EkExtract) extract = ek_extract_new("out/deep", FALSE, &error);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    const Listed *file = listing_find(listing, "warbler.wav");
    for (int copy = 1; copy <= 2; copy++) {
        CHECK(extract_as(extract, &files, "warbler.wav", file, &cancel, &result, &error));
        CHECK_FINE(&error);
        CHECK_TEXT(result.written_as, copy == 1 ? "warbler.wav" : "warbler (2).wav");
        CHECK_NUMBER(result.renamed, copy == 2);
        g_autofree char *there = g_build_filename("out/deep", result.written_as, NULL);
        g_autofree guint8 *data = read_file(there, &length);
        CHECK_NUMBER(length, sizeof tray->sound);
        CHECK_BYTES(data, tray->sound, MIN(length, sizeof tray->sound));
        guint8 sum[EK_SHA256_BYTES];
        ek_sha256_of(tray->sound, sizeof tray->sound, sum);
        char hex[65];
        for (int i = 0; i < 32; i++)
            g_snprintf(hex + i * 2, 3, "%02x", sum[i]);
        CHECK_TEXT(result.sha256, hex);
        ek_extracted_clear(&result);
    }
    GStatBuf st;
    CHECK(g_stat("out/deep/warbler.wav", &st) == 0);
    CHECK_NUMBER(st.st_mtime, ek_timestamp_to_unix(&file->file.modified));
    CHECK(ek_extract_sync(extract, &error));
    cancel = 1;
    CHECK(!extract_as(extract, &files, "x.wav", file, &cancel, &result, &error));
    CHECK_ERROR(&error, EK_ERROR_CANCELLED, "interrupted");
    ek_extracted_clear(&result);
    CHECK(!g_file_test("out/deep/x.wav", G_FILE_TEST_EXISTS));
    CHECK(!g_file_test("out/deep/.ektypon-part", G_FILE_TEST_EXISTS));
    close_files(&bench, &files);
    tray_free(tray);
}

static void nothing_leads_outside(void)
{
    Bench bench;
    EkFiles files;
    EkExtracted result;
    GError *error = NULL;
    gint cancel = 0;
    Tray *tray = tray_new(16);
    open_files(&bench, tray, &files);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    const Listed *file = listing_find(listing, "warbler.wav");
    g_autoptr(EkExtract) extract = ek_extract_new("out", FALSE, &error);
    g_mkdir("elsewhere", 0700);
    CHECK(symlink("../elsewhere", "out/trap") == 0);
    CHECK(symlink("../elsewhere/file.wav", "out/link.wav") == 0);
    CHECK(!extract_as(extract, &files, "trap/file.wav", file, &cancel, &result, &error));
    CHECK_ERROR(&error, EK_ERROR_REFUSED, "nothing is written through it");
    ek_extracted_clear(&result);
    CHECK(extract_as(extract, &files, "link.wav", file, &cancel, &result, &error));
    CHECK_TEXT(result.written_as, "link (2).wav");
    ek_extracted_clear(&result);
    CHECK(extract_as(extract, &files, "../../../up.wav", file, &cancel, &result, &error));
    CHECK_TEXT(result.written_as, "_../_../_../up.wav");
    ek_extracted_clear(&result);
    CHECK(extract_as(extract, &files, "a/..", file, &cancel, &result, &error));
    CHECK_TEXT(result.written_as, "a/_..");
    ek_extracted_clear(&result);
    g_autofree char *long_name = g_strnfill(400, 'n');
    g_autofree char *with_end = g_strconcat(long_name, ".wav", NULL);
    CHECK(extract_as(extract, &files, with_end, file, &cancel, &result, &error));
    CHECK(result.renamed && g_str_has_suffix(result.written_as, ".wav"));
    ek_extracted_clear(&result);
    CHECK_FINE(&error);
    CHECK(!g_file_test("elsewhere/file.wav", G_FILE_TEST_EXISTS));
    CHECK(!g_file_test("up.wav", G_FILE_TEST_EXISTS));
    close_files(&bench, &files);
    tray_free(tray);
}

static void a_file_table_in_pieces_is_read(void)
{
    Bench bench;
    EkFiles files;
    GError *error = NULL;
    gsize length = 0;
    g_autofree guint8 *data = ntfs_volume_in_pieces(&length);
    bench_open(&bench, data, length);
    EkCandidate candidate = {0, 0, EK_ROLE_PRIMARY};
    g_autoptr(EkVolume) volume = ek_volume_measure(&ek_fs_ntfs, bench.reader, &candidate, &error);
    CHECK(volume != NULL && ek_files_open(&files, bench.reader, volume, &error));
    CHECK_FINE(&error);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    const Listed *late = listing_find(listing, "late.txt");
    CHECK(late != NULL && late->file.number == 7);
    ek_files_close(&files);
    bench_close(&bench);
}

static void names_with_separators_are_escaped(void)
{
    gboolean escaped = FALSE;
    const gunichar2 units[] = {'.', '.', '/', 'x', 0xd800, '\\', 7, 0x00e9, 0xd83c, 0xdf31};
    g_autoptr(GString) name = g_string_new(NULL);
    CHECK(ek_name_utf16(name, (EkSpan){(const guint8 *)units, sizeof units}, FALSE));
    CHECK_TEXT(name->str, "..\\x2F\\x00x\\x00\\xD8\\\aé🌱");
    g_string_truncate(name, 0);
    CHECK(ek_name_utf8(name, (EkSpan){(const guint8 *)"a/b\xff\xc3\xa9", 6}));
    CHECK_TEXT(name->str, "a\\x2Fb\\xFFé");
    g_string_truncate(name, 0);
    CHECK(!ek_name_utf8(name, (EkSpan){(const guint8 *)"plain", 5}));
    g_autofree char *lower = ek_fat_short_name((const guint8 *)"README  TXT", 0x18, &escaped);
    CHECK_TEXT(lower, "readme.txt");
    CHECK(!escaped);
    g_autofree char *page = ek_fat_short_name((const guint8 *)"\x05\x81/     \x01  ", 0, &escaped);
    CHECK_TEXT(page, "σü\\x2F.\\x01");
    CHECK(escaped);
}

static void names_become_ones_that_targets_take(void)
{
    static const struct {
        const char *name;
        const char *portable;
    } names[] = {{"plain.txt", "plain.txt"},
                 {"a:b?c*d", "a_b_c_d"},
                 {"dots...", "dots___"},
                 {"space ", "space_"},
                 {"con", "_con"},
                 {"Con.txt", "_Con.txt"},
                 {"console", "console"},
                 {"COM1", "_COM1"},
                 {"com0", "com0"},
                 {"lpt9.tar.gz", "_lpt9.tar.gz"},
                 {"..", "__"},
                 {"\xff\xfe", "__"},
                 {"tab\tbed", "tab_bed"},
                 {"", "_"}};
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        gboolean renamed = FALSE;
        g_autofree char *portable = ek_name_for_target(names[i].name, TRUE, &renamed);
        CHECK_TEXT(portable, names[i].portable);
        CHECK(renamed == !g_str_equal(names[i].name, names[i].portable));
    }
    gboolean renamed = FALSE;
    g_autofree char *dots = ek_name_for_target("..", FALSE, &renamed);
    CHECK_TEXT(dots, "_..");
    g_autofree char *own = ek_name_for_target(EK_PART_PREFIX "0123456789abcdef", FALSE, &renamed);
    CHECK(*own == '_');
    /* Long ones keep their ending, and are told apart. */
    g_autofree char *long_one = g_strnfill(400, 'x');
    g_autofree char *first = g_strconcat(long_one, "1.jpg", NULL);
    g_autofree char *second = g_strconcat(long_one, "2.jpg", NULL);
    g_autofree char *short_first = ek_name_for_target(first, FALSE, &renamed);
    g_autofree char *short_second = ek_name_for_target(second, TRUE, &renamed);
    CHECK(strlen(short_first) <= 255 && g_str_has_suffix(short_first, ".jpg"));
    CHECK(!g_str_equal(short_first, short_second));
    g_autofree char *numbered = ek_name_numbered(short_first, 12);
    CHECK(strlen(numbered) <= 255);
    g_autofree char *two = ek_name_numbered("name.txt", 2);
    CHECK_TEXT(two, "name (2).txt");
}

static void claims_hold_what_was_added(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(7);
    EkNumberSet *candidates = ek_number_set_new();
    g_autoptr(GArray) added = g_array_new(FALSE, FALSE, sizeof(guint64));
    CHECK(!ek_number_set_has(candidates, 0));
    for (guint i = 0; i < 100000; i++) {
        guint64 number = (guint64)g_rand_int(random) << 32 | g_rand_int(random);
        g_array_append_val(added, number);
        ek_number_set_add(candidates, number);
    }
    guint missing = 0;
    guint extra = 0;
    for (guint i = 0; i < added->len; i++) {
        missing += ek_number_set_has(candidates, g_array_index(added, guint64, i)) ? 0 : 1;
        extra += ek_number_set_has(candidates, g_array_index(added, guint64, i) + 1) ? 1 : 0;
    }
    CHECK_NUMBER(missing, 0);
    CHECK_NUMBER(extra, 0);
    ek_number_set_add(candidates, 0);
    CHECK(ek_number_set_has(candidates, 0));
    ek_number_set_free(candidates);
}

int main(void)
{
    static const Test tests[] = {
        {"names become ones that targets take", names_become_ones_that_targets_take},
        {"claims hold what was added", claims_hold_what_was_added},
        {"the tree is walked", the_tree_is_walked},
        {"deleted names are whole where they were long",
         deleted_names_are_whole_where_they_were_long},
        {"damage comes from the read map", damage_comes_from_the_read_map},
        {"the second FAT serves where the first was not read",
         the_second_fat_serves_where_the_first_was_not_read},
        {"folders that nothing leads to are found", folders_that_nothing_leads_to_are_found},
        {"a walk goes on where it was cut", a_walk_goes_on_where_it_was_cut},
        {"circles and lies are cut", circles_and_lies_are_cut},
        {"a folder with a hole says so", a_folder_with_a_hole_says_so},
        {"extract writes what is there", extract_writes_what_is_there},
        {"nothing leads outside", nothing_leads_outside},
        {"a file table in pieces is read", a_file_table_in_pieces_is_read},
        {"names with separators are escaped", names_with_separators_are_escaped},
    };
    return RUN_TESTS("files", tests);
}
