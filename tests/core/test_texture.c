/* SPDX-License-Identifier: MIT */
/* What bytes look like: packed, coded, text; pairs of letters that come out strange; and the words
 * and tables of a PDF. */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/pairs.h"
#include "carve/pdfwords.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"

#include <string.h>
#include <zlib.h>

#define BLOCK 4096u

static EkContent *content_of(Bench *bench, GByteArray *bytes)
{
    while (bytes->len % 512 != 0)
        g_byte_array_append(bytes, (const guint8 *)"", 1);
    bench_open(bench, bytes->data, bytes->len);
    EkContent *content = ek_content_new(bench->reader);
    EkRange all = {0, bytes->len};
    ek_content_lay(content, &all, 1);
    return content;
}

/* --- blocks ----------------------------------------------------------------------------------- */

static void blocks_are_told_by_their_look(void)
{
    guint8 noise[BLOCK];
    guint8 zeros[BLOCK] = {0};
    guint8 letters[BLOCK];
    guint8 flat[BLOCK]; /* a picture of one colour, coded: a few bytes again and again */
    fill_noise(noise, BLOCK, test_seed());
    for (gsize i = 0; i < BLOCK; i++) {
        letters[i] = (guint8) "tray 7; cold store\n"[i % 19];
        flat[i] = (guint8) "\x28\xa2\x8a"[i % 3];
    }
    const struct {
        const guint8 *bytes;
        gboolean packed;
        gboolean coded;
        gboolean text;
    } looks[] = {{noise, TRUE, TRUE, FALSE},
                 {zeros, FALSE, FALSE, FALSE},
                 {letters, FALSE, FALSE, TRUE},
                 {flat, FALSE, TRUE, FALSE}};
    for (gsize i = 0; i < G_N_ELEMENTS(looks); i++) {
        EkSpan block = {looks[i].bytes, BLOCK};
        CHECK(ek_block_may_be(block, EK_TEXTURE_ANY));
        CHECK_NUMBER(ek_block_may_be(block, EK_TEXTURE_PACKED), looks[i].packed);
        CHECK_NUMBER(ek_block_may_be(block, EK_TEXTURE_CODED), looks[i].coded);
        /* Flat bytes above ASCII might be letters of another page of codes. */
        CHECK(i == 3 || ek_block_may_be(block, EK_TEXTURE_TEXT) == looks[i].text);
        /* Too little of a block says nothing against it. */
        CHECK(ek_block_may_be((EkSpan){looks[i].bytes, 100}, EK_TEXTURE_PACKED));
    }
    CHECK(!ek_block_may_be((EkSpan){noise, 0}, EK_TEXTURE_TEXT));
}

static void the_first_other_block_is_found(void)
{
    guint32 seed = test_seed();
    for (guint round = 0; round < 20; round++) {
        Bench bench;
        guint blocks = 6 + (seed + round) % 9;
        guint other = 1 + (seed * 7 + round) % (blocks - 1);
        g_autoptr(GByteArray) bytes = g_byte_array_new();
        compose_noise(bytes, (gsize)blocks * BLOCK, seed + round);
        memset(bytes->data + (gsize)other * BLOCK, round % 2 == 0 ? 0 : ' ', BLOCK);
        EkContent *content = content_of(&bench, bytes);
        EkByte end = (EkByte)blocks * BLOCK;
        CHECK_NUMBER(ek_content_first_unlike(content, 0, end, BLOCK, EK_TEXTURE_PACKED),
                     other * BLOCK);
        /* Not one that is not whole, nor one before the first. */
        CHECK_NUMBER(ek_content_first_unlike(content, 0, other * BLOCK + BLOCK / 2, BLOCK,
                                             EK_TEXTURE_PACKED),
                     other * BLOCK + BLOCK / 2);
        CHECK_NUMBER(ek_content_first_unlike(content, (other + 1) * (EkByte)BLOCK, end, BLOCK,
                                             EK_TEXTURE_PACKED),
                     end);
        CHECK_NUMBER(ek_content_first_unlike(content, 0, end, BLOCK, EK_TEXTURE_ANY), end);
        ek_content_free(content);
        bench_close(&bench);
    }
}

static void an_end_is_padded_with_zeros(void)
{
    Bench bench;
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    compose_noise(bytes, 4 * 512, test_seed());
    memset(bytes->data + 700, 0, 1024 - 700);
    memset(bytes->data + 1500, 0, 20);
    memset(bytes->data + 1990, 0, 2048 - 1990);
    EkContent *content = content_of(&bench, bytes);
    CHECK(ek_content_is_padded(content, 700));
    CHECK(!ek_content_is_padded(content, 600));  /* noise behind it */
    CHECK(!ek_content_is_padded(content, 900));  /* zeros before it */
    CHECK(!ek_content_is_padded(content, 1024)); /* a sector ends with it */
    CHECK(!ek_content_is_padded(content, 1500)); /* not up to the next sector */
    CHECK(ek_content_is_padded(content, 1990));
    CHECK(!ek_content_is_padded(content, 4));
    ek_content_free(content);
    bench_close(&bench);
}

/* --- pairs ------------------------------------------------------------------------------------ */

static void put_row(GByteArray *to, guint32 *seed)
{
    *seed = *seed * 1664525u + 1013904223u;
    g_autofree char *row = g_strdup_printf("<row id=\"%u\"><temp>-%u.%u</temp></row>\n",
                                           *seed >> 20, *seed >> 27, *seed >> 18 & 7);
    compose_bytes(to, row, strlen(row));
}

static void other_orders_are_strange(void)
{
    guint32 seed = test_seed();
    g_autoptr(GByteArray) table = g_byte_array_new();
    while (table->len < 60000)
        put_row(table, &seed);
    /* The same letters, as often, in another order. */
    g_autoptr(GByteArray) mixed = g_byte_array_new();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    for (guint i = 0; i < 4096; i++)
        g_byte_array_append(mixed, table->data + g_rand_int_range(random, 0, 50000), 1);
    g_autofree EkPairs *pairs = g_new0(EkPairs, 1);
    for (guint i = 0; i < 12; i++) {
        ek_pairs_take(pairs, (EkSpan){table->data + 4096 * (gsize)i, 4096});
        CHECK(!ek_pairs_end(pairs));
    }
    ek_pairs_take(pairs, (EkSpan){mixed->data, 100});
    CHECK(!ek_pairs_end(pairs)); /* too little of it */
    ek_pairs_take(pairs, (EkSpan){mixed->data, 4096});
    CHECK(ek_pairs_end(pairs));
    /* Of noise all pairs are new, from the beginning on: nothing changes. */
    g_autofree guint8 *noise = g_malloc(60000);
    fill_noise(noise, 60000, seed);
    *pairs = (EkPairs){0};
    for (guint i = 0; i < 14; i++) {
        ek_pairs_take(pairs, (EkSpan){noise + 4096 * (gsize)i, 4096});
        CHECK(!ek_pairs_end(pairs));
    }
}

/* A packed table into which something foreign was laid tells in which block. */
static void a_stream_tells_where_it_turns_strange(void)
{
    guint32 seed = test_seed();
    g_autoptr(GByteArray) table = g_byte_array_new();
    while (table->len < 900000)
        put_row(table, &seed);
    uLongf room = compressBound(table->len);
    g_autofree guint8 *packed = g_malloc(room);
    CHECK_NUMBER(compress2(packed, &room, table->data, table->len, 9), Z_OK);
    guint told = 0;
    for (guint round = 0; round < 11; round++) {
        Bench bench;
        g_autoptr(GByteArray) bytes = g_byte_array_new();
        compose_bytes(bytes, packed, room);
        gsize blocks = room / BLOCK;
        gsize cut = BLOCK * (blocks / 3 + (seed + round) % (blocks / 3));
        if (round > 0)
            fill_noise(bytes->data + cut, room - cut, seed + round);
        EkContent *content = content_of(&bench, bytes);
        ek_content_remember(content);
        EkStream stream = {.offset = 0, .most = room, .is_zlib = TRUE};
        CHECK_NUMBER(ek_content_inflate(content, &stream), round == 0);
        CHECK(round > 0 || stream.strange == 0);
        /* Never too early; where it does not break at once, mostly soon. */
        CHECK(stream.strange == 0 || stream.strange >= cut);
        told += stream.packed < cut + BLOCK ||
                        (stream.strange >= cut && stream.strange <= cut + 2 * BLOCK)
                    ? 1
                    : 0;
        ek_content_free(content);
        bench_close(&bench);
    }
    CHECK(told >= 6);
}

/* --- PDF -------------------------------------------------------------------------------------- */

static gboolean is_object(const char *text, guint64 number)
{
    return ek_pdf_is_object((EkSpan){(const guint8 *)text, strlen(text)}, number);
}

static void objects_begin_with_their_number(void)
{
    CHECK(is_object("12 0 obj\n<<", 12));
    CHECK(is_object("\r\n12 0 obj", 12));
    CHECK(is_object("12  3  obj", 12));
    CHECK(!is_object("12 0 obj", 1));
    CHECK(!is_object("112 0 obj", 12));
    CHECK(!is_object("12 obj", 12));
    CHECK(!is_object("12 0 R", 12));
    CHECK(!is_object("12", 12));
    CHECK(!is_object("", 0));
}

/* Objects of random length, and the table of them. `shift` is added to where those from `from` on
 * are said to be. Returns where the table begins. */
static guint make_tabled(GByteArray *pdf, guint count, guint from, guint shift, guint32 seed,
                         guint *places)
{
    compose_bytes(pdf, "%PDF-1.4\n", 9);
    for (guint i = 1; i <= count; i++) {
        places[i] = pdf->len;
        g_autofree char *object =
            g_strdup_printf("%u 0 obj\n[%*s]\nendobj\n", i, (int)(seed * i % 400), "");
        compose_bytes(pdf, object, strlen(object));
    }
    guint table = pdf->len;
    g_autofree char *head = g_strdup_printf("\n0 1\n0000000000 65535 f \n1 %u\n", count);
    compose_bytes(pdf, head, strlen(head));
    for (guint i = 1; i <= count; i++) {
        g_autofree char *line =
            g_strdup_printf("%010u 00000 n \n", places[i] + (i >= from ? shift : 0));
        compose_bytes(pdf, line, strlen(line));
    }
    compose_bytes(pdf, "trailer\n<< >>\n", 14);
    return table;
}

static void tables_tell_what_is_not_in_its_place(void)
{
    enum { COUNT = 40 };
    guint32 seed = test_seed() | 1;
    for (guint from = 1; from <= COUNT + 1; from++) {
        Bench bench;
        guint places[COUNT + 1] = {0};
        EkPdfTable table = {.wrong = 7};
        g_autoptr(GByteArray) pdf = g_byte_array_new();
        guint at = make_tabled(pdf, COUNT, from, 3, seed, places);
        EkContent *content = content_of(&bench, pdf);
        EkPdfCursor cursor = {.content = content, .at = at};
        CHECK(ek_pdf_pass_table(&cursor, &table));
        CHECK(ek_pdf_stands(&cursor, cursor.at, "\n<< >>"));
        /* All wrong, the table is not believed; all right, there is nothing to tell. */
        gboolean is_told = from > 1 && from <= COUNT;
        CHECK_NUMBER(table.wrong, is_told ? places[from] + 3 : 0);
        CHECK_NUMBER(table.number, is_told ? from : 0);
        CHECK_NUMBER(table.right, is_told ? places[from - 1] : 0);
        ek_content_free(content);
        bench_close(&bench);
    }
}

static void broken_tables_and_strings_end(void)
{
    static const char *const tables[] = {"\n0 2\n0000000000 65535 f \n0000000009 00000 x \n",
                                         "\n0 2\n0000000000", "\n(", ""};
    for (gsize i = 0; i < G_N_ELEMENTS(tables); i++) {
        Bench bench;
        EkPdfTable table;
        g_autoptr(GByteArray) bytes = g_byte_array_new();
        compose_bytes(bytes, tables[i], strlen(tables[i]));
        compose_bytes(bytes, ")", 1);
        EkContent *content = content_of(&bench, bytes);
        EkPdfCursor cursor = {.content = content};
        CHECK(!ek_pdf_pass_table(&cursor, &table));
        ek_content_free(content);
        bench_close(&bench);
    }
    /* A string of letters may be long, one of anything not, and zeros are none. */
    for (guint round = 0; round < 3; round++) {
        Bench bench;
        g_autoptr(GByteArray) bytes = g_byte_array_new();
        compose_bytes(bytes, "(a\\)(b)", 7);
        for (guint i = 0; i < 40000; i++)
            compose_bytes(bytes, round == 0 ? "c" : round == 1 ? "\xd5" : "\0", 1);
        compose_bytes(bytes, ") ", 2);
        EkContent *content = content_of(&bench, bytes);
        EkPdfCursor cursor = {.content = content};
        CHECK_NUMBER(ek_pdf_pass_string(&cursor), round == 0);
        CHECK(round > 0 || cursor.at == 40008);
        CHECK(round == 0 || cursor.at < 20000);
        ek_content_free(content);
        bench_close(&bench);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"blocks are told by their look", blocks_are_told_by_their_look},
        {"the first other block is found", the_first_other_block_is_found},
        {"an end is padded with zeros", an_end_is_padded_with_zeros},
        {"other orders are strange", other_orders_are_strange},
        {"a stream tells where it turns strange", a_stream_tells_where_it_turns_strange},
        {"objects begin with their number", objects_begin_with_their_number},
        {"tables tell what is not in its place", tables_tell_what_is_not_in_its_place},
        {"broken tables and strings end", broken_tables_and_strings_end},
    };
    return RUN_TESTS("texture", tests);
}
