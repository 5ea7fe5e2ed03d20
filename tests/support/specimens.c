/* SPDX-License-Identifier: MIT */
/* Files of many types. */
#include "specimens.h"

#include "composed.h"

#include "base/bytes.h"
#include "base/checksum.h"
#include "fixture.h"

#include <archive.h>
#include <archive_entry.h>
#include <cairo-pdf.h>
#include <cairo-svg.h>
#include <cairo.h>
#include <jpeglib.h>
#include <sqlite3.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>
#include <zlib.h>

#define WIDTH 311u
#define HEIGHT 205u

void specimen_free(void *data)
{
    Specimen *specimen = data;
    g_free(specimen->data);
    g_free(specimen);
}

static void add(GPtrArray *list, const char *type, const char *ending, const void *data,
                gsize length, gboolean joins, gboolean proves)
{
    Specimen *specimen = g_new0(Specimen, 1);
    *specimen = (Specimen){type, ending, g_memdup2(data, length), length, joins, proves};
    g_ptr_array_add(list, specimen);
}

void compose_box(GByteArray *to, const char *name, const void *body, gsize length)
{
    compose_number(to, length + 8, 4, TRUE);
    compose_bytes(to, name, 4);
    compose_bytes(to, body, length);
}

void compose_noise(GByteArray *bytes, gsize length, guint32 seed)
{
    gsize at = bytes->len;
    g_byte_array_set_size(bytes, (guint)(at + length));
    fill_noise(bytes->data + at, length, seed);
}

void compose_add(GPtrArray *list, const char *type, const char *ending, GByteArray *bytes,
                 gboolean joins, gboolean proves)
{
    add(list, type, ending, bytes->data, bytes->len, joins, proves);
    g_byte_array_unref(bytes);
}

static void add_file(GPtrArray *list, const char *type, const char *ending, const char *path,
                     gboolean joins, gboolean proves)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file(path, &length);
    add(list, type, ending, data, length, joins, proves);
    unlink(path);
}

void compose_bytes(GByteArray *bytes, const void *data, gsize length)
{
    g_byte_array_append(bytes, data, (guint)length);
}

void compose_number(GByteArray *bytes, guint64 value, guint width, gboolean big)
{
    for (guint i = 0; i < width; i++) {
        guint8 byte = (guint8)(value >> 8 * (big ? width - 1 - i : i));
        compose_bytes(bytes, &byte, 1);
    }
}

/* --- pictures -------------------------------------------------------------------------------- */

/* A dish of seedlings: discs on a pale ground, with noise, three bytes a dot. */
static guint8 *dots_new(guint32 seed)
{
    guint8 *dots = g_malloc(WIDTH * HEIGHT * 3);
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    for (guint y = 0; y < HEIGHT; y++)
        for (guint x = 0; x < WIDTH; x++) {
            guint disc = (x / 37 * 7 + y / 29 * 11 + seed) % 5;
            gint dx = (gint)(x % 37) - 18;
            gint dy = (gint)(y % 29) - 14;
            gboolean is_in = dx * dx + dy * dy < (gint)(disc * disc * 9);
            for (guint k = 0; k < 3; k++)
                dots[(y * WIDTH + x) * 3 + k] = (guint8)((is_in ? 60 + 40 * k : 200 - 20 * k) +
                                                         (guint)g_rand_int_range(random, 0, 24));
        }
    return dots;
}

static void add_jpeg(GPtrArray *list, const guint8 *dots, gboolean is_progressive, guint interval)
{
    struct jpeg_compress_struct packing;
    struct jpeg_error_mgr errors;
    unsigned char *out = NULL;
    unsigned long length = 0;
    packing.err = jpeg_std_error(&errors);
    jpeg_create_compress(&packing);
    jpeg_mem_dest(&packing, &out, &length);
    packing.image_width = WIDTH;
    packing.image_height = HEIGHT;
    packing.input_components = 3;
    packing.in_color_space = JCS_RGB;
    jpeg_set_defaults(&packing);
    jpeg_set_quality(&packing, 92, TRUE);
    packing.restart_interval = interval;
    if (is_progressive)
        jpeg_simple_progression(&packing);
    jpeg_start_compress(&packing, TRUE);
    while (packing.next_scanline < HEIGHT) {
        JSAMPROW row = (JSAMPROW)(gpointer)(dots + packing.next_scanline * WIDTH * 3);
        jpeg_write_scanlines(&packing, &row, 1);
    }
    jpeg_finish_compress(&packing);
    jpeg_destroy_compress(&packing);
    add(list, "jpeg", "jpg", out, length, FALSE, TRUE);
    free(out);
}

static cairo_surface_t *surface_of(const guint8 *dots)
{
    cairo_surface_t *surface =
        cairo_image_surface_create(CAIRO_FORMAT_RGB24, (int)WIDTH, (int)HEIGHT);
    guint8 *data = cairo_image_surface_get_data(surface);
    int stride = cairo_image_surface_get_stride(surface);
    for (guint y = 0; y < HEIGHT; y++)
        for (guint x = 0; x < WIDTH; x++) {
            const guint8 *dot = dots + (y * WIDTH + x) * 3;
            guint32 word = (guint32)dot[0] << 16 | (guint32)dot[1] << 8 | dot[2];
            memcpy(data + y * (gsize)stride + x * 4, &word, sizeof word);
        }
    cairo_surface_mark_dirty(surface);
    return surface;
}

static cairo_status_t take(void *data, const unsigned char *bytes, unsigned int length)
{
    compose_bytes(data, bytes, length);
    return CAIRO_STATUS_SUCCESS;
}

static void add_drawn(GPtrArray *list, const guint8 *dots, guint32 seed)
{
    cairo_surface_t *picture = surface_of(dots);
    GByteArray *png = g_byte_array_new();
    cairo_surface_write_to_png_stream(picture, take, png);
    compose_add(list, "png", "png", png, TRUE, TRUE);
    GByteArray *pdf = g_byte_array_new();
    cairo_surface_t *page = cairo_pdf_surface_create_for_stream(take, pdf, 500, 700);
    cairo_pdf_surface_set_metadata(page, CAIRO_PDF_METADATA_TITLE, "Germination trials");
    cairo_t *pen = cairo_create(page);
    for (guint i = 0; i < 3; i++) {
        cairo_set_source_surface(pen, picture, 20, 30 + i * 220);
        cairo_paint(pen);
        cairo_set_source_rgb(pen, 0, 0, 0);
        for (guint k = 0; k < 20; k++) {
            cairo_move_to(pen, 30 + (seed >> k) % 90, 500 + 9 * k);
            cairo_line_to(pen, 400, 500 + 9 * k + i);
            cairo_stroke(pen);
        }
        cairo_show_page(pen);
    }
    cairo_destroy(pen);
    cairo_surface_destroy(page);
    cairo_surface_destroy(picture);
    compose_add(list, "pdf", "pdf", pdf, TRUE, TRUE);
}

static void add_bitmap(GPtrArray *list, const guint8 *dots)
{
    guint row = (WIDTH * 3 + 3) / 4 * 4;
    GByteArray *bmp = g_byte_array_new();
    compose_bytes(bmp, "BM", 2);
    compose_number(bmp, 54 + (guint64)row * HEIGHT, 4, FALSE);
    compose_number(bmp, 0, 4, FALSE);
    compose_number(bmp, 54, 4, FALSE);
    compose_number(bmp, 40, 4, FALSE);
    compose_number(bmp, WIDTH, 4, FALSE);
    compose_number(bmp, HEIGHT, 4, FALSE);
    compose_number(bmp, 1, 2, FALSE);
    compose_number(bmp, 24, 2, FALSE);
    compose_number(bmp, 0, 4, FALSE);
    compose_number(bmp, (guint64)row * HEIGHT, 4, FALSE);
    compose_number(bmp, 0, 8, FALSE);
    compose_number(bmp, 0, 8, FALSE);
    for (guint y = 0; y < HEIGHT; y++) {
        compose_bytes(bmp, dots + y * WIDTH * 3, WIDTH * 3);
        compose_number(bmp, 0, row - WIDTH * 3, FALSE);
    }
    compose_add(list, "bmp", "bmp", bmp, FALSE, FALSE);
}

/* A picture in one piece, packed so (TIFF 6.0); its directory is behind it. */
static void add_tiff(GPtrArray *list, const GByteArray *packed, guint16 compression)
{
    GByteArray *tiff = g_byte_array_new();
    const guint16 tags[][3] = {{256, 3, WIDTH},       {257, 3, HEIGHT}, {258, 3, 8},
                               {259, 3, compression}, {262, 3, 2},      {277, 3, 3},
                               {278, 3, HEIGHT}};
    compose_bytes(tiff, "II*\0", 4);
    compose_number(tiff, 8 + packed->len + (packed->len & 1), 4, FALSE);
    compose_bytes(tiff, packed->data, packed->len);
    compose_number(tiff, 0, packed->len & 1, FALSE);
    compose_number(tiff, G_N_ELEMENTS(tags) + 2, 2, FALSE);
    for (gsize i = 0; i < 5; i++) {
        compose_number(tiff, tags[i][0], 2, FALSE);
        compose_number(tiff, tags[i][1], 2, FALSE);
        compose_number(tiff, 1, 4, FALSE);
        compose_number(tiff, tags[i][2], 4, FALSE);
    }
    compose_number(tiff, 273, 2, FALSE);
    compose_number(tiff, 4, 2, FALSE);
    compose_number(tiff, 1, 4, FALSE);
    compose_number(tiff, 8, 4, FALSE);
    for (gsize i = 5; i < G_N_ELEMENTS(tags); i++) {
        compose_number(tiff, tags[i][0], 2, FALSE);
        compose_number(tiff, tags[i][1], 2, FALSE);
        compose_number(tiff, 1, 4, FALSE);
        compose_number(tiff, tags[i][2], 4, FALSE);
    }
    compose_number(tiff, 279, 2, FALSE);
    compose_number(tiff, 4, 2, FALSE);
    compose_number(tiff, 1, 4, FALSE);
    compose_number(tiff, packed->len, 4, FALSE);
    compose_number(tiff, 0, 4, FALSE);
    compose_add(list, "tiff", "tif", tiff, TRUE, compression != 1);
}

static void add_tiffs(GPtrArray *list, const guint8 *dots)
{
    gsize length = WIDTH * HEIGHT * 3;
    g_autoptr(GByteArray) packed = g_byte_array_new();
    g_byte_array_append(packed, dots, (guint)length);
    add_tiff(list, packed, 1);
    uLongf bytes = compressBound((uLong)length);
    g_byte_array_set_size(packed, (guint)bytes);
    compress2(packed->data, &bytes, dots, (uLong)length, 6);
    g_byte_array_set_size(packed, (guint)bytes);
    add_tiff(list, packed, 8);
    /* One dot a code of nine bits, cleared before codes get longer. */
    g_byte_array_set_size(packed, 0);
    guint32 held = 0;
    guint count = 0;
    for (gsize i = 0; i <= length; i++) {
        guint codes[2] = {i % 200 == 0 ? 256u : 1000u, i == length ? 257u : dots[i]};
        for (guint k = 0; k < 2; k++) {
            if (codes[k] == 1000u)
                continue;
            held = held << 9 | codes[k];
            for (count += 9; count >= 8; count -= 8)
                compose_number(packed, held >> (count - 8) & 0xff, 1, FALSE);
        }
    }
    compose_number(packed, held << (8 - count) & 0xff, 1, FALSE);
    add_tiff(list, packed, 5);
}

/* One dot a code, cleared before codes get longer. */
static void add_gif(GPtrArray *list, const guint8 *dots)
{
    GByteArray *gif = g_byte_array_new();
    GByteArray *packed = g_byte_array_new();
    guint32 held = 0;
    guint count = 0;
    compose_bytes(gif, "GIF89a", 6);
    compose_number(gif, WIDTH, 2, FALSE);
    compose_number(gif, HEIGHT, 2, FALSE);
    compose_bytes(gif, "\xf6\0\0", 3);
    for (guint i = 0; i < 128; i++)
        compose_number(gif, i * 0x010101u << 1, 3, FALSE);
    compose_bytes(gif, ",\0\0\0\0", 5);
    compose_number(gif, WIDTH, 2, FALSE);
    compose_number(gif, HEIGHT, 2, FALSE);
    compose_bytes(gif, "\0\7", 2);
    for (guint i = 0; i <= WIDTH * HEIGHT; i++) {
        guint codes[2] = {i % 100 == 0 ? 128u : 1000u,
                          i == WIDTH * HEIGHT ? 129u : (guint)dots[i * 3] >> 1};
        for (guint k = 0; k < 2; k++) {
            if (codes[k] == 1000u)
                continue;
            held |= codes[k] << count;
            for (count += 8; count >= 8; count -= 8, held >>= 8)
                compose_number(packed, held & 0xff, 1, FALSE);
        }
    }
    for (guint at = 0; at < packed->len; at += 255) {
        guint here = MIN(255, packed->len - at);
        compose_number(gif, here, 1, FALSE);
        compose_bytes(gif, packed->data + at, here);
    }
    compose_bytes(gif, "\0;", 2);
    g_byte_array_unref(packed);
    compose_add(list, "gif", "gif", gif, FALSE, TRUE);
}

/* --- archives -------------------------------------------------------------------------------- */

static void add_archive(GPtrArray *list, const char *type, const char *ending, int format,
                        int filter, gboolean joins, gboolean proves, guint32 seed)
{
    struct archive *archive = archive_write_new();
    struct archive_entry *entry = archive_entry_new();
    g_autofree guint8 *noise = g_malloc(60000);
    GString *table = g_string_new("accession;species;seeds\n");
    fill_noise(noise, 60000, seed);
    for (guint i = 0; i < 3000; i++)
        g_string_append_printf(table, "HF-%04u-%03u;Silene %u;%u\n", 1998 + i % 28, i,
                               noise[i] % 17u, noise[i + 1] * 31u);
    archive_write_set_format(archive, format);
    archive_write_add_filter(archive, filter);
    archive_write_set_bytes_in_last_block(archive, 1);
    archive_write_open_filename(archive, "specimen.tmp");
    const struct {
        const char *name;
        const void *data;
        gsize length;
    } members[] = {{"Cold store/readings.bin", noise, 60000},
                   {"Catalogue.csv", table->str, table->len}};
    for (gsize i = format == ARCHIVE_FORMAT_RAW ? 1 : 0; i < G_N_ELEMENTS(members); i++) {
        archive_entry_clear(entry);
        archive_entry_set_pathname(entry, members[i].name);
        archive_entry_set_size(entry, (gint64)members[i].length);
        archive_entry_set_filetype(entry, AE_IFREG);
        archive_entry_set_perm(entry, 0644);
        archive_entry_set_mtime(entry, 1750000000, 0);
        archive_write_header(archive, entry);
        archive_write_data(archive, members[i].data, members[i].length);
    }
    archive_write_close(archive);
    archive_entry_free(entry);
    archive_write_free(archive);
    g_string_free(table, TRUE);
    add_file(list, type, ending, "specimen.tmp", joins, proves);
}

static void add_member(GByteArray *package, const char *name, const guint8 *data, guint length)
{
    g_autofree char *header = g_strdup_printf("%-16s%-12u%-6u%-6u%-8s%-10u`\n", name, 1750000000u,
                                              0u, 0u, "100644", length);
    g_byte_array_append(package, (const guint8 *)header, 60);
    g_byte_array_append(package, data, length);
    if (length % 2 != 0)
        g_byte_array_append(package, (const guint8 *)"\n", 1);
}

/* As deb(5) has it: its version, and two archives. */
static void add_package(GPtrArray *list, guint32 seed)
{
    g_autoptr(GPtrArray) parts = g_ptr_array_new_with_free_func(specimen_free);
    add_archive(parts, "", "", ARCHIVE_FORMAT_TAR_USTAR, ARCHIVE_FILTER_GZIP, FALSE, FALSE,
                seed + 1);
    add_archive(parts, "", "", ARCHIVE_FORMAT_TAR_USTAR, ARCHIVE_FILTER_XZ, FALSE, FALSE, seed);
    const Specimen *control = parts->pdata[0];
    const Specimen *data = parts->pdata[1];
    g_autoptr(GByteArray) package = g_byte_array_new();
    g_byte_array_append(package, (const guint8 *)"!<arch>\n", 8);
    add_member(package, "debian-binary", (const guint8 *)"2.0\n", 4);
    add_member(package, "control.tar.gz", control->data, (guint)control->length);
    add_member(package, "data.tar.xz", data->data, (guint)data->length);
    add(list, "deb", "deb", package->data, package->len, TRUE, TRUE);
    /* Packed by what nobody here unpacks. */
    guint8 noise[3000];
    fill_noise(noise, sizeof noise, seed);
    g_byte_array_set_size(package, 8);
    add_member(package, "debian-binary", (const guint8 *)"2.0\n", 4);
    add_member(package, "control.tar.lz", noise, 601);
    add_member(package, "data.tar.lz", noise, sizeof noise);
    add(list, "deb", "deb", package->data, package->len, FALSE, FALSE);
    g_byte_array_set_size(package, 8);
    add_member(package, "sowing.txt/", (const guint8 *)"Silene latifolia, 1998\n", 23);
    add_member(package, "readings.o/", noise, 701);
    add(list, "deb", "a", package->data, package->len, FALSE, FALSE);
}

static void make_database(const char *sql)
{
    sqlite3 *store = NULL;
    unlink("specimen.tmp");
    sqlite3_open("specimen.tmp", &store);
    sqlite3_exec(store, sql, NULL, NULL, NULL);
    sqlite3_close(store);
}

static void add_databases(GPtrArray *list, guint32 seed)
{
    g_autofree char *plain =
        g_strdup_printf("CREATE TABLE lot (id INTEGER PRIMARY KEY, species TEXT, seeds INTEGER);"
                        "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM c WHERE x<4000)"
                        " INSERT INTO lot SELECT x,'Silene '||(x*%u%%97),x*%u FROM c;"
                        "CREATE INDEX by_species ON lot (species);",
                        seed | 1, seed % 1000);
    /* Pages that say who points to others, texts over several pages, a table without rows, an index
     * that goes down and one that leaves rows out. */
    g_autofree char *odd = g_strdup_printf(
        "PRAGMA page_size=1024; PRAGMA auto_vacuum=1;"
        "CREATE TABLE lot (id INTEGER PRIMARY KEY, species TEXT, note TEXT CHECK (note <> ','));"
        "CREATE TABLE shelf (code TEXT, slot INT, UNIQUE (slot, code), PRIMARY KEY (code, slot))"
        " WITHOUT ROWID;"
        "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x+1 FROM c WHERE x<700)"
        " INSERT INTO lot SELECT x*3,'Silene '||(x*%u%%97),"
        "  printf('%%.*c',(x*%u%%13)*(x%%5)*40,'s') FROM c;"
        "INSERT INTO shelf SELECT 'C'||(id%%7), id FROM lot;"
        "CREATE INDEX by_species ON lot (species DESC, id);"
        "CREATE INDEX long_ones ON lot (note) WHERE length(note) > 900;"
        "CREATE VIEW few AS SELECT * FROM lot;",
        seed | 1, seed % 1000 + 1);
    g_autofree char *with_free = g_strconcat(plain, "DELETE FROM lot WHERE id > 2000", NULL);
    make_database(plain);
    add_file(list, "sqlite", "sqlite", "specimen.tmp", FALSE, TRUE);
    make_database(odd);
    add_file(list, "sqlite", "sqlite", "specimen.tmp", FALSE, TRUE);
    /* What is in free pages is not checked. */
    make_database(with_free);
    add_file(list, "sqlite", "sqlite", "specimen.tmp", FALSE, FALSE);
}

/* --- sound and film -------------------------------------------------------------------------- */

static void add_sounds(GPtrArray *list, const guint8 *noise)
{
    GByteArray *wav = g_byte_array_new();
    compose_bytes(wav, "RIFF", 4);
    compose_number(wav, 36 + 40000 + 24, 4, FALSE);
    compose_bytes(wav, "WAVEfmt \x10\0\0\0\1\0\1\0\x40\x1f\0\0\x80\x3e\0\0\2\0\x10\0data", 32);
    compose_number(wav, 40000, 4, FALSE);
    compose_bytes(wav, noise, 40000);
    compose_bytes(wav, "LIST\x10\0\0\0INFOINAM\4\0\0\0Reed", 24);
    compose_add(list, "wav", "wav", wav, FALSE, FALSE);
    /* With lengths of 64 bits. */
    GByteArray *large = g_byte_array_new();
    compose_bytes(large, "RF64\xff\xff\xff\xffWAVEds64\x1c\0\0\0", 20);
    compose_number(large, 72 + 39000, 8, FALSE);
    compose_number(large, 39000, 8, FALSE);
    compose_number(large, 19500, 8, FALSE);
    compose_number(large, 0, 4, FALSE);
    compose_bytes(large, "fmt \x10\0\0\0\1\0\1\0\x40\x1f\0\0\x80\x3e\0\0\2\0\x10\0data", 28);
    compose_number(large, G_MAXUINT32, 4, FALSE);
    compose_bytes(large, noise, 39000);
    compose_add(list, "wav", "wav", large, FALSE, FALSE);
    GByteArray *midi = g_byte_array_new();
    compose_bytes(midi, "MThd\0\0\0\6\0\1\0\2\0\x60", 14);
    for (guint i = 0; i < 2; i++) {
        compose_bytes(midi, "MTrk", 4);
        compose_number(midi, 8 * 400 + 4, 4, TRUE);
        for (guint k = 0; k < 400; k++) {
            guint8 event[8] = {0x30, 0x90, noise[k] & 127, 64, 0x30, 0x80, noise[k] & 127, 0};
            compose_bytes(midi, event, 8);
        }
        compose_bytes(midi, "\0\xff\x2f\0", 4);
    }
    compose_add(list, "midi", "mid", midi, FALSE, TRUE);
    GByteArray *avi = g_byte_array_new();
    GByteArray *movi = g_byte_array_new();
    GByteArray *index = g_byte_array_new();
    compose_bytes(movi, "movi", 4);
    for (guint i = 0; i < 30; i++) {
        compose_bytes(index, "00dc\x10\0\0\0", 8);
        compose_number(index, movi->len, 4, FALSE);
        compose_number(index, 2000, 4, FALSE);
        compose_bytes(movi, "00dc", 4);
        compose_number(movi, 2000, 4, FALSE);
        compose_bytes(movi, noise + i * 1000, 2000);
    }
    compose_bytes(avi, "AVI LIST", 8);
    compose_number(avi, 4 + 8 + 56, 4, FALSE);
    compose_bytes(avi, "hdrlavih\x38\0\0\0", 12);
    g_byte_array_set_size(avi, avi->len + 56);
    memset(avi->data + avi->len - 56, 0, 56);
    compose_bytes(avi, "LIST", 4);
    compose_number(avi, movi->len, 4, FALSE);
    compose_bytes(avi, movi->data, movi->len);
    compose_bytes(avi, "idx1", 4);
    compose_number(avi, index->len, 4, FALSE);
    compose_bytes(avi, index->data, index->len);
    GByteArray *film = g_byte_array_new();
    compose_bytes(film, "RIFF", 4);
    compose_number(film, avi->len, 4, FALSE);
    compose_bytes(film, avi->data, avi->len);
    g_byte_array_unref(avi);
    g_byte_array_unref(movi);
    g_byte_array_unref(index);
    compose_add(list, "avi", "avi", film, FALSE, FALSE);
}

/* A box with numbers of four bytes behind its version and flags. */
static GByteArray *table_of(const guint32 *numbers, gsize count)
{
    GByteArray *body = g_byte_array_new();
    compose_number(body, 0, 4, TRUE);
    for (gsize i = 0; i < count; i++)
        compose_number(body, numbers[i], 4, TRUE);
    return body;
}

/* One film in units, its table behind or before its media. */
static void add_mp4(GPtrArray *list, const guint8 *noise, gboolean is_front)
{
    enum { SAMPLES = 25, UNIT = 1500, HEAD = 100, MOOV = 329 + 8 + HEAD };
    GByteArray *file = g_byte_array_new();
    GByteArray *media = g_byte_array_new();
    GByteArray *entry = g_byte_array_new();
    guint32 first = 24 + 8 + (is_front ? MOOV : 0);
    guint32 sizes[2 + SAMPLES] = {0, SAMPLES};
    const guint32 runs[] = {1, 1, SAMPLES, 1};
    const guint32 offsets[] = {1, first};
    for (guint i = 0; i < SAMPLES; i++) {
        sizes[2 + i] = 4 + UNIT;
        compose_number(media, UNIT, 4, TRUE);
        compose_number(media, 0x41, 1, TRUE);
        compose_bytes(media, noise + i * 1000, UNIT - 1);
    }
    compose_number(entry, 0, 4, TRUE);
    compose_number(entry, 1, 4, TRUE);
    compose_number(entry, 86 + 19, 4, TRUE);
    compose_bytes(entry, "avc1", 4);
    g_byte_array_set_size(entry, 8 + 86);
    compose_bytes(entry,
                  "\0\0\0\x13"
                  "avcC\1\x64\0\x1f\xff\xe0\0\0\0\0\0",
                  19);
    GByteArray *parts[] = {entry, table_of(offsets, 2), table_of(sizes, 2 + SAMPLES),
                           table_of(runs, 4)};
    static const char *const names[] = {"stsd", "stco", "stsz", "stsc"};
    GByteArray *body = g_byte_array_new();
    for (gsize i = 0; i < 4; i++) {
        compose_box(body, names[i], parts[i]->data, parts[i]->len);
        g_byte_array_unref(parts[i]);
    }
    static const char *const around[] = {"stbl", "minf", "mdia", "trak", "moov"};
    for (gsize i = 0; i < G_N_ELEMENTS(around); i++) {
        GByteArray *outer = g_byte_array_new();
        if (g_str_equal(around[i], "moov")) {
            GByteArray *inner = g_byte_array_new();
            GByteArray *head = g_byte_array_new();
            compose_number(head, 0, 4, TRUE);
            g_byte_array_set_size(head, HEAD);
            memset(head->data, 0, HEAD);
            compose_box(inner, "mvhd", head->data, head->len);
            compose_bytes(inner, body->data, body->len);
            g_byte_array_unref(head);
            g_byte_array_unref(body);
            body = inner;
        }
        compose_box(outer, around[i], body->data, body->len);
        g_byte_array_unref(body);
        body = outer;
    }
    compose_number(file, 24, 4, TRUE);
    compose_bytes(file, "ftypisom\0\0\2\0isommp41", 20);
    if (is_front)
        compose_bytes(file, body->data, body->len);
    compose_box(file, "mdat", media->data, media->len);
    if (!is_front)
        compose_bytes(file, body->data, body->len);
    g_assert(body->len == MOOV);
    g_byte_array_unref(body);
    g_byte_array_unref(media);
    compose_add(list, "mp4", "mp4", file, TRUE, FALSE);
}

/* --- text ------------------------------------------------------------------------------------ */

static void add_texts(GPtrArray *list, guint32 seed)
{
    GString *html = g_string_new("<!DOCTYPE html>\n<html><head><title>Cold store</title></head>\n");
    GString *rtf = g_string_new("{\\rtf1\\ansi{\\info{\\title Minutes}}\n");
    for (guint i = 0; i < 30; i++) {
        g_string_append_printf(html, "<p>Shelf %u: %u packets</p>\n", i, (seed >> i % 16) % 90);
        g_string_append_printf(rtf, "Shelf %u: \\b %u\\b0 packets\\par\n", i,
                               (seed >> i % 16) % 90);
    }
    g_string_append(html, "</html>\n");
    g_string_append(rtf, "}\n");
    add(list, "html", "html", html->str, html->len, FALSE, TRUE);
    add(list, "rtf", "rtf", rtf->str, rtf->len, FALSE, TRUE);
    g_string_free(html, TRUE);
    g_string_free(rtf, TRUE);
}

GPtrArray *specimens_new(guint32 seed)
{
    GPtrArray *list = g_ptr_array_new_with_free_func(specimen_free);
    g_autofree guint8 *dots = dots_new(seed);
    g_autofree guint8 *noise = g_malloc(65536);
    fill_noise(noise, 65536, seed + 1);
    add_jpeg(list, dots, FALSE, 0);
    add_jpeg(list, dots, FALSE, 16);
    add_jpeg(list, dots, TRUE, 0);
    add_drawn(list, dots, seed);
    add_bitmap(list, dots);
    add_tiffs(list, dots);
    add_gif(list, dots);
    add_archive(list, "zip", "zip", ARCHIVE_FORMAT_ZIP, ARCHIVE_FILTER_NONE, TRUE, TRUE, seed);
    add_archive(list, "7z", "7z", ARCHIVE_FORMAT_7ZIP, ARCHIVE_FILTER_NONE, FALSE, TRUE, seed);
    add_archive(list, "tar", "tar", ARCHIVE_FORMAT_TAR_USTAR, ARCHIVE_FILTER_NONE, FALSE, FALSE,
                seed);
    add_archive(list, "gzip", "gz", ARCHIVE_FORMAT_RAW, ARCHIVE_FILTER_GZIP, FALSE, TRUE, seed);
    add_archive(list, "bzip2", "bz2", ARCHIVE_FORMAT_RAW, ARCHIVE_FILTER_BZIP2, FALSE, TRUE, seed);
    add_archive(list, "xz", "xz", ARCHIVE_FORMAT_RAW, ARCHIVE_FILTER_XZ, FALSE, TRUE, seed);
    add_archive(list, "zstd", "zst", ARCHIVE_FORMAT_RAW, ARCHIVE_FILTER_ZSTD, FALSE, FALSE, seed);
    add_package(list, seed);
    add_databases(list, seed);
    add_sounds(list, noise);
    add_mp4(list, noise, FALSE);
    add_mp4(list, noise, TRUE);
    add_texts(list, seed);
    add_composed(list, seed);
    add_composed_films(list, seed);
    add_composed_chains(list, seed);
    add_composed_tar(list, seed);
    return list;
}
