/* SPDX-License-Identifier: MIT */
/* Formats that no tool here makes: found by their first header and by a copy, with the rest unread,
 * and not found where only a header stands. */
#include "check.h"
#include "fixture.h"
#include "hunted.h"
#include "listing.h"
#include "volume/formats.h"
#include "volume/hfsplus/hfsplus.h"
#include "volumes.h"

#include <string.h>

#define MIB (1u << 20)
#define BEFORE (333u * 512)
#define BEHIND (100u * 512)

typedef struct {
    guint8 *drive;
    gsize length;
} Laid;

static void lay(Laid *laid, const Composed *composed)
{
    laid->length = BEFORE + composed->length + BEHIND;
    laid->drive = g_malloc(laid->length);
    fill_noise(laid->drive, laid->length, 5);
    memcpy(laid->drive + BEFORE, composed->data, composed->length);
}

static EkByte first_byte_of(const Composed *composed)
{
    return BEFORE + (g_str_equal(composed->filesystem, "ldm") ? 63 * 512 : 0);
}

static void check_one(const GPtrArray *findings, const Composed *composed)
{
    CHECK_NUMBER(findings->len, 1);
    if (findings->len == 0)
        return;
    const EkFinding *finding = findings->pdata[0];
    const EkVolume *volume = finding->volume;
    CHECK_TEXT(volume->filesystem, composed->filesystem);
    CHECK_NUMBER(volume->first_byte, first_byte_of(composed));
    if (composed->length_is_least)
        CHECK(volume->length_is_least && volume->bytes <= composed->length);
    else if (!g_str_equal(composed->filesystem, "ldm"))
        CHECK_NUMBER(volume->bytes, composed->length);
    CHECK_TEXT(volume->label, composed->label);
    CHECK_TEXT(volume->uuid, composed->uuid);
    CHECK(volume->confidence >= EK_CONFIDENT);
}

static void find_whole(const Composed *composed)
{
    Bench bench;
    Laid laid;
    lay(&laid, composed);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    check_one(findings, composed);
    bench_close(&bench);
    g_free(laid.drive);
}

/* The first header wiped, or not read. */
static void find_by_copy(const Composed *composed, gboolean unread)
{
    Bench bench;
    Laid laid;
    lay(&laid, composed);
    gsize first = BEFORE + composed->first_byte;
    if (!unread)
        memset(laid.drive + first, 0, composed->first_length);
    bench_open(&bench, laid.drive, laid.length);
    if (unread)
        bench_hole(&bench, first / 512, composed->first_length / 512, EK_STATE_SET_ASIDE);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    check_one(findings, composed);
    bench_close(&bench);
    g_free(laid.drive);
}

/* The first header alone, everything else overwritten: nothing to believe. */
static void find_nothing(const Composed *composed)
{
    Bench bench;
    Laid laid;
    lay(&laid, composed);
    gsize from = BEFORE + composed->first_byte + composed->first_length;
    fill_noise(laid.drive + from, laid.length - from, 9);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *finding = findings->pdata[i];
        CHECK(finding->volume->confidence < EK_CONFIDENT);
    }
    bench_close(&bench);
    g_free(laid.drive);
}

static void find_all_ways(Composed *taken)
{
    g_autoptr(Composed) composed = taken;
    find_whole(composed);
    if (composed->copy_byte == 0)
        return;
    find_by_copy(composed, FALSE);
    find_by_copy(composed, TRUE);
    find_nothing(composed);
}

static void hfsplus_is_found(void)
{
    find_all_ways(composed_hfsplus(FALSE, 0));
    find_all_ways(composed_hfsplus(TRUE, 0));
    find_all_ways(
        composed_hfsplus(FALSE, 1536)); /* a partition that is no whole number of blocks */
}

/* --- HFS+ without its headers --- */

static void wipe_headers(guint8 *drive, const Composed *composed)
{
    memset(drive + composed->first_byte, 0, composed->first_length);
    memset(drive + composed->copy_byte, 0, composed->copy_length);
}

/* On a MiB, with noise before and behind it. */
static Laid lay_bare(const Composed *composed)
{
    Laid laid = {.length = MIB + composed->length + BEHIND};
    laid.drive = g_malloc(laid.length);
    fill_noise(laid.drive, laid.length, 5);
    memcpy(laid.drive + MIB, composed->data, composed->length);
    wipe_headers(laid.drive + MIB, composed);
    return laid;
}

static void check_bare(const GPtrArray *findings, const Composed *composed, gboolean knows_uuid)
{
    CHECK_NUMBER(findings->len, 1);
    if (findings->len == 0)
        return;
    const EkVolume *volume = ((const EkFinding *)findings->pdata[0])->volume;
    CHECK(volume->composed && !volume->length_is_least);
    CHECK_TEXT(volume->filesystem, "hfsplus");
    CHECK_NUMBER(volume->first_byte, MIB);
    CHECK_NUMBER(volume->bytes, composed->length);
    CHECK_TEXT(volume->label, composed->label);
    CHECK_TEXT(volume->uuid, knows_uuid ? composed->uuid : NULL);
    CHECK(volume->confidence >= EK_CONFIDENT);
    /* The rest of the header is what it was. */
    EkHfsHeader is;
    EkHfsHeader was;
    CHECK(ek_hfs_header_read(ek_volume_header(volume), &is));
    CHECK(ek_hfs_header_read((EkSpan){composed->data + composed->first_byte, 512}, &was));
    CHECK_NUMBER(is.block_bytes, was.block_bytes);
    CHECK_NUMBER(is.blocks, was.blocks);
    CHECK_NUMBER(is.bitmap_block, was.bitmap_block);
    CHECK_NUMBER(is.catalog_block, was.catalog_block);
}

/* `journal`: what it holds is left, its copy of the header too. */
static void find_bare(const HfsPlan *plan, gboolean journal)
{
    g_autoptr(Composed) composed = composed_hfs(plan);
    Laid laid = lay_bare(composed);
    Bench bench;
    if (plan->has_journal && !journal)
        memset(laid.drive + MIB + composed->journal_byte, 0, 4096);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    check_bare(findings, composed, journal);
    bench_close(&bench);
    g_free(laid.drive);
}

static void hfsplus_is_found_without_headers(void)
{
    static const guint32 nodes[] = {1024, 2048, 4096, 8192};
    for (guint32 block = 512; block <= 8192; block *= 4)
        for (gsize i = 0; i < G_N_ELEMENTS(nodes); i++) {
            HfsPlan plan = {.block_bytes = block,
                            .node_bytes = nodes[i],
                            .files = nodes[i] == 1024 ? 20 : 60,
                            .is_sensitive = i == 1};
            find_bare(&plan, FALSE);
            plan.has_journal = TRUE;
            find_bare(&plan, FALSE);
            find_bare(&plan, TRUE);
        }
}

/* The catalog's header node is not read either: its leaves name each other. */
static void hfsplus_is_found_by_its_leaves(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 4096, .files = 80};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    Laid laid = lay_bare(composed);
    Bench bench;
    bench_open(&bench, laid.drive, laid.length);
    bench_hole(&bench, (MIB + composed->catalog_byte) / 512, 8, EK_STATE_BAD);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    check_bare(findings, composed, FALSE);
    bench_close(&bench);
    g_free(laid.drive);
}

/* Where a file's blocks are free, it is no such bitmap, and nothing tells where the volume is. */
static void hfsplus_needs_its_bitmap(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 4096, .files = 80};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    EkHfsHeader header;
    Laid laid = lay_bare(composed);
    Bench bench;
    CHECK(ek_hfs_header_read((EkSpan){composed->data + composed->first_byte, 512}, &header));
    memset(laid.drive + MIB + 4096 + header.catalog_block / 8 + 2, 0, 16);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    CHECK_NUMBER(findings->len, 0);
    bench_close(&bench);
    g_free(laid.drive);
}

/* --- its headers are repaired --- */

/* Lays what is proposed over the drive. */
static void lay_repair(void *data, EkRepair *repair)
{
    memcpy((guint8 *)data + repair->first_byte, repair->after, repair->length);
    ek_repair_free(repair);
}

static guint32 field_of(const guint8 *header, gsize at)
{
    return ek_span_be32((EkSpan){header, 512}, at);
}

/* The first header is lost; its copy is as old as the volume, and counts nothing of it yet. */
static void hfsplus_is_repaired_from_an_old_copy(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 4096, .files = 50, .has_pieces = TRUE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    guint8 *copy = composed->data + composed->copy_byte;
    guint8 *first = composed->data + composed->first_byte;
    g_autofree guint8 *was = g_memdup2(first, 512);
    GError *error = NULL;
    Bench bench;
    g_autofree guint8 *drive = g_malloc0(composed->length);
    EkHfsHeader header;
    guint32 free = 0;
    CHECK(ek_hfs_header_read((EkSpan){was, 512}, &header));
    const guint8 *bitmap = composed->data + (gsize)header.bitmap_block * 4096;
    for (guint i = 0; i < header.blocks; i++)
        free += (bitmap[i / 8] & 0x80 >> i % 8) == 0 ? 1 : 0;
    ek_put_be32(copy + 32, 0);
    ek_put_be32(copy + 36, 7);
    ek_put_be32(copy + 48, 5);
    ek_put_be32(copy + 64, 16);
    memset(first, 0, 512);
    bench_open(&bench, composed->data, composed->length);
    EkCandidate candidate = {0, composed->copy_byte, EK_ROLE_BACKUP};
    g_autoptr(EkVolume) volume =
        ek_volume_measure(&ek_fs_hfsplus, bench.reader, &candidate, &error);
    CHECK_FINE(&error);
    CHECK(volume != NULL);
    CHECK(ek_fs_hfsplus.repair(bench.reader, volume, lay_repair, drive, &error));
    const guint8 *is = drive + composed->first_byte;
    CHECK_BYTES(is + 72, was + 72, 440);            /* identity, and all forks */
    CHECK_NUMBER(field_of(is, 32), plan.files + 1); /* and the one in pieces */
    CHECK_NUMBER(field_of(is, 36), 0);
    CHECK_NUMBER(field_of(is, 48), free);
    CHECK(field_of(is, 64) >= 16 + plan.files);
    CHECK_NUMBER(field_of(is, 4), field_of(was, 4));
    bench_close(&bench);
    /* A bitmap that was not read is counted by nobody: a check is asked for. */
    memset(drive, 0, composed->length);
    bench_open(&bench, composed->data, composed->length);
    bench_hole(&bench, (EkSector)header.bitmap_block * 8, 1, EK_STATE_BAD);
    g_autoptr(EkVolume) again = ek_volume_measure(&ek_fs_hfsplus, bench.reader, &candidate, &error);
    CHECK(ek_fs_hfsplus.repair(bench.reader, again, lay_repair, drive, &error));
    CHECK_NUMBER(field_of(is, 48), 5);
    CHECK_NUMBER(field_of(is, 4) & 0x100, 0);
    bench_close(&bench);
}

/* --- its files --- */

static void hfsplus_lists_its_files(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 4096, .files = 30, .has_pieces = TRUE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    GError *error = NULL;
    Bench bench;
    EkFiles files;
    bench_open(&bench, composed->data, composed->length);
    EkCandidate candidate = {0, 1024, EK_ROLE_PRIMARY};
    g_autoptr(EkVolume) volume =
        ek_volume_measure(&ek_fs_hfsplus, bench.reader, &candidate, &error);
    CHECK(ek_files_open(&files, bench.reader, volume, &error));
    CHECK_FINE(&error);
    g_autoptr(Listing) listing = listing_new(&files, 0);
    CHECK_NUMBER(listing->folders_damaged, 0);
    for (guint i = 0; i < plan.files; i++) {
        g_autofree char *name = g_strdup_printf("file %05u", i);
        const Listed *listed = listing_find(listing, name);
        CHECK(listed != NULL);
        if (listed == NULL)
            continue;
        CHECK_NUMBER(listed->file.size, 3 * 4096 - 1);
        CHECK_NUMBER(listed->file.modified.seconds, 3850000000ll + i - 2082844800);
        CHECK_NUMBER(listed->extents->len, i % 5 == 0 ? 2 : 1);
    }
    const Listed *pieces = listing_find(listing, "pieces");
    CHECK(pieces != NULL && pieces->extents->len == 10);
    for (guint i = 1; pieces != NULL && i < pieces->extents->len; i++)
        CHECK_NUMBER(g_array_index(pieces->extents, EkExtent, i).first_byte -
                         g_array_index(pieces->extents, EkExtent, i - 1).first_byte,
                     2 * 4096);
    ek_files_close(&files);
    bench_close(&bench);
}

typedef struct {
    GByteArray *bytes;
    guint holes;
} Content;

static gboolean take_content(void *data, const guint8 *bytes, gsize length)
{
    Content *content = data;
    guint begin = content->bytes->len;
    g_byte_array_set_size(content->bytes, begin + (guint)length);
    if (bytes != NULL)
        memcpy(content->bytes->data + begin, bytes, length);
    else
        memset(content->bytes->data + begin, 0, length);
    content->holes += bytes == NULL;
    return TRUE;
}

/* What comes out of a packed file is what went in, but for so many chunks. */
static void check_packed(const Listing *listing, const char *name, gsize length, guint lost)
{
    const Listed *listed = listing_find(listing, name);
    g_autofree guint8 *wanted = composed_packed(length);
    g_autoptr(GArray) holes = NULL;
    CHECK(listed != NULL);
    if (listed == NULL)
        return;
    CHECK_NUMBER(listed->file.size, length);
    CHECK_NUMBER(listed->file.flags & EK_FILE_ENCODED, EK_FILE_ENCODED);
    Content content = {g_byte_array_new(), 0};
    CHECK(ek_files_read(listing->files, &listed->file, listed->extents, take_content, &content));
    CHECK_NUMBER(content.bytes->len, length);
    CHECK_NUMBER(content.holes, lost);
    EkDamage damage = listing_damage(listing, listed, &holes);
    CHECK_NUMBER(damage.condition, lost > 0 ? EK_CONDITION_HOLED : EK_CONDITION_WHOLE);
    for (guint i = 0; i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        memset(wanted + hole->offset, 0, hole->bytes);
    }
    if (content.bytes->len == length)
        CHECK_BYTES(content.bytes->data, wanted, length);
    g_byte_array_unref(content.bytes);
}

static EkVolume *open_composed(const Bench *bench, EkFiles *files)
{
    GError *error = NULL;
    EkCandidate candidate = {0, 1024, EK_ROLE_PRIMARY};
    EkVolume *volume = ek_volume_measure(&ek_fs_hfsplus, bench->reader, &candidate, &error);
    CHECK(volume != NULL && ek_files_open(files, bench->reader, volume, &error));
    CHECK_FINE(&error);
    return volume;
}

static void hfsplus_unpacks_its_files(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 8192, .files = 5, .has_packed = TRUE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    Bench bench;
    EkFiles files;
    bench_open(&bench, composed->data, composed->length);
    g_autoptr(EkVolume) volume = open_composed(&bench, &files);
    g_autoptr(Listing) all = listing_new(&files, 0);
    check_packed(all, "packed here", PACKED_HERE, 0);
    check_packed(all, "stored here", PACKED_HERE / 4, 0);
    check_packed(all, "packed apart", PACKED_APART, 0);
    const Listed *odd = listing_find(all, "packed oddly");
    CHECK(odd != NULL && (odd->file.flags & EK_FILE_OPAQUE) != 0);
    CHECK(listing_find(all, "packed apart:rsrc") == NULL);
    /* A sector of the second run: the chunk that reaches into it is lost, and no other. */
    bench_hole(&bench, (composed->resources_byte + 20 * 4096) / 512, 1, EK_STATE_BAD);
    g_autoptr(Listing) holed = listing_new(&files, 0);
    check_packed(holed, "packed apart", PACKED_APART, 1);
    check_packed(holed, "packed here", PACKED_HERE, 0);
    /* The table of chunks: all of it. */
    bench_hole(&bench, composed->resources_byte / 512, 1, EK_STATE_UNTOUCHED);
    g_autoptr(Listing) lost = listing_new(&files, 0);
    check_packed(lost, "packed apart", PACKED_APART, 3);
    ek_files_close(&files);
    /* The attributes: what is packed is known by its record alone. */
    bench_hole(&bench, (composed->attributes_byte + 8192) / 512, 16, EK_STATE_BAD);
    CHECK(ek_files_open(&files, bench.reader, volume, NULL));
    g_autoptr(Listing) opaque = listing_new(&files, 0);
    const Listed *here = listing_find(opaque, "packed here");
    CHECK(here != NULL && (here->file.flags & EK_FILE_OPAQUE) != 0);
    ek_files_close(&files);
    bench_close(&bench);
}

static void count_files(const Listing *listing, guint wanted)
{
    guint found = 0;
    for (guint i = 0; i < wanted; i++) {
        g_autofree char *name = g_strdup_printf("file %05u", i);
        found += listing_find(listing, name) != NULL;
    }
    CHECK_NUMBER(found, wanted);
    CHECK_NUMBER(listing->listed->len, wanted + 1);
}

/* The header node of the catalog was not read: leaves tell how large a node is. A leaf that no
 * other one names holds files that are gone. */
static void hfsplus_lists_files_by_leaves(void)
{
    static const guint32 nodes[] = {1024, 4096, 8192};
    for (gsize i = 0; i < G_N_ELEMENTS(nodes); i++) {
        HfsPlan plan = {
            .block_bytes = 4096, .node_bytes = nodes[i], .files = nodes[i] == 1024 ? 20 : 80};
        g_autoptr(Composed) composed = composed_hfs(&plan);
        Bench bench;
        EkFiles files;
        bench_open(&bench, composed->data, composed->length);
        bench_hole(&bench, composed->catalog_byte / 512, 2, EK_STATE_BAD);
        g_autoptr(EkVolume) volume = open_composed(&bench, &files);
        CHECK(volume->is_confirmed);
        g_autoptr(Listing) listing = listing_new(&files, 0);
        count_files(listing, plan.files);
        CHECK(listing->folders_damaged > 0);
        ek_files_close(&files);
        bench_close(&bench);
    }
}

/* Cut at any mark, a walk that goes on from there hands on the rest, and nothing twice. */
static void hfsplus_goes_on_where_it_was_cut(void)
{
    HfsPlan plan = {.block_bytes = 512, .node_bytes = 2048, .files = 200, .has_pieces = TRUE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    Bench bench;
    EkFiles files;
    bench_open(&bench, composed->data, composed->length);
    g_autoptr(EkVolume) volume = open_composed(&bench, &files);
    CHECK_TEXT(volume->label, composed->label);
    g_autoptr(Listing) whole = listing_new(&files, 0);
    g_autofree char *wanted = listing_lines(whole);
    CHECK(whole->marks > 3);
    for (guint cut = 1; cut < whole->marks; cut++) {
        g_autoptr(Listing) parts = listing_new_cut(&files, cut);
        g_autofree char *got = listing_lines(parts);
        CHECK_TEXT(got, wanted);
    }
    ek_files_close(&files);
    bench_close(&bench);
}

/* The same where no header is left either. */
static void hfsplus_lists_files_without_headers(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = 4096, .files = 80};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    Laid laid = lay_bare(composed);
    Bench bench;
    EkFiles files;
    bench_open(&bench, laid.drive, laid.length);
    bench_hole(&bench, (MIB + composed->catalog_byte) / 512, 8, EK_STATE_BAD);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    CHECK_NUMBER(findings->len, 1);
    const EkVolume *volume = ((const EkFinding *)findings->pdata[0])->volume;
    CHECK(ek_files_open(&files, bench.reader, volume, NULL));
    g_autoptr(Listing) listing = listing_new(&files, 0);
    count_files(listing, plan.files);
    ek_files_close(&files);
    bench_close(&bench);
    g_free(laid.drive);
}

/* An HFS volume around it: the partition is the wrapper's. */
static void hfsplus_is_found_in_its_wrapper(void)
{
    g_autoptr(Composed) composed = composed_wrapped_hfsplus();
    find_whole(composed);
    find_by_copy(composed, FALSE);
    find_by_copy(composed, TRUE);
}

/* A wrapper that speaks of region past the end of the drive is none, and stops nothing. */
static void a_wrapper_cut_off_is_none(void)
{
    g_autoptr(Composed) composed = composed_wrapped_hfsplus();
    Bench bench;
    Laid laid = {.length = 4096};
    laid.drive = g_memdup2(composed->data, laid.length);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    CHECK_NUMBER(findings->len, 0);
    bench_close(&bench);
    g_free(laid.drive);
}

static void apfs_is_found(void)
{
    find_all_ways(composed_apfs());
}

static void refs_is_found(void)
{
    /* Nothing but the two boot sectors is known of it: each needs the other. */
    g_autoptr(Composed) composed = composed_refs();
    find_whole(composed);
    find_nothing(composed);
}

static void bitlocker_is_found(void)
{
    find_all_ways(composed_bitlocker());
}

static void lvm_is_found(void)
{
    find_all_ways(composed_lvm());
}

static void raid_is_found(void)
{
    for (guint minor = 0; minor < 3; minor++)
        find_all_ways(composed_raid(minor));
    find_all_ways(composed_old_raid());
}

static void dynamic_disks_are_found(void)
{
    find_all_ways(composed_ldm());
}

/* A superblock whose sum does not fit is no RAID's. */
static void a_wrong_sum_is_none(void)
{
    Bench bench;
    Laid laid;
    g_autoptr(Composed) raid = composed_raid(2);
    raid->data[4096 + 100] ^= 1;
    lay(&laid, raid);
    bench_open(&bench, laid.drive, laid.length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    CHECK_NUMBER(findings->len, 0);
    bench_close(&bench);
    g_free(laid.drive);
}

/* The number of groups, and where copies stand, come from the disk: neither is counted through. */
static void endless_groups_end(void)
{
    Bench bench;
    EkCandidate candidates[EK_CANDIDATES_MOST];
    GError *error = NULL;
    g_autofree guint8 *drive = g_malloc0(1 << 20);
    guint8 *super = drive + 1024;
    ek_put_le32(super, 0x7fffffff);
    ek_put_le32(super + 4, 0xffffffff);
    ek_put_le32(super + 32, 8);
    ek_put_le32(super + 40, 8);
    ek_put_le16(super + 56, 0xef53);
    ek_put_le16(super + 58, 1);
    ek_put_le16(super + 60, 1);
    ek_put_le32(super + 76, 1);
    ek_put_le16(super + 88, 256);
    for (guint sparse = 0; sparse < 3; sparse++) {
        ek_put_le32(super + 92, sparse == 2 ? 0x200 : 0);
        ek_put_le32(super + 100, sparse == 1 ? 1 : 0);
        ek_put_le32(super + 588, 0x1ffffff0);
        bench_open(&bench, drive, 1 << 20);
        CHECK_NUMBER(ek_fs_ext.recognise((EkSpan){super, 4096}, 1024, candidates), 1);
        g_autoptr(EkVolume) volume =
            ek_volume_measure(&ek_fs_ext, bench.reader, &candidates[0], &error);
        CHECK(volume != NULL && volume->confidence < EK_CONFIDENT);
        bench_close(&bench);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"HFS+ is found", hfsplus_is_found},
        {"HFS+ is found in its wrapper", hfsplus_is_found_in_its_wrapper},
        {"HFS+ is found without headers", hfsplus_is_found_without_headers},
        {"HFS+ is found by its leaves", hfsplus_is_found_by_its_leaves},
        {"HFS+ needs its bitmap", hfsplus_needs_its_bitmap},
        {"HFS+ is mended from an old copy", hfsplus_is_repaired_from_an_old_copy},
        {"HFS+ lists its files", hfsplus_lists_its_files},
        {"HFS+ unpacks its files", hfsplus_unpacks_its_files},
        {"HFS+ goes on where it was cut", hfsplus_goes_on_where_it_was_cut},
        {"HFS+ lists files by leaves", hfsplus_lists_files_by_leaves},
        {"HFS+ lists files without headers", hfsplus_lists_files_without_headers},
        {"a wrapper cut off is none", a_wrapper_cut_off_is_none},
        {"APFS is found", apfs_is_found},
        {"ReFS is found", refs_is_found},
        {"BitLocker is found", bitlocker_is_found},
        {"LVM2 is found", lvm_is_found},
        {"Linux RAID is found", raid_is_found},
        {"dynamic disks are found", dynamic_disks_are_found},
        {"endless groups end", endless_groups_end},
        {"a wrong sum is none", a_wrong_sum_is_none},
    };
    return RUN_TESTS("formats", tests);
}
