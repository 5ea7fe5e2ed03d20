/* SPDX-License-Identifier: MIT */
/* Tests of core/base. */
#include "base/bytes.h"
#include "base/checksum.h"
#include "base/digest.h"
#include "base/text.h"
#include "base/units.h"
#include "check.h"

#include <string.h>

static void numbers_are_read_within_bounds(void)
{
    const guint8 bytes[] = {0x01, 0x02, 0x03, 0x04, 0x05, 0x06, 0x07, 0x08, 0x09};
    EkSpan span = {bytes, sizeof bytes};
    CHECK_NUMBER(ek_span_u8(span, 8), 9);
    CHECK_NUMBER(ek_span_le16(span, 0), 0x0201);
    CHECK_NUMBER(ek_span_le32(span, 1), 0x05040302);
    CHECK(ek_span_le64(span, 1) == 0x0908070605040302u);
    CHECK_NUMBER(ek_span_u8(span, 9), 0);
    CHECK_NUMBER(ek_span_le16(span, 8), 0);
    CHECK_NUMBER(ek_span_le32(span, 6), 0);
    CHECK_NUMBER(ek_span_le64(span, 2), 0);
    CHECK_NUMBER(ek_span_le32(span, G_MAXSIZE), 0);
    CHECK(!ek_span_has(span, 5, 5));
    CHECK(ek_span_has(span, 9, 0));
    CHECK_NUMBER(ek_span_part(span, 7, 100).length, 2);
    CHECK_NUMBER(ek_span_part(span, 100, 100).length, 0);
    CHECK(!ek_span_equals(span, 8, "\x09\x0a", 2));
}

static void numbers_are_written_as_they_are_read(void)
{
    guint8 out[8];
    ek_put_le64(out, 0x1122334455667788u);
    CHECK(ek_span_le64((EkSpan){out, 8}, 0) == 0x1122334455667788u);
    CHECK_NUMBER(out[0], 0x88);
}

static void ranges_do_not_wrap(void)
{
    EkRange range;
    CHECK(ek_range_checked(10, 20, 30, &range));
    CHECK_NUMBER(ek_range_end(range), 30);
    CHECK(!ek_range_checked(11, 20, 30, &range));
    CHECK(!ek_range_checked(G_MAXUINT64, 2, G_MAXUINT64, &range));
    CHECK(!ek_range_checked(2, G_MAXUINT64, G_MAXUINT64, &range));
    CHECK(ek_ranges_overlap((EkRange){0, 10}, (EkRange){9, 1}));
    CHECK(!ek_ranges_overlap((EkRange){0, 10}, (EkRange){10, 1}));
    CHECK_NUMBER(ek_divide_up(G_MAXUINT64, 2), 1ull << 63);
}

static void zeros_are_told_from_the_rest(void)
{
    guint8 bytes[4096] = {0};
    CHECK(ek_bytes_are_zero(bytes, sizeof bytes));
    CHECK(ek_bytes_are_zero(bytes, 0));
    for (gsize at = 0; at < sizeof bytes; at += 273) {
        bytes[at] = 1;
        CHECK(!ek_bytes_are_zero(bytes, sizeof bytes));
        bytes[at] = 0;
    }
    bytes[sizeof bytes - 1] = 1;
    CHECK(!ek_bytes_are_zero(bytes, sizeof bytes));
}

static void check_taken(char *got, const char *wanted)
{
    CHECK_TEXT(got, wanted);
    g_free(got);
}

static void sizes_and_times_read_well(void)
{
    check_taken(ek_text_size(0), "0 B");
    check_taken(ek_text_size(1023), "1023 B");
    check_taken(ek_text_size(1024), "1.0 KiB");
    check_taken(ek_text_size(1048575), "1.0 MiB");
    check_taken(ek_text_size(160ull << 30), "160.0 GiB");
    check_taken(ek_text_size(G_MAXUINT64), "16.0 EiB");
    check_taken(ek_text_label_size(160000000000), "160 GB");
    check_taken(ek_text_label_size(4000787030016), "4 TB");
    check_taken(ek_text_duration(-1), "0 s");
    check_taken(ek_text_duration(0), "0 s");
    check_taken(ek_text_duration(0.00002), "1 ms");
    check_taken(ek_text_duration(0.3), "300 ms");
    check_taken(ek_text_duration(0.9999), "1 s");
    check_taken(ek_text_duration(59.4), "59 s");
    check_taken(ek_text_duration(250), "4 min 10 s");
    check_taken(ek_text_duration(4320), "1 h 12 min");
    check_taken(ek_text_duration(273600), "3 d 4 h");
    check_taken(ek_text_duration(1e300), "years");
    check_taken(ek_text_share(0, 100), "0 %");
    check_taken(ek_text_share(100, 100), "100 %");
    check_taken(ek_text_share(1, 1000000000), "<0.01 %");
    check_taken(ek_text_share(999999999, 1000000000), ">99.99 %");
    check_taken(ek_text_share(1, 2), "50.0 %");
    check_taken(ek_text_count(1, "file", "files"), "1 file");
    check_taken(ek_text_count(0, "file", "files"), "0 files");
}

static void names_cannot_move_the_cursor(void)
{
    check_taken(ek_text_escape("Größe 種子.txt"), "Größe 種子.txt");
    check_taken(ek_text_escape("a\033[2Jb\n\\"), "a\\x1B[2Jb\\x0A\\\\");
    check_taken(ek_text_escape("bad\xff\xc3"), "bad\\xFF\\xC3");
    check_taken(ek_text_escape("\xe2\x80\xae"
                               "gpj.exe"),
                "\\u202Egpj.exe");
    check_taken(ek_text_escape("\xc2\x9b"), "\\x9B");
}

static void hex_goes_both_ways(void)
{
    const guint8 bytes[] = {0x00, 0xab, 0x10};
    check_taken(ek_text_hex(bytes, 3, ' '), "00 ab 10");
    check_taken(ek_text_hex(bytes, 0, ' '), "");
    g_autoptr(GBytes) back = ek_text_from_hex("00aB10");
    CHECK_NUMBER(g_bytes_get_size(back), 3);
    CHECK_BYTES(g_bytes_get_data(back, NULL), bytes, 3);
    CHECK(ek_text_from_hex("0") == NULL);
    CHECK(ek_text_from_hex("0g") == NULL);
    guint64 value = 0;
    CHECK(ek_text_parse_u64("18446744073709551615", &value) && value == G_MAXUINT64);
    CHECK(!ek_text_parse_u64("18446744073709551616", &value));
    CHECK(!ek_text_parse_u64("-1", &value));
    CHECK(!ek_text_parse_u64("1 ", &value));
    CHECK(!ek_text_parse_u64("", &value));
}

static void sha256_is_the_standard_one(void)
{
    guint8 sum[EK_SHA256_BYTES];
    ek_sha256_of("abc", 3, sum);
    g_autofree char *hex = ek_text_hex(sum, sizeof sum, '\0');
    CHECK_TEXT(hex, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

static void block_sums_do_not_depend_on_order(void)
{
    guint8 data[5 * 512 + 100];
    for (gsize i = 0; i < sizeof data; i++)
        data[i] = (guint8)(i * 7 + i / 512);
    guint64 whole = ek_block_sum(8, 512, data, sizeof data);
    guint64 parts = ek_block_sum(11, 512, data + 3 * 512, sizeof data - 3 * 512);
    parts += ek_block_sum(8, 512, data, 3 * 512);
    CHECK(whole == parts);
    CHECK(whole != ek_block_sum(9, 512, data, sizeof data));
    data[sizeof data - 1] ^= 1;
    CHECK(whole != ek_block_sum(8, 512, data, sizeof data));
}

/* The values that catalogues of these sums give for the nine digits. */
static void sums_are_those_of_their_catalogues(void)
{
    EkSpan digits = {(const guint8 *)"123456789", 9};
    CHECK_NUMBER(ek_crc32(digits), 0xcbf43926);
    CHECK_NUMBER(ek_crc32c(G_MAXUINT32, digits) ^ G_MAXUINT32, 0xe3069283);
    CHECK_NUMBER(ek_crc16_from(0, digits), 0xbb3d);
    CHECK_NUMBER(ek_crc16_from(0xffff, digits), 0x4b37);
    CHECK_NUMBER(ek_crc16(digits), 0x31c3);
    /* Backwards it leads to where it began. */
    for (guint32 seed = 0; seed < 0xf0000000u; seed += 0x0fedcba9u)
        CHECK_NUMBER(ek_crc32c_before(ek_crc32c(seed, digits), digits), seed);
}

int main(void)
{
    static const Test tests[] = {
        {"numbers are read within bounds", numbers_are_read_within_bounds},
        {"numbers are written as they are read", numbers_are_written_as_they_are_read},
        {"sums are those of their catalogues", sums_are_those_of_their_catalogues},
        {"ranges do not wrap", ranges_do_not_wrap},
        {"zeros are told from the rest", zeros_are_told_from_the_rest},
        {"sizes and times read well", sizes_and_times_read_well},
        {"names cannot move the cursor", names_cannot_move_the_cursor},
        {"hex goes both ways", hex_goes_both_ways},
        {"SHA-256 is the standard one", sha256_is_the_standard_one},
        {"block sums do not depend on order", block_sums_do_not_depend_on_order},
    };
    return RUN_TESTS("base", tests);
}
