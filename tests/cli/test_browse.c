/* SPDX-License-Identifier: MIT */
/* Browsing and taking out, on the demo drive: what a technician asks first. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <string.h>

/* Files of users, once they were listed; what else a volume counts is another number. */
static void check_files(gint64 wanted)
{
    g_auto(Result) volumes = ektypon("volumes bench --json");
    json_t *json = result_json(&volumes);
    json_t *one = json_array_get(json_object_get(json, "volumes"), 0);
    json_t *files = json_object_get(one, "files");
    CHECK(wanted < 0 ? json_is_null(files) : json_integer_value(files) == wanted);
    json_decref(json);
}

static void the_inventory_is_kept(void)
{
    hunt_demo();
    check_files(-1);
    g_auto(Result) before = ektypon("volumes bench");
    CHECK_CONTAINS(before.out, "FILES is counted when the files of a volume are first listed.");
    g_auto(Result) first = ektypon("index bench 1");
    CHECK_STATUS(first, 0);
    CHECK_TEXT(first.out, "Volume 1: 40 folders, 76 files, 314.3 KiB: 75 whole, 1 holed\n");
    check_files(76);
    g_auto(Result) stamp = shell("stat -c %%y bench/files-1.db");
    g_auto(Result) again = ektypon("index bench 1 --json");
    json_t *json = result_json(&again);
    CHECK_NUMBER(json_u64(json, "files"), 76);
    CHECK_NUMBER(json_u64(json, "holed"), 1);
    json_decref(json);
    g_auto(Result) later = shell("stat -c %%y bench/files-1.db");
    CHECK_TEXT(later.out, stamp.out);
    /* Where it cannot be kept it is taken all the same. */
    must("rm bench/files-1.db && chmod -R a-w bench");
    g_auto(Result) closed = ektypon("ls bench 1");
    CHECK_STATUS(closed, 0);
    CHECK_CONTAINS(closed.out, "Read me first.txt");
    must("chmod -R u+w bench");
    /* A damaged one is begun anew. */
    must("printf nonsense > bench/files-1.db");
    g_auto(Result) anew = ektypon("index bench 1");
    CHECK_TEXT(anew.out, first.out);
    g_auto(Result) none = ektypon("index bench 9");
    CHECK_STATUS(none, 1);
    CHECK_CONTAINS(none.err, "no such volume: 9");
}

static void folders_show_what_is_in_them(void)
{
    hunt_demo();
    g_auto(Result) tree = ektypon("tree bench 1 --depth 1");
    CHECK_STATUS(tree, 0);
    CHECK_TEXT(tree.out, "      SIZE     FILES  FOLDER\n"
                         " 314.3 KiB        76  /  [1 incomplete]\n"
                         " 243.4 KiB        44  ├─ Accessions/  [1 incomplete]\n"
                         "   9.8 KiB         3  ├─ Correspondence/\n"
                         "  60.6 KiB        28  └─ Species sheets/\n");
    g_auto(Result) below = ektypon("tree bench \"1:Correspondence\" --json");
    json_t *json = result_json(&below);
    json_t *folders = json_object_get(json, "folders");
    CHECK_NUMBER(json_array_size(folders), 2);
    CHECK_TEXT(json_text(json_array_get(folders, 1), "name"), "2025");
    CHECK_NUMBER(json_u64(json_array_get(folders, 0), "files"), 3);
    json_decref(json);
}

static void count_found(const char *options, guint64 wanted)
{
    g_auto(Result) result = ektypon("find bench %s --json", options);
    CHECK_STATUS(result, 0);
    json_t *json = result_json(&result);
    if (json_array_size(json_object_get(json, "files")) != wanted)
        fprintf(stderr, "\nfind %s", options);
    CHECK_NUMBER(json_array_size(json_object_get(json, "files")), wanted);
    json_decref(json);
}

static void files_are_found_by_what_is_known_of_them(void)
{
    hunt_demo();
    count_found("--condition holed", 5);
    count_found("--kind audio", 14);
    count_found("--kind audio --condition holed", 2);
    count_found("--ext CSV,.wav --larger 20K", 8);
    count_found("--name \"accessions-20?5*\"", 3);
    count_found("--path \"species*/briza/*\"", 2);
    count_found("1 --modified-after 2025-09-12 --modified-before 2025-09-13T12:00", 3);
    count_found("--smaller 100 --kind documents", 1);
    count_found("--deleted", 0);
    count_found("2:\"Field recordings\" 3 --not-deleted --condition holed", 3);
    g_auto(Result) sorted = ektypon("find bench 2 --kind audio --sort size");
    const char *first_row = strchr(sorted.out, '\n');
    CHECK(first_row != NULL &&
          g_str_has_prefix(first_row + 1 + strspn(first_row + 1, " "), "29.6"));
    g_auto(Result) count = ektypon("find bench --kind audio --count");
    CHECK_TEXT(count.out, "14 files, 286.2 KiB; 2 holed\n");
    static const char *const wrong[] = {
        "--kind sounds",    "--larger much",           "--modified-after soon",
        "--condition fine", "--deleted --not-deleted", "--sort colour",
        "nowhere"};
    for (gsize i = 0; i < G_N_ELEMENTS(wrong); i++) {
        g_auto(Result) result = ektypon("find bench %s", wrong[i]);
        CHECK_STATUS(result, 2);
    }
    g_auto(Result) none = ektypon("find bench 7");
    CHECK_STATUS(none, 1);
}

static void bad_sectors_lead_to_files(void)
{
    hunt_demo();
    g_auto(Result) hits = ektypon("map bench --files");
    CHECK_STATUS(hits, 0);
    CHECK_CONTAINS(hits.out,
                   "        121029    10.0 KiB  bad     1:Accessions/2025/accessions-2025.csv\n");
    CHECK_CONTAINS(hits.out, "          2036     6.0 KiB  bad     outside all volumes\n");
    CHECK_CONTAINS(hits.out, "          2048     8.0 KiB  bad     1:$Boot\n");
    CHECK_CONTAINS(hits.out, "44.0 KiB in 5 files, 8.0 KiB in file-system metadata, 0 B in free "
                             "space, 6.0 KiB outside volumes\n");
    g_auto(Result) told = ektypon("map bench --files --json");
    json_t *json = result_json(&told);
    json_t *list = json_object_get(json, "hits");
    guint64 bytes = 0;
    for (gsize i = 0; i < json_array_size(list); i++)
        bytes += json_u64(json_array_get(list, i), "bytes");
    CHECK_NUMBER(bytes, 58 * 1024);
    json_decref(json);
    g_auto(Result) free = shell("%s map bench --json | jq '.totals.bad'", EKTYPON_PROGRAM_PATH);
    CHECK_NUMBER(g_ascii_strtoull(free.out, NULL, 10) * 512, bytes);
}

static guint64 files_in(guint volume)
{
    g_auto(Result) result = ektypon("index bench %u --json", volume);
    CHECK_STATUS(result, 0);
    json_t *json = result_json(&result);
    guint64 files = json_u64(json, "files");
    json_decref(json);
    return files;
}

/* On a dying drive: a few sectors tell of volumes, some more of all their folders, and then what
 * the client wants is read before the rest. */
static void what_is_wanted_is_read_first(void)
{
    static const char sectors[] = "165887 80\n264192 16\n";
    unpack_demo();
    done("new bench sim:drive.model");
    write_file("few.txt", sectors, strlen(sectors));
    g_auto(Result) first = ektypon("image bench --want few.txt --only-wanted");
    CHECK_STATUS(first, 3);
    CHECK_CONTAINS(first.out, "48.0 KiB of 200.0 MiB read");
    g_auto(Result) hunted = ektypon("hunt bench");
    CHECK_CONTAINS(hunted.err, "ektypon image bench --want structures --only-wanted");
    for (guint round = 0; round < 4; round++) {
        g_auto(Result) more = ektypon("image bench --want structures --only-wanted");
        CHECK(more.status == 3 || more.status == 0);
        done("hunt bench");
    }
    CHECK_NUMBER(files_in(1), 76);
    CHECK_NUMBER(files_in(2), 59);
    CHECK_NUMBER(files_in(3), 56);
    g_auto(Result) map = shell("%s map bench --json | jq .totals.good", EKTYPON_PROGRAM_PATH);
    CHECK(g_ascii_strtoull(map.out, NULL, 10) * 512 < 7 << 20);
    g_auto(Result) listed = ektypon("ls bench \"2:Field recordings/2025-07\"");
    CHECK_CONTAINS(listed.err, "--want \"2:Field recordings/2025-07\" --only-wanted");

    g_auto(Result) wanted =
        ektypon("image bench --want \"2:Field recordings\" --want used:3 --only-wanted");
    CHECK_STATUS(wanted, 3);
    CHECK_CONTAINS(wanted.err, "everything requested has been read, as far as it is readable");
    g_auto(Result) sounds = ektypon("find bench \"2:Field recordings\" --json");
    json_t *json = result_json(&sounds);
    json_t *totals = json_object_get(json, "totals");
    CHECK_NUMBER(json_u64(totals, "whole"), 12);
    CHECK_NUMBER(json_u64(totals, "holed"), 2);
    json_decref(json);
    g_auto(Result) logs = ektypon("find bench 3 --condition whole --count");
    CHECK_CONTAINS(logs.out, "55 files");
    g_auto(Result) rest = ektypon("find bench 2 --condition whole --kind pictures --count");
    CHECK_TEXT(rest.out, "No file or folder matches.\n");
    g_auto(Result) alone = ektypon("image bench --only-wanted");
    CHECK_STATUS(alone, 2);
    g_auto(Result) none = ektypon("image bench --want 9:nothing");
    CHECK(none.status != 0);
    CHECK_CONTAINS(none.err, "no such volume: 9");
}

static void what_is_taken_out_can_be_chosen(void)
{
    hunt_demo();
    g_auto(Result) apart = ektypon("extract bench 1 3 --to out --incomplete-to holed");
    CHECK_STATUS(apart, 3);
    CHECK_CONTAINS(apart.out, "132 files in 46 folders, 646.8 KiB, to out: 130 whole, 2 holed\n");
    g_auto(Result) trees = shell("find out -type f | wc -l; find holed -type f | sort");
    CHECK_TEXT(trees.out, "131\nholed/1 Catalogue/Accessions/2025/accessions-2025.csv\n"
                          "holed/3 sensors/cold-store/2025-01/day-006.csv\n");
    g_auto(Result) rows = shell("grep -c ',whole,' out/extracted.csv; grep -c ',holed,10240,0,' "
                                "out/extracted.csv");
    CHECK_TEXT(rows.out, "130\n1\n");
    /* The same again has nothing left to write. */
    g_auto(Result) again = ektypon("extract bench 1 3 --to out --incomplete-to holed");
    CHECK_CONTAINS(again.out, "132 there already\n");
    g_auto(Result) same = shell("find out holed -type f | wc -l; wc -l < out/extracted.csv");
    CHECK_TEXT(same.out, "133\n133\n");
    /* Without the table it is the content that tells. */
    must("rm out/extracted.csv");
    g_auto(Result) untold = ektypon("extract bench 1 3 --to out --incomplete-to holed");
    CHECK_CONTAINS(untold.out, "132 there already\n");

    must("echo mine > 'out/1 Catalogue/Read me first.txt'");
    g_auto(Result) kept = ektypon("extract bench \"1:Read me first.txt\" --to out");
    CHECK_STATUS(kept, 3);
    CHECK_CONTAINS(kept.out, "a different file already exists and was kept");
    g_auto(Result) renamed =
        ektypon("extract bench \"1:Read me first.txt\" --to out --if-exists rename");
    CHECK_CONTAINS(renamed.out, "written as 1 Catalogue/Read me first (2).txt");
    g_auto(Result) replaced =
        ektypon("extract bench \"1:Read me first.txt\" --to out --if-exists replace");
    CHECK_STATUS(replaced, 0);
    g_auto(Result) both =
        shell("cd 'out/1 Catalogue' && cmp 'Read me first.txt' 'Read me first (2).txt'");
    CHECK_STATUS(both, 0);

    must("%s find bench --kind audio --numbers 2>/dev/null > list.txt", EKTYPON_PROGRAM_PATH);
    g_auto(Result) skipped = ektypon("extract bench --from-list list.txt --to sounds --holes skip");
    CHECK_STATUS(skipped, 3);
    CHECK_CONTAINS(skipped.out, "12 whole, 2 left out\n");
    g_auto(Result) stopped = ektypon("extract bench 2 --to part --kind audio --holes stop");
    CHECK_STATUS(stopped, 3);
    CHECK_CONTAINS(stopped.err, "stopped at the first incomplete file");
    g_auto(Result) nothing = ektypon("extract bench --to out");
    CHECK_STATUS(nothing, 2);
    must("echo 'not a place' > list.txt");
    g_auto(Result) wrong = ektypon("extract bench --from-list list.txt --to out");
    CHECK_STATUS(wrong, 1);
    CHECK_CONTAINS(wrong.err, "\"not a place\" is not VOLUME");
}

/* Deleted files come when they are asked for, into a folder of their own; what lies where another
 * file lies now says so. */
static void deleted_files_come_apart(void)
{
    must("truncate -s 8M v.img && mkfs.fat -F 16 -s 1 v.img >/dev/null 2>&1");
    must(
        "export MTOOLS_SKIP_CHECK=1; head -c 4000 /dev/urandom > a; head -c 3000 /dev/urandom > b; "
        "head -c 3500 /dev/urandom > c; mcopy -i v.img a '::first sowing.csv'; "
        "mcopy -i v.img b '::second sowing.csv'; mcopy -i v.img a ::extracted.csv; mdel -i v.img "
        "'::first sowing.csv' "
        "'::second sowing.csv'; mcopy -i v.img c '::third.csv'");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) listed = ektypon("ls bench 1");
    CHECK_CONTAINS(listed.out, "2 files, 7.3 KiB\n");
    g_auto(Result) all = ektypon("ls bench 1 --deleted");
    CHECK_CONTAINS(all.out, "second sowing.csv  [deleted]  [doubtful: place guessed]\n");
    CHECK_CONTAINS(all.out, "[overwritten: 3.5 KiB overwritten]");
    g_auto(Result) plain = ektypon("extract bench 1 --to out");
    CHECK_STATUS(plain, 0);
    g_auto(Result) taken = ektypon("extract bench 1 --deleted --to out");
    CHECK_STATUS(taken, 3);
    g_auto(Result) same = shell("cmp b 'out/1 fat16 - deleted/second sowing.csv' && "
                                "cmp c 'out/1 fat16/third.csv' && "
                                "cmp a 'out/1 fat16/extracted.csv'");
    CHECK_STATUS(same, 0);
}

/* A folder lies where a deleted file did: that is no file's region, and not the deleted one's. */
static void folders_lie_over_deleted_files(void)
{
    must(
        "export MTOOLS_SKIP_CHECK=1; truncate -s 1M v.img && mkfs.fat -F 12 -s 1 v.img >/dev/null "
        "&& "
        "echo sown > first.txt && mcopy -i v.img first.txt ::first.txt && mmd -i v.img ::tray && "
        "truncate -s 900K filler && mcopy -i v.img filler :: && "
        "{ for i in $(seq 1 400); do mcopy -i v.img first.txt ::f$i || break; done; } 2>/dev/null; "
        "mdel -i v.img ::first.txt && mmd -i v.img ::tray/shelf");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) all = ektypon("ls bench 1 --deleted");
    CHECK_CONTAINS(all.out, "irst.txt  [deleted, place guessed]  [overwritten: 5 B overwritten]");
}

/* A thousand folders in each other: longer than the system takes a path to be. */
static void a_thousand_levels_come_out(void)
{
    must(
        "mkdir src && (cd src && for i in $(seq 1000); do mkdir d && cd d; done && echo seeds > f) "
        "&& truncate -s 40M v.img && mke2fs -q -F -t ext4 -d src v.img");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) index = ektypon("index bench 1");
    CHECK_TEXT(index.out, "Volume 1: 1001 folders, 1 file, 6 B: 1 whole\n");
    done("tree bench 1");
    done("extract bench 1 --to out");
    g_auto(Result) deep =
        shell("cd 'out/1 ext4' && n=0 && while cd d 2>/dev/null; do n=$((n+1)); done; "
              "echo $n && cat f");
    CHECK_TEXT(deep.out, "1000\nseeds\n");
}

/* Where a newer volume lies on an older one, files are whole where it says that their region is
 * free. */
static void older_files_are_whole_where_nothing_lies_on_them(void)
{
    must("mkdir src && for i in 1 2 3 4 5 6 7 8; do head -c 2500000 /dev/urandom > src/f$i; done; "
         "truncate -s 40M v.img && mke2fs -q -F -t ext4 -b 1024 -d src v.img && sleep 1.1 && "
         "mke2fs -q -F -t ext4 -b 1024 -E nodiscard,offset=10485760 v.img 20M");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) taken = ektypon("extract bench 1 --to out --json");
    CHECK_STATUS(taken, 3);
    json_t *json = result_json(&taken);
    json_t *files = json_object_get(json, "files");
    guint lain_over = 0;
    CHECK_NUMBER(json_array_size(files), 8);
    for (gsize i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        const char *path = json_text(file, "path");
        g_autofree char *was = g_build_filename("src", path, NULL);
        g_autofree char *sum = file_sha256(was);
        gboolean same = g_str_equal(sum, json_text(file, "sha256"));
        gboolean whole = g_str_equal(json_text(file, "condition"), "whole");
        CHECK(!whole || same);
        lain_over += whole ? 0 : 1;
    }
    CHECK(lain_over > 0 && lain_over < 8);
    json_decref(json);
}

int main(void)
{
    static const Test tests[] = {
        {"the inventory is kept", the_inventory_is_kept},
        {"folders show what is in them", folders_show_what_is_in_them},
        {"files are found by what is known of them", files_are_found_by_what_is_known_of_them},
        {"what is wanted is read first", what_is_wanted_is_read_first},
        {"bad sectors lead to files", bad_sectors_lead_to_files},
        {"what is taken out can be chosen", what_is_taken_out_can_be_chosen},
        {"older files are whole where nothing lies on them",
         older_files_are_whole_where_nothing_lies_on_them},
        {"folders lie over deleted files", folders_lie_over_deleted_files},
        {"a thousand levels come out", a_thousand_levels_come_out},
        {"deleted files come apart", deleted_files_come_apart},
    };
    return RUN_TESTS("browse", tests);
}
