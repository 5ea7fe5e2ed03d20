/* SPDX-License-Identifier: MIT */
/* find --totals, extract --dry-run: what there would be, and that it is what there is then. */
#include "check.h"
#include "program.h"

#include <string.h>

static json_t *json_of(const char *line)
{
    g_auto(Result) result = ektypon("%s", line);
    CHECK_STATUS(result, 0);
    return result_json(&result);
}

static guint64 sum_of(json_t *rows, const char *key)
{
    const char *name = NULL;
    json_t *row = NULL;
    guint64 sum = 0;
    json_object_foreach(rows, name, row) sum += json_u64(row, key);
    for (gsize i = 0; i < json_array_size(rows); i++)
        sum += json_u64(json_array_get(rows, i), key);
    return sum;
}

static void what_is_told_is_what_is_written(void)
{
    hunt_demo();
    json_t *told =
        json_of("extract bench 1 2 3 --to out --kind pictures,documents --dry-run --json");
    json_t *totals = json_object_get(told, "totals");
    guint64 files = json_u64(totals, "files");
    /* Nothing was written, and the log tells of no extraction. */
    must("test ! -e out");
    g_auto(Result) log = ektypon("log bench");
    CHECK(strstr(log.out, "extract") == NULL);
    for (guint i = 0; i < 3; i++) {
        static const char *const keys[] = {"files", "bytes", "whole"};
        CHECK_NUMBER(sum_of(json_object_get(told, "kinds"), keys[i]), json_u64(totals, keys[i]));
        CHECK_NUMBER(sum_of(json_object_get(told, "folders"), keys[i]), json_u64(totals, keys[i]));
    }
    CHECK_NUMBER(json_object_size(json_object_get(told, "kinds")), 2); /* no sound */
    g_auto(Result) extracted =
        ektypon("extract bench 1 2 3 --to out --kind pictures,documents --json");
    CHECK_STATUS(extracted, 3);
    json_t *written = result_json(&extracted);
    json_t *sums = json_object_get(written, "totals");
    CHECK_NUMBER(json_u64(sums, "files"), files);
    CHECK_NUMBER(json_u64(sums, "bytes"), json_u64(totals, "bytes"));
    CHECK_NUMBER(json_u64(sums, "whole"), json_u64(totals, "whole"));
    json_decref(written);
    json_decref(told);
    g_auto(Result) shown = ektypon("extract bench 1 2 3 --dry-run");
    CHECK_STATUS(shown, 0);
    CHECK_CONTAINS(shown.out, ":Field recordings");
    CHECK_CONTAINS(shown.err, "Nothing was written");
    g_auto(Result) forbidden = ektypon("extract bench 1 --to bench/image.raw --dry-run");
    CHECK(forbidden.status != 0);
}

static void found_files_are_counted(void)
{
    hunt_demo();
    json_t *all = json_of("find bench --json");
    json_t *counted = json_of("find bench --totals --json");
    CHECK_NUMBER(json_u64(json_object_get(counted, "totals"), "files"),
                 json_u64(json_object_get(all, "totals"), "files"));
    CHECK_NUMBER(json_u64(json_object_get(counted, "totals"), "bytes"),
                 json_u64(json_object_get(all, "totals"), "bytes"));
    json_decref(all);
    json_decref(counted);
    g_auto(Result) few = ektypon("find bench --totals --condition holed");
    CHECK_STATUS(few, 0);
    CHECK_CONTAINS(few.out, "0 whole");
    g_auto(Result) none = ektypon("find bench --totals --larger 1T");
    CHECK_STATUS(none, 0);
    CHECK_CONTAINS(none.out, "0 files, 0 B: 0 whole");
    g_auto(Result) both = ektypon("find bench --totals --numbers");
    CHECK_STATUS(both, 2);
}

static void many_folders_are_one_at_the_end(void)
{
    must("mkdir src && for i in $(seq 260); do mkdir \"src/tray $i\" && echo $i >\"src/tray "
         "$i/log.csv\"; done && truncate -s 16M v.img && mke2fs -q -F -t ext4 -d src v.img");
    done("new many --adopt v.img");
    done("hunt many");
    json_t *counted = json_of("find many --totals --json");
    json_t *folders = json_object_get(counted, "folders");
    CHECK_NUMBER(json_array_size(folders), 201);
    CHECK_TEXT(json_text(json_array_get(folders, 200), "folder"), "further folders");
    CHECK_NUMBER(json_u64(json_array_get(folders, 200), "files"), 60);
    json_decref(counted);
}

int main(void)
{
    static const Test tests[] = {
        {"what is told is what is written", what_is_told_is_what_is_written},
        {"found files are counted", found_files_are_counted},
        {"many folders are one at the end", many_folders_are_one_at_the_end},
    };
    return RUN_TESTS("tally", tests);
}
