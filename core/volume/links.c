/* SPDX-License-Identifier: MIT */
/* Tables of links. */
#include "volume/links.h"

#include <string.h>

#define GLANCE 4096u
#define NEAR 4096u  /* clusters: a link that leads farther is seldom */
#define HARD_BY 64u /* clusters */
#define NOISE_LEAST 16u
#define MEND_MOST (1u << 20)

enum {
    KNOWN = 1,
    PREFERRED = 4,
    NOISE = 16
}; /* shifted by the copy; only where they differ is one preferred */

void ek_links_init(EkLinkTable *table, EkReader *reader, const EkLinkPlaces *places,
                   gsize window_most)
{
    *table = (EkLinkTable){.reader = reader, .places = *places, .window_most = window_most};
    for (guint copy = 0; copy < places->copies; copy++)
        table->windows[copy] = g_malloc(window_most);
    table->marks = g_malloc(window_most / EK_STEP);
    while (1u << (table->sector_log + 1) <= places->sector_size)
        table->sector_log++;
}

void ek_links_clear(EkLinkTable *table)
{
    for (guint copy = 0; copy < EK_LINK_COPIES; copy++)
        g_clear_pointer(&table->windows[copy], g_free);
    g_clear_pointer(&table->marks, g_free);
}

static gboolean exists(const EkLinkTable *table, guint32 cluster)
{
    return cluster >= 2 && cluster - 2 < table->places.clusters;
}

/* --- windows -------------------------------------------------------------------------------- */

/* From one copy, sector by sector where some were not read. */
static void fill_from(EkLinkTable *table, guint copy)
{
    guint32 size = table->places.sector_size;
    EkByte start = table->places.first[copy] + table->window_at;
    guint8 known_here = (guint8)(KNOWN << copy);
    EkKnown known;
    gboolean all = ek_reader_read(table->reader, start, table->windows[copy], table->window_bytes,
                                  &known, NULL) &&
                   known.good == table->window_bytes;
    for (gsize at = 0; at < table->window_bytes; at += size)
        if (all || (ek_reader_read(table->reader, start + at, table->windows[copy] + at, size,
                                   &known, NULL) &&
                    known.good == size))
            table->marks[at / size] |= known_here;
}

static EkLink meaning(const EkLinkTable *table, guint32 value, guint32 *next)
{
    guint bits = table->places.bits;
    guint32 top = bits == 32 ? G_MAXUINT32 : (1u << bits) - 1;
    if (value == 0)
        return EK_LINK_FREE;
    if (value >= top - 7)
        return EK_LINK_END;
    if (value == top - 8 || !exists(table, value))
        return EK_LINK_BAD;
    *next = value;
    return EK_LINK_NEXT;
}

static guint32 value_in(const EkLinkTable *table, const guint8 *entry, guint32 cluster)
{
    guint32 value = ek_span_le32((EkSpan){entry, 4}, 0);
    switch (table->places.bits) {
    case 12: return cluster % 2 == 0 ? value & 0xfff : value >> 4 & 0xfff;
    case 16: return value & 0xffff;
    case 28: return value & 0x0fffffff;
    default: return value;
    }
}

static gsize entry_bytes(const EkLinkTable *table)
{
    return table->places.bits > 16 ? 4 : 2;
}

/* What speaks for some bytes of a copy, which begin `at` bytes into the table, to be links. */
static int weigh(const EkLinkTable *table, const guint8 *data, gsize length, EkByte at)
{
    guint bits = table->places.bits > 16 ? 32 : table->places.bits;
    guint32 cluster = (guint32)ek_divide_up(at * 8, bits);
    int weight = 0;
    for (;; cluster++) {
        gsize place = (gsize)((EkByte)cluster * bits / 8 - at);
        guint8 entry[4] = {0};
        guint32 next = 0;
        if (place + entry_bytes(table) > length)
            return weight;
        if (!exists(table, cluster))
            continue;
        memcpy(entry, data + place, entry_bytes(table));
        switch (meaning(table, value_in(table, entry, cluster), &next)) {
        case EK_LINK_NEXT:
            weight += next == cluster + 1 ? 2
                      : next == cluster   ? -3
                      : next > cluster    ? (next - cluster > NEAR ? -1 : 0)
                                          : -1;
            break;
        case EK_LINK_END: weight++; break;
        case EK_LINK_BAD: weight -= 3; break;
        case EK_LINK_FREE:
        case EK_LINK_UNKNOWN: break;
        }
    }
}

/* Do some bytes of a copy lead to anywhere at all? Links lead to the next cluster, or near it, or
 * end; noise seldom does. */
static gboolean is_noise(const EkLinkTable *table, const guint8 *data, gsize length, EkByte at)
{
    guint bits = table->places.bits > 16 ? 32 : table->places.bits;
    guint used = 0;
    guint likely = 0;
    guint impossible = 0;
    for (guint32 cluster = (guint32)ek_divide_up(at * 8, bits);; cluster++) {
        gsize place = (gsize)((EkByte)cluster * bits / 8 - at);
        guint8 entry[4] = {0};
        guint32 next = 0;
        if (place + entry_bytes(table) > length)
            break;
        memcpy(entry, data + place, entry_bytes(table));
        guint32 value = value_in(table, entry, cluster);
        EkLink link = meaning(table, value, &next);
        if (!exists(table, cluster) || link == EK_LINK_FREE)
            continue;
        used++;
        likely += link == EK_LINK_END || (link == EK_LINK_NEXT && next != cluster &&
                                          MAX(next, cluster) - MIN(next, cluster) <= HARD_BY);
        impossible += link == EK_LINK_BAD && (value & 0xff) != 0xf7;
    }
    return impossible > used / 8 || (used >= NOISE_LEAST && likely * 8 < used);
}

/* Where both copies of a sector were read and differ, the better one is preferred. */
static void prefer(EkLinkTable *table)
{
    guint32 size = table->places.sector_size;
    const guint8 both = KNOWN | KNOWN << 1;
    const guint8 noise = NOISE | NOISE << 1;
    for (gsize at = 0; at < table->window_bytes; at += size) {
        guint8 *mark = &table->marks[at / size];
        const guint8 *first = table->windows[0] + at;
        const guint8 *second = table->windows[1] + at;
        table->differs |= (*mark & both) != both;
        if ((*mark & both) != both || memcmp(first, second, size) == 0)
            continue;
        table->differs = TRUE;
        guint copy =
            (*mark & noise) == NOISE ||
            ((*mark & noise) != NOISE << 1 && weigh(table, second, size, table->window_at + at) >
                                                  weigh(table, first, size, table->window_at + at));
        *mark |= (guint8)(PREFERRED << copy);
    }
}

static void note_noise(EkLinkTable *table)
{
    guint32 size = table->places.sector_size;
    for (guint copy = 0; copy < table->places.copies; copy++)
        for (gsize at = 0; at < table->window_bytes; at += size) {
            guint8 *mark = &table->marks[at / size];
            if ((*mark >> copy & KNOWN) != 0 &&
                is_noise(table, table->windows[copy] + at, size, table->window_at + at))
                *mark |= (guint8)(NOISE << copy);
        }
}

static void load(EkLinkTable *table, EkByte at)
{
    table->window_at = at - at % table->window_most;
    table->window_bytes = (gsize)MIN(table->window_most, table->places.bytes - table->window_at);
    memset(table->marks, 0, table->window_most / EK_STEP);
    for (guint copy = 0; copy < table->places.copies; copy++)
        fill_from(table, copy);
    note_noise(table);
    if (table->places.copies > 1)
        prefer(table);
}

/* The copy that a byte of the window is taken from; -1: it was not read. */
static int copy_for(const EkLinkTable *table, int wanted, gsize inside)
{
    guint8 mark = table->marks[inside >> table->sector_log];
    if (wanted >= 0)
        return (mark >> wanted & KNOWN) != 0 ? wanted : -1;
    if ((mark & PREFERRED << 1) != 0)
        return 1;
    return (mark & KNOWN) != 0 ? 0 : (mark & KNOWN << 1) != 0 ? 1 : -1;
}

/* --- links ---------------------------------------------------------------------------------- */

/* An entry that lies in the window, in one sector of it, as nearly all do. */
static EkLink link_here(EkLinkTable *table, int copy, gsize inside, guint32 cluster, guint32 *next)
{
    guint8 entry[4] = {0};
    int from = copy_for(table, copy, inside);
    if (from < 0)
        return EK_LINK_UNKNOWN;
    table->read_noise = (table->marks[inside >> table->sector_log] >> from & NOISE) != 0;
    memcpy(entry, table->windows[from] + inside, entry_bytes(table));
    return meaning(table, value_in(table, entry, cluster), next);
}

static EkLink link_in(EkLinkTable *table, int copy, guint32 cluster, guint32 *next)
{
    guint bits = table->places.bits > 16 ? 32 : table->places.bits;
    EkByte at = (EkByte)cluster * bits / 8;
    gsize length = entry_bytes(table);
    guint8 entry[4] = {0};
    gsize first = (gsize)(at - table->window_at);
    if (at >= table->window_at && first + length <= table->window_bytes &&
        first >> table->sector_log == (first + length - 1) >> table->sector_log)
        return link_here(table, copy, first, cluster, next);
    for (gsize i = 0; i < length; i++) {
        EkByte place = at + i;
        if (place >= table->places.bytes)
            return EK_LINK_UNKNOWN;
        if (table->window_bytes == 0 || place < table->window_at ||
            place - table->window_at >= table->window_bytes)
            load(table, place);
        gsize inside = (gsize)(place - table->window_at);
        int from = copy_for(table, copy, inside);
        if (from < 0)
            return EK_LINK_UNKNOWN;
        table->read_noise = (table->marks[inside >> table->sector_log] >> from & NOISE) != 0;
        entry[i] = table->windows[from][inside];
    }
    return meaning(table, value_in(table, entry, cluster), next);
}

EkLink ek_links_of(EkLinkTable *table, int copy, guint32 cluster, guint32 *next)
{
    EkLink link = link_in(table, copy, cluster, next);
    if (copy != EK_LINK_JUDGED)
        return link;
    if (table->read_noise)
        link = EK_LINK_UNKNOWN;
    if (!table->differs || link == EK_LINK_NEXT || link == EK_LINK_END)
        return link;
    /* What leads on in either copy is more than what leads nowhere. */
    for (int other = 0; other < (int)table->places.copies; other++) {
        guint32 following = 0;
        EkLink found = link_in(table, other, cluster, &following);
        if (table->read_noise || (found != EK_LINK_NEXT && found != EK_LINK_END))
            continue;
        *next = following;
        return found;
    }
    return link;
}

/* --- chains --------------------------------------------------------------------------------- */

/* How many different clusters a chain has that comes back to itself; 0: it does not, within
 * `most`. By Brent's way of finding a period. */
static guint64 count_circle(EkLinkTable *table, int copy, guint32 first, guint64 most)
{
    guint64 power = 1;
    guint64 period = 0;
    guint32 marked = first;
    guint32 at = first;
    for (guint64 steps = 0;; steps++) {
        if (steps > most || ek_links_of(table, copy, at, &at) != EK_LINK_NEXT)
            return 0;
        period++;
        if (at == marked)
            break;
        if (period == power) {
            power *= 2;
            period = 0;
            marked = at;
        }
    }
    guint32 ahead = first;
    for (guint64 i = 0; i < period; i++)
        ek_links_of(table, copy, ahead, &ahead);
    guint64 before = 0;
    for (at = first; at != ahead; before++) {
        ek_links_of(table, copy, at, &at);
        ek_links_of(table, copy, ahead, &ahead);
    }
    return before + period;
}

static EkChain trace(EkLinkTable *table, int copy, guint32 first, guint64 wanted)
{
    EkChain chain = {.copy = copy, .end = EK_LINK_NEXT};
    guint32 cluster = first;
    while (chain.clusters < wanted && chain.end == EK_LINK_NEXT) {
        chain.clusters++;
        chain.end = ek_links_of(table, copy, cluster, &cluster);
        chain.is_noise |= table->read_noise;
    }
    if (chain.end != EK_LINK_NEXT)
        return chain;
    guint64 different = count_circle(table, copy, first, MIN(wanted, table->places.clusters));
    chain.circles = different > 0 && different <= wanted;
    if (chain.circles)
        chain.clusters = different;
    return chain;
}

EkChain ek_links_follow(EkLinkTable *table, guint32 first, guint64 wanted)
{
    EkChain best = trace(table, EK_LINK_JUDGED, first, wanted);
    if (!table->differs)
        return best;
    EkChain in[EK_LINK_COPIES];
    for (guint copy = 0; copy < table->places.copies; copy++)
        in[copy] = trace(table, (int)copy, first, wanted);
    for (guint copy = 0; copy < table->places.copies; copy++) {
        const EkChain *other = &in[table->places.copies - 1 - copy];
        gboolean fits = ek_chain_fits(&in[copy], wanted) && !in[copy].is_noise;
        table->votes[copy] += fits && !ek_chain_fits(other, wanted);
        if (ek_chain_fits(&best, wanted) && !best.is_noise)
            continue;
        if (fits || (!in[copy].circles && !in[copy].is_noise && in[copy].clusters > best.clusters))
            best = in[copy];
    }
    return best;
}

gboolean ek_links_find_way(EkLinkTable *table, guint32 first, guint64 wanted, guint64 all,
                           guint64 *steps, EkLinkWay *way, gboolean *is_proved)
{
    guint64 followed = MIN(all, table->places.clusters);
    guint64 cost = followed * (table->differs ? 1 + table->places.copies : 1);
    if (cost > *steps)
        return FALSE;
    *steps -= cost;
    EkChain chain = ek_links_follow(table, first, followed);
    way->copy = chain.copy;
    way->most = chain.circles ? chain.clusters : wanted;
    way->may_guess = !chain.circles && chain.clusters < wanted && chain.end != EK_LINK_END;
    *is_proved = ek_chain_fits(&chain, all) && !chain.is_noise;
    return TRUE;
}

guint32 ek_links_step(EkLinkTable *table, const EkLinkWay *way, const EkClusterBitmap *files,
                      const EkClusterBitmap *folders, guint32 cluster, EkLink *link)
{
    guint32 next = 0;
    *link = ek_links_of(table, way->copy, cluster, &next);
    if (*link == EK_LINK_NEXT)
        return next;
    gboolean is_taken = ek_cluster_bitmap_has(files, cluster + 1ul) ||
                        ek_cluster_bitmap_has(folders, cluster + 1ul);
    return *link != EK_LINK_END && way->may_guess && !is_taken ? cluster + 1 : 0;
}

int ek_links_weigh(EkLinkTable *table, int copy)
{
    gsize length = (gsize)MIN(GLANCE, table->places.bytes);
    if (table->window_bytes == 0 || table->window_at > 0)
        load(table, 0);
    length = MIN(length, table->window_bytes);
    for (gsize at = 0; at < length; at += table->places.sector_size)
        if (copy_for(table, copy, at) < 0)
            return 0;
    return weigh(table, table->windows[copy], length, 0);
}

/* --- making it right ------------------------------------------------------------------------ */

typedef struct {
    EkLinkTable *table;
    EkLinkRepair sink;
    void *data;
    guint copy;
    EkByte left;
    EkByte at; /* in the image, of what is gathered */
    GByteArray *wanted;
} Repairing;

static void flush(Repairing *repairing)
{
    if (repairing->wanted->len > 0)
        repairing->sink(repairing->data, repairing->copy, repairing->at, repairing->wanted->data,
                        repairing->wanted->len);
    g_byte_array_set_size(repairing->wanted, 0);
}

/* The copy that a sector should be like; -1: neither was read, or both say the same. */
static int better(const EkLinkTable *table, gsize at)
{
    guint32 size = table->places.sector_size;
    guint8 mark = table->marks[at / size];
    if ((mark & KNOWN) == 0)
        return (mark & KNOWN << 1) != 0 ? 1 : -1;
    if ((mark & KNOWN << 1) == 0)
        return 0;
    if ((mark & (PREFERRED | PREFERRED << 1)) == 0)
        return -1;
    if (table->votes[0] > 0 && table->votes[1] == 0)
        return 0;
    if (table->votes[1] > 0 && table->votes[0] == 0)
        return 1;
    return (mark & PREFERRED << 1) != 0 ? 1 : 0;
}

/* Is what stands there more than noise? */
static gboolean is_sound(const EkLinkTable *table, guint copy, gsize at)
{
    return (table->marks[at / table->places.sector_size] >> copy & NOISE) == 0;
}

/* Systems read the first copy: the other is only written when it is damaged, not when it is older.
 */
static gboolean is_damaged(const EkLinkTable *table, guint copy, gsize at)
{
    guint32 size = table->places.sector_size;
    const guint8 *data = table->windows[copy] + at;
    return (table->marks[at / size] >> copy & KNOWN) == 0 || ek_bytes_are_zero(data, size) ||
           !is_sound(table, copy, at);
}

static void repair_window(Repairing *repairing)
{
    const EkLinkTable *table = repairing->table;
    guint32 size = table->places.sector_size;
    for (gsize at = 0; at < table->window_bytes; at += size) {
        int good = better(table, at);
        gboolean is_worse = good == 1 - (int)repairing->copy && is_sound(table, (guint)good, at) &&
                            (repairing->copy == 0 || is_damaged(table, repairing->copy, at));
        EkByte place = table->places.first[repairing->copy] + table->window_at + at;
        if (repairing->wanted->len > 0 &&
            (!is_worse || place != repairing->at + repairing->wanted->len ||
             repairing->wanted->len + size > MEND_MOST))
            flush(repairing);
        if (!is_worse || repairing->left < size)
            continue;
        if (repairing->wanted->len == 0)
            repairing->at = place;
        g_byte_array_append(repairing->wanted, table->windows[good] + at, size);
        repairing->left -= size;
    }
}

void ek_links_repair(EkLinkTable *table, EkByte most, EkLinkRepair sink, void *data)
{
    g_autoptr(GByteArray) wanted = g_byte_array_new();
    Repairing repairing = {table, sink, data, 0, most, 0, wanted};
    for (; repairing.copy < table->places.copies && table->places.copies > 1; repairing.copy++) {
        for (EkByte at = 0; at < table->places.bytes; at += table->window_most) {
            load(table, at);
            repair_window(&repairing);
        }
        flush(&repairing);
    }
}

gboolean ek_links_count_free(EkLinkTable *table, guint32 *free, guint32 *next)
{
    guint bits = table->places.bits > 16 ? 32 : table->places.bits;
    guint32 last = 1;
    *free = 0;
    for (guint32 i = 0; i < table->places.clusters; i++) {
        guint32 following = 0;
        EkByte at = (EkByte)(i + 2) * bits / 8;
        if (table->window_bytes == 0 || at < table->window_at ||
            at - table->window_at >= table->window_bytes)
            load(table, at);
        int copy = better(table, (gsize)(at - table->window_at));
        EkLink link = link_in(table, copy < 0 ? EK_LINK_JUDGED : copy, i + 2, &following);
        if (link == EK_LINK_UNKNOWN || table->read_noise)
            return FALSE;
        if (link == EK_LINK_FREE)
            ++*free;
        else if (link != EK_LINK_BAD)
            last = i + 2;
    }
    *next = exists(table, last + 1) ? last + 1 : 2;
    return TRUE;
}
