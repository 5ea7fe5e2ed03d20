/* SPDX-License-Identifier: MIT */
/* Portable executables (Microsoft's PE format): sections, and directories in them of which each is
 * a table that can be told: where one is not in its place, neither is the rest. Some have a
 * checksum, and a signed one has the digest of all of it in its signature. */
#include "base/digest.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#include <string.h>

#define SECTIONS_MOST 96u
#define LEAST 256u
#define SIGNATURE_MOST (64u << 20)
#define SUMMED_MOST (512u << 20) /* bytes: headers may be forged, and each costs as much */
#define TABLE_SHOWN 512u
#define MACHINE_X64 0x8664u

static const EkSignature signatures[] = {{0, 2, {'M', 'Z'}, {0}}};

static gboolean begin(EkSpan span)
{
    guint32 head = ek_span_le32(span, 60);
    return head >= 64 && head < 4000 && ek_span_equals(span, head, "PE\0", 4);
}

/* --- the tables in it ------------------------------------------------------------------------- */

/* Directories, as they are numbered. */
enum { IMPORTS = 1, RESOURCES = 2, EXCEPTIONS = 3, SIGNATURE = 4, RELOCATIONS = 5 };

/* Blocks of relocations, each of a page. */
static gboolean are_relocations(EkSpan span, guint32 image, guint32 bytes)
{
    for (gsize at = 0; at + 8 <= MIN(span.length, bytes);) {
        guint32 page = ek_span_le32(span, at);
        guint32 length = ek_span_le32(span, at + 4);
        /* Some fill up what is left with zeros. */
        if (page == 0 && length == 0)
            return at > 0;
        if (page % 4096 != 0 || page >= image || length < 8 || length % 2 != 0 ||
            length > bytes - at)
            return FALSE;
        for (gsize entry = at + 8; entry < at + length && entry + 2 <= span.length; entry += 2) {
            guint kind = ek_span_le16(span, entry) >> 12;
            if (kind != 0 && kind != 3 && kind != 5 && kind != 7 && kind != 10)
                return FALSE;
        }
        at += length;
    }
    return TRUE;
}

/* Functions in order, each from its beginning to its end, and what unwinds it. */
static gboolean are_exceptions(EkSpan span, guint32 image, guint32 bytes)
{
    guint32 last = 1;
    for (gsize at = 0; at + 12 <= MIN(span.length, bytes); at += 12) {
        guint32 first = ek_span_le32(span, at);
        guint32 end = ek_span_le32(span, at + 4);
        guint32 unwinds = ek_span_le32(span, at + 8);
        if (first == 0 && end == 0 && unwinds == 0)
            return at > 0;
        if (first < last || end <= first || end > image || unwinds == 0 || unwinds >= image)
            return FALSE;
        last = first;
    }
    return TRUE;
}

/* A directory whose entries lead to others. */
static gboolean are_resources(EkSpan span, guint32 bytes)
{
    guint named = ek_span_le16(span, 12);
    guint numbered = ek_span_le16(span, 14);
    if (ek_span_le32(span, 0) != 0 || named + numbered == 0 || named + numbered > 4096 ||
        16 + 8 * (gsize)(named + numbered) > bytes)
        return FALSE;
    for (gsize i = 0; i < named + numbered && 24 + 8 * i <= span.length; i++) {
        guint32 name = ek_span_le32(span, 16 + 8 * i);
        guint32 leads = ek_span_le32(span, 20 + 8 * i);
        if ((name >> 31) != (i < named ? 1 : 0) || (name & 0x7fffffff) >= MAX(bytes, 65536) ||
            (leads >> 31) == 0 || (leads & 0x7fffffff) >= bytes)
            return FALSE;
    }
    return TRUE;
}

/* One entry a library, with places of its name and of what is taken from it. */
static gboolean are_imports(EkSpan span, guint32 image, guint32 bytes)
{
    for (gsize at = 0; at + 16 <= MIN(span.length, bytes); at += 20) {
        guint32 lookup = ek_span_le32(span, at);
        guint32 forward = ek_span_le32(span, at + 8);
        guint32 name = ek_span_le32(span, at + 12);
        if (lookup == 0 && name == 0)
            return at > 0;
        if (lookup >= image || name == 0 || name >= image ||
            (forward != 0 && forward != 0xffffffff && forward >= image))
            return FALSE;
        if (at + 20 <= span.length &&
            (ek_span_le32(span, at + 16) == 0 || ek_span_le32(span, at + 16) >= image))
            return FALSE;
    }
    return TRUE;
}

static gboolean is_signature(EkSpan span, guint32 bytes)
{
    guint16 revision = ek_span_le16(span, 4);
    return ek_span_le32(span, 0) >= 16 && ek_span_le32(span, 0) <= bytes &&
           (revision == 0x100 || revision == 0x200) && ek_span_le16(span, 6) <= 4 &&
           ek_span_u8(span, 8) == 0x30;
}

/* `told` is the number of the directory, `sum` its length, and above that how long the image is
 * in memory. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint32 bytes = (guint32)landmark->sum;
    guint32 image = (guint32)(landmark->sum >> 32);
    switch (landmark->told) {
    case IMPORTS: return are_imports(span, image, bytes);
    case RESOURCES: return are_resources(span, bytes);
    case EXCEPTIONS: return are_exceptions(span, image, bytes);
    case SIGNATURE: return is_signature(span, bytes);
    default: return are_relocations(span, image, bytes);
    }
}

/* --- where everything is ---------------------------------------------------------------------- */

typedef struct {
    EkByte at; /* in the file */
    guint32 bytes;
    guint32 address; /* in memory */
} Section;

typedef struct {
    EkContent *content;
    Section sections[SECTIONS_MOST];
    guint count;
    gsize optional;    /* where the optional header is */
    gsize directories; /* where they are listed */
    guint directory_count;
    guint16 machine;
    guint32 image;
    EkByte head;          /* bytes of the headers and the table of sections */
    EkByte end;           /* behind all of it, without its signature */
    EkLandmark tables[6]; /* in the order of their places */
    guint table_count;
} Program;

/* Where something in memory lies in the file; 0: not in it as a whole. */
static EkByte place_of(const Program *program, guint32 address, guint32 bytes)
{
    for (guint i = 0; i < program->count; i++) {
        const Section *section = &program->sections[i];
        if (address >= section->address && address - section->address < section->bytes &&
            bytes <= section->bytes - (address - section->address))
            return section->at + (address - section->address);
    }
    return 0;
}

static void add_table(Program *program, guint number, EkByte at, guint32 bytes)
{
    guint i = program->table_count;
    if (bytes < EK_LANDMARK_GLANCE || at < program->head ||
        program->table_count == G_N_ELEMENTS(program->tables))
        return;
    for (; i > 0 && program->tables[i - 1].at > at; i--)
        program->tables[i] = program->tables[i - 1];
    program->tables[i] = (EkLandmark){.at = at,
                                      .shown = MIN(bytes, TABLE_SHOWN),
                                      .told = number,
                                      .sum = (guint64)program->image << 32 | bytes,
                                      .stands = stands};
    program->table_count++;
}

/* The headers: FALSE where they are none. */
static gboolean take_head(Program *program)
{
    EkSpan start = ek_content_some(program->content, 0, 8192);
    gsize at = ek_span_le32(start, 60);
    guint16 magic = ek_span_le16(start, at + 24);
    gboolean is_wide = magic == 0x20b;
    EkByte symbols = ek_span_le32(start, at + 12);
    guint32 symbol_count = ek_span_le32(start, at + 16);
    program->machine = ek_span_le16(start, at + 4);
    program->count = ek_span_le16(start, at + 6);
    program->optional = at + 24;
    program->directories = at + 24 + (is_wide ? 112 : 96);
    program->directory_count = MIN(ek_span_le32(start, program->directories - 4), 16);
    program->image = ek_span_le32(start, at + 24 + 56);
    gsize list = at + 24 + ek_span_le16(start, at + 20);
    program->head = list + 40 * (gsize)program->count;
    program->end = program->head;
    if (program->count == 0 || program->count > SECTIONS_MOST || (magic != 0x10b && !is_wide) ||
        program->head > start.length)
        return FALSE;
    for (guint i = 0; i < program->count; i++) {
        EkSpan entry = ek_span_part(start, list + 40 * (gsize)i, 40);
        Section section = {ek_span_le32(entry, 20), ek_span_le32(entry, 16),
                           ek_span_le32(entry, 12)};
        program->sections[i] = section;
        if (section.bytes > 0)
            program->end = MAX(program->end, section.at + section.bytes);
    }
    for (guint i = IMPORTS; i < program->directory_count && i <= RELOCATIONS; i++) {
        guint32 address = ek_span_le32(start, program->directories + 8 * (gsize)i);
        guint32 bytes = ek_span_le32(start, program->directories + 8 * (gsize)i + 4);
        if (address != 0 && i != SIGNATURE && (i != EXCEPTIONS || program->machine == MACHINE_X64))
            add_table(program, i, place_of(program, address, bytes), bytes);
    }
    /* Symbols that some linkers leave, and the length of their names behind them. */
    EkByte names = symbols + 18 * (EkByte)symbol_count;
    EkSpan length = ek_content_at(program->content, names, 4);
    if (symbols >= program->end && symbol_count > 0 && length.length == 4 &&
        ek_span_le32(length, 0) >= 4 && ek_span_le32(length, 0) < SIGNATURE_MOST)
        program->end = names + ek_span_le32(length, 0);
    return TRUE;
}

/* The signature lies behind the rest. */
static EkByte take_signature(Program *program)
{
    EkSpan entry = ek_content_some(program->content, program->directories + 8 * SIGNATURE, 8);
    EkByte at = ek_span_le32(entry, 0);
    guint32 bytes = ek_span_le32(entry, 4);
    if (program->directory_count <= SIGNATURE || at < program->end || bytes < 16 ||
        bytes > SIGNATURE_MOST)
        return 0;
    add_table(program, SIGNATURE, at, bytes);
    program->end = at + bytes;
    return at;
}

/* --- what covers all of it -------------------------------------------------------------------- */

/* Words, and one byte that is half of one. */
typedef struct {
    guint64 sum;
    gboolean is_odd;
} Words;

static gboolean add_words(void *data, EkSpan span)
{
    Words *words = data;
    gsize at = 0;
    if (words->is_odd && span.length > 0)
        words->sum += (guint64)ek_span_u8(span, at++) << 8;
    for (; at + 2 <= span.length; at += 2)
        words->sum += ek_span_le16(span, at);
    words->is_odd = at < span.length;
    if (words->is_odd)
        words->sum += ek_span_u8(span, at);
    return TRUE;
}

typedef enum { SUM_NONE, SUM_WRONG, SUM_RIGHT } Sum;

/* The checksum: its words, each carry added again, and its length. */
static Sum compare_checksum(const Program *program)
{
    EkContent *content = program->content;
    EkByte at = program->optional + 64;
    guint32 told = ek_span_le32(ek_content_some(content, at, 4), 0);
    Words words = {0};
    if (told == 0 || program->end < at + 4 || !ek_content_each(content, 0, at, add_words, &words) ||
        !ek_content_each(content, at + 4, program->end - at - 4, add_words, &words))
        return SUM_NONE;
    while (words.sum > 0xffff)
        words.sum = (words.sum & 0xffff) + (words.sum >> 16);
    return (guint32)words.sum + (guint32)program->end == told ? SUM_RIGHT : SUM_WRONG;
}

/* Of the kinds of digest that sign programs. */
typedef struct {
    EkSha256 *sha256;
    GChecksum *sha1;
} Digests;

static gboolean add_digests(void *data, EkSpan span)
{
    Digests *digests = data;
    ek_sha256_update(digests->sha256, span.data, span.length);
    g_checksum_update(digests->sha1, span.data, (gssize)span.length);
    return TRUE;
}

/* All but the checksum, the place that tells where the signature is, and that itself is signed:
 * its digest must stand in the signature. */
static gboolean is_signed(const Program *program, EkByte signature)
{
    EkContent *content = program->content;
    EkByte checksum = program->optional + 64;
    EkByte entry = program->directories + 8 * SIGNATURE;
    g_autoptr(EkSha256) sha256 = ek_sha256_new();
    g_autoptr(GChecksum) sha1 = g_checksum_new(G_CHECKSUM_SHA1);
    Digests digests = {sha256, sha1};
    guint8 long_one[EK_SHA256_BYTES];
    guint8 short_one[20];
    gsize length = sizeof short_one;
    if (signature < entry + 8 || !ek_content_each(content, 0, checksum, add_digests, &digests) ||
        !ek_content_each(content, checksum + 4, entry - checksum - 4, add_digests, &digests) ||
        !ek_content_each(content, entry + 8, signature - entry - 8, add_digests, &digests))
        return FALSE;
    ek_sha256_finish(sha256, long_one);
    g_checksum_get_digest(sha1, short_one, &length);
    EkSpan span =
        ek_content_some(content, signature, (gsize)MIN(program->end - signature, EK_CONTENT_SHOWN));
    return memmem(span.data, span.length, long_one, sizeof long_one) != NULL ||
           memmem(span.data, span.length, short_one, sizeof short_one) != NULL;
}

/* --- following -------------------------------------------------------------------------------- */

/* Installers carry more behind what the program knows of, and the checksum may be of the program
 * alone: only zeros tell that nothing is there. */
static gboolean is_last(const Program *program)
{
    EkByte rest = ek_divide_up(program->end + 1, EK_FOLLOWED_BLOCK) * EK_FOLLOWED_BLOCK;
    rest = MIN(rest, ek_content_bytes(program->content)) - program->end;
    return rest == 0 || ek_content_is_zero(program->content, program->end, rest);
}

/* All of it is there, and so are its tables. */
static void end_program(const Program *program, EkByte signature, EkFollowed *followed)
{
    gboolean is_worth = program->table_count > 0 && program->end <= SUMMED_MOST;
    gboolean is_right = is_worth && is_signed(program, signature);
    Sum sum = is_worth && !is_right ? compare_checksum(program) : SUM_NONE;
    gboolean is_over = is_right || (sum == SUM_RIGHT && is_last(program));
    followed->is_doubtful = !is_over;
    followed->is_unproved = sum == SUM_WRONG;
    ek_followed_end(followed, program->end,
                    is_right           ? EK_PROOF_FULL
                    : sum == SUM_RIGHT ? EK_PROOF_DECODED
                                       : EK_PROOF_TABLES,
                    is_right           ? "the digest in its signature"
                    : is_over          ? "each section, its tables, and its checksum"
                    : sum == SUM_RIGHT ? "each section, its tables, and its checksum; more may "
                                         "follow it"
                    : sum == SUM_WRONG
                        ? "each section, and its tables; its checksum does not agree"
                        : "each section, and its tables; their contents are not checked");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Program program = {.content = content};
    EkByte there = ek_content_bytes(content);
    if (!take_head(&program))
        return;
    guint16 flags = ek_span_le16(ek_content_some(content, program.optional - 2, 2), 0);
    ek_followed_ending(followed, (flags & 0x2000) != 0 ? "dll" : "exe");
    EkByte signature = take_signature(&program);
    for (guint i = 0; i < program.table_count; i++) {
        const EkLandmark *table = &program.tables[i];
        EkSpan span = ek_content_at(content, table->at, table->shown);
        if (span.length > 0 && table->stands(table, span))
            continue;
        followed->landmark = *table;
        ek_followed_break(followed, MIN(EK_STEP, there), MIN(table->at, there), LEAST,
                          "a table of it is not where its header says");
        return;
    }
    if (program.end > there)
        ek_followed_break(followed, MIN(EK_STEP, there), there, LEAST,
                          "a section of it is missing");
    else
        end_program(&program, signature, followed);
}

const EkCarveType ek_carve_exe = {
    .name = "exe",
    .ending = "exe",
    .kind = EK_KIND_PROGRAM,
    .checks = "the sections and their tables; its checksum, or the digest in its signature: "
              "without them doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
    .is_solid = TRUE,
};
