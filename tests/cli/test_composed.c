/* SPDX-License-Identifier: MIT */
/* Volumes of which no copy of the superblock is left: one is composed, and the file system's own
 * tools take it for theirs. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <string.h>

#define SUPER_BYTES 1024u

typedef struct {
    const char *options;
    guint mib;
} Kind;

/* With checksums of all, of groups, of nothing; in one group and in many. */
static const Kind kinds[] = {
    {"-t ext4 -b 1024", 60},
    {"-t ext4 -b 4096", 200},
    {"-t ext4 -b 4096", 24},
    {"-t ext4 -b 1024 -O ^metadata_csum,uninit_bg", 60},
    {"-t ext4 -b 1024 -O ^flex_bg,^resize_inode,^64bit", 40},
    {"-t ext4 -b 1024 -O inline_data", 40},
    {"-t ext3 -b 1024", 40},
    {"-t ext3 -b 4096 -I 128", 150},
    {"-t ext2 -b 1024", 6},
    {"-t ext2 -b 1024", 60},
};

static void make_files(void)
{
    must("mkdir -p src/Catalogue src/Photos");
    for (guint i = 0; i < 30; i++) {
        g_autofree char *path =
            g_strdup_printf("src/%s/Tray %u.dat", i % 2 == 0 ? "Catalogue" : "Photos", i);
        g_autofree guint8 *bytes = g_malloc(1 + i * 2000);
        fill_noise(bytes, 1 + i * 2000, i);
        write_file(path, bytes, i * 2000);
    }
}

/* Wipes all that looks like a superblock; returns how many there were. */
static guint wipe_superblocks(const char *file)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file(file, &length);
    guint count = 0;
    for (gsize at = 0; at + SUPER_BYTES <= length; at += SUPER_BYTES) {
        EkSpan span = {data + at, SUPER_BYTES};
        if (ek_span_le16(span, 56) != 0xef53 || ek_span_le32(span, 24) > 6 ||
            ek_span_le32(span, 76) > 1)
            continue;
        memset(data + at, 0, SUPER_BYTES);
        count++;
    }
    write_file(file, data, length);
    return count;
}

static void carry_through(const Kind *kind)
{
    must("rm -rf bench clone.img part.img was out && truncate -s %uM part.img && "
         "mke2fs -q -F %s -d src part.img >maker.log 2>&1 && e2fsck -fn part.img >maker.log 2>&1",
         kind->mib, kind->options);
    must("mkdir was out && debugfs -R 'rdump / was' part.img >maker.log 2>&1");
    CHECK(wipe_superblocks("part.img") > 0);
    must("rm -f drive.img && truncate -s %uM drive.img && "
         "printf 'start=2048,size=%u,type=83\\n' | sfdisk -q drive.img && "
         "dd if=part.img of=drive.img bs=1M seek=1 conv=notrunc,sparse status=none",
         kind->mib + 2, kind->mib * 2048);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_STATUS(plan, 0);
    CHECK_CONTAINS(plan.out, "primary superblock of volume 1, from other metadata");
    g_auto(Result) as_json = ektypon("plan bench --show --json");
    CHECK_CONTAINS(as_json.out, "opens; 30 files in 3 folders");
    done("clone bench clone.img");
    must("dd if=clone.img of=part.img bs=1M skip=1 count=%u status=none", kind->mib);
    g_auto(Result) checked = shell("e2fsck -fn part.img");
    CHECK_STATUS(checked, 0);
    if (checked.status != 0)
        fprintf(stderr, "%s", checked.out);
    must("debugfs -R 'rdump / out' part.img >maker.log 2>&1");
    g_auto(Result) same = shell("diff -r was out");
    CHECK_STATUS(same, 0);
    /* Each copy is one, too. */
    g_auto(Result) copies = shell("dumpe2fs part.img 2>/dev/null | "
                                  "sed -n 's/.*Backup superblock at \\([0-9]*\\).*/\\1/p'");
    g_auto(GStrv) blocks = g_strsplit(g_strstrip(copies.out), "\n", -1);
    for (char **block = blocks; *block != NULL && **block != '\0'; block++)
        must("size=$(dumpe2fs -h part.img 2>/dev/null | sed -n 's/^Block size: *//p') && "
             "dumpe2fs -h part.img 2>/dev/null | grep -E 'UUID|features|count' >first.txt && "
             "dumpe2fs -h -o superblock=%s -o blocksize=$size part.img 2>/dev/null | "
             "grep -E 'UUID|features|count' >copy.txt && cmp first.txt copy.txt",
             *block);
}

static void a_superblock_is_composed(void)
{
    make_files();
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        guint before = CU_get_number_of_failures();
        carry_through(&kinds[i]);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was: %s, %u MiB\n", kinds[i].options, kinds[i].mib);
    }
}

/* What was in use has a copy of its superblock in the journal: nothing is lost then, not even the
 * seed of the indexes of large folders, nor how long it is. */
static void the_journal_has_a_copy(void)
{
    static const Kind used[] = {{"-t ext4 -b 1024", 100}, {"-t ext4 -b 4096", 60}, {"-t ext3", 64}};
    for (gsize i = 0; i < G_N_ELEMENTS(used); i++) {
        must("rm -rf bench clone.img drive.img part.img && truncate -s %uM part.img && "
             "mke2fs -q -F -L sensors %s part.img",
             used[i].mib, used[i].options);
        g_auto(Result) up =
            shell("%s/tests/scripts/mount-volume ext4 part.img mount", EKTYPON_SOURCE);
        if (up.status != 0) {
            skip("no loop device, or no driver");
            return;
        }
        must("mkdir mount/trays && i=0; while test $i -lt 1500; do echo $i >\"mount/trays/tray "
             "$i\"; "
             "i=$((i+1)); done; rm 'mount/trays/tray 7' && sync -f mount && "
             "%s/tests/scripts/mount-volume --down part.img mount",
             EKTYPON_SOURCE);
        must(
            "cp --sparse=always part.img whole.img && for block in $(dumpe2fs part.img 2>/dev/null "
            "| "
            "sed -n 's/.* superblock at \\([0-9]*\\),.*/\\1/p'); do "
            "at=$((block * $(dumpe2fs -h whole.img 2>/dev/null | sed -n 's/^Block size: *//p')));"
            "test $at -ge 1024 || at=1024; dd if=/dev/zero of=part.img bs=1024 seek=$((at / 1024)) "
            "count=1 conv=notrunc status=none; done");
        must("truncate -s %uM drive.img && "
             "printf 'start=2048,size=%u,type=83\n' | sfdisk -q drive.img && "
             "dd if=part.img of=drive.img bs=1M seek=1 conv=notrunc,sparse status=none",
             used[i].mib + 2, used[i].mib * 2048);
        done("new bench drive.img");
        done("image bench");
        done("hunt bench");
        g_auto(Result) plan = ektypon("plan bench");
        CHECK_CONTAINS(plan.out, "primary superblock of volume 1, from the copy in the journal");
        CHECK_CONTAINS(plan.out, "every planned volume opens");
        done("clone bench clone.img");
        must("dd if=clone.img of=part.img bs=1M skip=1 count=%u conv=sparse status=none",
             used[i].mib);
        g_auto(Result) checked = shell("e2fsck -fn part.img");
        CHECK_STATUS(checked, 0);
        g_auto(Result) same =
            shell("for file in whole.img part.img; do dumpe2fs -h $file 2>/dev/null | "
                  "grep -E 'name|UUID|features|count|Hash Seed|Free' >$file.txt; done; "
                  "diff whole.img.txt part.img.txt");
        CHECK_STATUS(same, 0);
        if (same.status != 0)
            fprintf(stderr, "%s", same.out);
    }
}

/* It was cut off while it was mounted: what is only in its journal is played back, also through a
 * superblock that is a copy, which knows of no journal that is due. */
static void a_journal_that_is_due_is_told(void)
{
    must("truncate -s 64M part.img && mke2fs -q -F -t ext4 -b 1024 part.img");
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume ext4 part.img mount", EKTYPON_SOURCE);
    if (up.status != 0) {
        skip("no loop device, or no driver");
        return;
    }
    must("mkdir mount/trays && echo sown >'mount/trays/tray 7' && sync -d 'mount/trays/tray 7' && "
         "sync 'mount/trays/tray 7' && cp --sparse=always part.img cut.img && "
         "%s/tests/scripts/mount-volume --down part.img mount",
         EKTYPON_SOURCE);
    g_auto(Result) due = shell("dumpe2fs -h cut.img 2>/dev/null | grep -q needs_recovery");
    CHECK_STATUS(due, 0);
    must("truncate -s 66M drive.img && printf 'start=2048,size=131072,type=83\n' | "
         "sfdisk -q drive.img && dd if=cut.img of=drive.img bs=1M seek=1 conv=notrunc,sparse "
         "status=none && dd if=/dev/zero of=drive.img bs=1024 seek=1025 count=2 conv=notrunc "
         "status=none");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    done("plan bench");
    done("clone bench clone.img");
    must("dd if=clone.img of=part.img bs=1M skip=1 count=64 conv=sparse status=none && "
         "dumpe2fs -h part.img 2>/dev/null | grep -q needs_recovery");
    must("%s/tests/scripts/mount-volume ext4 part.img mount && grep -qx sown 'mount/trays/tray 7' "
         "&& "
         "%s/tests/scripts/mount-volume --down part.img mount",
         EKTYPON_SOURCE, EKTYPON_SOURCE);
}

/* Where nothing tells how long it is, nothing is written before that is said. */
static void its_length_must_be_known(void)
{
    make_files();
    must("truncate -s 40M part.img && mke2fs -q -F -t ext4 -b 1024 -d src part.img");
    CHECK(wipe_superblocks("part.img") > 0);
    must("truncate -s 42M drive.img && "
         "dd if=part.img of=drive.img bs=1M seek=1 conv=notrunc,sparse status=none");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) plan = ektypon("plan bench");
    CHECK(strstr(plan.out, "primary superblock") == NULL);
    g_auto(Result) short_of = ektypon("plan bench --resize 1:1000000");
    CHECK(short_of.status == 1 || strstr(short_of.out, "primary superblock") == NULL);
    g_auto(Result) said = ektypon("plan bench --resize 1:81920");
    CHECK_STATUS(said, 0);
    CHECK_CONTAINS(said.out, "primary superblock");
    done("clone bench clone.img");
    must("dd if=clone.img of=part.img bs=1M skip=1 count=40 status=none && "
         "e2fsck -fn part.img >maker.log 2>&1");
}

int main(void)
{
    static const Test tests[] = {
        {"a superblock is composed", a_superblock_is_composed},
        {"the journal has a copy", the_journal_has_a_copy},
        {"a journal that is due is told", a_journal_that_is_due_is_told},
        {"its length must be known", its_length_must_be_known},
    };
    return RUN_TESTS("composed", tests);
}
