/* SPDX-License-Identifier: MIT */
/* Plans for drives of which the table is gone, forged, or right as it is: what is planned is read
 * by the system's own tools, and what they read already is left alone. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include "base/checksum.h"

#include <stdio.h>
#include <string.h>

static Result plan(void)
{
    must("rm -rf bench");
    done("new bench --adopt drive.img");
    done("hunt bench");
    return ektypon("plan bench");
}

/* What the system's partition reader says of the drive with the plan in it. */
static Result read_by_system(void)
{
    must("rm -f target.img && cp drive.img target.img");
    done("apply bench target.img");
    g_auto(Result) parted = shell("parted -s target.img print");
    CHECK_STATUS(parted, 0);
    return shell("sfdisk -d target.img");
}

/* No edit: what systems read as it is stays. */
static void check_left_alone(void)
{
    g_auto(Result) planned = plan();
    CHECK_STATUS(planned, 0);
    CHECK(strstr(planned.out, "Edit 1") == NULL);
    if (strstr(planned.out, "Edit 1") != NULL)
        fprintf(stderr, "%s", planned.out);
}

static void a_forged_header_does_not_decide(void)
{
    guint8 header[512] = {0};
    blank(200);
    lay("mke2fs -q -F -t ext4 -L Catalogue", 60, 2048);
    lay("mkfs.ntfs -q -F -L Photos", 80, 2048 + 61 * 2048);
    memcpy(header, "EFI PART", 8);
    ek_put_le32(header + 8, 0x10000);
    ek_put_le32(header + 12, 92);
    ek_put_le64(header + 24, 1);
    ek_put_le64(header + 32, 409599);
    ek_put_le64(header + 40, 400000); /* first usable behind the last */
    ek_put_le64(header + 48, 3000);
    memset(header + 56, 0x5e, 16);
    ek_put_le64(header + 72, 2);
    ek_put_le32(header + 80, 4); /* entries */
    ek_put_le32(header + 84, 128);
    guint8 entries[512] = {0};
    ek_put_le32(header + 88, ek_crc32((EkSpan){entries, sizeof entries}));
    ek_put_le32(header + 16, ek_crc32((EkSpan){header, 92}));
    write_file("header.bin", header, sizeof header);
    must("dd if=header.bin of=drive.img bs=512 seek=1 conv=notrunc status=none");
    g_auto(Result) planned = plan();
    CHECK_STATUS(planned, 0);
    CHECK_CONTAINS(planned.out, "every planned volume opens");
    g_auto(Result) table = read_by_system();
    CHECK_STATUS(table, 0);
    CHECK_CONTAINS(table.out, "start=        2048");
    CHECK_CONTAINS(table.out, "start=      126976");
    g_auto(Result) verified = shell("sfdisk -V target.img");
    CHECK_STATUS(verified, 0);
}

/* Six volumes right behind each other: an MBR would leave some of them out. */
static void a_scheme_holds_all_volumes(void)
{
    blank(500);
    for (guint i = 0; i < 5; i++)
        lay("mke2fs -q -F -t ext4", 32, 2048 + i * 32ull * 2048);
    lay("mkfs.xfs -q -f", 310, 2048 + 5 * 32ull * 2048);
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "Planned table: a GPT");
    CHECK_CONTAINS(planned.out, "1 of 6 planned volumes could not be opened");
    g_auto(Result) table = read_by_system();
    CHECK_CONTAINS(table.out, "label: gpt");
    CHECK_CONTAINS(table.out, "img6");
}

/* A container that does not record its length ends where the next volume begins. */
static void a_container_is_planned_up_to_the_next_volume(void)
{
    blank(120);
    lay("sh -c 'cryptsetup -q luksFormat --type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 "
        "$0 --key-file /etc/hostname'",
        40, 2048);
    lay("mkfs.ntfs -q -F -L Photos", 60, 2048 + 40 * 2048);
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "does not record its length");
    g_auto(Result) table = read_by_system();
    CHECK_CONTAINS(table.out, "start=        2048, size=       81920");
    CHECK_CONTAINS(table.out, "start=       83968");
    done("plan bench --resize 1:40960");
    g_auto(Result) resized = read_by_system();
    CHECK_CONTAINS(resized.out, "start=        2048, size=       40960");
    /* Where the table records it, that is what is planned. */
    must("printf 'label: dos\\nstart=2048,size=61440,type=83\\nstart=83968,type=7\\n' | "
         "sfdisk -q --wipe never drive.img 2>/dev/null");
    check_left_alone();
}

/* Of an MBR with one primary and four logical partitions nothing is left but the gaps. */
static void logical_partitions_are_told_by_their_gaps(void)
{
    blank(220);
    must("printf 'label: dos\\nstart=2048,size=65536,type=83\\nstart=67584,type=5\\n"
         "size=61440,type=83\\nsize=61440,type=83\\nsize=61440,type=83\\nsize=61440,type=83\\n' | "
         "sfdisk -q drive.img && sfdisk -d drive.img >before");
    g_auto(Result) was = shell("cat before");
    static const guint64 starts[] = {2048, 69632, 133120, 196608, 260096};
    for (gsize i = 0; i < G_N_ELEMENTS(starts); i++) {
        g_autofree char *wanted = g_strdup_printf("start=%12llu", (unsigned long long)starts[i]);
        CHECK_CONTAINS(was.out, wanted);
        lay("mke2fs -q -F -t ext4", i == 0 ? 32 : 30, starts[i]);
        if (i > 0)
            must("dd if=/dev/zero of=drive.img bs=512 count=1 seek=%llu conv=notrunc status=none",
                 (unsigned long long)starts[i] - 2048);
    }
    must("dd if=/dev/zero of=drive.img bs=512 count=1 conv=notrunc status=none");
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "planned as logical");
    g_auto(Result) table = read_by_system();
    for (gsize i = 0; i < G_N_ELEMENTS(starts); i++) {
        g_autofree char *wanted = g_strdup_printf("img%u : start=%12llu", i == 0 ? 1 : (guint)i + 4,
                                                  (unsigned long long)starts[i]);
        CHECK_CONTAINS(table.out, wanted);
    }
}

/* A volume on the whole drive needs no table, and says so. */
static void a_volume_may_fill_the_drive(void)
{
    static const char *const makers[] = {"mkfs.fat -F 32 drive.img", "mkfs.exfat drive.img",
                                         "mkfs.ntfs -q -F drive.img",
                                         "mke2fs -q -F -t ext4 drive.img"};
    for (gsize i = 0; i < G_N_ELEMENTS(makers); i++) {
        blank(64);
        must("%s >maker.log 2>&1", makers[i]);
        check_left_alone();
        g_auto(Result) volumes = ektypon("volumes bench");
        CHECK_CONTAINS(volumes.out, "tableless");
        g_auto(Result) asked = ektypon("plan bench --scheme mbr");
        CHECK(asked.status != 0);
        CHECK_CONTAINS(asked.err, "begins in sector 0");
    }
}

/* The table lists one volume at a place: the one that was made last. */
static void one_place_has_one_listed_volume(void)
{
    static const struct {
        const char *older;
        const char *newer;
        const char *name;
    } pairs[] = {
        {"mke2fs -q -F -t ext4 -b 1024", "mke2fs -q -F -t ext4 -b 4096", "ext4"},
        {"mke2fs -q -F -t ext4 -b 4096", "mke2fs -q -F -t ext4 -b 1024", "ext4"},
        {"mkfs.exfat", "mkfs.ntfs -q -F", "ntfs"},
        {"mkfs.ntfs -q -F", "mkfs.exfat", "exfat"},
        {"mkfs.ntfs -q -F", "mke2fs -q -F -t ext4", "ext4"},
        {"mkfs.fat -F 32", "mkfs.ntfs -q -F", "ntfs"},
    };
    for (gsize i = 0; i < G_N_ELEMENTS(pairs); i++) {
        blank(140);
        must(
            "rm -f part.img; truncate -s 128M part.img && %s part.img >maker.log 2>&1 && sleep 1.1 "
            "&& %s part.img >maker.log 2>&1",
            pairs[i].older, pairs[i].newer);
        must("printf 'label: dos\\nstart=2048,size=262144,type=7\\n' | sfdisk -q drive.img && "
             "dd if=part.img of=drive.img bs=1M seek=1 conv=notrunc status=none");
        g_auto(Result) planned = plan();
        CHECK_STATUS(planned, 0);
        g_auto(Result) volumes = ektypon("volumes bench --json");
        json_t *json = result_json(&volumes);
        json_t *list = json_object_get(json, "volumes");
        json_t *volume = NULL;
        gsize index = 0;
        guint listed = 0;
        json_array_foreach(list, index, volume)
        {
            if (!g_str_equal(json_text(volume, "standing"), "listed") &&
                !g_str_equal(json_text(volume, "standing"), "displaced"))
                continue;
            listed++;
            CHECK_TEXT(json_text(volume, "filesystem"), pairs[i].name);
        }
        CHECK_NUMBER(listed, 1);
        json_decref(json);
    }
}

/* Discs that boot from everything: their tables are odd, and right. */
static void hybrid_discs_are_left_alone(void)
{
    static const char *const options[] = {
        "-R -J",
        "-R",
        "",
        "-R -J -eltorito-alt-boot -e efi.img -no-emul-boot -isohybrid-gpt-basdat",
        "-R -J -b boot.bin -no-emul-boot -partition_offset 16 -append_partition 2 0xef efi.img",
        "-R -J -appended_part_as_gpt -append_partition 2 0xef efi.img",
        "-R -J -hfsplus"};
    must("mkdir -p disc/EFI && head -c 200000 /dev/urandom > disc/tray.bin && truncate -s 2M "
         "efi.img "
         "&& mkfs.fat efi.img >/dev/null && cp efi.img disc && head -c 40000 /dev/zero > "
         "disc/boot.bin");
    for (gsize i = 0; i < G_N_ELEMENTS(options); i++) {
        must(
            "rm -f drive.img; xorriso -as mkisofs -quiet -o drive.img -V SEEDS %s disc 2>maker.log",
            options[i]);
        check_left_alone();
        g_auto(Result) volumes = ektypon("volumes bench");
        CHECK_CONTAINS(volumes.out, "iso9660");
        CHECK_CONTAINS(volumes.out, "SEEDS");
    }
    /* What older makers of hybrids write: a place without a type, active, beside the EFI system. */
    guint8 sector[512] = {0};
    gsize length = 0;
    must("rm -f drive.img; xorriso -as mkisofs -quiet -o drive.img -V SEEDS -R disc 2>maker.log");
    g_autofree guint8 *disc = read_file("drive.img", &length);
    memcpy(sector, disc, sizeof sector);
    sector[446] = 0x80;
    ek_put_le32(sector + 446 + 12, (guint32)(length / 512));
    mbr_put(sector, 1, 0xef, 400, 4096);
    memcpy(disc, sector, sizeof sector);
    write_file("drive.img", disc, length);
    check_left_alone();
}

/* Types that systems accept are nobody's mistake. */
static void types_that_work_stay(void)
{
    static const struct {
        const char *maker;
        const char *type;
        gboolean stays;
    } kinds[] = {
        {"mkfs.fat -F 16", "c", TRUE},    {"mke2fs -q -F -t ext4", "c", TRUE},
        {"mkfs.ntfs -q -F", "27", TRUE},  {"mkfs.fat -F 32", "ef", TRUE},
        {"mkfs.exfat", "c", TRUE},        {"mkfs.btrfs -q", "7", TRUE},
        {"mkfs.ntfs -q -F", "83", FALSE},
    };
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        blank(140);
        must("printf 'label: dos\\nstart=2048,size=262144,type=%s\\n' | sfdisk -q drive.img",
             kinds[i].type);
        lay(kinds[i].maker, 128, 2048);
        if (kinds[i].stays) {
            check_left_alone();
        } else {
            g_auto(Result) planned = plan();
            CHECK_CONTAINS(planned.out, "Edit 1");
        }
    }
}

/* What --keep does, and of which volume a plan without one speaks. */
static void what_is_left_out_is_named(void)
{
    blank(120);
    lay("mkfs.ntfs -q -F -L Photos", 50, 2048);
    lay("mke2fs -q -F -t ext4 -L Catalogue", 50, 2048 + 51 * 2048);
    g_auto(Result) planned = plan();
    CHECK_STATUS(planned, 0);
    g_auto(Result) dropped = ektypon("plan bench --drop 1");
    CHECK_CONTAINS(dropped.out, "--drop 1");
    CHECK(strstr(dropped.out, "unrecognised data") == NULL);
    g_auto(Result) kept = ektypon("plan bench --keep 2");
    CHECK_CONTAINS(kept.out, "--keep adds");
}

/* A FAT volume with the boot folder is the EFI system partition, beside others. */
static void an_efi_system_is_told_by_its_folder(void)
{
    blank(140);
    must("rm -rf part.img && truncate -s 64M part.img && mkfs.fat -F 32 part.img >/dev/null && "
         "MTOOLS_SKIP_CHECK=1 mmd -i part.img ::EFI ::EFI/BOOT && "
         "dd if=part.img of=drive.img bs=1M seek=1 conv=notrunc status=none");
    lay("mke2fs -q -F -t ext4", 60, 2048 + 65 * 2048);
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "Planned table: a GPT");
    CHECK_CONTAINS(planned.out, "EFI system");
    g_auto(Result) table = read_by_system();
    CHECK_CONTAINS(table.out, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B");
}

/* A drive that says it has written, and has not: what is read back tells. */
static void a_target_that_lies_is_found_out(void)
{
    static const char *const commands[] = {"apply bench target.img", "clone bench copy.img"};
    blank(60);
    lay("mke2fs -q -F -t ext4", 50, 2048);
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "Edit 1");
    must("rm -f copy.img && cp drive.img target.img");
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) lied = shell("LD_PRELOAD=%s SHIM_ROOT=$PWD SHIM_LOG=$PWD/log SHIM_LIES=%s "
                                    "%s %s",
                                    EKTYPON_SHIM_PATH, i == 0 ? "target.img" : "copy.img",
                                    EKTYPON_PROGRAM_PATH, commands[i]);
        CHECK_STATUS(lied, 1);
        CHECK_CONTAINS(lied.err,
                       i == 0 ? "reads back otherwise" : "something else than was written");
        if (lied.status != 1)
            fprintf(stderr, "%s: %s%s", commands[i], lied.out, lied.err);
    }
}

/* Where the drive's own table is off by what an adapter hid, it still says what is what. */
static void a_shifted_table_gives_its_names(void)
{
    blank(160);
    must("printf 'label: gpt\nstart=2048,size=102400,type=L,name=Catalogue\n"
         "start=104448,size=122880,type=L,name=Photos\n' | sfdisk -q drive.img && "
         "sfdisk -d drive.img >before");
    lay("mke2fs -q -F -t ext4 -b 4096", 50, 2048 + 8);
    lay("mke2fs -q -F -t ext4 -b 4096", 60, 104448 + 8);
    g_auto(Result) planned = plan();
    CHECK_CONTAINS(planned.out, "Catalogue");
    CHECK_CONTAINS(planned.out, "Photos");
    g_auto(Result) table = read_by_system();
    CHECK_CONTAINS(table.out, "start=        2056");
    CHECK_CONTAINS(table.out, "start=      104456");
    g_auto(Result) same = shell("sfdisk -d target.img | grep -o 'uuid=[^,]*' | sort > now; "
                                "grep -o 'uuid=[^,]*' before | sort | cmp - now");
    CHECK_STATUS(same, 0);
}

/* A copy of a volume is named as one, and links between partitions are no unknown content. */
static void copies_are_named(void)
{
    blank(140);
    lay("mke2fs -q -F -t ext4 -L Catalogue", 60, 2048);
    must("dd if=part.img of=drive.img bs=1M seek=70 conv=notrunc,sparse status=none");
    g_auto(Result) planned = plan();
    CHECK_STATUS(planned, 0);
    g_auto(Result) volume = ektypon("volumes bench 1");
    CHECK_CONTAINS(volume.out, "has the same UUID: one of them is a copy");
    blank(120);
    must("printf 'label: dos\nstart=2048,size=65536,type=83\nstart=67584,type=5\n"
         "size=40960,type=83\nsize=40960,type=83\n' | sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext4", 32, 2048);
    lay("mke2fs -q -F -t ext4", 20, 69632);
    lay("mke2fs -q -F -t ext4", 20, 69632 + 40960 + 2048);
    g_auto(Result) linked = plan();
    CHECK(strstr(linked.out, "unrecognised data") == NULL);
    CHECK(strstr(linked.out, "Edit 1") == NULL);
}

int main(void)
{
    static const Test tests[] = {
        {"a forged header does not decide", a_forged_header_does_not_decide},
        {"a scheme holds all volumes", a_scheme_holds_all_volumes},
        {"a container is planned up to the next volume",
         a_container_is_planned_up_to_the_next_volume},
        {"logical partitions are told by their gaps", logical_partitions_are_told_by_their_gaps},
        {"a volume may fill the drive", a_volume_may_fill_the_drive},
        {"one place has one listed volume", one_place_has_one_listed_volume},
        {"hybrid discs are left alone", hybrid_discs_are_left_alone},
        {"types that work stay", types_that_work_stay},
        {"what is left out is named", what_is_left_out_is_named},
        {"a target that lies is found out", a_target_that_lies_is_found_out},
        {"a shifted table gives its names", a_shifted_table_gives_its_names},
        {"copies are named", copies_are_named},
        {"an EFI system is told by its folder", an_efi_system_is_told_by_its_folder},
    };
    return RUN_TESTS("plans", tests);
}
