/* SPDX-License-Identifier: MIT */
/* Drives of several TiB, most of it holes: volumes beyond what 32 bits of sectors reach, and an
 * NTFS whose $MFT lies in many pieces. ntfs-3g reads what was moved, and is not ours. */
#include "base/bytes.h"
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define DRIVES 1u
#define SECTOR ((guint64)512)
#define RECORD 1024u
#define CLUSTER 65536u
#define PIECES 9u
#define PIECE 2u /* clusters */

/* Copies what is data of one file to a place in another. */
static void lay_file(const char *from, const char *to, guint64 at)
{
    static guint8 buffer[1 << 20];
    int in = open(from, O_RDONLY | O_CLOEXEC);
    int out = open(to, O_RDWR | O_CLOEXEC);
    CHECK(in >= 0 && out >= 0);
    off_t data = lseek(in, 0, SEEK_DATA);
    while (data >= 0) {
        off_t end = lseek(in, data, SEEK_HOLE);
        while (data < end) {
            ssize_t got = pread(in, buffer, MIN(sizeof buffer, (size_t)(end - data)), data);
            if (got <= 0 || pwrite(out, buffer, (size_t)got, (off_t)at + data) != got)
                g_error("cannot copy %s: %s", from, g_strerror(errno));
            data += got;
        }
        data = lseek(in, end, SEEK_DATA);
    }
    close(in);
    close(out);
}

/* --- an $MFT in pieces ----------------------------------------------------------------------- */

static guint16 get_le16(const guint8 *p)
{
    return ek_span_le16((EkSpan){p, 2}, 0);
}

static guint32 get_le32(const guint8 *p)
{
    return ek_span_le32((EkSpan){p, 4}, 0);
}

static guint64 get_le64(const guint8 *p)
{
    return ek_span_le64((EkSpan){p, 8}, 0);
}

static void transfer(int fd, gboolean writing, guint8 *data, gsize length, guint64 at)
{
    ssize_t done =
        writing ? pwrite(fd, data, length, (off_t)at) : pread(fd, data, length, (off_t)at);
    if (done != (ssize_t)length)
        g_error("the volume ends too early");
}

/* The update sequence of a record: FALSE takes it out, TRUE puts it in. */
static void set_sequence(guint8 *record, gboolean in)
{
    guint8 *sequence = record + get_le16(record + 4);
    for (guint i = 1; i <= RECORD / 512; i++) {
        guint8 *end = record + i * 512 - 2;
        if (in) {
            memcpy(sequence + 2 * i, end, 2);
            memcpy(end, sequence, 2);
        } else {
            memcpy(end, sequence + 2 * i, 2);
        }
    }
}

static guint8 *attribute_of(guint8 *record, guint32 type)
{
    guint8 *at = record + get_le16(record + 20);
    while (get_le32(at) != G_MAXUINT32 && get_le32(at) != type)
        at += get_le32(at + 4);
    return get_le32(at) == type ? at : NULL;
}

/* A run with four bytes of length and eight of distance to the run before. */
static guint8 *put_run(guint8 *at, guint32 clusters, gint64 distance)
{
    *at++ = 0x84;
    ek_put_le32(at, clusters);
    ek_put_le64(at + 4, (guint64)distance);
    return at + 12;
}

/* Moves most of $MFT away from its beginning, in pieces far apart, as on a volume that was nearly
 * full while it grew. Returns the number of its runs. */
static guint scatter(GRand *random, const char *path, guint64 clusters)
{
    guint8 boot[512];
    guint8 record[RECORD];
    static guint8 piece[PIECE * CLUSTER];
    int fd = open(path, O_RDWR | O_CLOEXEC);
    transfer(fd, FALSE, boot, sizeof boot, 0);
    guint64 first = get_le64(boot + 48);
    transfer(fd, FALSE, record, RECORD, first * CLUSTER);
    set_sequence(record, FALSE);
    guint8 *data = attribute_of(record, 0x80);
    guint32 all = (guint32)get_le64(data + 24) + 1;
    guint32 stays = 1;
    guint32 moved = MIN(PIECES * PIECE, (all - stays) / PIECE * PIECE);
    g_autofree guint8 *runs = g_malloc0(16 * (PIECES + 3));
    guint8 *put = put_run(runs, stays, (gint64)first);
    guint64 before = first;
    guint count = 1;
    /* What is behind the pieces stays where it was. */
    for (guint32 at = stays; at < stays + moved; at += PIECE, count++) {
        guint64 place = clusters / 100 * (5 + 10 * (count % 9)) +
                        (guint64)g_rand_int_range(random, 0, 5000) * PIECE;
        transfer(fd, FALSE, piece, sizeof piece, (first + at) * CLUSTER);
        transfer(fd, TRUE, piece, sizeof piece, place * CLUSTER);
        memset(piece, 0, sizeof piece);
        transfer(fd, TRUE, piece, sizeof piece, (first + at) * CLUSTER);
        put = put_run(put, PIECE, (gint64)(place - before));
        before = place;
    }
    if (all > stays + moved) {
        put = put_run(put, all - stays - moved, (gint64)(first + stays + moved - before));
        count++;
    }
    /* The attribute grows to hold them: what follows it moves up. */
    guint32 place_of_runs = get_le16(data + 32);
    guint32 old = get_le32(data + 4);
    guint32 wanted = (guint32)ek_divide_up(place_of_runs + (guint32)(put - runs) + 1, 8) * 8;
    guint32 used = get_le32(record + 24);
    if (used + wanted - old > RECORD)
        g_error("the record is too small");
    memmove(data + wanted, data + old, used - (guint32)(data - record) - old);
    memset(data + place_of_runs, 0, wanted - place_of_runs);
    memcpy(data + place_of_runs, runs, (gsize)(put - runs));
    ek_put_le32(data + 4, wanted);
    ek_put_le32(record + 24, used + wanted - old);
    set_sequence(record, TRUE);
    transfer(fd, TRUE, record, RECORD, first * CLUSTER);
    transfer(fd, TRUE, record, RECORD, get_le64(boot + 56) * CLUSTER);
    close(fd);
    return count;
}

/* An NTFS with some thousand files. FALSE where nothing can be mounted. */
static gboolean fill_ntfs(const char *path)
{
    /* The driver ends a little later than its mount. */
    g_auto(Result) result = shell(
        "mkdir -p mount && ntfs-3g \"$PWD/%s\" mount 2>/dev/null && "
        "{ for i in $(seq 1400); do echo tray $i >mount/log-$i || exit 1; done; umount mount; "
        "while pgrep -f \"ntfs-3g $PWD/%s\" >/dev/null; do sleep 0.1; done; }",
        path, path);
    return result.status == 0;
}

/* --- the drive ------------------------------------------------------------------------------- */

static void check_volume(json_t *json, guint64 sector, guint64 sectors, const char *filesystem,
                         const char *label)
{
    json_t *volume = volume_at(json, sector);
    CHECK(volume != NULL);
    if (volume == NULL)
        return;
    CHECK_TEXT(json_text(volume, "filesystem"), filesystem);
    CHECK_TEXT(json_text(volume, "label"), label);
    CHECK_TEXT(json_text(volume, "standing"), "listed");
    CHECK_NUMBER(json_u64(volume, "bytes") / SECTOR, sectors);
    CHECK(json_u64(volume, "confidence") >= 50);
}

static void hunt_drive(GRand *random)
{
    const guint64 gib = 1 << 21;
    guint64 ntfs_sectors = (2100 + (guint64)g_rand_int_range(random, 0, 900)) * gib;
    guint64 ext_sectors = (400 + (guint64)g_rand_int_range(random, 0, 900)) * gib;
    guint64 exfat_sectors = (300 + (guint64)g_rand_int_range(random, 0, 900)) * gib;
    guint64 exfat = 2048;
    guint64 ntfs = exfat + exfat_sectors;
    guint64 ext = ntfs + ntfs_sectors;
    guint64 sectors = ext + ext_sectors + 2048;
    must("rm -rf bench drive.img part.img && truncate -s %" G_GUINT64_FORMAT " drive.img",
         sectors * SECTOR);
    must("printf 'label: gpt\\nstart=%" G_GUINT64_FORMAT ",size=%" G_GUINT64_FORMAT
         "\\nstart=%" G_GUINT64_FORMAT ",size=%" G_GUINT64_FORMAT "\\nstart=%" G_GUINT64_FORMAT
         ",size=%" G_GUINT64_FORMAT "\\n' | sfdisk -q drive.img",
         exfat, exfat_sectors, ntfs, ntfs_sectors, ext, ext_sectors);
    must("truncate -s %" G_GUINT64_FORMAT
         " part.img && mkfs.exfat -c 1M -L BRIZA part.img >/dev/null",
         exfat_sectors * SECTOR);
    lay_file("part.img", "drive.img", exfat * SECTOR);
    must("rm -f part.img && truncate -s %" G_GUINT64_FORMAT
         " part.img && mke2fs -q -F -t ext4 -T largefile4 -O ^has_journal -L BRIZA part.img",
         ext_sectors * SECTOR);
    lay_file("part.img", "drive.img", ext * SECTOR);
    must("rm -f part.img && truncate -s %" G_GUINT64_FORMAT
         " part.img && mkntfs -q -Q -F -s 512 -p 0 -H 255 -S 63 -c 65536 -L BRIZA part.img "
         ">maker.log 2>&1",
         ntfs_sectors * SECTOR);
    if (fill_ntfs("part.img")) {
        CHECK(scatter(random, "part.img", ntfs_sectors / 128) >= 8);
        must("ntfs-3g -o ro \"$PWD/part.img\" mount && grep -q 'tray 1400' mount/log-1400 && "
             "grep -q 'tray 7' mount/log-7 && ls mount | wc -l | grep -q '^1400$' && umount mount "
             "&& "
             "while pgrep -f \"$PWD/part.img\" >/dev/null; do sleep 0.1; done");
    } else {
        skip("an $MFT in pieces needs FUSE");
    }
    lay_file("part.img", "drive.img", ntfs * SECTOR);
    must("rm part.img");
    /* No header is left of any: exFAT and NTFS are composed, ext4 has its copies. */
    must("for at in %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT
         "; do dd if=/dev/zero of=drive.img bs=512 seek=$at count=24 conv=notrunc status=none; "
         "done; dd if=/dev/zero of=drive.img bs=512 seek=%" G_GUINT64_FORMAT
         " count=1 conv=notrunc status=none",
         exfat, ntfs, ext, ext - 1);
    done("new bench --adopt drive.img");
    g_auto(Result) result = ektypon("hunt bench");
    CHECK_STATUS(result, 0);
    if (!is_sanitized())
        CHECK(result.peak_kib < 128 * 1024);
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    check_volume(json, exfat, exfat_sectors, "exfat", "BRIZA");
    check_volume(json, ntfs, ntfs_sectors, "ntfs", "BRIZA");
    check_volume(json, ext, ext_sectors, "ext4", "BRIZA");
    CHECK_NUMBER(json_array_size(json_object_get(json, "volumes")), 3);
    json_decref(json);
    must("rm -rf drive.img bench");
}

static void volumes_beyond_2_tib_are_found(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    const char *wanted = g_getenv("EKTYPON_TEST_LARGE");
    guint drives = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : DRIVES;
    for (guint i = 0; i < drives; i++)
        hunt_drive(random);
}

int main(void)
{
    static const Test tests[] = {
        {"volumes beyond 2 TiB are found", volumes_beyond_2_tib_are_found}};
    return RUN_TESTS("large", tests);
}
