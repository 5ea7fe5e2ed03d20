/* SPDX-License-Identifier: MIT */
/* Drives made to mislead: beginnings of files in every sector, and texts in which others begin. */
#include "carve/content.h"
#include "carve/textends.h"
#include "carved.h"
#include "check.h"

#include <string.h>
#include <zlib.h>

#define SECTOR 512u
#define CROWD 200u /* beginnings on each side of what is whole */

/* --- drives full of beginnings ---------------------------------------------------------------- */

/* So many sectors that begin as a file does, and go on as nothing. */
static void put_crowd(Drive *drive, const Specimen *specimen, guint count)
{
    for (guint i = 0; i < count; i++) {
        drive_put(drive, specimen->data, MIN(specimen->length, 64 + i % 400));
        drive_pad(drive, SECTOR, TRUE);
    }
}

/* What is whole is found in a crowd of its own kind, and hardly anything else is. */
static void what_is_whole_is_found_in_a_crowd(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    guint tested = 0;
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        if (!specimen->proves || specimen->length < 8192)
            continue;
        Bench bench;
        Drive drive = drive_new(seed + i);
        put_crowd(&drive, specimen, CROWD);
        EkByte at = drive_put(&drive, specimen->data, specimen->length);
        drive_pad(&drive, SECTOR, FALSE);
        put_crowd(&drive, specimen, CROWD);
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 2, TRUE);
        const EkFound *own = carved_at(found, at);
        /* Packs of a film before it may be of it. */
        gboolean is_found = own != NULL && own->state != EK_CONTENT_CUT &&
                            (own->state == EK_CONTENT_WHOLE || own->followed.is_tail) &&
                            carved_is_same(&bench, own, specimen);
        if (!is_found)
            g_printerr("%s is lost in a crowd\n", specimen->type);
        CHECK(is_found);
        guint others = 0;
        for (guint k = 0; k < found->len; k++) {
            const EkFound *one = found->pdata[k];
            CHECK(one == own || one->state != EK_CONTENT_WHOLE);
            others += one != own && g_str_equal(one->type->name, specimen->type) ? 1 : 0;
        }
        if (others > CROWD / 5)
            g_printerr("%u of %s are listed\n", others, specimen->type);
        CHECK(others <= CROWD / 5);
        tested++;
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
    CHECK(tested >= 10);
}

/* A PNG of a few dots. */
static void append_small_png(GByteArray *png, guint8 shade)
{
    static const guint8 signature[] = {0x89, 'P', 'N', 'G', '\r', '\n', 0x1a, '\n'};
    static const guint8 head[] = {0, 0, 0, 4, 0, 0, 0, 4, 8, 0, 0, 0, 0};
    guint8 rows[20];
    guint8 packed[64];
    memset(rows, shade, sizeof rows);
    for (guint y = 0; y < 4; y++)
        rows[y * 5] = 0;
    uLongf length = sizeof packed;
    CHECK_NUMBER(compress(packed, &length, rows, sizeof rows), Z_OK);
    g_byte_array_append(png, signature, sizeof signature);
    png_chunk(png, "IHDR", head, sizeof head);
    png_chunk(png, "IDAT", packed, (guint)length);
    png_chunk(png, "IEND", NULL, 0);
}

/* Small files lie close together as well; they end before the next one begins. */
static void small_whole_files_are_no_crowd(void)
{
    Bench bench;
    Drive drive = drive_new(test_seed());
    for (guint i = 0; i < 100; i++) {
        g_autoptr(GByteArray) png = g_byte_array_new();
        append_small_png(png, (guint8)i);
        drive_put(&drive, png->data, png->len);
        drive_pad(&drive, SECTOR, i % 2 == 0);
    }
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 2, TRUE);
    CHECK_NUMBER(found->len, 100);
    for (guint i = 0; i < found->len; i++)
        CHECK_NUMBER(((const EkFound *)found->pdata[i])->state, EK_CONTENT_WHOLE);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static void append_member(GByteArray *tar, guint number, gsize bytes)
{
    char header[SECTOR] = {0};
    guint sum = 0;
    g_snprintf(header, 100, "readings/tray %u.csv", number);
    memcpy(header + 100, "0000644", 8);
    memcpy(header + 108, "0001750", 8);
    memcpy(header + 116, "0001750", 8);
    g_snprintf(header + 124, 12, "%011o", (guint)bytes);
    memcpy(header + 136, "15023456701", 12);
    memset(header + 148, ' ', 8);
    header[156] = '0';
    memcpy(header + 257, "ustar\00000", 8);
    for (gsize i = 0; i < sizeof header; i++)
        sum += (guint8)header[i];
    g_snprintf(header + 148, 8, "%06o", sum);
    g_byte_array_append(tar, (const guint8 *)header, sizeof header);
    for (gsize i = 0; i < bytes; i++)
        g_byte_array_append(tar, (const guint8 *)&"tray;day;4.2\n"[(number + i) % 13], 1);
    while (tar->len % SECTOR != 0)
        g_byte_array_append(tar, (const guint8 *)"", 1);
}

/* The header of each file in a tar is like the first one. */
static void an_archive_of_small_files_is_no_crowd(void)
{
    static const guint8 nothing[2 * SECTOR];
    Bench bench;
    Drive drive = drive_new(test_seed());
    guint32 seed = test_seed();
    g_autoptr(GByteArray) tar = g_byte_array_new();
    for (guint i = 0; i < 200; i++)
        append_member(tar, i, 30 + (i * 37 + seed) % 900);
    g_byte_array_append(tar, nothing, sizeof nothing);
    EkByte at = drive_put(&drive, tar->data, tar->len);
    drive_noise(&drive, 4096);
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 2, TRUE);
    const EkFound *own = carved_at(found, at);
    CHECK(own != NULL && own->state != EK_CONTENT_CUT && own->bytes >= tar->len - sizeof nothing);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* Who looks at what first makes no difference. */
static void any_number_of_threads_finds_the_same(void)
{
    g_autoptr(GPtrArray) specimens = specimens_new(test_seed());
    Bench bench;
    Drive drive = drive_new(test_seed());
    for (guint i = 0; i < specimens->len; i++) {
        put_crowd(&drive, specimens->pdata[i], 20 + i);
        const Specimen *specimen = specimens->pdata[(i * 7) % specimens->len];
        drive_put(&drive, specimen->data, specimen->length);
        drive_pad(&drive, SECTOR, i % 2 == 0);
    }
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) one = carved_search(&bench, 1, TRUE);
    for (guint threads = 2; threads <= 3; threads++) {
        g_autoptr(GPtrArray) other = carved_search(&bench, threads, TRUE);
        CHECK_NUMBER(other->len, one->len);
        for (guint i = 0; i < MIN(one->len, other->len); i++) {
            const EkFound *a = one->pdata[i];
            const EkFound *b = other->pdata[i];
            CHECK_NUMBER(carved_place(a), carved_place(b));
            CHECK_NUMBER(a->bytes, b->bytes);
            CHECK_TEXT(a->why, b->why);
        }
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* --- many files in one text ------------------------------------------------------------------- */

/* What was noted for one beginning says the same of another as looking again would. */
static void notes_of_text_change_nothing(void)
{
    static const char *const marks[] = {"</html>", "END:VCARD", "</KML>"};
    guint32 seed = test_seed();
    for (guint round = 0; round < 6; round++) {
        Bench bench;
        Drive drive = drive_new(seed + round);
        for (guint part = 0; part < 4; part++) {
            drive_text(&drive, 20000 + (seed + part * 977) % 50000);
            const char *mark = marks[(round + part) % 3];
            drive_put(&drive, (const guint8 *)mark, strlen(mark));
            drive_text(&drive, part * 7001);
            if (part % 2 == round % 2)
                drive_noise(&drive, 700);
        }
        drive_pad(&drive, SECTOR, FALSE);
        drive_open(&drive, &bench);
        EkByte bytes = ek_reader_bytes(bench.reader);
        g_autoptr(EkContent) noted = ek_content_new(bench.reader);
        for (guint try = 0; try < 60; try++) {
            /* Forward, and now and then back. */
            EkByte first = (EkByte)(try * 37 + (try % 5 == 0 ? 11 : 0)) * SECTOR % bytes;
            g_autoptr(EkContent) fresh = ek_content_new(bench.reader);
            EkRange rest = {first, bytes - first};
            ek_content_lay(noted, &rest, 1);
            ek_content_lay(fresh, &rest, 1);
            if (try % 4 == 3) {
                ek_content_cut(noted, 9000);
                ek_content_cut(fresh, 9000);
            }
            EkByte end = ek_text_end(fresh, 60000);
            CHECK_NUMBER(ek_text_end(noted, 60000), end);
            for (gsize i = 0; i < G_N_ELEMENTS(marks); i++) {
                EkByte one = 0;
                EkByte other = 0;
                g_autoptr(EkContent) anew = ek_content_new(bench.reader);
                ek_content_lay(anew, &rest, 1);
                gboolean is_there = ek_text_last_mark(anew, end, marks[i], &one);
                CHECK_NUMBER(ek_text_last_mark(noted, end, marks[i], &other), is_there);
                CHECK(!is_there || one == other);
            }
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"what is whole is found in a crowd", what_is_whole_is_found_in_a_crowd},
        {"small whole files are no crowd", small_whole_files_are_no_crowd},
        {"an archive of small files is no crowd", an_archive_of_small_files_is_no_crowd},
        {"any number of threads finds the same", any_number_of_threads_finds_the_same},
        {"notes of text change nothing", notes_of_text_change_nothing},
    };
    return RUN_TESTS("crowds", tests);
}
