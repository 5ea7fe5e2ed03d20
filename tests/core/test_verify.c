/* SPDX-License-Identifier: MIT */
/* Files that are known as a whole: what is right is never called wrong, and what a checksum covers
 * is never called right once a byte of it differs. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include "base/checksum.h"
#include "carve/lzma.h"
#include "carve/sevenheader.h"
#include "carve/verify.h"

#include <archive.h>
#include <archive_entry.h>
#include <string.h>
#include <zstd.h>

static EkVerification verify(const guint8 *data, gsize length)
{
    static const gint cancel;
    Bench bench;
    bench_open(&bench, data, length);
    EkVerification found = ek_verify(bench.reader, &cancel);
    bench_close(&bench);
    return found;
}

static void specimens_are_right(void)
{
    g_autoptr(GPtrArray) list = specimens_new(test_seed());
    guint right = 0;
    for (guint i = 0; i < list->len; i++) {
        const Specimen *specimen = list->pdata[i];
        gsize length = specimen->length / 512 * 512;
        if (length != specimen->length) {
            /* A bench has whole sectors: what lies behind a file changes nothing. */
            length += 512;
        }
        g_autofree guint8 *padded = g_malloc0(length);
        memcpy(padded, specimen->data, specimen->length);
        EkVerification found = verify(padded, length);
        if (found.verified == EK_VERIFIED_WRONG)
            CHECK_TEXT(specimen->type, found.followed.why);
        right += found.verified == EK_VERIFIED_RIGHT;
    }
    CHECK(right > list->len / 2);
}

static void nothing_else_is(void)
{
    g_autofree guint8 *noise = g_malloc(65536);
    fill_noise(noise, 65536, test_seed());
    CHECK_NUMBER(verify(noise, 65536).verified, EK_VERIFIED_NOT);
    memset(noise, 0, 65536);
    CHECK_NUMBER(verify(noise, 65536).verified, EK_VERIFIED_NOT);
}

/* --- what is packed -----------------------------------------------------------------------------
 */

/* One frame of Zstandard with a checksum, or without. */
static gsize pack_frame(const guint8 *data, gsize length, int level, int sum, guint8 *out,
                        gsize most)
{
    ZSTD_CCtx *packer = ZSTD_createCCtx();
    ZSTD_CCtx_setParameter(packer, ZSTD_c_compressionLevel, level);
    ZSTD_CCtx_setParameter(packer, ZSTD_c_checksumFlag, sum);
    gsize packed = ZSTD_compress2(packer, out, most, data, length);
    CHECK(!ZSTD_isError(packed));
    ZSTD_freeCCtx(packer);
    return packed;
}

/* A third of it in each of three files, so that one is in the middle. */
static void write_entries(struct archive *archive, const guint8 *data, gsize length, guint count)
{
    struct archive_entry *entry = archive_entry_new();
    for (guint i = 0; i < count; i++) {
        gsize first = length / count * i;
        gsize part = i + 1 < count ? length / count : length - first;
        g_autofree char *name = g_strdup_printf("tray-%u.csv", i + 1);
        archive_entry_clear(entry);
        archive_entry_set_filetype(entry, AE_IFREG);
        archive_entry_set_pathname(entry, name);
        archive_entry_set_size(entry, (gint64)part);
        archive_entry_set_mtime(entry, 1780000000, 0);
        archive_write_header(archive, entry);
        archive_write_data(archive, data + first, part);
    }
    archive_entry_free(entry);
}

/* Packs `length` bytes; options as libarchive has them: "xz:…", "bzip2:…" or "7zip:…", or "zstd:"
 * and a level. */
static guint8 *pack(const guint8 *data, gsize length, const char *options, gsize *packed)
{
    gsize most = length + (1u << 20);
    guint8 *out = g_malloc0(most);
    if (g_str_has_prefix(options, "zstd:")) {
        *packed = pack_frame(data, length, (int)strtol(options + 5, NULL, 10), 1, out, most);
        return out;
    }
    struct archive *archive = archive_write_new();
    gboolean is_seven = g_str_has_prefix(options, "7zip");
    if (is_seven)
        archive_write_set_format_7zip(archive);
    else
        archive_write_set_format_raw(archive);
    if (g_str_has_prefix(options, "xz"))
        archive_write_add_filter_xz(archive);
    else if (!is_seven)
        archive_write_add_filter_bzip2(archive);
    archive_write_set_options(archive, options);
    archive_write_set_bytes_in_last_block(archive, 1);
    archive_write_open_memory(archive, out, most, packed);
    write_entries(archive, data, length, is_seven ? 3 : 1);
    archive_write_free(archive);
    return out;
}

/* Text, noise, long runs and near repeats, in an order that differs by seed. */
static guint8 *make_content(gsize length, guint32 seed)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint8 *data = g_malloc(length);
    for (gsize at = 0; at < length;) {
        gsize drawn = (gsize)g_rand_int_range(random, 1, 70000);
        gsize part = MIN(length - at, drawn);
        gint what = g_rand_int_range(random, 0, 4);
        if (what == 0)
            fill_noise(data + at, part, g_rand_int(random));
        else if (what == 1)
            memset(data + at, g_rand_int_range(random, 0, 256), part);
        else if (what == 2 && at > 0)
            for (gsize i = 0; i < part; i++)
                data[at + i] = (guint8)(data[(at + i) % at] + (i % 97 == 0));
        else
            for (gsize i = 0; i < part; i++)
                data[at + i] = (guint8)("tray, day, seedlings\n"[(i * 7 + i / 21) % 21]);
        at += part;
    }
    return data;
}

static void packed_files_are_unpacked(void)
{
    static const char *const options[] = {"xz:compression-level=0",
                                          "xz:compression-level=6",
                                          "xz:compression-level=9",
                                          "bzip2:compression-level=1",
                                          "bzip2:compression-level=9",
                                          "zstd:1",
                                          "zstd:19",
                                          "7zip:compression=lzma1",
                                          "7zip:compression=lzma2",
                                          "7zip:compression=store"};
    static const gsize lengths[] = {1, 4096, 300000, 5000000};
    for (gsize i = 0; i < G_N_ELEMENTS(lengths) - (is_sanitized() ? 1 : 0); i++)
        for (gsize k = 0; k < G_N_ELEMENTS(options); k++) {
            gsize length = 0;
            g_autofree guint8 *data = make_content(lengths[i], test_seed() + (guint32)i);
            g_autofree guint8 *packed = pack(data, lengths[i], options[k], &length);
            EkVerification found = verify(packed, (length + 511) / 512 * 512);
            CHECK_NUMBER(found.verified, EK_VERIFIED_RIGHT);
            CHECK_CONTAINS(found.followed.why, " unpacked");
            CHECK_NUMBER(found.at, length);
        }
}

/* Some bits say nothing: another program unpacks the same. */
static gboolean says_the_same(const guint8 *packed, gsize length, const guint8 *data, gsize bytes)
{
    struct archive *archive = archive_read_new();
    struct archive_entry *entry = NULL;
    g_autofree guint8 *unpacked = g_malloc(bytes + 1);
    gsize done = 0;
    archive_read_support_filter_all(archive);
    archive_read_support_format_raw(archive);
    archive_read_support_format_7zip(archive);
    gboolean fine = archive_read_open_memory(archive, packed, length) == ARCHIVE_OK;
    while (fine && archive_read_next_header(archive, &entry) == ARCHIVE_OK)
        for (la_ssize_t got = 1; fine && got > 0; done += (gsize)MAX(got, 0)) {
            got = archive_read_data(archive, unpacked + done, bytes + 1 - done);
            fine = got >= 0;
        }
    archive_read_free(archive);
    return fine && done == bytes && memcmp(unpacked, data, bytes) == 0;
}

/* Whatever bit differs, it is not right; and following it ends. */
static void a_bit_makes_it_wrong(void)
{
    static const char *const options[] = {
        "xz:compression-level=6", "bzip2:compression-level=1", "zstd:3",
        "7zip:compression=lzma1", "7zip:compression=lzma2",    "7zip:compression=store"};
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autofree guint8 *data = make_content(200000, test_seed());
    for (gsize k = 0; k < G_N_ELEMENTS(options); k++) {
        gsize length = 0;
        guint right = 0;
        g_autofree guint8 *packed = pack(data, 200000, options[k], &length);
        for (guint i = 0; i < (is_sanitized() ? 150u : 300u); i++) {
            gsize at = i < 100 ? i : (gsize)g_rand_int_range(random, 0, (gint32)length);
            guint8 was = packed[at];
            packed[at] = (guint8)(was ^ (1u << g_rand_int_range(random, 0, 8)));
            EkVerification found = verify(packed, (length + 511) / 512 * 512);
            gboolean is_right =
                found.verified == EK_VERIFIED_RIGHT && !says_the_same(packed, length, data, 200000);
            if (is_right)
                printf("%s: byte %" G_GSIZE_FORMAT " of %" G_GSIZE_FORMAT " ", options[k], at,
                       length);
            right += is_right ? 1 : 0;
            packed[at] = was;
        }
        CHECK_NUMBER(right, 0);
    }
}

/* What is packed in a way that is not unpacked here, and what has no checksum. */
static void what_is_not_checked_is_not_called_right(void)
{
    static const char *const options[] = {"7zip:compression=bzip2", "7zip:compression=deflate",
                                          "7zip:compression=ppmd"};
    gsize length = 0;
    g_autofree guint8 *data = make_content(200000, test_seed());
    for (gsize k = 0; k < G_N_ELEMENTS(options); k++) {
        g_autofree guint8 *packed = pack(data, 200000, options[k], &length);
        EkVerification found = verify(packed, (length + 511) / 512 * 512);
        CHECK_NUMBER(found.verified, EK_VERIFIED_NOT);
        CHECK_CONTAINS(found.followed.why, "not checked");
    }
    g_autofree guint8 *frame = g_malloc0(300000);
    length = pack_frame(data, 200000, 3, 0, frame, 300000);
    EkVerification found = verify(frame, (length + 511) / 512 * 512);
    CHECK_NUMBER(found.verified, EK_VERIFIED_NOT);
    CHECK_CONTAINS(found.followed.why, "no checksum");
    /* A few bytes that come to gigabytes are not unpacked, whoever sent them. */
    g_autofree guint8 *zeros = g_malloc0(60u << 20);
    length = pack_frame(zeros, 60u << 20, 19, 1, frame, 300000);
    CHECK_NUMBER(verify(frame, (length + 511) / 512 * 512).verified, EK_VERIFIED_NOT);
}

/* Headers of 7z that say anything at all: reading one comes to an end. */
static void hostile_headers_end(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    guint read = 0;
    for (guint i = 0; i < 20000; i++) {
        guint8 bytes[96];
        static const guint8 likely[] = {0, 1, 2, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 0x21, 0xff};
        for (gsize k = 0; k < sizeof bytes; k++)
            bytes[k] = g_rand_int_range(random, 0, 5) == 0
                           ? (guint8)g_rand_int(random)
                           : likely[g_rand_int_range(random, 0, G_N_ELEMENTS(likely))];
        bytes[0] = i % 2 == 0 ? 0x01 : 0x17;
        bytes[1] = i % 2 == 0 ? 0x04 : bytes[1];
        EkSevenHeader *header = ek_seven_header_read((EkSpan){bytes, sizeof bytes});
        read += header != NULL;
        if (header != NULL)
            ek_seven_header_free(header);
    }
    CHECK(read < 20000);
}

static void count(void *data, const guint8 *bytes, gsize length)
{
    (void)bytes;
    *(gsize *)data += length;
}

/* Chunks that no packer makes. */
static void hostile_chunks_end(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autofree guint8 *chunk = g_malloc(EK_LZMA_CHUNK_MOST);
    for (guint i = 0; i < 300; i++) {
        g_autoptr(EkLzma) lzma = ek_lzma_new((guint64)1 << g_rand_int_range(random, 0, 40));
        for (guint k = 0; k < 6; k++) {
            gsize out = 0;
            fill_noise(chunk, EK_LZMA_CHUNK_MOST, g_rand_int(random));
            static const guint8 controls[] = {0xe0, 0xff, 0x80, 0xa0, 0xc0, 1, 2};
            chunk[0] = controls[g_rand_int_range(random, 0, G_N_ELEMENTS(controls))];
            chunk[5] = (guint8)g_rand_int_range(random, 0, 225);
            chunk[6] = 0;
            gsize length = ek_lzma_chunk_bytes((EkSpan){chunk, 6});
            CHECK(length > 1 && length <= EK_LZMA_CHUNK_MOST);
            (void)ek_lzma_chunk(lzma, (EkSpan){chunk, length}, count, &out);
            CHECK(out <= 2u << 20);
        }
    }
    g_autoptr(EkLzma) lzma = ek_lzma_new(4096);
    gsize out = 0;
    CHECK(!ek_lzma_chunk(lzma, (EkSpan){chunk, 0}, count, &out));
    chunk[0] = 3;
    CHECK_NUMBER(ek_lzma_chunk_bytes((EkSpan){chunk, 6}), 0);
}

static void sums_are_those_of_the_books(void)
{
    EkSpan nine = {(const guint8 *)"123456789", 9};
    CHECK(ek_crc64(0, nine) == G_GUINT64_CONSTANT(0x995dc9bbdf1939fa));
    CHECK_NUMBER(ek_crc32_forward(~0u, nine), 0x0376e6e7);
    guint8 noise[77];
    fill_noise(noise, sizeof noise, test_seed());
    guint32 whole = ek_crc32_forward(0, (EkSpan){noise, sizeof noise});
    for (gsize i = 0; i <= sizeof noise; i++) {
        guint32 part = ek_crc32_forward(0, (EkSpan){noise, i});
        CHECK_NUMBER(ek_crc32_forward(part, (EkSpan){noise + i, sizeof noise - i}), whole);
    }
    guint64 first = ek_crc64(0, (EkSpan){nine.data, 4});
    CHECK(ek_crc64(first, (EkSpan){nine.data + 4, 5}) == ek_crc64(0, nine));
}

int main(void)
{
    static const Test tests[] = {
        {"specimens are right", specimens_are_right},
        {"nothing else is", nothing_else_is},
        {"packed files are unpacked", packed_files_are_unpacked},
        {"a bit makes it wrong", a_bit_makes_it_wrong},
        {"what is not checked is not called right", what_is_not_checked_is_not_called_right},
        {"hostile headers end", hostile_headers_end},
        {"hostile chunks end", hostile_chunks_end},
        {"sums are those of the books", sums_are_those_of_the_books},
    };
    return RUN_TESTS("verify", tests);
}
