/* SPDX-License-Identifier: MIT */
/* carve: a formatted card, free space, what is searched when, what is kept when it is cut off. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include <signal.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

/* Files of each type in src/, those that say their place as their name. */
static guint make_files(guint32 seed, guint rounds)
{
    guint count = 0;
    must("mkdir -p src");
    for (guint i = 0; i < rounds; i++) {
        g_autoptr(GPtrArray) specimens = specimens_new(seed + i);
        for (guint k = 0; k < specimens->len; k++) {
            const Specimen *specimen = specimens->pdata[k];
            g_autofree char *path = g_strdup_printf("src/%u-%u.%s", i, k, specimen->ending);
            write_file(path, specimen->data, specimen->length);
            count++;
        }
    }
    return count;
}

/* A card with these files whose tables are gone. */
static void make_card(const char *name)
{
    must("truncate -s 48M %s && mkfs.fat -F 32 -s 1 %s >/dev/null 2>&1 && "
         "MTOOLS_SKIP_CHECK=1 mcopy -i %s src/* ::/ && dd if=/dev/zero of=%s bs=512 count=1547 "
         "conv=notrunc status=none",
         name, name, name, name);
}

static guint64 count_carved(const char *filters)
{
    g_auto(Result) found = ektypon("find bench carved %s --json", filters);
    json_t *json = result_json(&found);
    guint64 files = json_u64(json_object_get(json, "totals"), "files");
    json_decref(json);
    return files;
}

static void a_card_without_tables_comes_back(void)
{
    guint files = make_files(test_seed(), 3);
    make_card("card.img");
    done("new bench --adopt card.img");
    done("hunt bench");
    g_auto(Result) before = ektypon("ls bench carved");
    CHECK_STATUS(before, 1);
    CHECK_CONTAINS(before.err, "nothing was searched for by content yet");
    g_auto(Result) carved = ektypon("carve bench");
    CHECK_STATUS(carved, 0);
    CHECK_CONTAINS(carved.out, "by content: ");
    CHECK_CONTAINS(carved.out, "jpeg ");
    CHECK(count_carved("") >= files * 98 / 100);
    CHECK(count_carved("") <= files);
    /* What comes out is what went in, but for zeros that fill a file up. */
    g_auto(Result) out = ektypon("extract bench carved --to out");
    CHECK(out.status == 0 || out.status == 3);
    must("sha256sum src/* | cut -c1-64 | sort -u > were; find out -type f ! -name extracted.csv "
         "-print0 | xargs -0 sha256sum | cut -c1-64 | sort -u > are");
    g_auto(Result) right = shell("comm -12 were are | wc -l");
    CHECK(g_ascii_strtoull(right.out, NULL, 10) >= files * 96 / 100);
    must("find out/carved -path '*/whole/*' -type f -print0 | xargs -0 sha256sum | cut -c1-64 | "
         "sort -u | comm -13 were - | cmp - /dev/null");
    /* The same again reads nothing and adds nothing. */
    g_auto(Result) again = ektypon("carve bench --json");
    json_t *json = result_json(&again);
    CHECK_NUMBER(json_u64(json, "files"), count_carved(""));
    json_decref(json);
}

static void each_entry_says_what_it_is(void)
{
    make_files(test_seed(), 1);
    make_card("card.img");
    done("new bench --adopt card.img");
    done("hunt bench");
    done("carve bench --type pdf,png");
    g_auto(Result) found = ektypon("find bench carved --json");
    json_t *json = result_json(&found);
    json_t *files = json_object_get(json, "files");
    guint seen = 0;
    for (gsize i = 0; i < json_array_size(files); i++) {
        json_t *row = json_array_get(files, i);
        if (!g_str_equal(json_text(row, "type"), "file"))
            continue;
        seen++;
        CHECK_TEXT(json_text(row, "volume"), "carved");
        CHECK_TEXT(json_text(row, "state"), "whole");
        CHECK(g_str_equal(json_text(row, "content_type"), "pdf") ||
              g_str_equal(json_text(row, "content_type"), "png"));
        CHECK(strlen(json_text(row, "why")) > 0);
        CHECK(json_array_size(json_object_get(row, "extents")) >= 1);
    }
    json_decref(json);
    CHECK_NUMBER(seen, 2);
    g_auto(Result) titled = ektypon("find bench carved --name '*Germination trials, sector*.pdf'");
    CHECK_CONTAINS(titled.out, "outside volumes/whole/documents/");
    g_auto(Result) number =
        shell("%s find bench carved --name '*.png' --numbers 2>/dev/null", EKTYPON_PROGRAM_PATH);
    CHECK_CONTAINS(number.out, "carved:@");
    g_strchomp(number.out);
    g_auto(Result) looked = ektypon("peek bench %s", number.out);
    CHECK_STATUS(looked, 0);
    CHECK_CONTAINS(looked.out, "whole: png, the checksums of all chunks");
    /* Other types are searched for later, and what is there stays. */
    done("carve bench --kind audio");
    CHECK_NUMBER(count_carved("--name '*.pdf'"), 1);
    CHECK_NUMBER(count_carved("--name '*.wav'"), 2);
    CHECK_NUMBER(count_carved("--name '*.zip'"), 0);
}

/* What a healthy volume holds is not listed; what was deleted from it is. */
static void live_files_are_left_out(void)
{
    make_files(test_seed(), 1);
    must("mkdir gone && mv src/0-0.jpg src/0-3.png src/0-*.zip gone/ && "
         "truncate -s 48M card.img && mkfs.fat -F 32 -s 1 card.img >/dev/null 2>&1 && "
         "export MTOOLS_SKIP_CHECK=1 && mcopy -i card.img gone/* ::/ && "
         "mcopy -i card.img src/* ::/ && for f in gone/*; do mdel -i card.img "
         "::/$(basename $f); done");
    done("new bench --adopt card.img");
    done("hunt bench");
    done("carve bench");
    CHECK_NUMBER(count_carved(""), 3);
    CHECK_NUMBER(count_carved("--condition whole"), 3);
    g_auto(Result) listed = ektypon("ls bench \"carved:free space of 1/whole/pictures\"");
    CHECK_CONTAINS(listed.out, ".jpg");
    CHECK_CONTAINS(listed.out, ".png");
    must("rm -rf bench");
    done("new bench --adopt card.img");
    done("hunt bench");
    done("carve bench --in free:1");
    CHECK_NUMBER(count_carved(""), 3);
    done("carve bench --in all");
    CHECK(count_carved("") > 15);
}

/* What was deleted and is still there under another name is not listed twice. */
static void copies_of_live_files_are_not_listed(void)
{
    make_files(test_seed(), 1);
    must("mkdir old && cp src/0-*.png src/0-*.pdf old/");
    must("truncate -s 48M card.img && mkfs.fat -F 32 -s 1 card.img >/dev/null 2>&1 && "
         "export MTOOLS_SKIP_CHECK=1 && mcopy -i card.img old/* ::/ && "
         "mcopy -i card.img src/0-*.jpg ::/ && for f in old/*; do mdel -i card.img "
         "::/$(basename $f); done");
    /* They are there again, elsewhere; of one there is only a longer one. */
    must("export MTOOLS_SKIP_CHECK=1 && mmd -i card.img ::/new && head -c 600K /dev/zero >fill && "
         "mcopy -i card.img fill ::/ && for f in old/*.pdf; do mcopy -i card.img $f ::/new/; done "
         "&& for f in old/*.png; do cat $f fill > long && mcopy -i card.img long ::/new/; break; "
         "done");
    done("new bench --adopt card.img");
    done("hunt bench");
    g_auto(Result) carved = ektypon("carve bench --json");
    CHECK_STATUS(carved, 0);
    json_t *json = result_json(&carved);
    guint64 copies = json_u64(json, "copies");
    guint64 files = json_u64(json, "files");
    json_decref(json);
    CHECK(copies >= 1);
    g_auto(Result) pictures = ektypon("find bench carved --ext png");
    CHECK_CONTAINS(pictures.out, ".png");
    g_auto(Result) papers = ektypon("find bench carved --ext pdf");
    CHECK(strstr(papers.out, ".pdf") == NULL);
    /* Their ground is theirs still: a second search lists no part of them; --nested lists them. */
    done("carve bench");
    CHECK_NUMBER(count_carved(""), files);
    done("carve bench --nested");
    CHECK(count_carved("") >= files + copies);
}

/* The rows of the catalogue, without what time has to do with. */
static char *rows_of(const char *folder)
{
    g_auto(Result) rows =
        shell("%s find %s carved --json | jq -cS '.files[]'", EKTYPON_PROGRAM_PATH, folder);
    CHECK_STATUS(rows, 0);
    return g_steal_pointer(&rows.out);
}

static void cut_off_at_any_moment_it_comes_to_the_same(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    make_files(seed, 2);
    make_card("card.img");
    must("head -c 64M /dev/zero >> card.img && cat card.img >> card.img.2 && cat card.img.2 >> "
         "card.img");
    done("new bench --adopt card.img");
    done("hunt bench");
    done("carve bench");
    g_autofree char *whole = rows_of("bench");
    for (guint i = 0; i < (is_sanitized() ? 1u : 3u); i++) {
        must("rm -rf other && cp card.img other.img");
        done("new other --adopt other.img");
        done("hunt other");
        for (guint k = 0; k < 6; k++) {
            pid_t child = ektypon_start("carve other --threads %u", 1 + k % 3);
            g_usleep((gulong)g_rand_int_range(random, 5000, 400000));
            kill(child, SIGKILL);
            waitpid(child, NULL, 0);
        }
        done("carve other --threads %u", 1 + i);
        g_autofree char *rows = rows_of("other");
        CHECK_TEXT(rows, whole);
    }
}

static void more_is_found_after_more_was_read(void)
{
    guint files = make_files(test_seed(), 1);
    make_card("card.img");
    done("new bench card.img");
    g_auto(Result) part = ektypon("image bench --last 3000");
    CHECK(part.status == 0 || part.status == 3);
    done("hunt bench");
    g_auto(Result) first = ektypon("carve bench");
    CHECK_STATUS(first, 0);
    CHECK_CONTAINS(first.out, "not read yet");
    guint64 before = count_carved("");
    CHECK(before < files);
    done("image bench");
    done("hunt bench");
    done("carve bench");
    CHECK(count_carved("") > before);
    CHECK(count_carved("") >= files - 1);
    CHECK_NUMBER(count_carved("--condition holed"), 0);
}

/* Beginnings in each sector are counted, and listed only where that is asked for. */
static void a_crowd_of_beginnings_is_told(void)
{
    must("seq 1000 | head -c 300 > rest && printf '\\211PNG\\r\\n\\032\\n\\0\\0\\0\\rIHDR"
         "\\0\\0\\0\\4\\0\\0\\0\\4\\10\\0\\0\\0\\0\\214\\232\\301\\242"
         "\\0\\0@\\0IDAT' > head && cat head rest > one && truncate -s 512 one && "
         "for i in $(seq 100); do cat one; done > forged.img");
    done("new bench --adopt forged.img");
    g_auto(Result) carved = ektypon("carve bench");
    CHECK_STATUS(carved, 0);
    CHECK_CONTAINS(carved.out, "4 files,"); /* the last ones */
    CHECK_CONTAINS(carved.out, "Beginnings so dense that each runs into the next, not listed: 96");
    g_auto(Result) again = ektypon("carve bench --json");
    json_t *json = result_json(&again);
    CHECK_NUMBER(json_u64(json, "crowded"), 96);
    CHECK_NUMBER(json_u64(json, "files"), 4);
    json_decref(json);
    g_auto(Result) all = ektypon("carve bench --nested --json");
    json = result_json(&all);
    CHECK_NUMBER(json_u64(json, "crowded"), 0);
    CHECK_NUMBER(json_u64(json, "files"), 100);
    json_decref(json);
}

/* A case may be older than the program. */
static void a_catalogue_of_an_earlier_program_is_read(void)
{
    make_files(1, 1);
    make_card("card.img");
    done("new bench --adopt card.img");
    done("carve bench");
    g_auto(Result) before = ektypon("find bench carved --json");
    CHECK_STATUS(before, 0);
    must("sqlite3 bench/contents.db 'ALTER TABLE searched DROP COLUMN crowded; DROP INDEX proved; "
         "DROP TABLE list; PRAGMA user_version=2' && "
         "rm -f "
         "bench/files-0*");
    g_auto(Result) after = ektypon("find bench carved --json");
    CHECK_STATUS(after, 0);
    CHECK_TEXT(after.out, before.out);
    done("carve bench");
    must("sqlite3 bench/contents.db 'ALTER TABLE searched DROP COLUMN crowded; DROP INDEX proved; "
         "DROP TABLE list; ALTER TABLE content DROP "
         "COLUMN copy; "
         "PRAGMA user_version=1'");
    g_auto(Result) old = ektypon("find bench carved");
    CHECK_STATUS(old, 1);
    CHECK_CONTAINS(old.err, "To search again: ektypon carve");
    done("carve bench");
    done("find bench carved");
    must("sqlite3 bench/contents.db 'PRAGMA user_version=99'");
    g_auto(Result) newer = ektypon("find bench carved");
    CHECK_STATUS(newer, 1);
    CHECK_CONTAINS(newer.err, "made by a newer Ektypon");
}

static void misuse_is_told(void)
{
    make_files(1, 1);
    make_card("card.img");
    done("new bench --adopt card.img");
    static const char *const wrong[] = {"--in nowhere",      "--kind sounds",      "--type nothing",
                                        "--first 999999999", "--first 9 --last 3", "--for soon",
                                        "--threads -1",      "--progress bar",     "--in free:x"};
    for (gsize i = 0; i < G_N_ELEMENTS(wrong); i++) {
        g_auto(Result) result = ektypon("carve bench %s", wrong[i]);
        CHECK_STATUS(result, 2);
        CHECK(*result.err != '\0');
    }
    g_auto(Result) absent = ektypon("carve bench --in free:9");
    CHECK_STATUS(absent, 1);
    CHECK_CONTAINS(absent.err, "volume 9 does not exist");
    g_auto(Result) types = ektypon("carve --types");
    CHECK_STATUS(types, 0);
    CHECK_CONTAINS(types.out, "jpeg");
    g_auto(Result) none = ektypon("carve");
    CHECK_STATUS(none, 2);
    g_auto(Result) lines = ektypon("carve bench --progress json");
    CHECK_STATUS(lines, 0);
    CHECK_CONTAINS(lines.err, "\"by_kind\": {");
    /* Another search at the same time is refused. */
    must("truncate -s 3G large.img && head -c 200M /dev/urandom | dd of=large.img bs=1M "
         "conv=notrunc status=none");
    done("new large --adopt large.img");
    pid_t child = ektypon_start("carve large --threads 1");
    guint refused = 0;
    for (guint i = 0; i < 50 && refused == 0; i++) {
        g_auto(Result) second = ektypon("carve large --threads 1");
        refused = second.status == 4;
    }
    waitpid(child, NULL, 0);
    CHECK(refused == 1 || kill(child, 0) != 0);
}

static void put_le32(guint8 *bytes, gsize at, guint32 value)
{
    for (gsize i = 0; i < 4; i++)
        bytes[at + i] = (guint8)(value >> (8 * i));
}

/* The header of a VDI of this many blocks of 1 MiB, all given away in order, and its map. */
static void write_vdi_head(const char *path, guint32 blocks)
{
    guint8 head[8192] = {0};
    put_le32(head, 0x40, 0xbeda107f);
    put_le32(head, 0x44, 1u << 16 | 1);
    put_le32(head, 0x154, 512);
    put_le32(head, 0x158, sizeof head);
    put_le32(head, 0x178, 1u << 20);
    put_le32(head, 0x180, blocks);
    put_le32(head, 0x184, blocks);
    for (guint32 i = 0; i < blocks; i++)
        put_le32(head, 512 + 4 * (gsize)i, i);
    write_file(path, head, sizeof head);
}

static void disk_images_are_named_by_their_volumes(void)
{
    write_vdi_head("head", 16);
    /* What a name must not hold is left out of it. */
    must("truncate -s 16M disk && mkfs.ext4 -q -L COLD/STORE disk");
    must("head -c 4M /dev/urandom >noise && cat noise head disk noise >drive.img");
    done("new bench --adopt drive.img");
    done("hunt bench");
    done("carve bench --in all");
    g_auto(Result) found = ektypon("find bench carved --ext vdi");
    CHECK_CONTAINS(found.out, "/ext4 COLD STORE, sector 8192.vdi");
    g_auto(Result) extracted = ektypon("extract bench carved --to out");
    CHECK_STATUS(extracted, 3);
    must("cat head disk >whole && cmp whole out/carved/*/*/*/'ext4 COLD STORE, sector 8192.vdi'");
    /* It keeps its name, and one without a volume in it has its place only. */
    done("carve bench --in all");
    g_auto(Result) again = ektypon("find bench carved --ext vdi");
    CHECK_CONTAINS(again.out, "/ext4 COLD STORE, sector 8192.vdi");
    must("cat noise head noise noise noise noise >plain.img");
    done("new plain --adopt plain.img");
    done("hunt plain");
    done("carve plain --in all");
    g_auto(Result) plain = ektypon("find plain carved --ext vdi");
    CHECK_CONTAINS(plain.out, "/sector 8192.vdi");
}

static void what_is_whole_is_written_by_the_search_itself(void)
{
    make_files(test_seed(), 1);
    make_card("card.img");
    done("new bench --adopt card.img");
    done("hunt bench");
    /* What cannot be written to is told before anything is searched. */
    must("echo no folder > taken");
    g_auto(Result) bad = ektypon("carve bench --to taken");
    CHECK_STATUS(bad, 1);
    CHECK_CONTAINS(bad.err, "taken");
    CHECK_TEXT(bad.out, "");
    CHECK_NUMBER(count_carved(""), 0);
    g_auto(Result) out = ektypon("carve bench --to out");
    CHECK_STATUS(out, 0);
    CHECK_CONTAINS(out.out, " to out: ");
    guint64 whole = count_carved("--condition whole");
    CHECK(whole > 10);
    CHECK(whole < count_carved(""));
    /* What only cannot be checked is not called incomplete. */
    g_autofree char *doubtful =
        g_strdup_printf("[%" G_GUINT64_FORMAT " doubtful]", count_carved("--condition doubtful"));
    g_auto(Result) tree = ektypon("tree bench carved --depth 1");
    CHECK_CONTAINS(tree.out, doubtful);
    CHECK(strstr(tree.out, "incomplete") == NULL);
    g_auto(Result) there = shell("find out/carved -type f | wc -l");
    CHECK_NUMBER(g_ascii_strtoull(there.out, NULL, 10), whole);
    must("find out/carved -type f -print0 | xargs -0 sha256sum | cut -c1-64 | sort > written; "
         "ls src | sed 's|^|src/|' | xargs sha256sum | cut -c1-64 | sort > were; "
         "comm -23 written were | cmp - /dev/null");
    /* Again: all of it is there; what somebody changed is kept. */
    must("f=$(find out/carved -type f -name '*.png' | head -1); echo changed > \"$f\"");
    g_auto(Result) again = ektypon("carve bench --to out --json");
    CHECK_STATUS(again, 3);
    json_t *json = result_json(&again);
    json_t *written = json_object_get(json, "written");
    CHECK_NUMBER(json_u64(written, "same"), whole - 1);
    json_decref(json);
    must("grep -rqx changed out/carved");
}

int main(void)
{
    static const Test tests[] = {
        {"a card without tables comes back", a_card_without_tables_comes_back},
        {"each entry says what it is", each_entry_says_what_it_is},
        {"live files are left out", live_files_are_left_out},
        {"copies of live files are not listed", copies_of_live_files_are_not_listed},
        {"cut off at any moment it comes to the same", cut_off_at_any_moment_it_comes_to_the_same},
        {"more is found after more was read", more_is_found_after_more_was_read},
        {"what is whole is written by the search itself",
         what_is_whole_is_written_by_the_search_itself},
        {"disk images are named by their volumes", disk_images_are_named_by_their_volumes},
        {"a crowd of beginnings is told", a_crowd_of_beginnings_is_told},
        {"a catalogue of an earlier program is read", a_catalogue_of_an_earlier_program_is_read},
        {"misuse is told", misuse_is_told},
    };
    return RUN_TESTS("carve", tests);
}
