/* SPDX-License-Identifier: MIT */
/* Files put together byte by byte whose parts follow one another by their lengths, programs and
 * packed fonts: FLV, Matroska with checksums, MP4 in fragments, portable executables, WOFF. */
#include "composed.h"

#include "base/bytes.h"
#include "base/checksum.h"
#include "base/digest.h"

#include <brotli/encode.h>
#include <string.h>
#include <zlib.h>

static guint32 step(guint32 *seed, guint32 most)
{
    *seed = *seed * 1664525u + 1013904223u;
    return (*seed >> 8) % most;
}

/* --- FLV -------------------------------------------------------------------------------------- */

GByteArray *compose_flv(guint tags, guint32 seed)
{
    static const guint8 kinds[] = {18, 9, 8};
    GByteArray *bytes = g_byte_array_new();
    compose_bytes(bytes, "FLV\1\5\0\0\0\x09\0\0\0\0", 13);
    for (guint i = 0; i < tags; i++) {
        guint32 length = 100 + step(&seed, 6000);
        compose_number(bytes, kinds[i == 0 ? 0 : 1 + i % 2], 1, TRUE);
        compose_number(bytes, length, 3, TRUE);
        compose_number(bytes, i * 23, 3, TRUE);
        compose_number(bytes, 0, 4, TRUE);
        compose_noise(bytes, length, seed + i);
        compose_number(bytes, length + 11, 4, TRUE);
    }
    return bytes;
}

/* --- Matroska --------------------------------------------------------------------------------- */

/* An element with its checksum before the rest of it. */
static void add_summed(GByteArray *bytes, guint32 id, const GByteArray *rest)
{
    compose_number(bytes, id, 4, TRUE);
    compose_number(bytes, 0x10000000u | (rest->len + 6), 4, TRUE);
    compose_bytes(bytes, "\xbf\x84", 2);
    compose_number(bytes, ek_crc32((EkSpan){rest->data, rest->len}), 4, FALSE);
    compose_bytes(bytes, rest->data, rest->len);
}

GByteArray *compose_matroska(guint clusters, guint32 seed)
{
    g_autoptr(GByteArray) segment = g_byte_array_new();
    g_autoptr(GByteArray) info = g_byte_array_new();
    compose_bytes(info, "\x7b\xa9\x86Meadow", 9);
    add_summed(segment, 0x1549a966, info);
    for (guint i = 0; i < clusters; i++) {
        g_autoptr(GByteArray) cluster = g_byte_array_new();
        compose_bytes(cluster, "\xe7\x82", 2);
        compose_number(cluster, i * 900, 2, TRUE);
        for (guint k = 0; k < 9; k++) {
            guint32 length = 200 + step(&seed, 9000);
            compose_number(cluster, 0xa3, 1, TRUE);
            compose_number(cluster, 0x200000 | length, 3, TRUE);
            compose_number(cluster, 0x81000080u | k << 12, 4, TRUE);
            compose_noise(cluster, length - 4, seed + k);
        }
        add_summed(segment, 0x1f43b675, cluster);
    }
    GByteArray *bytes = g_byte_array_new();
    compose_bytes(bytes, "\x1a\x45\xdf\xa3\x8b\x42\x82\x88matroska", 16);
    compose_number(bytes, 0x18538067, 4, TRUE);
    compose_number(bytes, 0x10000000u | segment->len, 4, TRUE);
    compose_bytes(bytes, segment->data, segment->len);
    return bytes;
}

/* --- films in fragments ----------------------------------------------------------------------- */

/* A box with these bytes, in others, the innermost first. */
static GByteArray *wrap(GByteArray *body, const char *const *names, gsize count)
{
    for (gsize i = 0; i < count; i++) {
        GByteArray *outer = g_byte_array_new();
        compose_box(outer, names[i], body->data, body->len);
        g_byte_array_unref(body);
        body = outer;
    }
    return body;
}

static GByteArray *make_movie(void)
{
    static const char *const within[] = {"stbl", "minf", "mdia"};
    static const guint8 zeros[100] = {0};
    guint8 entry[8 + 86 + 19] = {0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 86 + 19, 'a', 'v', 'c', '1'};
    guint8 head[84] = {0};
    GByteArray *table = g_byte_array_new();
    g_autoptr(GByteArray) track = g_byte_array_new();
    g_autoptr(GByteArray) movie = g_byte_array_new();
    GByteArray *bytes = g_byte_array_new();
    memcpy(entry + 8 + 86,
           "\0\0\0\x13"
           "avcC\1\x64\0\x1f\xff\xe0\0\0\0\0\0",
           19);
    head[15] = 1; /* its number */
    compose_box(table, "stsd", entry, sizeof entry);
    compose_box(table, "stco", zeros, 8);
    compose_box(table, "stsz", zeros, 12);
    compose_box(table, "stsc", zeros, 8);
    table = wrap(table, within, G_N_ELEMENTS(within));
    compose_box(track, "tkhd", head, sizeof head);
    compose_bytes(track, table->data, table->len);
    g_byte_array_unref(table);
    compose_box(movie, "mvhd", zeros, 100);
    compose_box(movie, "trak", track->data, track->len);
    compose_box(bytes, "ftyp", "iso5\0\0\2\0iso5mp41", 16);
    compose_box(bytes, "moov", movie->data, movie->len);
    return bytes;
}

/* Samples in units, and the box before them that tells how long each is. */
static void add_fragment(GByteArray *bytes, guint number, guint32 seed)
{
    enum { SAMPLES = 12, BEFORE_RUN = 8 + 16 + 8 + 16, RUN = 8 + 12 + 4 * SAMPLES };
    guint8 sequence[8] = {0};
    g_autoptr(GByteArray) run = g_byte_array_new();
    g_autoptr(GByteArray) fragment = g_byte_array_new();
    g_autoptr(GByteArray) parts = g_byte_array_new();
    g_autoptr(GByteArray) media = g_byte_array_new();
    compose_number(run, 0x201, 4, TRUE);
    compose_number(run, SAMPLES, 4, TRUE);
    compose_number(run, BEFORE_RUN + RUN + 8, 4, TRUE);
    for (guint i = 0; i < SAMPLES; i++) {
        guint32 unit = 300 + step(&seed, 3000);
        compose_number(run, 4 + unit, 4, TRUE);
        compose_number(media, unit, 4, TRUE);
        compose_number(media, 0x41, 1, TRUE);
        compose_noise(media, unit - 1, seed + i);
    }
    compose_box(fragment, "tfhd", "\0\2\0\0\0\0\0\1", 8);
    compose_box(fragment, "trun", run->data, run->len);
    sequence[7] = (guint8)(number + 1);
    compose_box(parts, "mfhd", sequence, sizeof sequence);
    compose_box(parts, "traf", fragment->data, fragment->len);
    compose_box(bytes, "moof", parts->data, parts->len);
    compose_box(bytes, "mdat", media->data, media->len);
}

GByteArray *compose_fragments(guint fragments, guint32 seed)
{
    GByteArray *bytes = make_movie();
    for (guint i = 0; i < fragments; i++)
        add_fragment(bytes, i, seed + i);
    return bytes;
}

/* --- portable executables --------------------------------------------------------------------- */

#define HEAD 64u      /* where the header begins */
#define OPTIONAL 0xf0 /* bytes of it */
#define LIST (HEAD + 24 + OPTIONAL)
#define FIRST 1024u /* bytes of headers */
#define IMAGE 0x200000u

typedef struct {
    GByteArray *bytes;
    guint sections;
    guint32 address; /* of the next one */
} Program;

/* Returns the address of the section, which `body` makes. */
static guint32 add_section(Program *program, const char *name, const GByteArray *body)
{
    guint8 entry[40] = {0};
    guint32 address = program->address;
    guint32 length = (body->len + 511) / 512 * 512;
    memcpy(entry, name, strlen(name));
    ek_put_le32(entry + 8, body->len);
    ek_put_le32(entry + 12, address);
    ek_put_le32(entry + 16, length);
    ek_put_le32(entry + 20, program->bytes->len);
    memcpy(program->bytes->data + LIST + 40 * (gsize)program->sections++, entry, sizeof entry);
    compose_bytes(program->bytes, body->data, body->len);
    guint pad = length - body->len;
    gsize at = program->bytes->len;
    g_byte_array_set_size(program->bytes, (guint)at + pad);
    memset(program->bytes->data + at, 0, pad);
    program->address += (length + 4095) / 4096 * 4096;
    return address;
}

static void set_directory(Program *program, guint number, guint32 address, guint32 bytes)
{
    guint8 *entry = program->bytes->data + HEAD + 24 + 112 + 8 * (gsize)number;
    ek_put_le32(entry, address);
    ek_put_le32(entry + 4, bytes);
}

static void add_tables(Program *program, guint32 code, guint32 seed)
{
    g_autoptr(GByteArray) imports = g_byte_array_new();
    g_autoptr(GByteArray) functions = g_byte_array_new();
    g_autoptr(GByteArray) resources = g_byte_array_new();
    g_autoptr(GByteArray) relocations = g_byte_array_new();
    for (guint i = 0; i < 3; i++)
        for (guint k = 0; k < 5; k++)
            compose_number(imports, k == 1 || k == 2 ? 0 : program->address + 400 + 40 * i + 4 * k,
                           4, FALSE);
    compose_bytes(imports, (const guint8[20]){0}, 20);
    compose_noise(imports, 30000, seed);
    guint32 address = add_section(program, ".rdata", imports);
    set_directory(program, 1, address, 80);
    for (guint i = 0; i < 500; i++) {
        compose_number(functions, code + 64 * i, 4, FALSE);
        compose_number(functions, code + 64 * i + 20 + i % 40, 4, FALSE);
        compose_number(functions, address + 1000 + 4 * i, 4, FALSE);
    }
    set_directory(program, 3, add_section(program, ".pdata", functions), functions->len);
    compose_bytes(resources, "\0\0\0\0\0\0\0\0\4\0\0\0\0\0\2\0", 16);
    compose_bytes(resources, "\3\0\0\0\x20\0\0\x80\x10\0\0\0\x38\0\0\x80", 16);
    compose_noise(resources, 20000, seed + 1);
    set_directory(program, 2, add_section(program, ".rsrc", resources), resources->len);
    for (guint page = 0; page < 12; page++) {
        compose_number(relocations, code + 4096 * page, 4, FALSE);
        compose_number(relocations, 8 + 2 * 90, 4, FALSE);
        for (guint i = 0; i < 90; i++)
            compose_number(relocations, 0xa000 | (i * 40), 2, FALSE);
    }
    set_directory(program, 5, add_section(program, ".reloc", relocations), relocations->len);
}

/* As the linker counts: words, each carry added again, and the length. */
static void set_checksum(GByteArray *bytes)
{
    guint32 sum = 0;
    ek_put_le32(bytes->data + HEAD + 24 + 64, 0);
    for (guint at = 0; at < bytes->len; at += 2) {
        sum += bytes->data[at];
        sum += at + 1 < bytes->len ? (guint32)bytes->data[at + 1] << 8 : 0u;
        sum = (sum & 0xffff) + (sum >> 16);
    }
    ek_put_le32(bytes->data + HEAD + 24 + 64, sum + bytes->len);
}

/* The digest leaves out what signing changes. */
static void sign(Program *program)
{
    guint8 digest[EK_SHA256_BYTES];
    guint8 *data = program->bytes->data;
    gsize entry = HEAD + 24 + 112 + 8 * 4;
    g_autoptr(EkSha256) sha = ek_sha256_new();
    ek_sha256_update(sha, data, HEAD + 24 + 64);
    ek_sha256_update(sha, data + HEAD + 24 + 68, entry - (HEAD + 24 + 68));
    ek_sha256_update(sha, data + entry + 8, program->bytes->len - entry - 8);
    ek_sha256_finish(sha, digest);
    ek_put_le32(data + entry, program->bytes->len);
    ek_put_le32(data + entry + 4, 1200);
    compose_number(program->bytes, 1200, 4, FALSE);
    compose_bytes(program->bytes, "\0\2\2\0\x30\x82\4\x90", 8);
    compose_noise(program->bytes, 100, 7);
    compose_bytes(program->bytes, digest, sizeof digest);
    compose_noise(program->bytes, 1200 - 12 - 100 - sizeof digest, 9);
}

GByteArray *compose_program(ComposedSum kind, guint32 seed)
{
    Program program = {.bytes = g_byte_array_new(), .address = 0x1000};
    g_byte_array_set_size(program.bytes, FIRST);
    guint8 *head = program.bytes->data;
    memset(head, 0, FIRST);
    memcpy(head, "MZ", 2);
    ek_put_le32(head + 60, HEAD);
    memcpy(head + HEAD, "PE\0\0\x64\x86\5\0", 8);
    ek_put_le16(head + HEAD + 20, OPTIONAL);
    ek_put_le16(head + HEAD + 22, 0x22);
    ek_put_le16(head + HEAD + 24, 0x20b);
    ek_put_le32(head + HEAD + 24 + 56, IMAGE);
    ek_put_le32(head + HEAD + 24 + 108, 16);
    g_autoptr(GByteArray) code = g_byte_array_new();
    compose_noise(code, 50000 + seed % 9000, seed);
    guint32 first = add_section(&program, ".text", code);
    add_tables(&program, first, seed + 1);
    if (kind == COMPOSED_SIGNED)
        sign(&program);
    if (kind != COMPOSED_BARE)
        set_checksum(program.bytes);
    if (kind == COMPOSED_STALE)
        program.bytes->data[FIRST + 5] ^= 1;
    return program.bytes;
}

/* --- fonts ------------------------------------------------------------------------------------ */

#define TABLES 4u
#define HEAD_WOFF 44u

/* The tables of a font, one behind the other, each of this length. */
static GByteArray *make_tables(gsize length, guint32 seed)
{
    GByteArray *tables = g_byte_array_new();
    compose_noise(tables, TABLES * length, seed);
    for (guint i = 0; i < tables->len; i++)
        tables->data[i] = i % 300 < 200 ? tables->data[i] % 40 : tables->data[i];
    return tables;
}

static GByteArray *compose_woff(guint32 seed)
{
    gsize length = 14000 + seed % 3000;
    g_autoptr(GByteArray) tables = make_tables(length, seed);
    g_autoptr(GByteArray) body = g_byte_array_new();
    GByteArray *bytes = g_byte_array_new();
    compose_bytes(bytes, "wOFF\0\1\0\0\0\0\0\0\0\4\0\0", 16);
    compose_bytes(bytes, (const guint8[28]){0}, 28);
    for (guint i = 0; i < TABLES; i++) {
        uLongf packed = compressBound((uLong)length);
        g_autofree guint8 *room = g_malloc(packed);
        compress(room, &packed, tables->data + i * length, (uLong)length);
        compose_number(bytes, 0x676c7966 + i, 4, TRUE);
        compose_number(bytes, HEAD_WOFF + 20 * TABLES + body->len, 4, TRUE);
        compose_number(bytes, packed, 4, TRUE);
        compose_number(bytes, length, 4, TRUE);
        compose_number(bytes, 0, 4, TRUE);
        compose_bytes(body, room, packed);
        g_byte_array_set_size(body, (body->len + 3) / 4 * 4);
    }
    compose_bytes(bytes, body->data, body->len);
    ek_put_be32(bytes->data + 8, bytes->len);
    return bytes;
}

static GByteArray *compose_woff2(guint32 seed)
{
    gsize length = 9000 + seed % 2000;
    g_autoptr(GByteArray) tables = make_tables(length, seed);
    size_t packed = BrotliEncoderMaxCompressedSize(tables->len);
    g_autofree guint8 *room = g_malloc(packed);
    GByteArray *bytes = g_byte_array_new();
    BrotliEncoderCompress(9, 22, BROTLI_MODE_FONT, tables->len, tables->data, &packed, room);
    compose_bytes(bytes, "wOF2\0\1\0\0\0\0\0\0\0\4\0\0", 16);
    compose_number(bytes, tables->len, 4, TRUE);
    compose_number(bytes, packed, 4, TRUE);
    compose_bytes(bytes, (const guint8[24]){0}, 24);
    /* Known tags, but for the last one: none of them an outline. */
    for (guint i = 0; i < TABLES; i++) {
        compose_number(bytes, i < TABLES - 1 ? i : 63, 1, TRUE);
        if (i == TABLES - 1)
            compose_bytes(bytes, "Silf", 4);
        compose_number(bytes, 0x80 | (length >> 7), 1, TRUE);
        compose_number(bytes, length & 0x7f, 1, TRUE);
    }
    compose_bytes(bytes, room, packed);
    ek_put_be32(bytes->data + 8, bytes->len);
    return bytes;
}

void add_composed_chains(GPtrArray *list, guint32 seed)
{
    compose_add(list, "flv", "flv", compose_flv(40, seed), TRUE, FALSE);
    compose_add(list, "matroska", "mkv", compose_matroska(3, seed + 1), TRUE, TRUE);
    compose_add(list, "mp4", "mp4", compose_fragments(5, seed + 6), TRUE, FALSE);
    compose_add(list, "exe", "exe", compose_program(COMPOSED_BARE, seed + 3), FALSE, FALSE);
    compose_add(list, "ole", "doc", compose_ole(150 + seed % 60, seed + 7), TRUE, FALSE);
    compose_add(list, "exe", "exe", compose_program(COMPOSED_SIGNED, seed + 2), TRUE, TRUE);
    compose_add(list, "woff", "woff", compose_woff(seed + 4), TRUE, TRUE);
    compose_add(list, "woff", "woff2", compose_woff2(seed + 5), TRUE, TRUE);
}
