/* SPDX-License-Identifier: MIT */
/* ext3 and ext4 volumes cut off in use: filled by the system's driver, imaged while mounted. What
 * the file system's own checker shows after playing the journal back, on a copy, is what is shown
 * without writing. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define DRIVES 4u

typedef struct {
    const char *options;
    const char *mount;
} Kind;

static const Kind kinds[] = {
    {"-t ext4 -b 4096", "data=ordered"},
    {"-t ext4 -b 1024", "data=journal"},
    {"-t ext3 -b 4096", "data=journal"},
    {"-t ext4 -b 2048 -O ^64bit,^metadata_csum", "data=writeback,journal_async_commit"},
    {"-t ext3 -b 1024", "data=ordered"},
    {"-t ext4 -b 4096", "data=journal"},
    {"-t ext4 -b 1024 -O inline_data -I 256", "data=journal"},
    {"-t ext4 -b 4096 -O ^metadata_csum", "data=ordered,journal_checksum"},
    {"-t ext3 -b 2048", "data=writeback"},
    {"-t ext4 -b 1024 -O 64bit", "data=ordered"},
};

/* Writes, deletes and syncs at random; what comes last is only in the journal, or nowhere. */
#define SCRIPT                                                                                     \
    "RANDOM=%u; for i in $(seq 40); do head -c $((RANDOM * 2)) /dev/urandom > \"m/tray $i.csv\"; " \
    "[ $((RANDOM %% 5)) = 0 ] && mkdir \"m/bench $i\" && cp \"m/tray $i.csv\" \"m/bench "          \
    "$i/copy\"; "                                                                                  \
    "[ $((RANDOM %% 6)) = 0 ] && rm -f \"m/tray $((RANDOM %% i + 1)).csv\"; "                      \
    "[ $((RANDOM %% 7)) = 0 ] && mv \"m/tray $i.csv\" \"m/moved $i.csv\"; "                        \
    "[ $((RANDOM %% 9)) = 0 ] && sync; done; "                                                     \
    "head -c 50000 /dev/urandom | dd of=m/synced.bin bs=64k conv=fsync status=none; "              \
    "rm -f \"m/tray $((RANDOM %% 40 + 1)).csv\"; [ $((RANDOM %% 2)) = 0 ] && sync m; true"

/* cut.img: as it lies while it is mounted and `work` is done in it. FALSE where nothing can be
 * mounted. */
static gboolean cut_off(const Kind *kind, const char *work)
{
    must("rm -rf m cut.img v.img && mkdir m && truncate -s 64M v.img && mke2fs -q -F %s v.img",
         kind->options);
    g_autofree char *loop = loop_attach("v.img", "");
    if (loop == NULL)
        return FALSE;
    g_auto(Result) mounted = shell("mount -o %s %s m", kind->mount, loop);
    if (mounted.status == 0) {
        write_file("work.sh", work, strlen(work));
        /* What was written to the drive so far, not what the driver holds in memory. */
        must("bash work.sh && cp v.img cut.img && umount m");
    }
    loop_detach(loop);
    return mounted.status == 0;
}

/* Sums and paths of all files, by the system's driver after the checker was at work. */
static void list_by_system(void)
{
    must(
        "cp cut.img fixed.img; e2fsck -fy fixed.img >checked.log 2>&1; mount -o loop,ro fixed.img "
        "m "
        "&& (cd m && find . -path ./lost+found -prune -o -type f -print0 | xargs -0 -r sha256sum | "
        "sed 's|  ./|  |' | sort) > want && umount m");
}

static void list_by_program(void)
{
    must("rm -rf bench out");
    done("new bench --adopt cut.img");
    done("hunt bench");
    done("extract bench 1 --to out --flat");
    must("cd out && find . -path ./lost+found -prune -o -type f ! -name extracted.csv -print0 | "
         "xargs -0 -r sha256sum | sed 's|  ./|  |' | sort > ../got");
}

static void what_was_committed_is_shown(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)atoi(wanted) : DRIVES;
    guint32 seed = test_seed();
    guint due = 0;
    for (guint i = 0; i < drives; i++) {
        const Kind *kind = &kinds[(seed + i) % G_N_ELEMENTS(kinds)];
        g_autofree char *work = g_strdup_printf(SCRIPT, (seed + i) & 0x7fff);
        if (!cut_off(kind, work)) {
            fprintf(stderr, " (%s cannot be mounted here)", kind->options);
            continue;
        }
        list_by_system();
        list_by_program();
        g_auto(Result) same = shell("cmp want got && grep -q . want");
        CHECK_STATUS(same, 0);
        if (same.status != 0) {
            g_auto(Result) apart = shell("diff want got | head -20");
            fprintf(stderr, "\nthat was: %s, %s, seed %u\n%s", kind->options, kind->mount, seed + i,
                    apart.out);
        }
        g_auto(Result) volumes = ektypon("volumes bench 1");
        due += strstr(volumes.out, "was not cleanly unmounted") != NULL ? 1 : 0;
        g_auto(Result) planned = ektypon("plan bench");
        CHECK(strstr(volumes.out, "was not cleanly unmounted") == NULL ||
              strstr(planned.out, "The plan does not repair this") != NULL);
        g_auto(Result) untouched = shell("cmp cut.img bench/image.raw 2>/dev/null || true");
        CHECK_STATUS(untouched, 0);
    }
    CHECK(due > drives / 2 || drives == 0);
}

/* As it lies: without what only the journal holds. */
static void without_the_journal_it_is_as_it_lies(void)
{
    if (!cut_off(&kinds[0], "echo 3 > m/first.csv; sync; head -c 50000 /dev/urandom | "
                            "dd of=m/synced.bin bs=64k conv=fsync status=none"))
        return;
    list_by_program();
    g_auto(Result) with = ektypon("find bench 1");
    g_auto(Result) without = ektypon("find bench 1 --without-journal");
    CHECK_STATUS(without, 0);
    CHECK(strlen(without.out) < strlen(with.out));
    CHECK(strstr(with.out, "synced.bin") != NULL);
    CHECK(strstr(without.out, "synced.bin") == NULL);
}

/* Files come, change and go in four rounds. sums-N, time-N: what there was after each. */
#define ROUNDS                                                                                     \
    "RANDOM=%u; for round in 1 2 3 4; do for i in $(seq 25); do n=$((RANDOM %% 60)); "             \
    "case $((RANDOM %% 6)) in 0|1) head -c $((RANDOM + 1)) /dev/urandom > \"m/tray $n.bin\";; "    \
    "2) rm -f \"m/tray $n.bin\";; 3) echo more >> \"m/tray $n.bin\";; "                            \
    "4) mkdir -p m/bench$n && cp m/tray*.bin m/bench$n/ 2>/dev/null;; 5) rm -rf m/bench*;; esac; " \
    "done; sync -f m; sleep 1.1; date -u '+%%F %%T UTC' > time-$round; "                           \
    "(cd m && find . -path ./lost+found -prune -o -type f -print0 | xargs -0 -r sha256sum | "      \
    "sed 's|  ./|  |' | sort -k 2) > sums-$round; sleep 1.1; done"

/* The sum of each whole file of a list of the program (`extracted.csv`), by path; "" when it is not
 * whole. */
static GHashTable *extracted_sums(void)
{
    GHashTable *sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    g_auto(Result) rows = shell("python3 -c 'import csv\nfor r in csv.DictReader(open("
                                "\"out/extracted.csv\")):\n print(r[\"sha256\"] if "
                                "r[\"condition\"] == \"whole\" else \"-\", r[\"path\"], "
                                "sep=\"\\t\")'");
    CHECK_STATUS(rows, 0);
    g_auto(GStrv) lines = g_strsplit(rows.out, "\n", -1);
    for (guint i = 0; lines[i] != NULL && *lines[i] != '\0'; i++) {
        g_auto(GStrv) columns = g_strsplit(lines[i], "\t", 2);
        g_hash_table_insert(sums, g_strdup(columns[1]), g_strdup(columns[0]));
    }
    return sums;
}

typedef struct {
    guint files;
    guint right;
    guint named;  /* listed, and not called whole */
    guint missed; /* in folders of which it is said that names may be missing */
    guint lies;
} Count;

/* Compares what stood there after a round with what is listed as of then. */
static void compare_round(guint round, gboolean has_holes, Count *count)
{
    g_autofree char *name = g_strdup_printf("sums-%u", round);
    g_autofree char *text = NULL;
    CHECK(g_file_get_contents(name, &text, NULL, NULL));
    g_autoptr(GHashTable) sums = extracted_sums();
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    guint before = count->files;
    for (guint i = 0; lines[i] != NULL && *lines[i] != '\0'; i++) {
        g_autofree char *sum = g_strndup(lines[i], 64);
        const char *got = g_hash_table_lookup(sums, lines[i] + 66);
        count->files++;
        count->right += g_strcmp0(got, sum) == 0;
        count->named += g_strcmp0(got, "-") == 0;
        count->missed += got == NULL && has_holes ? 1 : 0;
        if (got == NULL && !has_holes)
            fprintf(stderr, "\nmissed as of round %u: %s", round, lines[i] + 66);
        gboolean is_lie = got != NULL && strcmp(got, "-") != 0 && strcmp(got, sum) != 0;
        count->lies += is_lie ? 1 : 0;
        if (is_lie)
            fprintf(stderr, "\nwrong as of round %u: %s", round, lines[i] + 66);
    }
    /* Nothing came to it that was not there yet. */
    if (g_hash_table_size(sums) > count->files - before) {
        fprintf(stderr, "\nas of round %u there is more than there was", round);
        count->lies++;
    }
}

static void as_of_a_time_it_is_as_it_was(void)
{
    static const Kind past[] = {
        {"-t ext4 -b 1024", "data=ordered"},
        {"-t ext4 -b 4096", "data=journal"},
        {"-t ext3 -b 1024", "data=ordered"},
        {"-t ext4 -b 2048 -O ^64bit,^metadata_csum", "data=ordered"},
        {"-t ext4 -b 1024 -O bigalloc -C 4096", "data=ordered"},
    };
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)atoi(wanted) : 1;
    guint32 seed = test_seed();
    Count count = {0};
    for (guint i = 0; i < drives; i++) {
        const Kind *kind = &past[(seed + i) % G_N_ELEMENTS(past)];
        guint lies = count.lies;
        g_autofree char *work = g_strdup_printf(ROUNDS, (seed + i) & 0x7fff);
        if (!cut_off(kind, work))
            return;
        must("rm -rf bench");
        done("new bench --adopt v.img");
        done("hunt bench");
        for (guint round = 1; round <= 4; round++) {
            must("rm -rf out");
            g_auto(Result) out = shell(EKTYPON_PROGRAM_PATH " extract bench 1 --to out --flat "
                                                            "--as-of \"$(cat time-%u)\"",
                                       round);
            CHECK(out.status == 0 || out.status == 3);
            compare_round(round, strstr(out.err, "files may be missing") != NULL, &count);
        }
        if (count.lies > lies)
            fprintf(stderr, "\nthat was: %s, %s, seed %u\n", kind->options, kind->mount, seed + i);
    }
    CHECK(count.lies == 0);
    CHECK(count.right + count.named + count.missed == count.files && count.right > count.files / 2);
    fprintf(stderr, "%u files in %u drives: %u right, %u not called whole, %u missed, %u wrong ",
            count.files, drives, count.right, count.named, count.missed, count.lies);
}

static void as_of_what_the_journal_does_not_hold(void)
{
    if (!cut_off(&kinds[0], "for i in 1 2 3; do echo $i > m/row-$i.csv; sync -f m; done"))
        return;
    must("rm -rf bench");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) before = ektypon("tree bench 1 --as-of 2001-01-01");
    CHECK_STATUS(before, 1);
    CHECK(strstr(before.err, "leads back to transaction") != NULL);
    g_auto(Result) odd = ektypon("tree bench 1 --as-of soon");
    CHECK_STATUS(odd, 2);
    g_auto(Result) both = ektypon("tree bench 1 --as-of 2 --without-journal");
    CHECK_STATUS(both, 2);
    g_auto(Result) shown = ektypon("volumes bench 1");
    CHECK(strstr(shown.out, "  journal: ") != NULL && strstr(shown.out, "--as-of") != NULL);
}

int main(void)
{
    static const Test tests[] = {
        {"what was committed is shown", what_was_committed_is_shown},
        {"without the journal it is as it lies", without_the_journal_it_is_as_it_lies},
        {"as of a time it is as it was", as_of_a_time_it_is_as_it_was},
        {"as of what the journal does not hold", as_of_what_the_journal_does_not_hold},
    };
    return RUN_TESTS("journal", tests);
}
