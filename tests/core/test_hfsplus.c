/* SPDX-License-Identifier: MIT */
/* What an HFS+ volume still holds of what was there before: of one that it was made over, and of
 * its own deleted files, as its journal has them. */
#include "base/bytes.h"
#include "check.h"
#include "fixture.h"
#include "hunted.h"
#include "listing.h"
#include "volume/formats.h"
#include "volumes.h"

#include <string.h>

#define NODE 4096u
#define FIRST_MADE 3850000000u
#define LATER_MADE (FIRST_MADE + 30u * 24 * 3600)
#define OLD_FILES 80u
#define SECTOR 512u

/* Where each listed file has what the composed volume has, by name. Returns how many. */
static guint count_placed(const Listing *now, const Listing *then, guint files)
{
    guint placed = 0;
    for (guint i = 0; i < files; i++) {
        g_autofree char *name = g_strdup_printf("file %05u", i);
        const Listed *was = listing_find(then, name);
        const Listed *is = listing_find(now, name);
        CHECK(was != NULL);
        if (was == NULL || is == NULL || was->file.modified.seconds != is->file.modified.seconds)
            continue;
        CHECK_NUMBER(is->file.size, was->file.size);
        CHECK_NUMBER(is->extents->len, was->extents->len);
        for (guint k = 0; k < MIN(is->extents->len, was->extents->len); k++)
            CHECK_NUMBER(g_array_index(is->extents, EkExtent, k).first_byte,
                         g_array_index(was->extents, EkExtent, k).first_byte);
        placed++;
    }
    return placed;
}

static Listing *list_volume(Bench *bench, EkFiles *files, const EkVolume *volume)
{
    GError *error = NULL;
    CHECK(ek_files_open(files, bench->reader, volume, &error));
    CHECK_FINE(&error);
    return listing_new(files, 0);
}

/* A composed one, by itself. */
typedef struct {
    Bench bench;
    EkFiles files;
    EkVolume *volume;
    Listing *listing;
} Alone;

static void alone_open(Alone *alone, const Composed *composed)
{
    EkCandidate candidate = {0, composed->first_byte, EK_ROLE_PRIMARY};
    bench_open(&alone->bench, composed->data, composed->length);
    alone->volume = ek_volume_measure(&ek_fs_hfsplus, alone->bench.reader, &candidate, NULL);
    CHECK(alone->volume != NULL);
    alone->listing = list_volume(&alone->bench, &alone->files, alone->volume);
}

static void alone_close(Alone *alone)
{
    listing_free(alone->listing);
    ek_files_close(&alone->files);
    ek_volume_free(alone->volume);
    bench_close(&alone->bench);
}

static const EkVolume *find_volume(const GPtrArray *findings, gboolean earlier)
{
    for (guint i = 0; i < findings->len; i++) {
        const EkVolume *volume = ((const EkFinding *)findings->pdata[i])->volume;
        if (volume->is_earlier == earlier)
            return volume;
    }
    return NULL;
}

static guint count_deleted(const Listing *listing)
{
    guint deleted = 0;
    for (guint i = 0; i < listing->listed->len; i++)
        deleted += (((const Listed *)listing->listed->pdata[i])->file.flags & EK_FILE_DELETED) != 0;
    return deleted;
}

/* Files whose leaves the newer one did not write: each node holds a few. */
static void what_was_there_before_is_a_volume(void)
{
    static const guint32 blocks[] = {512, 4096};
    for (gsize i = 0; i < G_N_ELEMENTS(blocks); i++)
        for (guint journal = 0; journal < 2; journal++) {
            HfsPlan plan = {.block_bytes = blocks[i],
                            .node_bytes = NODE,
                            .files = OLD_FILES,
                            .has_journal = journal != 0,
                            .has_pieces = TRUE,
                            .room = OLD_FILES,
                            .made = FIRST_MADE};
            g_autoptr(Composed) composed = composed_hfs(&plan);
            Alone then;
            alone_open(&then, composed);
            plan.files = 5;
            plan.has_pieces = FALSE;
            plan.made = LATER_MADE;
            composed_hfs_over(composed->data, composed->length, &plan, FALSE);
            Bench bench;
            EkFiles files;
            bench_open(&bench, composed->data, composed->length);
            g_autoptr(GPtrArray) findings = bench_hunt(&bench);
            CHECK_NUMBER(findings->len, 2);
            const EkVolume *earlier = find_volume(findings, TRUE);
            const EkVolume *newer = find_volume(findings, FALSE);
            CHECK(earlier != NULL && newer != NULL);
            if (earlier == NULL || newer == NULL)
                return;
            g_autoptr(Listing) old = list_volume(&bench, &files, earlier);
            /* Two or three leaves are written over, with at most 13 files each. */
            CHECK(count_placed(old, then.listing, OLD_FILES) >= OLD_FILES - 3 * 13);
            CHECK_NUMBER(count_deleted(old), 0);
            CHECK(old->folders_damaged > 0);
            const Listed *pieces = listing_find(old, "pieces");
            CHECK(pieces != NULL && pieces->extents->len == 10);
            ek_files_close(&files);
            g_autoptr(Listing) now = list_volume(&bench, &files, newer);
            CHECK_NUMBER(count_placed(now, then.listing, OLD_FILES), 0);
            CHECK_NUMBER(count_deleted(now), 0);
            ek_files_close(&files);
            bench_close(&bench);
            alone_close(&then);
        }
}

/* What is in use there may have been dated back; then nothing tells two apart. */
static void files_that_are_dated_back_are_no_earlier_volume(void)
{
    HfsPlan plan = {.block_bytes = 4096,
                    .node_bytes = NODE,
                    .files = OLD_FILES,
                    .room = OLD_FILES,
                    .made = FIRST_MADE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    plan.files = 5;
    composed_hfs_over(composed->data, composed->length, &plan, FALSE);
    guint8 *header = composed->data + composed->first_byte;
    ek_put_be32(header + 16, LATER_MADE);
    ek_put_be32(header + 64, 16 + OLD_FILES);
    Bench bench;
    bench_open(&bench, composed->data, composed->length);
    g_autoptr(GPtrArray) findings = bench_hunt(&bench);
    CHECK(find_volume(findings, TRUE) == NULL);
    bench_close(&bench);
}

/* The last file of a leaf is deleted; the journal still has the leaf as it was, or half of it. */
static void the_journal_has_deleted_files(void)
{
    for (guint half = 0; half < 2; half++) {
        HfsPlan plan = {.block_bytes = 4096,
                        .node_bytes = NODE,
                        .files = 40,
                        .has_journal = TRUE,
                        .made = FIRST_MADE};
        g_autoptr(Composed) composed = composed_hfs(&plan);
        Alone then;
        alone_open(&then, composed);
        guint8 *leaf = composed->data + composed->catalog_byte + 2 * NODE;
        guint8 *copy = composed->data + composed->journal_byte + 5 * SECTOR;
        guint records = ek_span_be16((EkSpan){leaf, NODE}, 10);
        memcpy(copy, leaf, NODE);
        if (half != 0)
            memset(copy + NODE / 2, 0x5a, NODE / 2);
        ek_put_be16(leaf + 10, (guint16)(records - 1));
        Bench bench;
        EkFiles files;
        bench_open(&bench, composed->data, composed->length);
        EkCandidate candidate = {0, composed->first_byte, EK_ROLE_PRIMARY};
        g_autoptr(EkVolume) volume =
            ek_volume_measure(&ek_fs_hfsplus, bench.reader, &candidate, NULL);
        g_autoptr(Listing) listing = list_volume(&bench, &files, volume);
        CHECK_NUMBER(count_deleted(listing), half != 0 ? 0 : 1);
        CHECK_NUMBER(count_placed(listing, then.listing, 40), half != 0 ? 39 : 40);
        ek_files_close(&files);
        bench_close(&bench);
        alone_close(&then);
    }
}

/* Of each byte, alone or with all that follow, what the bitmap says of its block. */
static void its_bitmap_tells_what_is_used(void)
{
    HfsPlan plan = {.block_bytes = 4096, .node_bytes = NODE, .files = 30, .made = FIRST_MADE};
    g_autoptr(Composed) composed = composed_hfs(&plan);
    Alone alone;
    alone_open(&alone, composed);
    const guint8 *bitmap = composed->data + 4096;
    guint free_runs = 0;
    EkByte same = 0;
    for (EkByte at = 700; at + 4096 < composed->length; at += same) {
        guint64 block = at / 4096;
        EkUsage wanted =
            (bitmap[block / 8] >> (7 - block % 8) & 1) != 0 ? EK_USAGE_USED : EK_USAGE_FREE;
        EkRange range = {at, composed->length - at};
        CHECK_NUMBER(ek_volume_use(alone.volume, alone.bench.reader, range, &same), wanted);
        CHECK(same > 0);
        guint64 last = (at + same - 1) / 4096;
        CHECK_NUMBER((bitmap[last / 8] >> (7 - last % 8) & 1) != 0, wanted == EK_USAGE_USED);
        free_runs += wanted == EK_USAGE_FREE ? 1 : 0;
    }
    CHECK(free_runs > 5);
    alone_close(&alone);
}

int main(void)
{
    static const Test tests[] = {
        {"what was there before is a volume", what_was_there_before_is_a_volume},
        {"files that are dated back are no earlier volume",
         files_that_are_dated_back_are_no_earlier_volume},
        {"the journal has deleted files", the_journal_has_deleted_files},
        {"its bitmap tells what is used", its_bitmap_tells_what_is_used},
    };
    return RUN_TESTS("hfsplus", tests);
}
