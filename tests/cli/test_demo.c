/* SPDX-License-Identifier: MIT */
/* The demo case on the built program, against what stood on the drive before it failed. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#define NTFS_SECTOR 2048
#define FAT_SECTOR 165888
#define FAT_SECTORS 98304
#define EXT_SECTOR 264192
#define MEMORY_KIB (128u * 1024)

static void image_and_hunt(void)
{
    unpack_demo();
    g_auto(Result) made = ektypon("new bench sim:drive.model");
    CHECK_STATUS(made, 0);
    CHECK_CONTAINS(made.err, "do not mount, format or repair the original drive");
    g_auto(Result) imaged = ektypon("image bench");
    CHECK_STATUS(imaged, 0);
    CHECK_CONTAINS(imaged.out, "Bad sectors: 116. Not yet read: 0");
    CHECK_CONTAINS(made.err, "17 sectors are waiting to be remapped");
    CHECK(g_str_has_suffix(imaged.err, "now\nNext: ektypon hunt bench\n"));
    g_auto(Result) hunted = ektypon("hunt bench");
    CHECK_STATUS(hunted, 0);
    CHECK_CONTAINS(hunted.err, "Next: ektypon volumes bench\n");
    if (!is_sanitized()) {
        CHECK(imaged.peak_kib < MEMORY_KIB);
        CHECK(hunted.peak_kib < MEMORY_KIB);
    }
}

/* The map says bad exactly where the model does, and the image holds the rest. */
static void the_image_is_what_the_drive_gave(void)
{
    gsize length = 0;
    image_and_hunt();
    g_auto(Result) result = ektypon("map bench --json");
    json_t *map = result_json(&result);
    g_autofree guint8 *drive = read_file("drive.img", &length);
    g_autofree guint8 *image = read_file("bench/image.raw", &length);
    CHECK_NUMBER(json_u64(map, "sectors") * 512, length);
    EkSector next = 0;
    EkSector bad = 0;
    json_t *extents = json_object_get(map, "extents");
    for (size_t i = 0; i < json_array_size(extents); i++) {
        json_t *extent = json_array_get(extents, i);
        guint64 first = json_u64(extent, "first");
        guint64 count = json_u64(extent, "count");
        const char *state = json_text(extent, "state");
        CHECK_NUMBER(first, next); /* every sector is in one extent */
        next = first + count;
        if (g_str_equal(state, "bad")) {
            CHECK_TEXT(json_text(extent, "reason"), "medium");
            CHECK(ek_bytes_are_zero(image + first * 512, count * 512));
            bad += count;
        } else {
            CHECK_TEXT(state, "good");
            CHECK(json_is_null(json_object_get(extent, "reason")));
            CHECK_BYTES(image + first * 512, drive + first * 512, count * 512);
        }
    }
    CHECK_NUMBER(next * 512, length);
    CHECK_NUMBER(bad, json_u64(json_object_get(map, "totals"), "bad"));
    json_decref(map);
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    CHECK(json_is_true(json_object_get(json, "finished")));
    CHECK_TEXT(json_text(json, "next"), "ektypon plan bench");
    CHECK_TEXT(json_text(json_object_get(json, "source"), "kind"), "simulated");
    CHECK_TEXT(json_text(json_object_get(json, "source"), "serial"), "SIM-0042");
    CHECK(json_u64(json, "failed_commands") >= 116);
    CHECK(json_real_value(json_object_get(json, "device_seconds")) > 116 * 1.5);
    json_decref(json);
}

static void both_volumes_are_found_and_shown(void)
{
    image_and_hunt();
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    json_t *volumes = json_object_get(json, "volumes");
    CHECK_NUMBER(json_array_size(volumes), 3);
    json_t *ntfs = json_array_get(volumes, 0);
    json_t *fat = json_array_get(volumes, 1);
    CHECK_TEXT(json_text(ntfs, "filesystem"), "ntfs");
    CHECK_NUMBER(json_u64(ntfs, "first_sector"), NTFS_SECTOR);
    CHECK_NUMBER(json_u64(ntfs, "sectors"), 163840);
    CHECK_TEXT(json_text(ntfs, "label"), "Catalogue");
    CHECK_TEXT(json_text(ntfs, "standing"), "lost");
    CHECK_TEXT(json_text(fat, "filesystem"), "fat32");
    CHECK_NUMBER(json_u64(fat, "first_byte"), FAT_SECTOR * 512ll);
    CHECK_NUMBER(json_u64(fat, "bytes"), FAT_SECTORS * 512ll);
    CHECK_TEXT(json_text(fat, "uuid"), "5EED-0042");
    json_t *ext = json_array_get(volumes, 2);
    CHECK_TEXT(json_text(ext, "filesystem"), "ext4");
    CHECK_TEXT(json_text(ext, "label"), "sensors");
    CHECK_TEXT(json_text(ext, "uuid"), "5eed0042-0000-4000-8000-000000000042");
    CHECK_NUMBER(json_u64(ext, "first_sector"), EXT_SECTOR);
    CHECK_NUMBER(json_u64(ext, "sectors"), 81920);
    CHECK(json_u64(ntfs, "confidence") >= 50 && json_u64(fat, "confidence") >= 50);
    json_decref(json);
    g_auto(Result) one = ektypon("volumes bench 1");
    CHECK_STATUS(one, 0);
    CHECK_CONTAINS(one.out, "boot sector at sector 2048 could not be checked (unread)");
    CHECK_CONTAINS(one.out, "FIRST (SECTOR 2048)  BACKUP (SECTOR 165887)");
    CHECK_CONTAINS(one.out, "serial number        not read");
    g_auto(Result) third = ektypon("volumes bench 3");
    CHECK_CONTAINS(third.out, "*  group of this copy");
    g_auto(Result) all = ektypon("volumes bench");
    CHECK_CONTAINS(all.out, "┣1 ntfs━");
    /* A second hunt has nothing left to search, and finds the same. */
    done("hunt bench");
    g_auto(Result) same = ektypon("volumes bench --json");
    CHECK_TEXT(same.out, result.out);
    g_auto(Result) files = ektypon("ls bench 1");
    CHECK_STATUS(files, 0);
    CHECK_CONTAINS(files.out, "Species sheets/\n3 folders, 1 file, 546 B\n");
}

static GHashTable *true_sums(void)
{
    GHashTable *sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    g_autofree char *path = demo_path("truth/transfer.sha256");
    gsize length = 0;
    g_autofree char *text = (char *)read_file(path, &length);
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL && strlen(*line) > 66; line++)
        g_hash_table_insert(sums, g_strdup(*line + 66), g_strndup(*line, 64));
    return sums;
}

/* Is a file with holes right outside of them? Its true content is taken from the backing, in which
 * nothing is unreadable, by another program. */
static void check_holed(json_t *file)
{
    gsize length = 0;
    gsize true_length = 0;
    const char *path = json_text(file, "path");
    must("MTOOLS_SKIP_CHECK=1 mcopy -n -i drive.img@@%lld '::%s' whole.bin", FAT_SECTOR * 512ll,
         path);
    g_autofree guint8 *whole = read_file("whole.bin", &true_length);
    g_autofree char *place = g_build_filename("out", json_text(file, "written_as"), NULL);
    g_autofree guint8 *taken = read_file(place, &length);
    CHECK_NUMBER(length, true_length);
    json_t *holes = json_object_get(file, "holes");
    guint64 total = 0;
    for (size_t i = 0; i < json_array_size(holes); i++) {
        guint64 offset = json_u64(json_array_get(holes, i), "offset");
        guint64 bytes = json_u64(json_array_get(holes, i), "length");
        memset(whole + offset, 0, bytes);
        total += bytes;
    }
    CHECK_NUMBER(total, json_u64(file, "bad_bytes") + json_u64(file, "unread_bytes"));
    CHECK(total > 0 && total < length);
    CHECK_BYTES(taken, whole, MIN(length, true_length));
    g_unlink("whole.bin");
}

static void files_come_out_whole_or_named(void)
{
    image_and_hunt();
    g_auto(Result) result = ektypon("extract bench 2 --to out --json");
    CHECK_STATUS(result, 3);
    json_t *json = result_json(&result);
    json_t *files = json_object_get(json, "files");
    g_autoptr(GHashTable) sums = true_sums();
    CHECK_NUMBER(json_array_size(files), g_hash_table_size(sums));
    guint holed = 0;
    for (size_t i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        const char *condition = json_text(file, "condition");
        g_autofree char *place = g_build_filename("out", json_text(file, "written_as"), NULL);
        g_autofree char *written = file_sha256(place);
        CHECK_TEXT(json_text(file, "sha256"), written);
        if (g_str_equal(condition, "whole")) {
            CHECK_TEXT(written, g_hash_table_lookup(sums, json_text(file, "path")));
        } else {
            CHECK_TEXT(condition, "holed");
            check_holed(file);
            holed++;
        }
    }
    CHECK_NUMBER(holed, 3);
    CHECK_NUMBER(json_u64(json_object_get(json, "totals"), "holed"), 3);
    json_decref(json);
    /* One file, by its number; and it does not go over the one that is there. */
    g_auto(Result) listed = ektypon("ls bench 2:LABELS.TXT --json");
    json_t *one = result_json(&listed);
    json_t *label = json_array_get(json_object_get(one, "files"), 0);
    g_auto(Result) again =
        ektypon("extract bench 2:@%llu --to out", (unsigned long long)json_u64(label, "number"));
    CHECK_STATUS(again, 0);
    CHECK_CONTAINS(again.out, "1 file, 982 B, to out: 1 whole, 1 there already\n");
    json_decref(one);
}

static void the_table_and_the_boot_sector_are_rebuilt(void)
{
    gsize length = 0;
    g_autofree char *truth = demo_path("truth/sector-0.bin");
    g_autofree guint8 *was = read_file(truth, &length);
    image_and_hunt();
    g_auto(Result) plan = ektypon("plan bench --json");
    CHECK_STATUS(plan, 0);
    json_t *json = result_json(&plan);
    CHECK(json_is_true(json_object_get(json, "opens")));
    CHECK_TEXT(json_text(json, "scheme"), "mbr");
    json_t *partitions = json_object_get(json, "partitions");
    CHECK_NUMBER(json_array_size(partitions), 3);
    CHECK_TEXT(json_text(json_array_get(partitions, 2), "type"), "83");
    CHECK_NUMBER(json_u64(json_array_get(partitions, 0), "first_sector"), NTFS_SECTOR);
    CHECK_TEXT(json_text(json_array_get(partitions, 0), "type"), "07");
    CHECK_NUMBER(json_array_size(json_object_get(json, "repairs")), 1);
    json_decref(json);
    g_auto(Result) shown = ektypon("plan bench --show");
    CHECK_CONTAINS(shown.out, "Edit 1-5: ");
    CHECK_CONTAINS(shown.out, "07 NTFS / exFAT");
    CHECK_CONTAINS(shown.out, "1 Catalogue");
    g_auto(Result) edit = ektypon("plan bench --show --edit 2");
    CHECK_CONTAINS(edit.out, "type 07 NTFS / exFAT, sectors 2048 to 165887 (80.0 MiB)");

    done("clone bench clone.raw");
    g_autofree guint8 *clone = read_file("clone.raw", &length);
    g_autofree guint8 *drive = read_file("drive.img", &length);
    for (int entry = 0; entry < 3; entry++) {
        gsize at = 446 + 16 * (gsize)entry;
        CHECK_NUMBER(clone[at + 4], was[at + 4]);
        CHECK_BYTES(clone + at + 8, was + at + 8, 8);
    }
    CHECK(ek_bytes_are_zero(clone + 446 + 48, 16));
    CHECK_BYTES(clone + NTFS_SECTOR * 512, drive + NTFS_SECTOR * 512, 512);
    g_auto(Result) listed = shell("sfdisk -d clone.raw");
    CHECK_CONTAINS(listed.out, "start=        2048, size=      163840, type=7");
    CHECK_CONTAINS(listed.out, "start=      165888, size=       98304, type=c");
    must("dd if=clone.raw of=fat.raw bs=512 skip=%d count=%d status=none", FAT_SECTOR, FAT_SECTORS);
    g_auto(Result) checked = shell("fsck.fat -n fat.raw");
    CHECK_STATUS(checked, 0);
}

/* Neither the boot sector nor its backup was read: both are composed, and the volume is what it was
 * but for its serial number. */
static void a_boot_sector_without_any_copy_is_composed(void)
{
    gsize length = 0;
    unpack_demo();
    must("cp %s/drive.model .", EKTYPON_DEMO);
    done("new bench sim:drive.model");
    done("image bench");
    done("hunt bench");
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *ntfs = volume_at(json, NTFS_SECTOR);
    CHECK_TEXT(json_text(ntfs, "filesystem"), "ntfs");
    CHECK_TEXT(json_text(ntfs, "label"), "Catalogue");
    guint64 number = json_u64(ntfs, "number");
    json_decref(json);
    g_auto(Result) one = ektypon("volumes bench %" G_GUINT64_FORMAT, number);
    CHECK_CONTAINS(one.out, "no boot sector found");
    CHECK_CONTAINS(one.out, "The backup header (sector 165887) could not be read");
    CHECK_CONTAINS(one.out, "RECONSTRUCTED");
    g_auto(Result) plan = ektypon("plan bench");
    g_auto(Result) as_json = ektypon("plan bench --show --json");
    CHECK_CONTAINS(as_json.out, "opens; 76 files in 40 folders");
    CHECK_CONTAINS(as_json.out, "\"damaged\": 1");
    CHECK_CONTAINS(plan.out, "37 of 37");
    CHECK_CONTAINS(plan.out, "backup boot sector of volume 3, from other metadata");
    CHECK_CONTAINS(plan.out, "every planned volume opens");
    done("clone bench clone.raw");
    g_autofree guint8 *clone = read_file("clone.raw", &length);
    g_autofree guint8 *drive = read_file("drive.img", &length);
    CHECK_BYTES(clone + NTFS_SECTOR * 512, drive + NTFS_SECTOR * 512, 72);
    CHECK_BYTES(clone + (FAT_SECTOR - 1) * 512, clone + NTFS_SECTOR * 512, 512);
    must("dd if=clone.raw of=ntfs.raw bs=512 skip=%d count=%d status=none", NTFS_SECTOR,
         FAT_SECTOR - NTFS_SECTOR);
    g_auto(Result) checked = shell("ntfsfix -n ntfs.raw");
    CHECK_STATUS(checked, 0);
    must("cp bench/image.raw target.raw");
    done("apply bench target.raw");
    done("undo bench target.raw");
    must("cmp bench/image.raw target.raw");
}

static void undo_brings_every_byte_back(void)
{
    image_and_hunt();
    must("test ! -e bench/none");
    g_auto(Result) early = ektypon("apply bench bench/image.raw");
    CHECK_STATUS(early, 1);
    CHECK_CONTAINS(early.err, "has no plan yet");
    done("plan bench");
    done("clone bench plain.raw --as-imaged");
    must("cmp plain.raw bench/image.raw && cp plain.raw damaged.raw");
    static const char *const targets[] = {"plain.raw", "bench/image.raw"};
    for (gsize i = 0; i < G_N_ELEMENTS(targets); i++) {
        g_auto(Result) applied = ektypon("apply bench %s", targets[i]);
        CHECK_STATUS(applied, 0);
        g_auto(Result) differs = shell("cmp -s damaged.raw %s", targets[i]);
        CHECK_STATUS(differs, 1);
        g_auto(Result) again = ektypon("apply bench %s", targets[i]);
        CHECK_STATUS(again, 0);
        CHECK_CONTAINS(again.out, "Nothing was written");
        /* Whatever was applied to the image, the case has it as it was read. */
        g_autofree char *as_read = g_strdup_printf("as-read-%d.raw", (int)i);
        done("clone bench %s --as-imaged", as_read);
        must("cmp damaged.raw %s", as_read);
        g_auto(Result) undone = ektypon("undo bench %s", targets[i]);
        CHECK_STATUS(undone, 0);
        must("cmp damaged.raw %s", targets[i]);
        g_auto(Result) nothing = ektypon("undo bench %s", targets[i]);
        CHECK_STATUS(nothing, 1);
        CHECK_CONTAINS(nothing.err, "nothing to undo");
    }
    /* The edits that came along with a clone can be taken back too. */
    done("clone bench clone.raw");
    done("undo bench clone.raw");
    must("cmp damaged.raw clone.raw");
    g_auto(Result) log = ektypon("log bench --json");
    json_t *events = result_json(&log);
    CHECK(json_array_size(json_object_get(events, "events")) >= 15);
    json_decref(events);
}

static void a_changed_target_is_refused(void)
{
    image_and_hunt();
    done("plan bench");
    done("clone bench plain.raw --as-imaged");
    must("printf '\\007' | dd of=plain.raw bs=1 seek=450 conv=notrunc status=none; "
         "cp plain.raw before.raw");
    g_auto(Result) applied = ektypon("apply bench plain.raw");
    CHECK_STATUS(applied, 4);
    CHECK_CONTAINS(applied.err, "at byte 450 (sector 0)");
    CHECK_CONTAINS(applied.err, "Nothing was written");
    must("cmp plain.raw before.raw");
}

/* A sector under an applied edit that is imaged later goes to where the case keeps it. */
static void imaging_goes_on_under_an_applied_plan(void)
{
    gsize length = 0;
    unpack_demo();
    must("sed -e 's/^error-time=.*/error-time=1/' drive.model > all.model");
    /* A first model on which the first sectors do not read, and the same drive healed. */
    must("sed -n '/^.drive/,/^seed/p' all.model > healed.model");
    done("new bench sim:all.model");
    done("image bench");
    done("hunt bench");
    done("plan bench");
    done("apply bench bench/image.raw");
    must("cp healed.model all.model");
    must("sqlite3 bench/map.db \"UPDATE boundary SET mark=mark&~255|18 WHERE mark&15=3; "
         "UPDATE totals SET set_aside=bad, bad=0\"");
    g_auto(Result) more = ektypon("image bench");
    CHECK_STATUS(more, 0);
    CHECK_CONTAINS(more.out, "Bad sectors: 0. Not yet read: 0");
    /* The file still holds the edits, the case the drive's own boot sector. */
    g_autofree guint8 *drive = read_file("drive.img", &length);
    g_autofree guint8 *image = read_file("bench/image.raw", &length);
    CHECK(memcmp(image, drive, 512) != 0);
    CHECK_BYTES(image + NTFS_SECTOR * 512, drive + NTFS_SECTOR * 512, 512);
    done("clone bench as-read.raw --as-imaged");
    must("cmp as-read.raw drive.img");
    done("undo bench bench/image.raw");
    must("cmp bench/image.raw drive.img");
}

int main(void)
{
    static const Test tests[] = {
        {"the image is what the drive gave", the_image_is_what_the_drive_gave},
        {"both volumes are found and shown", both_volumes_are_found_and_shown},
        {"files come out whole or named", files_come_out_whole_or_named},
        {"the table and the boot sector are rebuilt", the_table_and_the_boot_sector_are_rebuilt},
        {"a boot sector without any copy is composed", a_boot_sector_without_any_copy_is_composed},
        {"undo brings every byte back", undo_brings_every_byte_back},
        {"a changed target is refused", a_changed_target_is_refused},
        {"imaging goes on under an applied plan", imaging_goes_on_under_an_applied_plan},
    };
    return RUN_TESTS("demo", tests);
}
