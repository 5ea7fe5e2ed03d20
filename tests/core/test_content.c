/* SPDX-License-Identifier: MIT */
/* A file's bytes through a guess of where they lie, against a model of them; what is kept to go on
 * in the middle; and where a sum tells that a part goes on. */
#include "carve/content.h"

#include "base/bytes.h"
#include "base/checksum.h"
#include "carve/lzmacontent.h"
#include "carve/sums.h"
#include "check.h"
#include "fixture.h"

#include <string.h>

#define DRIVE (1u << 20)

/* A drive of noise. The caller frees the bytes. */
static guint8 *open_noise(Bench *bench, guint32 seed)
{
    guint8 *drive = g_malloc(DRIVE);
    fill_noise(drive, DRIVE, seed);
    bench_open(bench, drive, DRIVE);
    return drive;
}

/* Random pieces, and the file that they make. */
static GArray *draw_pieces(GRand *random, const guint8 *drive, GByteArray *model)
{
    GArray *pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    guint count = (guint)g_rand_int_range(random, 1, 40);
    for (guint i = 0; i < count; i++) {
        EkByte bytes = (EkByte)g_rand_int_range(random, 1, 30000);
        EkRange piece = {(EkByte)g_rand_int_range(random, 0, (gint32)(DRIVE - bytes)), bytes};
        g_array_append_val(pieces, piece);
        g_byte_array_append(model, drive + piece.first, (guint)piece.bytes);
    }
    return pieces;
}

static const EkRange *ranges_of(const GArray *ranges)
{
    return (const EkRange *)(gconstpointer)ranges->data;
}

static void check_reads(EkContent *content, const GByteArray *model, GRand *random, guint reads)
{
    for (guint i = 0; i < reads; i++) {
        EkByte at = (EkByte)g_rand_int_range(random, 0, (gint32)model->len + 2000);
        gsize length = (gsize)g_rand_int_range(random, 1, EK_CONTENT_SHOWN);
        gsize there = at < model->len ? (gsize)MIN(length, model->len - at) : 0;
        EkSpan some = ek_content_some(content, at, length);
        CHECK_NUMBER(some.length, there);
        if (some.length == there && there > 0)
            CHECK_BYTES(some.data, model->data + at, there);
        EkSpan all = ek_content_at(content, at, length);
        CHECK_NUMBER(all.length, there == length ? length : 0);
    }
}

static void pieces_read_as_one(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    Bench bench;
    g_autofree guint8 *drive = open_noise(&bench, test_seed());
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    for (guint round = 0; round < 20; round++) {
        g_autoptr(GByteArray) model = g_byte_array_new();
        g_autoptr(GArray) pieces = draw_pieces(random, drive, model);
        ek_content_lay(content, ranges_of(pieces), pieces->len);
        CHECK_NUMBER(ek_content_bytes(content), model->len);
        check_reads(content, model, random, 60);
        /* Where bytes lie, and the places of a beginning of it. */
        EkByte offset = (EkByte)g_rand_int_range(random, 0, (gint32)model->len);
        EkByte place = ek_content_place(content, offset);
        CHECK(place < DRIVE && drive[place] == model->data[offset]);
        CHECK(ek_content_place(content, model->len) == G_MAXUINT64);
        g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkRange));
        ek_content_places(content, offset, places);
        EkByte sum = 0;
        for (guint i = 0; i < places->len; i++)
            sum += g_array_index(places, EkRange, i).bytes;
        CHECK_NUMBER(sum, offset);
        /* Cut, it is shorter. */
        ek_content_cut(content, offset);
        CHECK_NUMBER(ek_content_bytes(content), offset);
        CHECK_NUMBER(ek_content_some(content, offset, 10).length, 0);
        ek_content_cut(content, G_MAXUINT64);
    }
    bench_close(&bench);
}

/* Other pieces from a byte on, again and again. */
static void other_pieces_are_laid_behind(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed() + 1);
    Bench bench;
    g_autofree guint8 *drive = open_noise(&bench, test_seed());
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    g_autoptr(GByteArray) model = g_byte_array_new();
    g_autoptr(GArray) pieces = draw_pieces(random, drive, model);
    ek_content_lay(content, ranges_of(pieces), pieces->len);
    ek_content_hold_head(content);
    for (guint round = 0; round < 60; round++) {
        g_autoptr(GByteArray) more = g_byte_array_new();
        g_autoptr(GArray) behind = draw_pieces(random, drive, more);
        EkByte from = (EkByte)g_rand_int_range(random, 0, (gint32)model->len + 1);
        ek_content_relay(content, from, ranges_of(behind), behind->len);
        g_byte_array_set_size(model, (guint)from);
        g_byte_array_append(model, more->data, more->len);
        CHECK_NUMBER(ek_content_bytes(content), model->len);
        check_reads(content, model, random, 12);
    }
    bench_close(&bench);
}

/* What was not read is zeros, and told where it is given out. */
static void holes_are_noted(void)
{
    Bench bench;
    g_autofree guint8 *drive = open_noise(&bench, test_seed());
    bench_hole(&bench, 100, 4, EK_STATE_BAD);
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    EkRange pieces[] = {{0, 40000}, {90 * 512, 40000}};
    EkByte hole = 40000 + 10 * 512;
    ek_content_lay(content, pieces, G_N_ELEMENTS(pieces));
    CHECK(ek_content_hole(content) == G_MAXUINT64);
    CHECK_NUMBER(ek_content_some(content, 0, 40000).length, 40000);
    CHECK(ek_content_hole(content) == G_MAXUINT64);
    CHECK(!ek_content_has_hole(content, 0, hole));
    CHECK(ek_content_has_hole(content, 0, hole + 1));
    CHECK_NUMBER(ek_content_hole(content), hole);
    EkSpan span = ek_content_some(content, hole, 4 * 512 + 20);
    CHECK(ek_bytes_are_zero(span.data, 4 * 512));
    CHECK_BYTES(span.data + 4 * 512, drive + 104 * 512, 20);
    /* Laid anew it is forgotten. */
    ek_content_lay(content, pieces, 1);
    CHECK(ek_content_hole(content) == G_MAXUINT64);
    bench_close(&bench);
}

/* It is taken from memory where that holds it, and from the drive elsewhere. */
static void what_is_near_is_not_read(void)
{
    Bench bench;
    g_autofree guint8 *drive = open_noise(&bench, test_seed());
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    guint8 near[8192];
    EkRange all = {0, DRIVE};
    memset(near, 'n', sizeof near);
    ek_content_lay(content, &all, 1);
    ek_content_set_near(content, 65536, (EkSpan){near, sizeof near});
    CHECK_BYTES(ek_content_some(content, 65536 + 100, 500).data, near, 500);
    CHECK_NUMBER(ek_content_work(content), 0);
    CHECK_BYTES(ek_content_some(content, 65536 + 8000, 500).data, drive + 65536 + 8000, 500);
    CHECK(ek_content_work(content) > 0);
    ek_content_set_near(content, 0, (EkSpan){NULL, 0});
    CHECK_BYTES(ek_content_some(content, 65536 + 100, 500).data, drive + 65536 + 100, 500);
    bench_close(&bench);
}

typedef struct {
    guint asked;
    gboolean answer;
} Gate;

static gboolean ask(void *data)
{
    Gate *gate = data;
    gate->asked++;
    return gate->answer;
}

static void a_gate_is_asked_once(void)
{
    Bench bench;
    g_free(open_noise(&bench, test_seed()));
    EkRange all = {0, DRIVE};
    for (guint answer = 0; answer < 2; answer++) {
        g_autoptr(EkContent) content = ek_content_new(bench.reader);
        Gate gate = {0, answer == 1};
        ek_content_set_gate(content, 100000, ask, &gate);
        ek_content_lay(content, &all, 1);
        CHECK_NUMBER(ek_content_some(content, 50000, 30000).length, 30000);
        CHECK_NUMBER(gate.asked, 0);
        /* A little behind it is given out all the same. */
        CHECK_NUMBER(ek_content_some(content, 100000, 1000).length, 1000);
        CHECK_NUMBER(gate.asked, 0);
        for (EkByte at = 200000; at < 500000; at += 60000) {
            gsize length = ek_content_some(content, at, 60000).length;
            CHECK((length > 0) == (gate.answer || gate.asked == 0));
        }
        CHECK_NUMBER(gate.asked, 1);
        CHECK(ek_content_is_shut(content) == !gate.answer);
        ek_content_lay(content, &all, 1);
        CHECK(!ek_content_is_shut(content));
    }
    bench_close(&bench);
}

/* What is kept is right only when something was kept behind it, unless it is firm. */
static void what_is_kept_waits_for_more(void)
{
    Bench bench;
    g_free(open_noise(&bench, test_seed()));
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    EkRange all = {0, DRIVE};
    EkRange other = {4096, 100000};
    guint32 state = 0;
    ek_content_lay(content, &all, 1);
    CHECK(!ek_content_kept(content, &state, sizeof state));
    for (guint32 at = 4096; at <= 40960; at += 4096)
        ek_content_keep(content, at, &at, sizeof at, FALSE);
    CHECK_NUMBER(ek_content_kept_at(content), 40960 - 4096);
    CHECK(ek_content_kept(content, &state, sizeof state));
    CHECK_NUMBER(state, 40960 - 4096);
    /* Other pieces: what lies behind their beginning is forgotten. */
    ek_content_relay(content, 20000, &other, 1);
    CHECK(ek_content_kept(content, &state, sizeof state));
    CHECK_NUMBER(state, 16384);
    /* While something is tried nothing is kept. */
    ek_content_set_fixed(content, TRUE);
    CHECK(ek_content_is_fixed(content));
    guint32 late = 18000;
    ek_content_keep(content, late, &late, sizeof late, TRUE);
    CHECK(ek_content_kept(content, &state, sizeof state));
    CHECK_NUMBER(state, 16384);
    ek_content_set_fixed(content, FALSE);
    ek_content_keep(content, late + 1000, &late, sizeof late, TRUE);
    CHECK(ek_content_kept(content, &state, sizeof state));
    CHECK_NUMBER(state, 18000);
    ek_content_forget(content);
    CHECK(!ek_content_kept(content, &state, sizeof state));
    bench_close(&bench);
}

typedef struct {
    EkByte told;
    guint *freed;
} Aside;

static void free_aside(void *data)
{
    Aside *aside = data;
    (*aside->freed)++;
    g_free(aside);
}

static void forget_aside(void *data, EkByte offset)
{
    ((Aside *)data)->told = offset;
}

static void what_is_set_aside_is_told(void)
{
    Bench bench;
    g_free(open_noise(&bench, test_seed()));
    EkContent *content = ek_content_new(bench.reader);
    guint freed = 0;
    EkRange all = {0, DRIVE};
    Aside *asides[EK_ASIDES];
    CHECK(ek_content_aside(content, EK_ASIDE_LZMA) == NULL);
    CHECK(!ek_content_remembers(content));
    ek_content_remember(content);
    CHECK(ek_content_remembers(content));
    for (EkAside kind = 0; kind < EK_ASIDES; kind++) {
        asides[kind] = g_new0(Aside, 1);
        asides[kind]->freed = &freed;
        asides[kind]->told = G_MAXUINT64;
        ek_content_set_aside(content, kind, asides[kind], free_aside, forget_aside);
        CHECK(ek_content_aside(content, kind) == asides[kind]);
    }
    ek_content_lay(content, &all, 1);
    CHECK(asides[0]->told == 0 && asides[1]->told == 0);
    ek_content_relay(content, 7000, &all, 1);
    CHECK(asides[0]->told == 7000 && asides[1]->told == 7000);
    ek_content_free(content);
    CHECK_NUMBER(freed, EK_ASIDES);
    bench_close(&bench);
}

static void what_lies_before_is_read(void)
{
    Bench bench;
    g_autofree guint8 *drive = open_noise(&bench, test_seed());
    g_autoptr(EkContent) content = ek_content_new(bench.reader);
    guint8 before[1000];
    EkRange piece = {5000, 3000};
    CHECK_NUMBER(ek_content_before(content, before, sizeof before), 0);
    ek_content_lay(content, &piece, 1);
    CHECK_NUMBER(ek_content_before(content, before, sizeof before), sizeof before);
    CHECK_BYTES(before, drive + 4000, sizeof before);
    piece.first = 10;
    ek_content_lay(content, &piece, 1);
    CHECK_NUMBER(ek_content_before(content, before, sizeof before), 10);
    CHECK_BYTES(before, drive, 10);
    bench_close(&bench);
}

/* --- sums ------------------------------------------------------------------------------------- */

static guint32 sum_of_words(const guint8 *bytes, gsize length)
{
    guint32 sum = 0;
    for (gsize i = 0; i < length; i++)
        sum += (guint32)bytes[i] << (24 - 8 * (i % 4));
    return sum;
}

/* A part of random length that begins in the first piece and ends in the second one, which lies at
 * a random block of other ground: found, and where its sum is another's, not. */
static void a_sum_finds_what_goes_on(void)
{
    const gsize grid = 4096;
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed() + 2);
    for (guint round = 0; round < 60; round++) {
        guint8 *drive = g_malloc(DRIVE);
        fill_noise(drive, DRIVE, test_seed() + round);
        gboolean is_added = round % 3 == 1;
        gboolean is_behind = round % 3 == 2;
        gboolean is_there = round % 5 != 4;
        /* The file: a part of 20 to 200 KiB behind some bytes. */
        gsize first = (gsize)g_rand_int_range(random, 1, 900) * 4;
        gsize bytes = (gsize)g_rand_int_range(random, 20000, 200000);
        g_autofree guint8 *file = g_malloc(first + bytes + 4);
        fill_noise(file, first + bytes + 4, test_seed() + round + 1000);
        guint32 sum =
            is_added ? sum_of_words(file + first, bytes) : ek_crc32((EkSpan){file + first, bytes});
        ek_put_be32(file + first + bytes, sum);
        gsize cut = grid * (gsize)g_rand_int_range(random, 1, (gint32)((first + bytes) / grid));
        gsize block = (gsize)g_rand_int_range(random, 80, 150);
        memcpy(drive, file, cut);
        memcpy(drive + block * grid, file + cut, first + bytes + 4 - cut);
        if (!is_there)
            drive[block * grid + 10] ^= 4;
        Bench bench;
        bench_open(&bench, drive, DRIVE);
        g_autoptr(EkContent) content = ek_content_new(bench.reader);
        g_autoptr(EkContent) ground = ek_content_new(bench.reader);
        EkRange whole = {0, DRIVE};
        EkRange behind = {60 * grid, DRIVE - 60 * grid};
        EkByte offset = 0;
        EkByte in_ground = 0;
        EkBroken part = {first, bytes,
                         is_added    ? EK_PART_ADDED
                         : is_behind ? EK_PART_SUM_BEHIND
                                     : EK_PART_SUMMED,
                         is_behind ? 0 : sum};
        ek_content_lay(content, &whole, 1);
        ek_content_lay(ground, &behind, 1);
        gboolean found = ek_sums_find(content, ground, &part, grid, (guint)(behind.bytes / grid),
                                      &offset, &in_ground);
        CHECK(found == is_there);
        if (found && is_there) {
            CHECK_NUMBER(offset, cut);
            CHECK_NUMBER(in_ground, (block - 60) * grid);
        }
        bench_close(&bench);
        g_free(drive);
    }
}

/* --- chunks of LZMA2 -------------------------------------------------------------------------- */

static gsize put_chunk(guint8 *at, guint8 control, guint32 unpacked, guint32 packed)
{
    at[0] = (guint8)(control | (control >= 0x80 ? (unpacked - 1) >> 16 : 0));
    ek_put_be16(at + 1, (guint16)(unpacked - 1));
    if (control < 0x80)
        return 3 + unpacked;
    ek_put_be16(at + 3, (guint16)(packed - 1));
    return 5 + packed;
}

static void chunks_follow_one_another(void)
{
    static const struct {
        guint8 control;
        guint32 unpacked;
        guint32 packed;
        EkLzmaChain chain; /* with the mark that ends them behind it */
    } second[] = {
        {0x80, 120000, 60000, EK_LZMA_CHAIN_ENDS},   /* full by what it takes */
        {0x80, 300, 200, EK_LZMA_CHAIN_ENDS},        /* the last one need not be */
        {2, 30000, 0, EK_LZMA_CHAIN_ENDS},           /* plain */
        {0xe0, 120000, 60000, EK_LZMA_CHAIN_BREAKS}, /* all is set back: another stream */
        {1, 30000, 0, EK_LZMA_CHAIN_BREAKS},         /* and so here */
        {0x10, 30000, 0, EK_LZMA_CHAIN_BREAKS},      /* no chunk */
    };
    g_autofree guint8 *bytes = g_malloc(1u << 18);
    for (gsize i = 0; i < G_N_ELEMENTS(second); i++) {
        fill_noise(bytes, 1u << 18, test_seed());
        gsize at = put_chunk(bytes, 0x80, 150000, 65000);
        at += put_chunk(bytes + at, second[i].control, second[i].unpacked, second[i].packed);
        bytes[at] = 0;
        gsize end = 0;
        CHECK(ek_lzma2_chain((EkSpan){bytes, 1u << 18}, &end) == second[i].chain);
        CHECK(second[i].chain == EK_LZMA_CHAIN_BREAKS || end == at + 1);
        /* Seen in part, as far as it is right. */
        end = 0;
        CHECK(ek_lzma2_chain((EkSpan){bytes, 1000}, &end) == EK_LZMA_CHAIN_GOES_ON);
        CHECK_NUMBER(end, 0);
    }
    /* Behind one that is not full nothing comes but the end. */
    gsize at = put_chunk(bytes, 0x80, 300, 200);
    put_chunk(bytes + at, 0x80, 120000, 60000);
    gsize end = 0;
    CHECK(ek_lzma2_chain((EkSpan){bytes, 1u << 18}, &end) == EK_LZMA_CHAIN_BREAKS);
}

int main(void)
{
    static const Test tests[] = {
        {"pieces read as one", pieces_read_as_one},
        {"other pieces are laid behind", other_pieces_are_laid_behind},
        {"holes are noted", holes_are_noted},
        {"what is near is not read", what_is_near_is_not_read},
        {"a gate is asked once", a_gate_is_asked_once},
        {"what is kept waits for more", what_is_kept_waits_for_more},
        {"what is set aside is told", what_is_set_aside_is_told},
        {"what lies before is read", what_lies_before_is_read},
        {"a sum finds what goes on", a_sum_finds_what_goes_on},
        {"chunks follow one another", chunks_follow_one_another},
    };
    return RUN_TESTS("content", tests);
}
