/* SPDX-License-Identifier: MIT */
/* Unpacking blocks of bzip2. */
#include "carve/bunzip.h"

#include "base/checksum.h"

#include <string.h>

#define LEVEL_BYTES 100000u
#define SYMBOLS_MOST 258u
#define TABLES_MOST 6u
#define TABLES_LEAST 2u
#define BITS_MOST 20u
#define GROUP 50u /* symbols between two choices of a table */
#define CHOICES_MOST 18002u
#define SAME 4u /* equal bytes behind which a count stands */

typedef struct {
    guint32
        limit[BITS_MOST + 2]; /* the first code that is longer, by length, filled up to 20 bits */
    guint32 base[BITS_MOST + 2]; /* what is taken off a code of this length to give its symbol */
    guint16 order[SYMBOLS_MOST]; /* symbols by their codes */
    guint least;                 /* the shortest length */
} Table;

struct EkBunzip {
    guint32 most;   /* bytes of a block before its runs are undone */
    guint32 *bytes; /* a byte each, later with the place of the next above it */
    guint32 count;
    guint8 used[256]; /* bytes that occur, in order */
    guint used_count;
    guint8 choices[CHOICES_MOST];
    guint choice_count;
    Table tables[TABLES_MOST];
    guint table_count;
};

EkBunzip *ek_bunzip_new(guint level)
{
    EkBunzip *bunzip = g_new0(EkBunzip, 1);
    bunzip->most = CLAMP(level, 1, 9) * LEVEL_BYTES;
    bunzip->bytes = g_new(guint32, bunzip->most);
    return bunzip;
}

void ek_bunzip_free(EkBunzip *bunzip)
{
    g_free(bunzip->bytes);
    g_free(bunzip);
}

/* --- the tables at the beginning of a block --------------------------------------------------- */

static gboolean read_used(EkBunzip *bunzip, EkBits *bits)
{
    guint32 groups = ek_bits_take(bits, 16);
    bunzip->used_count = 0;
    for (guint i = 0; i < 16; i++) {
        guint32 members = (groups >> (15 - i) & 1) != 0 ? ek_bits_take(bits, 16) : 0;
        for (guint k = 0; k < 16; k++)
            if ((members >> (15 - k) & 1) != 0)
                bunzip->used[bunzip->used_count++] = (guint8)(16 * i + k);
    }
    return bunzip->used_count > 0;
}

static gboolean read_choices(EkBunzip *bunzip, EkBits *bits)
{
    guint8 recent[TABLES_MOST];
    bunzip->table_count = ek_bits_take(bits, 3);
    guint count = ek_bits_take(bits, 15);
    if (bunzip->table_count < TABLES_LEAST || bunzip->table_count > TABLES_MOST || count == 0)
        return FALSE;
    for (guint i = 0; i < TABLES_MOST; i++)
        recent[i] = (guint8)i;
    for (guint i = 0; i < count; i++) {
        guint which = 0;
        while (ek_bits_take(bits, 1) != 0)
            if (++which >= bunzip->table_count)
                return FALSE;
        guint8 table = recent[which];
        memmove(recent + 1, recent, which);
        recent[0] = table;
        /* Some writers give more than can ever be needed: these are read and forgotten. */
        if (i < CHOICES_MOST)
            bunzip->choices[i] = table;
    }
    bunzip->choice_count = MIN(count, CHOICES_MOST);
    return !bits->is_over;
}

/* Codes in order of their length, then of their symbol. */
static gboolean make_table(Table *table, const guint8 *lengths, guint count)
{
    guint32 code = 0;
    guint made = 0;
    table->least = BITS_MOST;
    for (guint length = 1; length <= BITS_MOST; length++) {
        guint first = made;
        for (guint i = 0; i < count; i++)
            if (lengths[i] == length)
                table->order[made++] = (guint16)i;
        if (made > first)
            table->least = MIN(table->least, length);
        table->base[length] = code - first;
        code += made - first;
        if (code > 1u << length)
            return FALSE;
        table->limit[length] = code << (BITS_MOST - length);
        code <<= 1;
    }
    return made == count;
}

static gboolean read_tables(EkBunzip *bunzip, EkBits *bits)
{
    guint symbols = bunzip->used_count + 2;
    for (guint i = 0; i < bunzip->table_count; i++) {
        guint8 lengths[SYMBOLS_MOST];
        guint length = ek_bits_take(bits, 5);
        for (guint k = 0; k < symbols; k++) {
            while (length >= 1 && length <= BITS_MOST && ek_bits_take(bits, 1) != 0)
                length += ek_bits_take(bits, 1) == 0 ? 1u : (guint)-1;
            if (length < 1 || length > BITS_MOST)
                return FALSE;
            lengths[k] = (guint8)length;
        }
        if (!make_table(&bunzip->tables[i], lengths, symbols))
            return FALSE;
    }
    return !bits->is_over;
}

/* --- the symbols ------------------------------------------------------------------------------ */

/* G_MAXUINT: no symbol has this code. */
static guint next_symbol(const Table *table, EkBits *bits)
{
    if (bits->count < BITS_MOST)
        ek_bits_fill(bits);
    guint32 seen = (guint32)(bits->held >> (bits->count - BITS_MOST)) & ((1u << BITS_MOST) - 1);
    for (guint length = table->least; length <= BITS_MOST; length++)
        if (seen < table->limit[length]) {
            bits->count -= length;
            return table->order[(seen >> (BITS_MOST - length)) - table->base[length]];
        }
    return G_MAXUINT;
}

static gboolean put(EkBunzip *bunzip, guint8 byte, guint32 times)
{
    if (times > bunzip->most - bunzip->count)
        return FALSE;
    for (; times > 0; times--)
        bunzip->bytes[bunzip->count++] = byte;
    return TRUE;
}

/* Runs are written with two digits of a number whose places count 1, 2, 4 …; others say how far
 * from the front a byte is. */
static gboolean read_symbols(EkBunzip *bunzip, EkBits *bits)
{
    guint8 front[256];
    guint last = bunzip->used_count + 1; /* ends the block */
    guint32 run = 0;
    guint32 place = 1;
    memcpy(front, bunzip->used, bunzip->used_count);
    bunzip->count = 0;
    for (guint read = 0;; read++) {
        if (read / GROUP >= bunzip->choice_count || bits->is_over)
            return FALSE;
        guint symbol = next_symbol(&bunzip->tables[bunzip->choices[read / GROUP]], bits);
        if (symbol <= 1) {
            if (place > bunzip->most)
                return FALSE;
            run += place << symbol;
            place <<= 1;
            continue;
        }
        if (run > 0 && !put(bunzip, front[0], run))
            return FALSE;
        run = 0;
        place = 1;
        if (symbol == last)
            return TRUE;
        if (symbol > last)
            return FALSE;
        guint8 byte = front[symbol - 1];
        memmove(front + 1, front, symbol - 1);
        front[0] = byte;
        if (!put(bunzip, byte, 1))
            return FALSE;
    }
}

/* --- what comes out --------------------------------------------------------------------------- */

/* To each byte the place of the one behind it. */
static void link_bytes(EkBunzip *bunzip)
{
    guint32 starts[256] = {0};
    for (guint32 i = 0; i < bunzip->count; i++)
        starts[bunzip->bytes[i] & 0xff]++;
    guint32 sum = 0;
    for (guint i = 0; i < 256; i++) {
        guint32 count = starts[i];
        starts[i] = sum;
        sum += count;
    }
    for (guint32 i = 0; i < bunzip->count; i++)
        bunzip->bytes[starts[bunzip->bytes[i] & 0xff]++] |= i << 8;
}

typedef struct {
    guint8 held[4096];
    gsize length;
    guint32 sum;
} Output;

static void flush(Output *output)
{
    output->sum = ek_crc32_forward(output->sum, (EkSpan){output->held, output->length});
    output->length = 0;
}

static void give(Output *output, guint8 byte, guint times)
{
    for (; times > 0; times--) {
        output->held[output->length++] = byte;
        if (output->length == sizeof output->held)
            flush(output);
    }
}

/* Four equal bytes are followed by how many more there are. */
static guint32 sum_of(const EkBunzip *bunzip, guint32 origin)
{
    Output output = {.sum = G_MAXUINT32};
    guint32 at = bunzip->bytes[origin] >> 8;
    guint same = 0;
    gint before = -1;
    for (guint32 i = 0; i < bunzip->count; i++) {
        guint32 entry = bunzip->bytes[at];
        guint8 byte = (guint8)entry;
        at = entry >> 8;
        if (same == SAME) {
            give(&output, (guint8)before, byte);
            same = 0;
            before = -1;
            continue;
        }
        same = byte == before ? same + 1 : 1;
        before = byte;
        give(&output, byte, 1);
    }
    flush(&output);
    return ~output.sum;
}

/* Blocks that were shuffled, as the first versions did with some, are not unpacked. */
gboolean ek_bunzip_block(EkBunzip *bunzip, EkBits *bits, guint32 *sum)
{
    gboolean is_shuffled = ek_bits_take(bits, 1) != 0;
    guint32 origin = ek_bits_take(bits, 24);
    if (is_shuffled || !read_used(bunzip, bits) || !read_choices(bunzip, bits) ||
        !read_tables(bunzip, bits) || !read_symbols(bunzip, bits) || origin >= bunzip->count)
        return FALSE;
    link_bytes(bunzip);
    *sum = sum_of(bunzip, origin);
    return !bits->is_over;
}
