/* SPDX-License-Identifier: MIT */
/* Apple partition maps that the system's tool made, broken, then carried through plan, clone, apply
 * and undo. The system's reader of such maps is the witness. */
#include "check.h"
#include "program.h"

#include <stdio.h>

#define PARTITIONS 3u

static void lay_bytes(const char *make, const char *bytes, guint sector)
{
    must("rm -f part.img && truncate -s %s part.img && %s part.img >maker.log 2>&1 && "
         "dd if=part.img of=drive.img bs=512 seek=%u conv=notrunc,sparse status=none",
         bytes, make, sector);
}

/* The first partition's file system is none that is known: only the map tells of it. */
static void make_drive(void)
{
    must("rm -f drive.img && truncate -s 120M drive.img && "
         "parted -s drive.img mklabel mac mkpart Catalogue hfs+ 2048s 67583s "
         "mkpart Photos ext2 67584s 133119s mkpart Logs fat32 133120s 200703s >parted.log 2>&1");
    lay_bytes("mke2fs -q -F -t ext4 -b 1024", "32M", 67584);
    lay_bytes("mkfs.fat -F 32 -s 1", "33M", 133120);
    must("cp drive.img whole.img");
}

static void make_case(void)
{
    must("rm -rf bench clone.img");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
}

/* Places and names, as the system reads them. */
static void print_map(const char *file, const char *to)
{
    must("parted -sm %s unit s print 2>parted.log | sed 1,2d >%s", file, to);
}

static void a_healthy_map_needs_no_plan(void)
{
    make_drive();
    make_case();
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_STATUS(plan, 0);
    CHECK_CONTAINS(plan.out, "The plan is empty");
    CHECK_CONTAINS(plan.out, "Current table: an Apple partition map.");
}

/* Block 0, or one entry after the other: what is left tells how many there were; what begins there
 * is found. */
static void what_is_lost_of_a_map_is_made_again(void)
{
    make_drive();
    print_map("whole.img", "wanted.txt");
    for (guint sector = 0; sector <= PARTITIONS + 2; sector++) {
        /* Nothing but its entry tells of the first partition. */
        if (sector == 2)
            continue;
        must("cp whole.img drive.img && "
             "dd if=/dev/zero of=drive.img bs=512 count=1 seek=%u conv=notrunc status=none",
             sector);
        make_case();
        g_auto(Result) plan = ektypon("plan bench");
        CHECK_STATUS(plan, 0);
        CHECK_CONTAINS(plan.out, "Planned table: an Apple partition map.");
        done("clone bench clone.img");
        print_map("clone.img", "got.txt");
        /* A name that stood nowhere else is the volume's, or none. */
        must("cut -d: -f 1-4 wanted.txt >a && cut -d: -f 1-4 got.txt >b && cmp a b");
        must("cp drive.img target.img");
        done("apply bench target.img");
        must("cmp clone.img target.img");
        done("undo bench target.img");
        must("cmp drive.img target.img");
    }
}

/* A drive without any table gets one, when that is asked for; partitions of free space are taken
 * from it. */
static void a_map_is_made_from_nothing(void)
{
    make_drive();
    must("dd if=/dev/zero of=drive.img bs=512 count=64 conv=notrunc status=none");
    make_case();
    done("plan bench --scheme apm --add hfsplus:2048:65536");
    done("clone bench clone.img");
    print_map("clone.img", "got.txt");
    must("grep -q ':2048s:67583s:' got.txt && grep -q ':67584s:133119s:65536s:ext4:' got.txt && "
         "grep -q ':133120s:200703s:67584s:fat32:' got.txt && test $(wc -l <got.txt) -eq 4");
    g_auto(Result) json = ektypon("plan bench --show --json");
    CHECK_CONTAINS(json.out, "\"type\": \"Apple_HFS\"");
    CHECK_CONTAINS(json.out, "\"type\": \"Apple_UNIX_SVR2\"");
    CHECK_CONTAINS(json.out, "\"type\": \"DOS_FAT_32\"");
    /* One more, where the map has free space. */
    must("cp clone.img drive.img");
    make_case();
    done("plan bench --add ntfs:210944:20480");
    done("clone bench clone.img");
    print_map("clone.img", "more.txt");
    must("test $(wc -l <more.txt) -eq 5 && grep -q ':210944s:231423s:' more.txt");
}

/* 120 partitions have no room in a map of 63 blocks that stands right in front of the first. */
static void a_map_that_is_too_small_gives_way(void)
{
    g_autoptr(GString) options = g_string_new(NULL);
    for (guint i = 0; i < 70; i++)
        g_string_append_printf(options, " --add ext2:%u:16", 204800 + i * 32);
    make_drive();
    make_case();
    g_auto(Result) refused = ektypon("plan bench --scheme apm%s", options->str);
    CHECK_STATUS(refused, 1);
    CHECK_CONTAINS(refused.err, "has no room in the 63 blocks in front of the first partition");
    g_auto(Result) taken = ektypon("plan bench%s", options->str);
    CHECK_STATUS(taken, 0);
    CHECK_CONTAINS(taken.out, "the evidence points to an Apple partition map, but");
}

int main(void)
{
    static const Test tests[] = {
        {"a healthy map needs no plan", a_healthy_map_needs_no_plan},
        {"what is lost of a map is made again", what_is_lost_of_a_map_is_made_again},
        {"a map is made from nothing", a_map_is_made_from_nothing},
        {"a map that is too small gives way", a_map_that_is_too_small_gives_way},
    };
    return RUN_TESTS("apple", tests);
}
