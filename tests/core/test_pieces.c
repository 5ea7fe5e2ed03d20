/* SPDX-License-Identifier: MIT */
/* Files in two pieces whose cut is told by what lies there: text or nothing in packed data, packed
 * data in text, frames that lead on, marks at the end. */
#include "carved.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"

#include <math.h>
#include <string.h>
#include <zlib.h>

typedef enum { NOISE = 1, NOTHING = 2, TEXT = 4, ALL = 7 } Between;

typedef struct {
    const char *type;
    GByteArray *(*make)(guint32 seed);
    Between between;   /* what may lie in it, and be told from it */
    gboolean is_whole; /* joined: a sum proves it */
} Kind;

/* --- text that says where it ends --------------------------------------------------------------
 */

static void put(GByteArray *to, const char *text)
{
    compose_bytes(to, text, strlen(text));
}

static void put_words(GByteArray *to, guint count, guint32 *seed)
{
    static const char *const words[] = {"barley", "sedge", "tray",   "fen",    "pollen",
                                        "drain",  "store", "silt",   "vetch",  "lapwing",
                                        "oat",    "dusk",  "clover", "sluice", "herbarium"};
    for (guint i = 0; i < count; i++) {
        *seed = *seed * 1664525u + 1013904223u;
        put(to, i > 0 ? " " : "");
        put(to, words[(*seed >> 16) % G_N_ELEMENTS(words)]);
    }
}

static GByteArray *make_page(guint32 seed)
{
    GByteArray *page = g_byte_array_new();
    put(page, "<!DOCTYPE html>\n<html><head><title>Cold store</title></head><body>\n");
    for (guint i = 0; i < 600; i++) {
        put(page, "<p>");
        put_words(page, 8, &seed);
        put(page, "</p>\n");
    }
    put(page, "</body></html>\n");
    return page;
}

static GByteArray *make_track(guint32 seed)
{
    GByteArray *track = g_byte_array_new();
    put(track, "<?xml version=\"1.0\"?>\n<gpx version=\"1.1\"><trk><trkseg>\n");
    for (guint i = 0; i < 900; i++) {
        g_autofree char *point = g_strdup_printf("<trkpt lat=\"52.%06u\" lon=\"0.%06u\"/>\n",
                                                 (seed + i * 7919) % 1000000, i * 31 % 1000000);
        put(track, point);
    }
    put(track, "</trkseg></trk></gpx>\n");
    return track;
}

static GByteArray *make_rich(guint32 seed)
{
    GByteArray *rich = g_byte_array_new();
    put(rich, "{\\rtf1\\ansi{\\info{\\title Sowing plan}}\n");
    for (guint i = 0; i < 500; i++) {
        put(rich, "{\\b ");
        put_words(rich, 3, &seed);
        put(rich, "} ");
        put_words(rich, 6, &seed);
        put(rich, "\\par\n");
    }
    put(rich, "}");
    return rich;
}

static GByteArray *make_cards(guint32 seed)
{
    GByteArray *cards = g_byte_array_new();
    for (guint i = 0; i < 200; i++) {
        put(cards, "BEGIN:VCARD\r\nVERSION:3.0\r\nFN:");
        put_words(cards, 2, &seed);
        put(cards, "\r\nNOTE:");
        put_words(cards, 12, &seed);
        put(cards, "\r\nEND:VCARD\r\n");
    }
    return cards;
}

/* A mail of two parts, whose first line says whom it is from. */
static GByteArray *make_mail(guint32 seed)
{
    static const char letters[] =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    GByteArray *mail = g_byte_array_new();
    put(mail, "From: store@harrowfen.example\r\nto: desk@harrowfen.example\r\n"
              "subject: Tray readings\r\nMIME-version: 1.0\r\n"
              "Content-Type: multipart/mixed;\r\n boundary=\"=_tray 7\"\r\n\r\n"
              "--=_tray 7\r\nContent-Type: text/plain\r\n\r\n");
    put_words(mail, 60, &seed);
    put(mail, "\r\n--=_tray 7\r\nContent-Transfer-Encoding: base64\r\n\r\n");
    for (guint line = 0; line < 400; line++) {
        char text[79] = "";
        for (guint i = 0; i < 76; i++) {
            seed = seed * 1664525u + 1013904223u;
            text[i] = letters[seed >> 26];
        }
        memcpy(text + 76, "\r\n", 3);
        put(mail, text);
    }
    put(mail, "--=_tray 7--\r\n");
    return mail;
}

/* --- frames of sound ---------------------------------------------------------------------------
 */

/* Layer 3 at 128 kbit/s and 44.1 kHz: 417 bytes, or 418 where it is padded; nothing says how many.
 */
static GByteArray *make_mp3(guint32 seed)
{
    GByteArray *mp3 = g_byte_array_new();
    for (guint i = 0; i < 150; i++) {
        guint padding = i * 49 % 50 < 48 ? 1 : 0;
        compose_number(mp3, 0xfffb9044u | padding << 9, 4, TRUE);
        compose_noise(mp3, 413 + padding, seed + i);
    }
    return mp3;
}

static GByteArray *make_aac(guint32 seed)
{
    GByteArray *aac = g_byte_array_new();
    for (guint i = 0; i < 180; i++) {
        guint length = 300 + (seed + i * 37) % 200;
        compose_number(aac, 0xfff15080u >> 8, 3, TRUE);
        compose_number(aac, 0x80000000u | length << 13 | 0x1ffc, 4, TRUE);
        compose_noise(aac, length - 7, seed + i);
    }
    return aac;
}

/* --- plain samples -----------------------------------------------------------------------------
 */

static guint8 shade(guint column, guint row, guint colour, guint32 seed)
{
    gdouble wave = sin((column + seed % 97) * 0.03 + colour) + cos(row * 0.021 + seed % 13);
    return (guint8)(128 + 50 * wave);
}

static GByteArray *make_bitmap_of(guint depth, guint32 seed)
{
    guint width = 240;
    guint height = 400;
    guint colours = depth == 8 ? 256 : 0;
    guint offset = 54 + 4 * colours;
    GByteArray *bmp = g_byte_array_new();
    put(bmp, "BM");
    compose_number(bmp, offset + (guint64)width * height * depth / 8, 4, FALSE);
    compose_number(bmp, 0, 4, FALSE);
    compose_number(bmp, offset, 4, FALSE);
    compose_number(bmp, 40, 4, FALSE);
    compose_number(bmp, width, 4, FALSE);
    compose_number(bmp, height, 4, FALSE);
    compose_number(bmp, 1, 2, FALSE);
    compose_number(bmp, depth, 2, FALSE);
    for (guint i = 0; i < 6; i++)
        compose_number(bmp, 0, 4, FALSE);
    for (guint i = 0; i < colours; i++)
        compose_number(bmp, i * 0x010101, 4, FALSE);
    for (guint row = 0; row < height; row++)
        for (guint column = 0; column < width; column++)
            for (guint i = 0; i < depth / 8; i++)
                compose_number(bmp, shade(column, row, i, seed), 1, FALSE);
    return bmp;
}

static GByteArray *make_bitmap(guint32 seed)
{
    return make_bitmap_of(24, seed);
}

static GByteArray *make_palette(guint32 seed)
{
    return make_bitmap_of(8, seed);
}

/* One strip behind its directory. */
static GByteArray *make_tiff(guint32 seed)
{
    guint width = 250;
    guint height = 180;
    const guint32 entries[][4] = {{0x100, 4, 1, width}, {0x101, 4, 1, height}, {0x102, 3, 3, 122},
                                  {0x103, 3, 1, 1},     {0x106, 3, 1, 2},      {0x111, 4, 1, 128},
                                  {0x115, 3, 1, 3},     {0x116, 4, 1, height}, {0x117, 4, 1, 0}};
    GByteArray *tiff = g_byte_array_new();
    put(tiff, "II*");
    compose_number(tiff, 8ull << 8, 5, FALSE);
    compose_number(tiff, G_N_ELEMENTS(entries), 2, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(entries); i++) {
        compose_number(tiff, entries[i][0], 2, FALSE);
        compose_number(tiff, entries[i][1], 2, FALSE);
        compose_number(tiff, entries[i][2], 4, FALSE);
        compose_number(tiff, entries[i][0] == 0x117 ? width * height * 3 : entries[i][3], 4, FALSE);
    }
    compose_number(tiff, 0, 4, FALSE);
    while (tiff->len < 122)
        compose_number(tiff, 0, 1, FALSE);
    for (guint i = 0; i < 3; i++)
        compose_number(tiff, 8, 2, FALSE);
    for (guint row = 0; row < height; row++)
        for (guint column = 0; column < width; column++)
            for (guint i = 0; i < 3; i++)
                compose_number(tiff, shade(column, row, i, seed), 1, FALSE);
    return tiff;
}

static GByteArray *make_au(guint32 seed)
{
    guint count = 60000 + seed % 5000;
    GByteArray *au = g_byte_array_new();
    put(au, ".snd");
    compose_number(au, 24, 4, TRUE);
    compose_number(au, 2ull * count, 4, TRUE);
    compose_number(au, 3, 4, TRUE);
    compose_number(au, 22050, 4, TRUE);
    compose_number(au, 1, 4, TRUE);
    for (guint i = 0; i < count; i++) {
        gdouble swing = sin(i * (0.02 + seed % 7 * 0.003)) + 0.4 * sin(i * 0.0031);
        compose_number(au, (guint64)((gint64)(9000 * swing) & 0xffff), 2, TRUE);
    }
    return au;
}

/* --- packed data -------------------------------------------------------------------------------
 */

/* A table, whose lines are much alike: what unpacks of it from foreign bytes looks like it. */
static GByteArray *make_gzip(guint32 seed)
{
    g_autoptr(GByteArray) table = g_byte_array_new();
    for (guint i = 0; i < 9000; i++) {
        g_autofree char *line = g_strdup_printf("<c r=\"B%u\"><v>%u</v></c>\n", i,
                                                (seed = seed * 1664525u + 1013904223u) >> 18);
        put(table, line);
    }
    gsize room = compressBound(table->len) + 64;
    g_autofree guint8 *packed = g_malloc(room);
    z_stream zlib = {.next_in = table->data,
                     .avail_in = (uInt)table->len,
                     .next_out = packed,
                     .avail_out = (uInt)room};
    if (deflateInit2(&zlib, 9, Z_DEFLATED, 31, 9, Z_DEFAULT_STRATEGY) != Z_OK ||
        deflate(&zlib, Z_FINISH) != Z_STREAM_END)
        g_error("deflate");
    GByteArray *gzip = g_byte_array_new();
    compose_bytes(gzip, packed, zlib.total_out);
    deflateEnd(&zlib);
    return gzip;
}

/* Nothing in it is checked. */
static GByteArray *make_webp(guint32 seed)
{
    guint bytes = 60002 + 4 * (seed % 2500); /* not to the end of a sector */
    GByteArray *webp = g_byte_array_new();
    put(webp, "RIFF");
    compose_number(webp, 12 + (guint64)bytes, 4, FALSE);
    put(webp, "WEBPVP8L");
    compose_number(webp, bytes, 4, FALSE);
    compose_noise(webp, bytes, seed);
    return webp;
}

static guint32 cabinet_sum(const guint8 *data, gsize length, guint32 sum)
{
    for (gsize i = 0; i + 4 <= length; i += 4)
        sum ^= ek_span_le32((EkSpan){data, length}, i);
    return sum;
}

static GByteArray *make_cabinet(guint32 seed)
{
    enum { BLOCKS = 5, BYTES = 16384 };
    guint first = 36 + 8 + 16 + 8;
    GByteArray *cab = g_byte_array_new();
    put(cab, "MSCF");
    compose_number(cab, 0, 4, FALSE);
    compose_number(cab, first + BLOCKS * (8 + (guint64)BYTES), 4, FALSE);
    compose_number(cab, 0, 4, FALSE);
    compose_number(cab, 44, 4, FALSE); /* the list of files */
    compose_number(cab, 0, 4, FALSE);
    compose_number(cab, 0x0103, 2, FALSE);
    compose_number(cab, 1, 2, FALSE);
    compose_number(cab, 1, 2, FALSE);
    compose_number(cab, 0, 6, FALSE);
    compose_number(cab, first, 4, FALSE);
    compose_number(cab, BLOCKS, 2, FALSE);
    compose_number(cab, 1, 2, FALSE);
    compose_number(cab, BLOCKS * 32768u, 4, FALSE);
    compose_number(cab, 0, 4, FALSE);
    compose_number(cab, 0, 8, FALSE);
    compose_bytes(cab, "seed.db", 8);
    for (guint i = 0; i < BLOCKS; i++) {
        g_autoptr(GByteArray) block = g_byte_array_new();
        compose_number(block, BYTES, 2, FALSE);
        compose_number(block, 32768, 2, FALSE);
        compose_noise(block, BYTES, seed + i);
        compose_number(cab, cabinet_sum(block->data, block->len, 0), 4, FALSE);
        compose_bytes(cab, block->data, block->len);
    }
    return cab;
}

/* Two pictures, each with its sums. */
static GByteArray *make_icon(guint32 seed)
{
    GByteArray *pictures[2] = {g_byte_array_new(), g_byte_array_new()};
    GByteArray *icon = g_byte_array_new();
    compose_number(icon, 0, 2, FALSE);
    compose_number(icon, 1, 2, FALSE);
    compose_number(icon, 2, 2, FALSE);
    guint at = 6 + 2 * 16;
    for (guint i = 0; i < 2; i++) {
        guint8 head[13] = {0, 0, 0, 64, 0, 0, 0, 64, 8, 6, 0, 0, 0};
        g_autofree guint8 *dots = g_malloc(20000);
        fill_noise(dots, 20000, seed + i);
        compose_bytes(pictures[i], "\x89PNG\r\n\x1a\n", 8);
        png_chunk(pictures[i], "IHDR", head, sizeof head);
        png_chunk(pictures[i], "IDAT", dots, 9000);
        png_chunk(pictures[i], "IDAT", dots + 9000, 11000);
        png_chunk(pictures[i], "IEND", head, 0);
        compose_number(icon, 64 | 64u << 8, 4, FALSE);
        compose_number(icon, 1 | 32u << 16, 4, FALSE);
        compose_number(icon, pictures[i]->len, 4, FALSE);
        compose_number(icon, at, 4, FALSE);
        at += pictures[i]->len;
    }
    for (guint i = 0; i < 2; i++) {
        compose_bytes(icon, pictures[i]->data, pictures[i]->len);
        g_byte_array_unref(pictures[i]);
    }
    return icon;
}

/* --- PDF ----------------------------------------------------------------------------------------
 */

/* Its objects are long strings, in which anything may stand: the table behind them tells that they
 * are not where they must be. */
static GByteArray *make_document(guint32 seed)
{
    GByteArray *pdf = g_byte_array_new();
    guint places[9] = {0};
    put(pdf, "%PDF-1.4\n");
    for (guint i = 1; i < G_N_ELEMENTS(places); i++) {
        g_autofree char *head = g_strdup_printf("%u 0 obj\n<< /Names (", i);
        places[i] = pdf->len;
        put(pdf, head);
        put_words(pdf, 700, &seed);
        put(pdf, i == 1 ? ") /Type /Catalog >>\nendobj\n" : ") >>\nendobj\n");
    }
    guint table = pdf->len;
    put(pdf, "xref\n0 9\n0000000000 65535 f \n");
    for (guint i = 1; i < G_N_ELEMENTS(places); i++) {
        g_autofree char *line = g_strdup_printf("%010u 00000 n \n", places[i]);
        put(pdf, line);
    }
    g_autofree char *end =
        g_strdup_printf("trailer\n<< /Size 9 /Root 1 0 R >>\nstartxref\n%u\n%%%%EOF\n", table);
    put(pdf, end);
    return pdf;
}

/* ------------------------------------------------------------------------------------------------
 */

static const Kind kinds[] = {
    {"html", make_page, NOISE | NOTHING, FALSE},
    {"xml", make_track, NOISE | NOTHING, FALSE},
    {"rtf", make_rich, NOISE | NOTHING, FALSE},
    {"vcard", make_cards, NOISE | NOTHING, FALSE},
    {"mail", make_mail, NOISE | NOTHING, FALSE},
    {"mp3", make_mp3, ALL, FALSE},
    {"aac", make_aac, ALL, FALSE},
    {"bmp", make_bitmap, ALL, FALSE},
    {"bmp", make_palette, ALL, FALSE},
    {"tiff", make_tiff, ALL, FALSE},
    {"au", make_au, ALL, FALSE},
    {"gzip", make_gzip, ALL, TRUE},
    {"webp", make_webp, NOTHING | TEXT, FALSE},
    {"cab", make_cabinet, ALL, FALSE},
    {"ico", make_icon, ALL, FALSE},
    {"pdf", make_document, ALL, TRUE},
};

static void put_between(Drive *drive, Between between, guint blocks)
{
    gsize length = (gsize)4096 * blocks;
    if (between == NOISE)
        drive_noise(drive, length);
    else if (between == TEXT)
        drive_text(drive, length);
    else
        g_byte_array_set_size(drive->bytes, drive->bytes->len + (guint)length);
    if (between == NOTHING)
        memset(drive->bytes->data + drive->bytes->len - length, 0, length);
    drive_pad(drive, 4096, FALSE);
}

/* What begins with a frame in one of the first sectors would be a file of its own. */
static gboolean begins_frame(const GByteArray *file, gsize cut)
{
    for (gsize at = cut; at < MIN(cut + 2048, file->len - 1); at += 512)
        if (file->data[at] == 0xff && (file->data[at + 1] & 0xe0) == 0xe0)
            return TRUE;
    return FALSE;
}

/* Is it found again? Where a piece ends with a card or a frame, nothing can tell. */
static gboolean check_kind(const Kind *kind, Between between, guint32 seed)
{
    g_autoptr(GByteArray) file = kind->make(seed);
    Drive drive = drive_new(~seed); /* its noise is none of theirs */
    gsize blocks = ek_divide_up(file->len, 4096);
    /* Enough of it to be one, and a rest that is more than a word. */
    gsize cut = 4096 * (blocks / 3 + seed % MAX(blocks / 3, 1) + 1);
    while (cut + 4096 < file->len && begins_frame(file, cut))
        cut += 4096;
    drive_noise(&drive, 8192);
    EkByte place = drive_put(&drive, file->data, cut);
    put_between(&drive, between, 2 + seed % 9);
    drive_put(&drive, file->data + cut, file->len - cut);
    drive_pad(&drive, 4096, FALSE);
    drive_noise(&drive, 16384);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    const EkFound *one = carved_at(found, place);
    Specimen specimen = {kind->type, "", file->data, file->len, TRUE, FALSE};
    gboolean is_right = one != NULL && carved_is_same(&bench, one, &specimen);
    if (!is_right)
        g_print("%s with %d between, cut at %zu of %u: %s\n", kind->type, (int)between, cut,
                file->len, one != NULL ? one->why : "not found");
    CHECK(is_right || one == NULL || one->state != EK_CONTENT_WHOLE);
    if (is_right) {
        CHECK_TEXT(one->type->name, kind->type);
        CHECK_NUMBER(one->state, kind->is_whole ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL);
        CHECK_NUMBER(one->places->len, 2);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
    return is_right;
}

static void what_lies_there_tells_the_cut(void)
{
    guint32 seed = test_seed();
    guint tried = 0;
    guint right = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++)
        for (guint between = NOISE; between <= TEXT; between *= 2) {
            if ((kinds[i].between & between) == 0)
                continue;
            tried++;
            right += check_kind(&kinds[i], (Between)between, seed + (guint32)i * 101) ? 1 : 0;
        }
    CHECK(right * 100 >= tried * 93);
}

/* In one piece nothing is joined, and nothing taken from what lies behind. */
static void in_one_piece_they_stay_so(void)
{
    guint32 seed = test_seed() + 1;
    Drive drive = drive_new(~seed); /* its noise is none of theirs */
    EkByte places[G_N_ELEMENTS(kinds)];
    GByteArray *files[G_N_ELEMENTS(kinds)];
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        files[i] = kinds[i].make(seed + (guint32)i);
        places[i] = drive_put(&drive, files[i]->data, files[i]->len);
        drive_pad(&drive, 512, FALSE);
        drive_noise(&drive, (gsize)512 * (1 + i % 9));
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        const EkFound *one = carved_at(found, places[i]);
        Specimen specimen = {kinds[i].type, "", files[i]->data, files[i]->len, FALSE, FALSE};
        gboolean is_right = one != NULL && carved_is_same(&bench, one, &specimen);
        if (!is_right)
            g_print("%s: %s\n", kinds[i].type, one != NULL ? one->why : "not found");
        CHECK(is_right);
        CHECK(one != NULL && one->places->len == 1);
        g_byte_array_unref(files[i]);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* A file that was overwritten from some byte on is not filled up with whatever lies behind it. */
static void without_an_end_nothing_is_made_up(void)
{
    guint32 seed = test_seed() + 2;
    Drive drive = drive_new(~seed); /* its noise is none of theirs */
    EkByte places[G_N_ELEMENTS(kinds)];
    GByteArray *files[G_N_ELEMENTS(kinds)];
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        files[i] = kinds[i].make(seed + (guint32)i);
        places[i] = drive_put(&drive, files[i]->data, files[i]->len / 8192 * 4096);
        put_between(&drive, i % 2 == 0 ? NOISE : TEXT, 3);
    }
    drive_noise(&drive, 1 << 20);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        const EkFound *one = carved_at(found, places[i]);
        gboolean is_calm = one == NULL || (one->state != EK_CONTENT_WHOLE && one->places->len <= 2);
        if (!is_calm)
            g_print("%s: %s\n", kinds[i].type, one->why);
        CHECK(is_calm);
        g_byte_array_unref(files[i]);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

int main(void)
{
    static const Test tests[] = {
        {"what lies there tells the cut", what_lies_there_tells_the_cut},
        {"in one piece they stay so", in_one_piece_they_stay_so},
        {"without an end nothing is made up", without_an_end_nothing_is_made_up},
    };
    return RUN_TESTS("pieces", tests);
}
