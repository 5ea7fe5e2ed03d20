/* SPDX-License-Identifier: MIT */
/* Files of parts that follow one another by their lengths: where one is cut, the next part tells
 * how far the rest is shifted; and what of them may be called whole. */
#include "carve/carve.h"
#include "carved.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"
#include "specimens.h"

#include <archive.h>
#include <archive_entry.h>
#include <string.h>

/* `length` bytes that pack to about half, packed by this filter. The caller unrefs. */
static GByteArray *pack(int filter, const char *option, gsize length, guint32 seed)
{
    g_autofree guint8 *plain = g_malloc(length);
    gsize room = length + 65536;
    gsize used = 0;
    GByteArray *packed = g_byte_array_new();
    fill_noise(plain, length, seed);
    for (gsize i = 0; i < length; i++)
        plain[i] = i % 5000 < 40 ? plain[i] : (guint8)('a' + plain[i] % 9);
    g_byte_array_set_size(packed, (guint)room);
    struct archive *archive = archive_write_new();
    struct archive_entry *entry = archive_entry_new();
    archive_write_set_format_raw(archive);
    archive_write_add_filter(archive, filter);
    archive_write_set_bytes_in_last_block(archive, 1);
    CHECK(option == NULL || archive_write_set_options(archive, option) == ARCHIVE_OK);
    CHECK(archive_write_open_memory(archive, packed->data, room, &used) == ARCHIVE_OK);
    archive_entry_set_filetype(entry, AE_IFREG);
    archive_entry_set_pathname(entry, "lot");
    CHECK(archive_write_header(archive, entry) == ARCHIVE_OK);
    CHECK(archive_write_data(archive, plain, length) == (la_ssize_t)length);
    archive_entry_free(entry);
    archive_write_free(archive);
    g_byte_array_set_size(packed, (guint)used);
    return packed;
}

/* Files that were laid in two pieces. */
typedef struct {
    GRand *random;
    guint tried;
    guint right; /* and came back identical */
} Tries;

/* Lays it in two pieces, with text between them, or with text or noise, and searches: where it is
 * identical its state is this. */
static void try_pieces(Tries *tries, const Specimen *specimen, gboolean is_text,
                       EkContentState state)
{
    GRand *random = tries->random;
    Drive drive = drive_new(g_rand_int(random));
    gsize cut = 4096 * (gsize)g_rand_int_range(random, 1, (gint32)(specimen->length / 4096));
    drive_noise(&drive, 4096);
    EkByte at = drive_put(&drive, specimen->data, cut);
    gsize between = 4096 * (gsize)g_rand_int_range(random, 1, 40);
    if (is_text || g_rand_boolean(random))
        drive_text(&drive, between);
    else
        drive_noise(&drive, between);
    drive_put(&drive, specimen->data + cut, specimen->length - cut);
    drive_pad(&drive, 4096, FALSE);
    drive_noise(&drive, 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    const EkFound *one = carved_at(found, at);
    gboolean is_right = one != NULL && carved_is_same(&bench, one, specimen);
    if (!is_right)
        g_print("%s cut at block %u of %u: %s\n", specimen->type, (guint)(cut / 4096),
                (guint)(specimen->length / 4096), one != NULL ? one->why : "not found");
    CHECK(one == NULL || (is_right ? one->state == state : one->state != EK_CONTENT_WHOLE));
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
    tries->tried++;
    tries->right += is_right ? 1 : 0;
}

static guint rounds(void)
{
    return test_number("EKTYPON_TEST_ROUNDS", 3);
}

static void streams_of_packed_parts_are_joined(void)
{
    static const struct {
        const char *type;
        int filter;
        const char *option;
    } packers[] = {{"xz", ARCHIVE_FILTER_XZ, "compression-level=1"},
                   {"xz", ARCHIVE_FILTER_XZ, "compression-level=6"},
                   {"zstd", ARCHIVE_FILTER_ZSTD, "compression-level=3"}};
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    Tries tries = {random, 0, 0};
    for (guint round = 0; round < rounds(); round++) {
        for (gsize i = 0; i < G_N_ELEMENTS(packers); i++) {
            g_autoptr(GByteArray) packed =
                pack(packers[i].filter, packers[i].option, 1500000, seed + round);
            Specimen specimen = {
                packers[i].type, packers[i].type, packed->data, packed->len, TRUE, TRUE};
            /* Without a checksum, as libarchive writes Zstandard, nothing proves it. */
            EkContentState state =
                g_str_equal(packers[i].type, "xz") ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL;
            try_pieces(&tries, &specimen, FALSE, state);
        }
    }
    /* Cut in their last part they have no next one. */
    CHECK(tries.right * 3 >= tries.tried * 2);
}

static void films_of_parts_are_joined(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    Tries tries = {random, 0, 0};
    for (guint round = 0; round < 2 * rounds(); round++) {
        g_autoptr(GByteArray) flv = compose_flv(120, seed + round);
        g_autoptr(GByteArray) matroska = compose_matroska(6, seed + round);
        g_autoptr(GByteArray) fragments = compose_fragments(9, seed + round);
        Specimen films[] = {{"flv", "flv", flv->data, flv->len, TRUE, FALSE},
                            {"mp4", "mp4", fragments->data, fragments->len, TRUE, FALSE},
                            {"matroska", "mkv", matroska->data, matroska->len, TRUE, TRUE}};
        for (gsize i = 0; i < G_N_ELEMENTS(films); i++) {
            EkContentState state = films[i].proves ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL;
            try_pieces(&tries, &films[i], FALSE, state);
        }
    }
    CHECK(tries.right * 4 >= tries.tried * 3);
}

static void programs_are_joined(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    Tries tries = {random, 0, 0};
    Tries guessed = {random, 0, 0};
    for (guint round = 0; round < 2 * rounds(); round++) {
        for (ComposedSum kind = COMPOSED_SUMMED; kind <= COMPOSED_BARE; kind++) {
            g_autoptr(GByteArray) bytes = compose_program(kind, seed + round);
            Specimen specimen = {"exe", "exe", bytes->data, bytes->len, TRUE, TRUE};
            /* Sixteen bits do not prove what was tried many times. */
            EkContentState state = kind == COMPOSED_SIGNED ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL;
            /* Without any sum the cut is told by how blocks look. */
            gboolean is_summed = kind == COMPOSED_SUMMED || kind == COMPOSED_SIGNED;
            try_pieces(is_summed ? &tries : &guessed, &specimen, FALSE, state);
        }
    }
    CHECK(tries.right * 4 >= tries.tried * 3);
}

/* The directory or the table of sectors tells the shift, or a list of it in long ones. */
static void documents_are_joined(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    Tries tries = {random, 0, 0};
    for (guint round = 0; round < 2 * rounds(); round++) {
        guint32 sectors = round % 3 == 2 ? 15000 : (guint32)g_rand_int_range(random, 100, 3000);
        g_autoptr(GByteArray) bytes = compose_ole(sectors, seed + round);
        Specimen specimen = {"ole", "doc", bytes->data, bytes->len, TRUE, FALSE};
        try_pieces(&tries, &specimen, TRUE, EK_CONTENT_DOUBTFUL);
    }
    CHECK(tries.right * 4 >= tries.tried * 3);
}

static const EkFound *search_one(const GByteArray *bytes, Bench *bench, GPtrArray **found)
{
    Drive drive = drive_new(test_seed());
    EkByte at = drive_put(&drive, bytes->data, bytes->len);
    drive_pad(&drive, 4096, FALSE);
    drive_open(&drive, bench);
    *found = carved_search(bench, 0, FALSE);
    g_byte_array_unref(drive.bytes);
    return carved_at(*found, at);
}

/* Whole by its checksum or by what is signed, and with one block of another: never. */
static void sums_of_programs_tell(void)
{
    static const EkContentState states[] = {[COMPOSED_SUMMED] = EK_CONTENT_WHOLE,
                                            [COMPOSED_STALE] = EK_CONTENT_DOUBTFUL,
                                            [COMPOSED_SIGNED] = EK_CONTENT_WHOLE,
                                            [COMPOSED_BARE] = EK_CONTENT_DOUBTFUL};
    guint32 seed = test_seed();
    for (guint round = 0; round < 8; round++) {
        for (ComposedSum kind = COMPOSED_SUMMED; kind <= COMPOSED_BARE; kind++) {
            g_autoptr(GByteArray) bytes = compose_program(kind, seed + round);
            Bench bench;
            GPtrArray *found = NULL;
            if (round > 0)
                fill_noise(bytes->data + 4096 * (seed + round * 5) % (bytes->len / 4096 * 4096),
                           round % 2 == 0 ? 4096 : 512, seed + round);
            const EkFound *one = search_one(bytes, &bench, &found);
            if (round == 0) {
                CHECK(one != NULL && one->state == states[kind] && one->bytes == bytes->len);
            } else {
                CHECK(one == NULL || one->state != EK_CONTENT_WHOLE);
            }
            g_ptr_array_unref(found);
            bench_close(&bench);
        }
    }
}

/* Installers carry more behind the program, of which the checksum may know nothing: that is whole
 * only where nothing follows. */
static void what_follows_a_program_is_in_doubt(void)
{
    guint32 seed = test_seed();
    for (guint round = 0; round < 6; round++) {
        gboolean is_signed = round % 2 == 1;
        g_autoptr(GByteArray) bytes =
            compose_program(is_signed ? COMPOSED_SIGNED : COMPOSED_SUMMED, seed + round);
        Drive drive = drive_new(seed + round);
        Bench bench;
        EkByte at = drive_put(&drive, bytes->data, bytes->len);
        drive_noise(&drive, 512);
        drive_pad(&drive, 4096, FALSE);
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
        const EkFound *one = carved_at(found, at);
        CHECK(one != NULL && one->bytes == bytes->len);
        CHECK(one != NULL && (one->state == EK_CONTENT_WHOLE) == is_signed);
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* A block of another in a cluster: all of it is there, and a checksum is wrong. */
static void sums_of_clusters_tell(void)
{
    guint32 seed = test_seed();
    for (guint round = 0; round < 12; round++) {
        g_autoptr(GByteArray) bytes = compose_matroska(3, seed + round);
        gsize last = bytes->len / 512 - 1;
        Bench bench;
        GPtrArray *found = NULL;
        if (round > 0)
            fill_noise(bytes->data + 512 * (1 + (seed + round * 77) % (last - 1)), 512, seed);
        const EkFound *one = search_one(bytes, &bench, &found);
        CHECK(one != NULL && (one->state == EK_CONTENT_WHOLE) == (round == 0));
        CHECK(round > 0 || (one != NULL && one->bytes == bytes->len));
        g_ptr_array_unref(found);
        bench_close(&bench);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"streams of packed parts are joined", streams_of_packed_parts_are_joined},
        {"films of parts are joined", films_of_parts_are_joined},
        {"programs are joined", programs_are_joined},
        {"documents are joined", documents_are_joined},
        {"sums of programs tell", sums_of_programs_tell},
        {"what follows a program is in doubt", what_follows_a_program_is_in_doubt},
        {"sums of clusters tell", sums_of_clusters_tell},
    };
    return RUN_TESTS("chains", tests);
}
