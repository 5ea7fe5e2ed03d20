/* SPDX-License-Identifier: MIT */
/* Partition tables as the system's tools write them, whole and broken, and drives with a history:
 * what each volume is to the table and to the others. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SECTOR 512ull

/* What `hunt` prints of a fresh case. */
static Result hunt(void)
{
    must("rm -rf bench");
    done("new bench drive.img");
    done("image bench");
    return ektypon("hunt bench");
}

static void check_standing(guint64 sector, const char *filesystem, const char *standing)
{
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    json_t *volume = volume_at(json, sector);
    CHECK(volume != NULL);
    if (volume != NULL) {
        CHECK_TEXT(json_text(volume, "filesystem"), filesystem);
        CHECK_TEXT(json_text(volume, "standing"), standing);
    }
    json_decref(json);
}

static void check_count(guint wanted)
{
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    CHECK_NUMBER(json_array_size(json_object_get(json, "volumes")), wanted);
    json_decref(json);
}

static void make_gpt(void)
{
    blank(300);
    must("printf 'label: gpt\\nstart=2048,size=102400,type=L,name=Catalogue\\n"
         "start=104448,size=204800,type=L\\n' | sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext4", 50, 2048);
    lay("mkfs.exfat", 100, 104448);
}

static void a_gpt_lists_its_volumes(void)
{
    make_gpt();
    g_auto(Result) whole = hunt();
    CHECK_CONTAINS(whole.out, "gpt partition table at sector 1, with 2 partitions\n");
    CHECK_CONTAINS(whole.out, "with 1 partition (protective MBR)");
    CHECK_CONTAINS(whole.out, "at sector 614399, with 2 partitions (the other copy");
    check_standing(2048, "ext4", "listed");
    check_standing(104448, "exfat", "listed");
    /* A hybrid: the MBR names a partition as well, and the GPT still rules. */
    must("printf "
         "'\\000\\000\\000\\000\\203\\000\\000\\000\\000\\010\\000\\000\\000\\220\\001\\000' | "
         "dd of=drive.img bs=1 seek=462 conv=notrunc status=none");
    g_auto(Result) hybrid = hunt();
    CHECK_CONTAINS(hybrid.out, "with 2 partitions (hybrid MBR");
    CHECK_CONTAINS(hybrid.out, "gpt partition table at sector 1, with 2 partitions\n");
    check_standing(104448, "exfat", "listed");
    /* The first copy damaged: the system takes the other one. */
    must("printf 'xxxx' | dd of=drive.img bs=1 seek=600 conv=notrunc status=none");
    g_auto(Result) other = hunt();
    CHECK_CONTAINS(other.out, "gpt partition table at sector 614399, with 2 partitions\n");
    check_standing(2048, "ext4", "listed");
    /* An entry changed: the sums tell. */
    make_gpt();
    must("printf '\\001' | dd of=drive.img bs=1 seek=%u conv=notrunc status=none", 1024 + 50);
    g_auto(Result) changed = hunt();
    CHECK_CONTAINS(changed.out, "at sector 1, with 2 partitions, incomplete");
    check_standing(2048, "ext4", "listed");
}

/* Both headers gone: the entries alone tell what there was. */
static void entries_without_a_header_are_read(void)
{
    make_gpt();
    must("dd if=/dev/zero of=drive.img bs=512 count=2 conv=notrunc status=none && "
         "dd if=/dev/zero of=drive.img bs=512 seek=614367 count=33 conv=notrunc status=none");
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "gpt-entries partition table at sector 2, with 2 partitions, "
                               "incomplete (GPT entries without a header)");
    CHECK(strstr(result.out, "gpt partition table") == NULL);
    check_standing(2048, "ext4", "lost");
    g_auto(Result) json = ektypon("volumes bench --json");
    CHECK_CONTAINS(json.out, "a partition table (gpt-entries) at sector 2 names it");
    /* It also tells how long an exFAT without any boot sector is. */
    must("dd if=/dev/zero of=drive.img bs=512 seek=104448 count=24 conv=notrunc status=none");
    g_auto(Result) composed = hunt();
    CHECK_STATUS(composed, 0);
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *volumes = result_json(&listed);
    CHECK(volume_at(volumes, 104448) != NULL &&
          json_u64(volume_at(volumes, 104448), "sectors") == 204800);
    json_decref(volumes);
}

static void likely_places_come_first(void)
{
    make_gpt();
    must("rm -rf bench");
    done("new bench drive.img");
    done("image bench");
    g_auto(Result) likely = ektypon("hunt bench --likely");
    CHECK_STATUS(likely, 0);
    CHECK_CONTAINS(likely.err, "volume 1: ext4, 50.0 MiB at sector 2048, listed");
    CHECK_CONTAINS(likely.err, "To search every sector: ektypon hunt bench");
    check_standing(104448, "exfat", "listed");
    /* One that no table names, behind one that is found. */
    must("dd if=/dev/zero of=drive.img bs=512 count=2048 conv=notrunc status=none");
    must("dd if=/dev/zero of=drive.img bs=512 seek=614000 count=400 conv=notrunc status=none");
    must("rm -rf bench");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench --likely");
    check_standing(2048, "ext4", "lost");
    check_standing(104448, "exfat", "lost");
    /* It does not count as hunted, and the numbers stay. */
    g_auto(Result) before = ektypon("volumes bench --json");
    g_auto(Result) status = ektypon("status bench");
    CHECK_CONTAINS(status.out, "ektypon hunt bench");
    done("hunt bench");
    g_auto(Result) after = ektypon("volumes bench --json");
    CHECK_TEXT(after.out, before.out);
}

static void a_backup_left_in_the_middle_is_named(void)
{
    make_gpt();
    must("truncate -s 400M drive.img && dd if=/dev/zero of=drive.img bs=512 count=34 conv=notrunc "
         "status=none");
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "at sector 614399, with 2 partitions (old backup GPT");
    check_standing(2048, "ext4", "lost");
    g_auto(Result) one = ektypon("volumes bench 1");
    CHECK_CONTAINS(one.out, "+5  a partition table (gpt) at sector 614399 names it");
}

static void logical_partitions_are_listed(void)
{
    blank(200);
    must("printf 'label: dos\\n2048,20480,83\\n,,5\\n30000,65536,83\\n140000,131072,7\\n' | "
         "sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext2", 32, 30000);
    lay("mkfs.exfat", 64, 140000);
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "mbr partition table at sector 0, with 4 partitions\n");
    CHECK(strstr(result.out, "ebr") == NULL);
    check_standing(30000, "ext2", "listed");
    check_standing(140000, "exfat", "listed");
    /* The table gone, its links stay. */
    must("dd if=/dev/zero of=drive.img bs=512 count=1 conv=notrunc status=none");
    g_auto(Result) gone = hunt();
    CHECK_CONTAINS(gone.out, "ebr partition table at sector 22528");
    CHECK_CONTAINS(gone.out, "orphaned EBR (no chain leads to it)");
    check_standing(30000, "ext2", "lost");
}

static void a_chain_that_leads_back_ends(void)
{
    static const guint8 link[] = {0, 0, 0, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0, 16, 0, 0};
    blank(200);
    must("printf 'label: dos\\n2048,20480,83\\n,,5\\n30000,65536,83\\n' | sfdisk -q drive.img");
    write_file("link", link, sizeof link);
    /* The next link is the first one again. */
    must("dd if=link of=drive.img bs=1 seek=%llu conv=notrunc status=none",
         22528 * SECTOR + 446 + 16);
    lay("mke2fs -q -F -t ext2", 32, 30000);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    CHECK_STATUS(result, 0);
    check_standing(30000, "ext2", "listed");
}

static void an_apple_map_lists_its_volumes(void)
{
    blank(200);
    must("parted -s drive.img mklabel mac mkpart a ext2 20480s 151551s >/dev/null 2>&1");
    lay("mke2fs -q -F -t ext2", 64, 20480);
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "apm partition table at sector 1, with");
    check_standing(20480, "ext2", "listed");
}

/* Counted in sectors of 4096 bytes, on an image in 512. */
static void a_table_in_other_sectors_is_named(void)
{
    blank(200);
    must("printf 'label: dos\\nstart=512,size=16384,type=83\\n' | sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext2", 64, 512 * 8);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    check_standing(512 * 8, "ext2", "displaced");
    g_auto(Result) one = ektypon("volumes bench 1");
    CHECK_CONTAINS(one.out, "if the table uses 4096-byte sectors");
}

static guint64 own_sector_size(guint64 sector)
{
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *volume = volume_at(json, sector);
    guint64 size = volume != NULL ? json_u64(volume, "own_sector_size") : 0;
    json_decref(json);
    return size;
}

/* All of it made for sectors of 4096 bytes, table and volumes, and read in 512: a drive without the
 * adapter it was used with. */
static void a_drive_of_larger_sectors_is_read_in_its_own(void)
{
    blank(300);
    /* A drive of so many sectors, with the table's parts moved to where larger sectors put them. */
    must(
        "rm -f small.img && truncate -s %uK small.img && printf 'label: gpt\\nfirst-lba: "
        "34\\nstart=512,size=16384"
        "\\nstart=16896,size=16384\\nstart=33280,size=4096\\n' | sfdisk -q small.img && last=%u && "
        "for move in '0 0 1' '1 1 1' '2 2 32' \"$last $last 1\" \"$((last - 32)) $((last - 32)) "
        "32\"; do set -- $move && dd if=small.img of=drive.img bs=512 skip=$1 seek=$(($2 * 8)) "
        "count=$3 conv=notrunc status=none; done",
        300 * 1024 / 8, 300 * 256 - 1);
    lay("mkntfs -q -F -s 4096 -p 512 -H 255 -S 63", 64, 512 * 8);
    lay("mkfs.fat -F 16 -S 4096", 64, 16896 * 8);
    lay("mke2fs -q -F -b 4096 -t ext4", 16, 33280 * 8);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    check_count(3);
    check_standing(512 * 8, "ntfs", "displaced");
    check_standing(16896 * 8, "fat16", "displaced");
    check_standing(33280 * 8, "ext4", "displaced");
    CHECK_NUMBER(own_sector_size(512 * 8), 4096);
    CHECK_NUMBER(own_sector_size(16896 * 8), 4096);
    g_auto(Result) one = ektypon("volumes bench 1");
    CHECK_CONTAINS(one.out, "the table uses 4096-byte sectors, this image 512-byte sectors");
    /* Through the right adapter nothing is displaced. */
    must("rm -rf bench");
    done("new bench drive.img --sector-size 4096");
    done("image bench");
    done("hunt bench");
    check_count(3);
    check_standing(512 * 8, "ntfs", "listed");
    check_standing(33280 * 8, "ext4", "listed");
    /* And the reverse: made in 512, read in 4096. */
    make_gpt();
    must("rm -rf bench");
    done("new bench drive.img --sector-size 4096");
    done("image bench");
    done("hunt bench");
    check_count(2);
    check_standing(2048, "ext4", "displaced");
    check_standing(104448, "exfat", "displaced");
}

/* The first MiB could not be read: the table is told by its copy, the volumes by what is left. */
static void what_the_first_mib_held_is_told_by_copies(void)
{
    blank(300);
    must(
        "printf 'label: gpt\\nfirst-lba: 34\nstart=34,size=102400\\nstart=102434,size=200000\\n' | "
        "sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext4 -b 1024", 50, 34);
    lay("mkntfs -q -F -s 512 -p 102434 -H 255 -S 63", 97, 102434);
    write_file("unread.txt", "0 2048\n", 7);
    must("rm -rf bench");
    done("new bench --adopt drive.img --bad-list unread.txt");
    g_auto(Result) result = ektypon("hunt bench");
    CHECK_CONTAINS(result.out, "gpt partition table at sector 614399, with 2 partitions");
    check_count(2);
    check_standing(34, "ext4", "listed");
    g_auto(Result) json = ektypon("volumes bench --json");
    CHECK_CONTAINS(json.out, "the primary superblock at sector 36 could not be checked (unread)");
}

/* Copied sector by sector to a larger drive, whose end has something else in it. */
static void a_drive_cloned_to_a_larger_one_is_told(void)
{
    make_gpt();
    must("truncate -s 600M drive.img");
    lay("mke2fs -q -F -t ext2 -L newer", 100, 700000);
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "gpt partition table at sector 1, with 2 partitions\n");
    check_count(3);
    check_standing(2048, "ext4", "listed");
    check_standing(700000, "ext2", "lost");
    /* The file system grown into the new room, its partition not. */
    make_gpt();
    must("truncate -s 600M drive.img");
    lay("mkfs.exfat", 400, 104448);
    g_auto(Result) grown = hunt();
    CHECK_STATUS(grown, 0);
    check_standing(104448, "exfat", "displaced");
    g_auto(Result) two = ektypon("volumes bench 2");
    CHECK_CONTAINS(two.out, "has partition 2 here, with another length");
}

static void old_volumes_under_new_ones_are_remains(void)
{
    /* An NTFS over all of it, then two FAT32 in its place. */
    blank(200);
    lay("mkntfs -q -F -s 512 -p 2048 -H 255 -S 63", 190, 2048);
    must("dd if=/dev/zero of=drive.img bs=1M seek=1 count=1 conv=notrunc status=none");
    lay("mkfs.fat -F 32 -s 1", 48, 2048);
    lay("mkfs.fat -F 32 -s 1", 64, 2048 + 98304);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    check_standing(2048 + 98304, "fat32", "lost");
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *list = json_object_get(json, "volumes");
    guint remains = 0;
    for (gsize i = 0; i < json_array_size(list); i++) {
        json_t *volume = json_array_get(list, i);
        if (!g_str_equal(json_text(volume, "standing"), "remains"))
            continue;
        remains++;
        CHECK_TEXT(json_text(volume, "filesystem"), "ntfs");
        CHECK(json_u64(volume, "overwritten_bytes") > 100u << 20);
        CHECK(json_u64(volume, "overwritten_bytes") < 120u << 20);
    }
    CHECK_NUMBER(remains, 1);
    json_decref(json);
}

static void a_disk_image_in_a_volume_is_nested(void)
{
    blank(200);
    must("rm -f inner.img && truncate -s 40M inner.img && mke2fs -q -F -t ext2 inner.img && "
         "rm -rf tree && mkdir tree && cp inner.img tree/old-laptop.img && "
         "printf seeds > tree/readme");
    lay("mke2fs -q -F -t ext4 -d tree", 150, 4096);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    check_count(2);
    check_standing(4096, "ext4", "lost");
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *inner = json_array_get(json_object_get(json, "volumes"), 1);
    CHECK_TEXT(json_text(inner, "standing"), "nested");
    CHECK_NUMBER(json_u64(inner, "host"), json_u64(volume_at(json, 4096), "number"));
    json_decref(json);
    done("plan bench");
    g_auto(Result) plan = ektypon("plan bench --show");
    CHECK_CONTAINS(plan.out, "is left out: it is stored in a file on another volume");
}

/* An older one in region that the newer one does not use is no file of it. */
static void what_lies_in_free_region_is_older(void)
{
    static const char *const makers[] = {"mkntfs -q -F -s 512 -p 2048 -H 255 -S 63",
                                         "mkfs.fat -F 32 -s 1", "mkfs.exfat",
                                         "mke2fs -q -F -t ext4 -b 4096", "mke2fs -q -F -b 1024"};
    for (gsize i = 0; i < G_N_ELEMENTS(makers); i++) {
        blank(200);
        lay("mke2fs -q -F -t ext3 -L older", 20, 2048 + 100000);
        lay(makers[i], 150, 2048);
        g_auto(Result) result = hunt();
        CHECK_STATUS(result, 0);
        check_standing(2048 + 100000, "ext3", "remains");
        g_auto(Result) shown = ektypon("volumes bench --json");
        json_t *json = result_json(&shown);
        /* Nothing of it is overwritten: its region is free. */
        CHECK_NUMBER(json_u64(volume_at(json, 2048 + 100000), "overwritten_bytes"), 0);
        json_decref(json);
    }
}

/* No boot sector, and part of the FAT: its folders tell, and its files can be listed. */
static void a_fat_without_boot_sectors_is_composed(void)
{
    static const struct {
        const char *make;
        guint64 sector;
        guint wiped;
    } cases[] = {{"mkfs.fat -F 32 -s 1 -n BRIZA", 2048, 32},
                 {"mkfs.fat -F 32 -s 2 -n BRIZA", 777, 7},
                 {"mkfs.fat -F 32 -s 2 -n BRIZA", 4096, 200},
                 {"mkfs.fat -F 16 -n BRIZA", 2048, 1}};
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        blank(200);
        must("rm -f part.img && truncate -s 100M part.img && %s part.img >/dev/null && export "
             "MTOOLS_SKIP_CHECK=1 && for n in 1 2 3 4; do mmd -i part.img ::TRAY$n && mcopy -i "
             "part.img /etc/passwd ::TRAY$n/COUNTS.TXT; done",
             cases[i].make);
        must("dd if=part.img of=drive.img bs=512 seek=%llu conv=notrunc,sparse status=none",
             (unsigned long long)cases[i].sector);
        must("dd if=/dev/zero of=drive.img bs=512 seek=%llu count=%u conv=notrunc status=none",
             (unsigned long long)cases[i].sector, cases[i].wiped);
        g_auto(Result) result = hunt();
        CHECK_STATUS(result, 0);
        check_count(1);
        check_standing(cases[i].sector, i == 3 ? "fat16" : "fat32", "lost");
        g_auto(Result) one = ektypon("volumes bench 1");
        CHECK_CONTAINS(one.out, "no boot sector found");
        CHECK_CONTAINS(one.out, "fat");
        g_auto(Result) files = ektypon("ls bench 1");
        CHECK_STATUS(files, 0);
        CHECK_CONTAINS(files.out, "TRAY4");
    }
}

/* Every superblock gone, the first and all copies: the root folder and the groups tell. */
static void an_ext_without_any_superblock_is_composed(void)
{
    static const struct {
        const char *make;
        const char *filesystem;
        guint block;
    } cases[] = {{"mke2fs -q -F -t ext4 -b 4096 -d tree", "ext4", 4096},
                 {"mke2fs -q -F -t ext4 -b 1024 -O 64bit -d tree", "ext4", 1024},
                 {"mke2fs -q -F -t ext3 -b 1024 -d tree", "ext3", 1024},
                 {"mke2fs -q -F -t ext2 -b 4096 -I 128 -d tree", "ext2", 4096}};
    must("rm -rf tree && mkdir -p tree/trays && seq 9999 >tree/trays/counts");
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++)
        for (int named = 0; named < 2; named++) {
            blank(400);
            if (named == 1)
                must("printf 'label: dos\\nstart=2048,size=600002,type=83\\n' | sfdisk -q "
                     "drive.img");
            must("rm -f part.img && truncate -s %llu part.img && %s part.img", 600002 * SECTOR,
                 cases[i].make);
            must(
                "dumpe2fs part.img 2>/dev/null | sed -n 's/.*superblock at \\([0-9]*\\).*/\\1/p' "
                ">supers && [ -s supers ] && while read at; do [ $at -gt 0 ] && at=$((at * %u)) || "
                "at=1024; dd if=/dev/zero of=part.img bs=1 seek=$at count=1024 conv=notrunc "
                "status=none; done <supers",
                cases[i].block);
            must("dd if=part.img of=drive.img bs=512 seek=2048 conv=notrunc,sparse status=none");
            g_auto(Result) result = hunt();
            CHECK_STATUS(result, 0);
            check_count(1);
            check_standing(2048, cases[i].filesystem, named == 1 ? "listed" : "lost");
            g_auto(Result) listed = ektypon("volumes bench --json");
            json_t *json = result_json(&listed);
            json_t *volume = volume_at(json, 2048);
            guint64 blocks = volume != NULL ? json_u64(volume, "bytes") / cases[i].block : 0;
            guint64 wanted = 600002 * SECTOR / cases[i].block;
            CHECK(named == 1 ? blocks == wanted : blocks <= wanted && blocks + 8192 * 4 > wanted);
            CHECK(volume != NULL && json_u64(volume, "confidence") >= 50);
            json_decref(json);
            done("plan bench");
        }
}

/* No header is left in any of them, and the table is whole: it tells where they end. */
static void what_a_table_names_is_composed_exactly(void)
{
    static const struct {
        const char *make;
        const char *filesystem;
        guint wiped; /* sectors at its beginning */
    } cases[] = {{"mkfs.exfat -L BRIZA", "exfat", 24},
                 {"mkfs.exfat -c 128K -L BRIZA", "exfat", 100},
                 {"mkntfs -q -F -s 512 -p 2048 -H 255 -S 63 -L BRIZA", "ntfs", 16},
                 {"mkfs.fat -F 32 -s 2 -n BRIZA", "fat32", 20},
                 {"mkfs.fat -F 32 -s 1 -R 800 -n BRIZA", "fat32", 100}};
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        gboolean fat = g_str_equal(cases[i].filesystem, "fat32");
        blank(200);
        must("printf 'label: gpt\\nstart=4096,size=200003\\n' | sfdisk -q drive.img");
        must("rm -f part.img && truncate -s %llu part.img && %s part.img >/dev/null 2>&1",
             200003 * SECTOR, cases[i].make);
        if (fat)
            must("export MTOOLS_SKIP_CHECK=1; for n in 1 2 3; do mmd -i part.img ::TRAY$n; done");
        must("dd if=part.img of=drive.img bs=512 seek=4096 conv=notrunc,sparse status=none");
        must("dd if=/dev/zero of=drive.img bs=512 seek=4096 count=%u conv=notrunc status=none",
             cases[i].wiped);
        must("dd if=/dev/zero of=drive.img bs=512 seek=%u count=1 conv=notrunc status=none",
             4096 + 200003 - 1);
        g_auto(Result) result = hunt();
        CHECK_STATUS(result, 0);
        check_count(1);
        check_standing(4096, cases[i].filesystem, "listed");
        g_auto(Result) listed = ektypon("volumes bench --json");
        json_t *json = result_json(&listed);
        json_t *volume = volume_at(json, 4096);
        /* A FAT's cluster that does not fit is not its own. */
        CHECK(volume != NULL && json_u64(volume, "sectors") <= 200003);
        CHECK(volume != NULL && json_u64(volume, "sectors") >= 200003 - (fat ? 2 : 0));
        CHECK_TEXT(json_text(volume, "label"), "BRIZA");
        json_decref(json);
    }
}

/* Made over another one of the same kind, at the same place: two volumes, the newer one stands. */
static void two_generations_are_two_volumes(void)
{
    blank(200);
    lay("mke2fs -q -F -t ext4 -b 1024 -L older", 120, 2048);
    lay("mke2fs -q -F -t ext4 -b 4096 -L newer", 60, 2048);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *list = json_object_get(json, "volumes");
    CHECK_NUMBER(json_array_size(list), 2);
    for (gsize i = 0; i < json_array_size(list); i++) {
        json_t *volume = json_array_get(list, i);
        gboolean newer = g_str_equal(json_text(volume, "label"), "newer");
        CHECK_NUMBER(json_u64(volume, "first_byte"), 2048 * SECTOR);
        CHECK_TEXT(json_text(volume, "standing"), newer ? "lost" : "remains");
    }
    json_decref(json);
}

static void a_missing_tail_is_named(void)
{
    blank(100);
    lay("mke2fs -q -F -t ext4", 90, 2048);
    must("truncate -s 80M drive.img");
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    g_auto(Result) one = ektypon("volumes bench 1");
    CHECK_CONTAINS(one.out, "(sectors 163840 to 186367)");
}

/* The volumes of a case, whatever numbers they have and however their reasons count. */
static char *volumes_of(const char *folder)
{
    g_auto(Result) listed = ektypon("volumes %s --json", folder);
    json_t *json = result_json(&listed);
    json_t *list = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(list); i++)
        json_object_del(json_array_get(list, i), "number");
    char *dumped = json_dumps(list, JSON_INDENT(1));
    char *text = g_strdup(dumped);
    free(dumped);
    json_decref(json);
    return text;
}

/* As a second pass would find them, also when imaging stops in between, several times. */
static void volumes_are_found_while_imaging(void)
{
    make_gpt();
    write_file("drive.model", "[drive]\nbacking=drive.img\nread-rate=40\n", 39);
    done("new plain sim:drive.model");
    done("image plain");
    done("hunt plain");
    g_autofree char *wanted = volumes_of("plain");
    done("new beside sim:drive.model");
    g_auto(Result) part = ektypon("image beside --hunt --for 1s");
    CHECK_STATUS(part, 3);
    CHECK_CONTAINS(part.err, "volume 1: ext4, 50.0 MiB at sector 2048, listed");
    CHECK_CONTAINS(part.out, "1 volume found so far");
    g_auto(Result) more = ektypon("image beside --hunt --for 2s --progress json");
    CHECK_STATUS(more, 3);
    CHECK_CONTAINS(more.err, "\"volumes\": ");
    g_auto(Result) rest = ektypon("image beside --hunt");
    CHECK_STATUS(rest, 0);
    CHECK_CONTAINS(rest.out, "2 volumes found so far");
    CHECK_CONTAINS(rest.err, "Next: ektypon volumes beside");
    g_autofree char *got = volumes_of("beside");
    CHECK_TEXT(got, wanted);
    /* Nothing is left to search. */
    g_auto(Result) again = ektypon("hunt beside --progress json");
    CHECK_CONTAINS(again.err, "\"total\": 0,");
    /* A hunt that runs elsewhere is not run into. */
    must("flock beside/locks/hunting sleep 3 & sleep 0.3");
    g_auto(Result) locked = ektypon("image beside --hunt --reopen");
    CHECK_STATUS(locked, 4);
    CHECK_CONTAINS(locked.err, "is at work on it (hunting)");
}

/* Twenty disk images in a volume: the table stays short, and a picture is drawn. */
static void many_nested_ones_are_summed_up(void)
{
    blank(200);
    must("rm -f inner.img && truncate -s 2M inner.img && mke2fs -q -F -t ext2 inner.img && "
         "rm -rf tree && mkdir tree && for n in $(seq 20); do cp inner.img tree/tray-$n.img; done");
    lay("mke2fs -q -F -t ext4 -d tree", 150, 4096);
    g_auto(Result) result = hunt();
    CHECK_STATUS(result, 0);
    check_count(21);
    check_standing(4096, "ext4", "lost");
    g_auto(Result) counted = ektypon("volumes bench --json");
    json_t *json = result_json(&counted);
    CHECK(json_is_null(json_object_get(volume_at(json, 4096), "files")));
    json_decref(json);
    g_auto(Result) listed = ektypon("volumes bench");
    CHECK_CONTAINS(listed.out, "10 more not shown (remains of older volumes");
    g_auto(Result) all = ektypon("volumes bench --all");
    CHECK(strstr(all.out, "more") == NULL);
    g_auto(Result) drawn = ektypon("volumes bench --png v.png --svg v.svg");
    CHECK_STATUS(drawn, 0);
    CHECK_CONTAINS(drawn.out, "v.png is drawn");
    must("head -c 8 v.png | od -An -tx1 | grep -q '89 50 4e 47 0d 0a 1a 0a'");
    must("grep -q '<svg' v.svg");
    g_auto(Result) refused = ektypon("volumes bench --png absent/v.png");
    CHECK_STATUS(refused, 1);
    CHECK_CONTAINS(refused.err, "absent/v.png");
}

static void noise_and_zeros_give_nothing(void)
{
    gsize length = 64 << 20;
    g_autofree guint8 *noise = g_malloc(length);
    fill_noise(noise, length, test_seed());
    write_file("drive.img", noise, length);
    g_auto(Result) result = hunt();
    CHECK_CONTAINS(result.out, "No volume was found.");
    CHECK_CONTAINS(result.out, "No partition table.");
    blank(300);
    g_auto(Result) zeros = hunt();
    CHECK_CONTAINS(zeros.out, "No volume was found.");
}

int main(void)
{
    static const Test tests[] = {
        {"a GPT lists its volumes", a_gpt_lists_its_volumes},
        {"entries without a header are read", entries_without_a_header_are_read},
        {"likely places come first", likely_places_come_first},
        {"a backup left in the middle is named", a_backup_left_in_the_middle_is_named},
        {"logical partitions are listed", logical_partitions_are_listed},
        {"a chain that leads back ends", a_chain_that_leads_back_ends},
        {"an Apple map lists its volumes", an_apple_map_lists_its_volumes},
        {"a table in other sectors is named", a_table_in_other_sectors_is_named},
        {"a drive of larger sectors is read in its own",
         a_drive_of_larger_sectors_is_read_in_its_own},
        {"what the first MiB held is told by copies", what_the_first_mib_held_is_told_by_copies},
        {"a drive cloned to a larger one is told", a_drive_cloned_to_a_larger_one_is_told},
        {"old volumes under new ones are remains", old_volumes_under_new_ones_are_remains},
        {"a disk image in a volume is nested", a_disk_image_in_a_volume_is_nested},
        {"what lies in free ground is older", what_lies_in_free_region_is_older},
        {"a FAT without boot sectors is composed", a_fat_without_boot_sectors_is_composed},
        {"an ext without any superblock is composed", an_ext_without_any_superblock_is_composed},
        {"what a table names is composed exactly", what_a_table_names_is_composed_exactly},
        {"two generations are two volumes", two_generations_are_two_volumes},
        {"a missing tail is named", a_missing_tail_is_named},
        {"volumes are found while imaging", volumes_are_found_while_imaging},
        {"many nested ones are summed up", many_nested_ones_are_summed_up},
        {"noise and zeros give nothing", noise_and_zeros_give_nothing},
    };
    return RUN_TESTS("layouts", tests);
}
