/* SPDX-License-Identifier: MIT */
/* Extraction: two at once, again and again, onto targets that take few names, over what lies there.
 */
#include "check.h"
#include "program.h"

#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

/* A volume of `format` with what is in the folder src, as a case. */
static void hold(const char *folder, const char *format)
{
    must("rm -f v.img && truncate -s 40M v.img && %s v.img >/dev/null 2>&1", format);
    must("rm -rf %s && cp v.img %s.img", folder, folder);
    done("new %s --adopt %s.img", folder, folder);
    done("hunt %s", folder);
}

#define EXT4 "mke2fs -q -F -t ext4 -L Catalogue -d src"

/* Mounts an empty file system of this kind at `mount`. FALSE where this system has none. */
static gboolean mount_target(const char *make, const char *kind)
{
    g_auto(Result) made = shell(
        "test $(id -u) = 0 && rm -f t.img && truncate -s 64M t.img && %s t.img >/dev/null 2>&1 "
        "&& mkdir -p mnt && { mount -t %s -o loop t.img mnt 2>/dev/null || "
        "{ test %s = exfat && losetup -f --show t.img > t.loop && "
        "mount.exfat-fuse $(cat t.loop) mnt >/dev/null 2>&1; }; }",
        make, kind, kind);
    return made.status == 0;
}

static void unmount_target(void)
{
    must("umount mnt; test ! -e t.loop || { losetup -d $(cat t.loop) 2>/dev/null; rm -f t.loop; }");
}

/* --- at once and again ---------------------------------------------------------------------- */

/* Two cases of volumes whose files differ in their content alone. */
static void hold_twins(void)
{
    static const char *const cases[] = {"one", "other"};
    must("mkdir src");
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        must("cd src && for i in 1 2 3 4 5 6 7 8; do head -c 2M /dev/urandom > $i; done; "
             "touch -d @1750000000 *");
        hold(cases[i], EXT4);
    }
}

static void two_at_once_do_not_meet(void)
{
    hold_twins();
    guint refused = 0;
    for (int i = 0; i < 5; i++) {
        must("rm -rf out");
        pid_t first = ektypon_start("extract one 1 --to out");
        g_auto(Result) second = ektypon("extract other 1 --to out");
        int status = 0;
        waitpid(first, &status, 0);
        /* One of them writes. The other is refused, or comes later and finds other files there. */
        int lesser = MAX(WEXITSTATUS(status), second.status);
        CHECK_NUMBER(MIN(WEXITSTATUS(status), second.status), 0);
        CHECK(lesser == 3 || lesser == 4);
        refused += lesser == 4;
        if (second.status == 4)
            CHECK_CONTAINS(second.err, "another extraction is writing to out");
        /* What the table says is what is there. */
        must("cd out && tail -n +2 extracted.csv | tr -d '\\r\"' | "
             "awk -F, '{print $6\"  \"$4}' | sha256sum -c --quiet");
    }
    CHECK(refused > 0);
}

/* Number, name, size and date of a file may be those of a file of another case. */
static void what_another_case_wrote_is_not_taken_for_its_own(void)
{
    hold_twins();
    done("extract one 1 --to out");
    g_auto(Result) kept = ektypon("extract other 1 --to out");
    CHECK_STATUS(kept, 3);
    CHECK_CONTAINS(kept.out, "8 kept unchanged");
    done("extract other 1 --to out --if-exists replace");
    must("for i in 1 2 3 4 5 6 7 8; do cmp src/$i \"out/1 Catalogue/$i\"; done");
    g_auto(Result) again = ektypon("extract other 1 --to out");
    CHECK_STATUS(again, 0);
    CHECK_CONTAINS(again.out, "8 there already");
}

/* Extracted, read on, extracted again: the files have what was read since, but for one that
 * somebody has worked on. */
static void what_was_read_since_comes_too(void)
{
    must("mkdir src && cd src && for i in 1 2 3 4 5 6 7 8; do head -c 2M /dev/urandom > $i; done; "
         "touch -d @1750000000 *");
    must("truncate -s 40M v.img && " EXT4 " v.img >/dev/null 2>&1");
    done("new bench v.img");
    g_auto(Result) part = ektypon("image bench --last 30000");
    CHECK(part.status == 0 || part.status == 3);
    done("hunt bench");
    g_auto(Result) holed = ektypon("extract bench 1 --to out");
    CHECK_STATUS(holed, 3);
    CHECK_CONTAINS(holed.out, "holed");
    must(
        "for i in 1 2 3 4 5 6 7 8; do cmp -s src/$i \"out/1 Catalogue/$i\" || echo $i; done > bad; "
        "test -s bad && echo more >> \"out/1 Catalogue/$(tail -1 bad)\"");
    done("image bench");
    g_auto(Result) whole = ektypon("extract bench 1 --to out");
    CHECK_STATUS(whole, 3);
    CHECK_CONTAINS(whole.out, "1 kept unchanged");
    must(
        "for i in 1 2 3 4 5 6 7 8; do cmp -s src/$i \"out/1 Catalogue/$i\" || echo $i; done > now; "
        "tail -1 bad | cmp - now");
}

static void the_same_again_changes_nothing(void)
{
    must("mkdir -p src/a src/b && echo 1 > 'src/letter 0.eml' && echo 2 > src/a/x && echo 3 > "
         "src/b/x");
    hold("one", EXT4);
    must("echo 4 > 'src/letter 0.eml'");
    hold("other", "mke2fs -q -F -t ext4 -L Letters -d src");
    must("truncate -s 100M both.img && dd if=one.img of=both.img bs=1M seek=1 conv=notrunc "
         "status=none "
         "&& dd if=other.img of=both.img bs=1M seek=50 conv=notrunc status=none");
    done("new both --adopt both.img");
    done("hunt both");
    static const char *const modes[] = {"keep", "replace", "rename"};
    for (gsize i = 0; i < G_N_ELEMENTS(modes); i++) {
        must("rm -rf out");
        done("extract both 1 2 --to out --if-exists %s", modes[i]);
        must("find out -type f | sort > first");
        for (int k = 0; k < 2; k++) {
            g_auto(Result) again = ektypon("extract both 1 2 --to out --if-exists %s", modes[i]);
            CHECK_STATUS(again, 0);
            CHECK_CONTAINS(again.out, "6 there already");
        }
        must("find out -type f | sort | cmp - first");
        must("cmp 'out/1 Catalogue/a/x' src/a/x; test $(cat 'out/1 Catalogue/letter 0.eml') = 1 && "
             "test $(cat 'out/2 Letters/letter 0.eml') = 4");
    }
}

static void one_place_can_go_straight_into_the_folder(void)
{
    must("mkdir -p src/trays/one && echo 1 > src/trays/one/x && echo 2 > src/y");
    hold("one", EXT4);
    done("extract one 1:trays --to flat --flat");
    done("extract one 1:y --to flat --flat");
    g_auto(Result) there = shell("cd flat && find . -type f | sort | tr '\\n' ' '");
    CHECK_TEXT(there.out, "./extracted.csv ./one/x ./y ");
    g_auto(Result) two = ektypon("extract one 1:y 1:trays --to flat --flat");
    CHECK_STATUS(two, 2);
}

/* --- names ---------------------------------------------------------------------------------- */

/* Names that other systems do not take, or take for one another. */
static void make_names(void)
{
    must("mkdir -p 'src/what: a folder?' && cd src && for n in 'a:b' 'a?b' 'a*b' 'a\\b' 'a|b' "
         "'a<b' 'a>b' "
         "'a\"b' 'dot.' 'dots...' 'space ' con NUL aux.txt com1 LPT9.csv Report.txt REPORT.txt "
         "report.TXT .hidden plain 'tab\tbed' extracted.csv 'no folder'; do "
         "printf '%%s' \"$n\" > \"$n\"; done; "
         "echo inside > 'what: a folder?/it: too.' && n=$(printf 'x%%.0s' $(seq 251)) && "
         "echo long > $n.jpg && n=$(printf '\\303\\244%%.0s' $(seq 127)) && echo umlauts > $n");
}

/* Every file of src is in the folder, by content, each by itself. */
static void check_all_there(const char *folder)
{
    g_auto(Result) missing = shell("sums() { find \"$1\" -type f ! -path \"$2\" -exec sh -c "
                                   "'sha256sum < \"$0\"' {} \\; | sort; }; sums src none > was; "
                                   "sums %s %s/extracted.csv > is; "
                                   "diff was is",
                                   folder, folder);
    CHECK_STATUS(missing, 0);
}

static void forbidden_names_come_out(void)
{
    static const char *const targets[][2] = {
        {"mkfs.fat -F 32", "vfat"}, {"mkfs.exfat", "exfat"}, {"mke2fs -q -F -t ext4", "ext4"}};
    make_names();
    hold("one", EXT4);
    for (gsize i = 0; i < G_N_ELEMENTS(targets); i++) {
        if (!mount_target(targets[i][0], targets[i][1])) {
            skip("a target cannot be mounted");
            continue;
        }
        for (int k = 0; k < 2; k++) {
            g_auto(Result) out =
                ektypon("extract one 1 --to mnt --if-exists %s", k == 0 ? "keep" : "replace");
            CHECK_STATUS(out, 0);
            check_all_there("mnt");
            if (k > 0)
                CHECK_CONTAINS(out.out, "27 there already");
        }
        /* The table knows what each is called now. */
        must("grep -q '\"a:b\",\"1 Catalogue/a[:_]b' mnt/extracted.csv && cp mnt/extracted.csv .");
        unmount_target();
    }
    done("extract one 1 --to everywhere --names portable");
    check_all_there("everywhere");
    g_auto(Result) names =
        shell("find everywhere | grep -E '[:?*<>|\\\\\"]|[. ]$|/(con|NUL|com1)$' | grep -v '^.$'");
    CHECK_TEXT(names.out, "");
}

/* In a folder there are a file and a folder of one name, as only damage makes it. */
static void a_file_with_the_name_of_a_folder_comes_out(void)
{
    must("mkdir -p src/trayA && echo one > src/trayA/seeds && echo two > src/trayB && "
         "echo three > 'src/no folder'");
    must("rm -f v.img && truncate -s 8M v.img && mkfs.fat -F 12 v.img >/dev/null && "
         "mcopy -s -i v.img src/* :: && LC_ALL=C sed -i "
         "'s/T\\x00r\\x00a\\x00y\\x00B/T\\x00r\\x00a\\x00y\\x00A/;"
         "s/TRAYB  /TRAYA  /; s/t\\x00r\\x00a\\x00y\\x00B/t\\x00r\\x00a\\x00y\\x00A/' v.img");
    done("new one --adopt v.img");
    done("hunt one");
    g_auto(Result) out = ektypon("extract one 1 --to out");
    CHECK_STATUS(out, 0);
    check_all_there("out");
    done("extract one 1 --to out");
    check_all_there("out");
}

/* --- the table and the list of digests -------------------------------------------------------- */

static void the_table_is_a_file_of_its_own(void)
{
    must("mkdir src && echo 1 > src/x && echo victim > victim");
    hold("one", EXT4);
    static const char *const traps[] = {"mkfifo out/extracted.csv", "ln victim out/extracted.csv",
                                        "ln -s ../victim out/extracted.csv",
                                        "ln -s /dev/null out/extracted.csv"};
    for (gsize i = 0; i < G_N_ELEMENTS(traps); i++) {
        must("rm -rf out && mkdir out && %s", traps[i]);
        g_auto(Result) out = shell("timeout 10 %s extract one 1 --to out", EKTYPON_PROGRAM_PATH);
        CHECK_STATUS(out, 4);
        CHECK_CONTAINS(out.err, "no regular file");
        must("test \"$(cat victim)\" = victim");
    }
}

static void spreadsheets_and_sha256sum_read_it(void)
{
    must("mkdir src && cd src && echo 1 > '=1+1' && echo 2 > '@sum' && echo 3 > \"'quoted\" && "
         "echo 4 > $'two\\nlines' && echo 5 > 'back\\slash' && echo 6 > '-x' && echo 7 > plain");
    hold("one", EXT4);
    done("extract one 1 --to out --flat --sums sums");
    g_auto(Result) sums = shell("cd out && sha256sum -c --quiet ../sums");
    CHECK_STATUS(sums, 0);
    /* Inside of the quotes a cell that would be computed begins with an apostrophe. */
    g_auto(Result) cells = shell("grep -cE ',\"[=@-]' out/extracted.csv");
    CHECK_TEXT(cells.out, "0\n");
    g_auto(Result) marked = shell("grep -cE \",\\\"'(=1|@s|''q|-x|'q)\" out/extracted.csv");
    CHECK_TEXT(marked.out, "4\n");
    /* What was marked is known again. */
    g_auto(Result) again = ektypon("extract one 1 --to out --flat");
    CHECK_CONTAINS(again.out, "7 there already");
    g_auto(Result) same = shell("ls out | wc -l");
    CHECK_CONTAINS(same.out, "9"); /* with lost+found and the table */
}

/* --- sizes ---------------------------------------------------------------------------------- */

/* One that claims all of the world is left out by itself; one that is nearly all hole is written as
 * that, and nobody waits for it. */
static void impossible_sizes_cost_themselves(void)
{
    must("mkdir src && echo seeds > src/good && echo log > src/sparse && truncate -s 12T "
         "src/sparse");
    hold("one", EXT4);
    g_auto(Result) out = shell("timeout 60 %s extract one 1 --to out", EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(out, 0);
    must("test $(stat -c %%s 'out/1 Catalogue/sparse') = 13194139533312 && "
         "test $(du -k 'out/1 Catalogue/sparse' | cut -f1) -lt 100 && "
         "test $(head -c 3 'out/1 Catalogue/sparse') = log && test $(cat 'out/1 Catalogue/good') = "
         "seeds");
    g_auto(Result) again = shell("timeout 60 %s extract one 1 --to out", EKTYPON_PROGRAM_PATH);
    CHECK_CONTAINS(again.out, "there already");
    /* A FAT file of 4 GiB on a volume of 8 MiB. */
    must("truncate -s 8M f.img && mkfs.fat -F 12 f.img >/dev/null && mcopy -i f.img src/good "
         "::GOOD.TXT "
         "&& mcopy -i f.img src/good ::HUGE.TXT && LC_ALL=C grep -abo 'HUGE    TXT' f.img | head "
         "-1 | "
         "cut -d: -f1 > at && printf '\\377\\377\\377\\377' | dd of=f.img bs=1 seek=$(($(cat at) + "
         "28)) "
         "conv=notrunc status=none");
    done("new fat --adopt f.img");
    done("hunt fat");
    g_auto(Result) left = ektypon("extract fat 1 --to fat-out");
    CHECK_STATUS(left, 3);
    CHECK_CONTAINS(left.out, "HUGE.TXT: claims a size of 4.0 GiB, more than its volume has");
    must("test $(cat 'fat-out/1 fat12/GOOD.TXT') = seeds && test ! -e 'fat-out/1 fat12/HUGE.TXT'");
}

int main(void)
{
    static const Test tests[] = {
        {"two at once do not meet", two_at_once_do_not_meet},
        {"what another case wrote is not taken for its own",
         what_another_case_wrote_is_not_taken_for_its_own},
        {"what was read since comes too", what_was_read_since_comes_too},
        {"the same again changes nothing", the_same_again_changes_nothing},
        {"one place can go straight into the folder", one_place_can_go_straight_into_the_folder},
        {"forbidden names come out", forbidden_names_come_out},
        {"a file with the name of a folder comes out", a_file_with_the_name_of_a_folder_comes_out},
        {"the table is a file of its own", the_table_is_a_file_of_its_own},
        {"spreadsheets and sha256sum read it", spreadsheets_and_sha256sum_read_it},
        {"impossible sizes cost themselves", impossible_sizes_cost_themselves},
    };
    return RUN_TESTS("extracts", tests);
}
