/* SPDX-License-Identifier: MIT */
/* Volumes made by the system's own makers, several on one drive without any table, at odd places
 * and of random sizes; some have lost what stands first in them. blkid says what label and UUID
 * they have, and is not ours. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <string.h>

#define DRIVES 4u
#define VOLUMES 6u
#define SECTOR 512ull

typedef struct {
    const char *filesystem; /* as ours is called */
    const char *make;       /* FILE and LABEL (at most 9 letters) are put in */
    guint least_mib;
    guint most_mib;
    guint wiped_first;   /* sector in the volume from which its first header can be wiped … */
    guint wiped_count;   /* … for so many; 0: nothing else would tell of it */
    gboolean tells_end;  /* it says how long it is */
    gboolean end_too;    /* the last sector is wiped with it: no header is left at all */
    gboolean is_shorter; /* its maker rounds down, or makes the file itself as long as it needs */
} Maker;

static const Maker makers[] = {
    {"ext2", "mke2fs -q -F -t ext2 -b 1024 -L LABEL FILE", 20, 120, 0, 16, TRUE, FALSE, FALSE},
    {"ext3", "mke2fs -q -F -t ext3 -L LABEL FILE", 140, 300, 0, 16, TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -b 4096 -L LABEL FILE", 140, 300, 0, 16, TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -b 1024 -O ^has_journal,64bit -L LABEL FILE", 20, 120, 0, 16,
     TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -O sparse_super2,^resize_inode -E num_backup_sb=2 -L LABEL FILE",
     140, 300, 0, 16, TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -O bigalloc,meta_bg,^resize_inode -N 4096 -L LABEL FILE", 140,
     300, 0, 0, TRUE, FALSE, FALSE},
    {"xfs", "mkfs.xfs -q -L LABEL FILE", 301, 400, 0, 8, TRUE, FALSE, FALSE},
    {"xfs", "mkfs.xfs -q -m crc=0 -L LABEL FILE", 301, 400, 0, 8, TRUE, FALSE, FALSE},
    {"xfs", "mkfs.xfs -q -s size=4096 -L LABEL FILE", 301, 400, 0, 8, TRUE, FALSE, FALSE},
    {"btrfs", "mkfs.btrfs -q -L LABEL FILE", 120, 300, 128, 8, TRUE, FALSE, FALSE},
    {"f2fs", "mkfs.f2fs -q -l LABEL FILE", 60, 200, 0, 8, TRUE, FALSE, FALSE},
    {"exfat", "mkfs.exfat -L LABEL FILE", 8, 200, 0, 12, TRUE, FALSE, FALSE},
    {"exfat", "mkfs.exfat -c 64K -L LABEL FILE", 8, 200, 0, 13, FALSE, TRUE, FALSE},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -L LABEL FILE", 8, 200, 0, 1, TRUE, FALSE,
     FALSE},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -c 4096 -L LABEL FILE", 8, 200, 0, 16, TRUE,
     TRUE, FALSE},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -c 65536 -L LABEL FILE", 20, 200, 0, 16, TRUE,
     TRUE, FALSE},
    {"fat32", "mkfs.fat -F 32 -s 1 -n LABEL FILE", 40, 120, 0, 1, TRUE, FALSE, TRUE},
    {"fat16", "mkfs.fat -F 16 -n LABEL FILE", 16, 120, 0, 0, TRUE, FALSE, TRUE},
    {"fat12", "mkfs.fat -F 12 -n LABEL FILE", 2, 7, 0, 0, TRUE, FALSE, TRUE},
    {"udf", "mkudffs -b 512 -l LABEL FILE", 16, 200, 256, 1, TRUE, FALSE, FALSE},
    {"udf", "mkudffs --media-type=hd -b 2048 -l LABEL FILE", 16, 200, 1024, 4, TRUE, FALSE, FALSE},
    {"iso9660",
     "sh -c 'mkdir -p disc && cp /etc/passwd disc && genisoimage -quiet -V LABEL -o FILE "
     "disc'",
     1, 1, 0, 0, TRUE, FALSE, TRUE},
    {"linux-swap", "mkswap -L LABEL FILE", 2, 100, 0, 0, TRUE, FALSE, FALSE},
    {"luks2",
     "sh -c 'printf seeds | cryptsetup -q luksFormat --type luks2 --label LABEL --pbkdf pbkdf2 "
     "--pbkdf-force-iterations 1000 FILE -'",
     32, 60, 0, 32, FALSE, FALSE, FALSE},
    {"luks1",
     "sh -c 'printf seeds | cryptsetup -q luksFormat --type luks1 --pbkdf-force-iterations 1000 "
     "FILE -'",
     8, 60, 0, 0, FALSE, FALSE, FALSE},
};

typedef struct {
    const Maker *maker;
    guint64 first;   /* sector */
    guint64 sectors; /* of its file */
    char *uuid;
    char *label;
    gboolean wiped;
    gboolean found;
} Made;

static char *told_by_blkid(const char *file, const char *what)
{
    g_auto(Result) told = shell("blkid -p -o value -s %s %s", what, file);
    return *g_strchomp(told.out) != '\0' ? g_strdup(told.out) : NULL;
}

static char *put_in(const char *text, const char *name, const char *value)
{
    g_auto(GStrv) parts = g_strsplit(text, name, -1);
    return g_strjoinv(value, parts);
}

static void make_volume(GRand *random, Made *made, const Maker *maker, guint64 first)
{
    char label[10] = "BRIZA";
    for (guint i = 5; i < 9; i++)
        label[i] = (char)g_rand_int_range(random, 'A', 'Z' + 1);
    guint mib = (guint)g_rand_int_range(random, (gint)maker->least_mib, (gint)maker->most_mib + 1);
    /* Whole tracks and blocks, so that no maker rounds down. */
    g_autofree char *with_label = put_in(maker->make, "LABEL", label);
    g_autofree char *command = put_in(with_label, "FILE", "part.img");
    must("rm -f part.img && truncate -s %uM part.img && %s >maker.log 2>&1 || "
         "{ cat maker.log >&2; false; }",
         mib, command);
    g_auto(Result) size = shell("stat -c %%s part.img");
    *made = (Made){.maker = maker, .first = first};
    made->sectors = g_ascii_strtoull(size.out, NULL, 10) / SECTOR;
    made->uuid = told_by_blkid("part.img", "UUID");
    made->label = told_by_blkid("part.img", "LABEL");
    made->wiped = maker->wiped_count > 0 && g_rand_boolean(random);
    must("dd if=part.img of=drive.img bs=512 seek=%llu conv=notrunc,sparse status=none",
         (unsigned long long)first);
    if (made->wiped)
        must("dd if=/dev/zero of=drive.img bs=512 seek=%llu count=%u conv=notrunc status=none",
             (unsigned long long)(first + maker->wiped_first), maker->wiped_count);
    if (made->wiped && maker->end_too) {
        must("dd if=/dev/zero of=drive.img bs=512 seek=%llu count=1 conv=notrunc status=none",
             (unsigned long long)(first + made->sectors - 1));
        /* The serial number stood nowhere else. */
        g_clear_pointer(&made->uuid, g_free);
    }
}

static void made_clear(Made *made)
{
    g_free(made->uuid);
    g_free(made->label);
}

static gboolean is_length(const Made *made, guint64 sectors)
{
    if (!made->maker->tells_end)
        return sectors <= made->sectors;
    return made->maker->is_shorter ? sectors <= made->sectors && sectors + 64 > made->sectors
                                   : sectors == made->sectors;
}

/* Nothing but what was made, and that as it was made, as far as it was read. */
static void check_volume(Made *volumes, guint count, json_t *json, gboolean masked)
{
    const char *filesystem = json_text(json, "filesystem");
    guint64 first = json_u64(json, "first_byte") / SECTOR;
    for (guint i = 0; i < count; i++) {
        Made *made = &volumes[i];
        if (made->first != first || made->found)
            continue;
        made->found = TRUE;
        CHECK_TEXT(filesystem, made->maker->filesystem);
        if (masked)
            return;
        if (!is_length(made, json_u64(json, "bytes") / SECTOR))
            CHECK_NUMBER(json_u64(json, "bytes") / SECTOR, made->sectors);
        CHECK_TEXT(json_text(json, "uuid"), made->uuid);
        if (made->label != NULL)
            CHECK_TEXT(json_text(json, "label"), made->label);
        CHECK(json_u64(json, "confidence") >= 50);
        CHECK_TEXT(json_text(json, "standing"), "lost");
        return;
    }
    fprintf(stderr, "\na false volume: %s at sector %llu\n", filesystem, (unsigned long long)first);
    CHECK(FALSE);
}

/* Stretches of sectors all over the drive are not read: a tenth of it. */
static void write_mask(GRand *random, guint64 sectors)
{
    g_autoptr(GString) list = g_string_new(NULL);
    for (guint64 at = 0; at < sectors;) {
        guint64 good = (guint64)g_rand_int_range(random, 1, 1100);
        guint64 bad = (guint64)g_rand_int_range(random, 1, 120);
        at += good;
        if (at + bad < sectors)
            g_string_append_printf(list, "%" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT "\n", at, bad);
        at += bad;
    }
    write_file("unread.txt", list->str, list->len);
}

/* Makes a case of the drive; returns its volumes. */
static json_t *hunt_case(GRand *random, guint64 sectors, gboolean masked)
{
    must("rm -rf bench");
    if (masked) {
        write_mask(random, sectors);
        done("new bench --adopt drive.img --bad-list unread.txt");
    } else {
        done("new bench drive.img");
        done("image bench");
    }
    done("hunt bench");
    g_auto(Result) result = ektypon("volumes bench --json");
    return result_json(&result);
}

static void hunt_drive(GRand *random, guint first_maker, guint count)
{
    Made volumes[VOLUMES];
    guint64 at = (guint64)g_rand_int_range(random, 1, 5000);
    must("rm -rf bench drive.img && truncate -s 3G drive.img");
    for (guint i = 0; i < count; i++) {
        make_volume(random, &volumes[i], &makers[(first_maker + i) % G_N_ELEMENTS(makers)], at);
        at += volumes[i].sectors + (guint64)g_rand_int_range(random, 0, 3000);
    }
    must("truncate -s %llu drive.img", (at + 100) * SECTOR);
    for (int masked = 1; masked >= 0; masked--) {
        json_t *json = hunt_case(random, at + 100, masked == 1);
        json_t *list = json_object_get(json, "volumes");
        for (guint i = 0; i < count; i++)
            volumes[i].found = FALSE;
        for (gsize i = 0; i < json_array_size(list); i++)
            check_volume(volumes, count, json_array_get(list, i), masked == 1);
        json_decref(json);
    }
    for (guint i = 0; i < count; i++) {
        if (!volumes[i].found)
            fprintf(stderr, "\nmissed: %s at sector %llu, first header %s\n",
                    volumes[i].maker->make, (unsigned long long)volumes[i].first,
                    volumes[i].wiped ? "wiped" : "there");
        CHECK(volumes[i].found);
        made_clear(&volumes[i]);
    }
}

static void what_the_makers_made_is_found(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : DRIVES;
    guint from = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(makers));
    /* Every maker has its turn. */
    for (guint drive = 0; drive < drives; drive++)
        hunt_drive(random, from + drive * VOLUMES, VOLUMES);
}

int main(void)
{
    static const Test tests[] = {{"what the makers made is found", what_the_makers_made_is_found}};
    return RUN_TESTS("makers", tests);
}
