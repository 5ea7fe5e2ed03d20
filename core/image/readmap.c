/* SPDX-License-Identifier: MIT */
/* Boundaries in order of position: each says what holds from its sector up to the next one. A
 * dying drive can have millions of them, and they come and go anywhere: so they stand in leaves of
 * a few hundred, under one array of leaves. A boundary takes 8 bytes, its sector above and the
 * number of its mark below; distinct marks are few. The store keeps the same boundaries, so a
 * change is told as the boundaries of a range. */
#include "image/readmap.h"

#include <string.h>

#define LEAF_ROOM 512u
#define MARK_BITS 24
#define MARKS_MOST (1u << 20) /* different ones: no case comes near that by itself */
#define MOST_ATTEMPTS 255u
#define MAX_FRESH 3u

typedef guint64 Boundary;

typedef struct {
    EkSector first; /* of its first boundary */
    guint count;    /* never 0 */
    Boundary *at;
} Leaf;

typedef struct {
    guint leaf;
    guint index;
} Place;

typedef struct {
    EkSector from;
    EkSector to; /* included */
} Dirty;

struct EkReadMap {
    EkSector sectors;
    GArray *leaves;       /* Leaf, never empty; the first begins at sector 0 */
    GArray *marks;        /* EkMark */
    GHashTable *numbers;  /* of marks, by their bits */
    guint64 last_bits[4]; /* of the marks that were asked for last */
    guint last_number[4]; /* their numbers, + 1; 0: none yet */
    guint last_slot;
    GArray *dirty; /* Dirty, sorted, apart from one another */
    EkSector totals[EK_STATES];
    EkSector stretches[EK_STATES];
};

const char *ek_state_name(EkState state)
{
    switch (state) {
    case EK_STATE_GOOD: return "good";
    case EK_STATE_SET_ASIDE: return "set_aside";
    case EK_STATE_BAD: return "bad";
    case EK_STATE_UNTOUCHED: break;
    }
    return "untouched";
}

guint64 ek_mark_pack(EkMark mark)
{
    return (guint64)mark.event << 32 | (guint64)MIN(mark.attempts, MOST_ATTEMPTS) << 8 |
           (guint64)mark.reason << 4 | (guint64)mark.state;
}

gboolean ek_mark_unpack(guint64 packed, EkMark *mark)
{
    guint state = packed & 15;
    guint reason = packed >> 4 & 15;
    *mark =
        (EkMark){(EkState)state, (EkReason)reason, packed >> 8 & 0xFFFFFF, (guint32)(packed >> 32)};
    return state < EK_STATES && reason <= EK_REASON_SKIPPED;
}

/* Marks differ in their upper half, too: the event. */
static guint hash_of_bits(gconstpointer key)
{
    guint64 bits = *(const guint64 *)key;
    return (guint)((bits ^ bits >> 29) * 0x9e3779b97f4a7c15u >> 32);
}

/* No case has so many different marks that their numbers run out, but one that somebody made up:
 * there a mark that says the same of the sector has to do. */
static guint number_of_state(const EkReadMap *map, EkState state)
{
    for (guint i = 0; i < map->marks->len; i++)
        if (g_array_index(map->marks, EkMark, i).state == state)
            return i;
    return 0;
}

static guint number_of(EkReadMap *map, EkMark mark)
{
    mark.attempts = MIN(mark.attempts, MOST_ATTEMPTS);
    guint64 bits = ek_mark_pack(mark);
    for (guint i = 0; i < G_N_ELEMENTS(map->last_bits); i++)
        if (map->last_number[i] > 0 && map->last_bits[i] == bits)
            return map->last_number[i] - 1;
    gpointer number = g_hash_table_lookup(map->numbers, &bits);
    guint slot = map->last_slot++ % G_N_ELEMENTS(map->last_bits);
    map->last_bits[slot] = bits;
    map->last_number[slot] = number != NULL ? GPOINTER_TO_UINT(number) : map->marks->len + 1;
    if (number != NULL)
        return map->last_number[slot] - 1;
    if (map->marks->len == MARKS_MOST)
        return number_of_state(map, mark.state);
    g_array_append_val(map->marks, mark);
    g_hash_table_insert(map->numbers, g_memdup2(&bits, sizeof bits),
                        GUINT_TO_POINTER(map->marks->len));
    return map->marks->len - 1;
}

static Boundary compose(EkSector first, guint number)
{
    return first << MARK_BITS | number;
}

static EkSector first_of(Boundary boundary)
{
    return boundary >> MARK_BITS;
}

static guint number_in(Boundary boundary)
{
    return (guint)(boundary & ((1u << MARK_BITS) - 1));
}

static Leaf *leaf_at(const EkReadMap *map, guint leaf)
{
    return &g_array_index(map->leaves, Leaf, leaf);
}

static Boundary get(const EkReadMap *map, Place place)
{
    return leaf_at(map, place.leaf)->at[place.index];
}

static EkMark mark_at(const EkReadMap *map, Place place)
{
    return g_array_index(map->marks, EkMark, number_in(get(map, place)));
}

static gboolean step(const EkReadMap *map, Place *place)
{
    if (++place->index < leaf_at(map, place->leaf)->count)
        return TRUE;
    place->index = 0;
    return ++place->leaf < map->leaves->len;
}

static EkSector end_of(const EkReadMap *map, Place place)
{
    return step(map, &place) ? first_of(get(map, place)) : map->sectors;
}

EkReadMap *ek_read_map_new(EkSector sectors)
{
    G_STATIC_ASSERT(EK_SECTORS_MOST < (EkSector)1 << (64 - MARK_BITS));
    g_assert(sectors > 0 && sectors <= EK_SECTORS_MOST);
    EkReadMap *map = g_new0(EkReadMap, 1);
    map->sectors = sectors;
    map->leaves = g_array_new(FALSE, FALSE, sizeof(Leaf));
    map->marks = g_array_new(FALSE, FALSE, sizeof(EkMark));
    map->numbers = g_hash_table_new_full(hash_of_bits, g_int64_equal, g_free, NULL);
    map->dirty = g_array_new(FALSE, FALSE, sizeof(Dirty));
    Leaf leaf = {0, 1, g_new(Boundary, LEAF_ROOM)};
    leaf.at[0] = compose(0, number_of(map, (EkMark){0}));
    g_array_append_val(map->leaves, leaf);
    map->totals[EK_STATE_UNTOUCHED] = sectors;
    map->stretches[EK_STATE_UNTOUCHED] = 1;
    return map;
}

EkReadMap *ek_read_map_copy(const EkReadMap *map)
{
    EkReadMap *copy = g_new0(EkReadMap, 1);
    *copy = *map;
    copy->leaves = g_array_copy(map->leaves);
    for (guint i = 0; i < copy->leaves->len; i++) {
        Leaf *leaf = leaf_at(copy, i);
        Boundary *own = g_new(Boundary, LEAF_ROOM);
        memcpy(own, leaf->at, leaf->count * sizeof *own);
        leaf->at = own;
    }
    copy->marks = g_array_copy(map->marks);
    copy->numbers = g_hash_table_new_full(hash_of_bits, g_int64_equal, g_free, NULL);
    for (guint i = 0; i < copy->marks->len; i++) {
        guint64 bits = ek_mark_pack(g_array_index(copy->marks, EkMark, i));
        g_hash_table_insert(copy->numbers, g_memdup2(&bits, sizeof bits), GUINT_TO_POINTER(i + 1));
    }
    copy->dirty = g_array_copy(map->dirty);
    return copy;
}

void ek_read_map_free(EkReadMap *map)
{
    for (guint i = 0; i < map->leaves->len; i++)
        g_free(leaf_at(map, i)->at);
    g_array_unref(map->leaves);
    g_array_unref(map->marks);
    g_hash_table_unref(map->numbers);
    g_array_unref(map->dirty);
    g_free(map);
}

EkSector ek_read_map_sectors(const EkReadMap *map)
{
    return map->sectors;
}

/* The boundary that governs `sector`: the last one at or before it. */
static Place governing(const EkReadMap *map, EkSector sector)
{
    guint low = 0;
    guint high = map->leaves->len;
    while (high - low > 1) {
        guint middle = low + (high - low) / 2;
        if (leaf_at(map, middle)->first <= sector)
            low = middle;
        else
            high = middle;
    }
    const Leaf *leaf = leaf_at(map, low);
    guint left = 0;
    guint right = leaf->count;
    while (right - left > 1) {
        guint middle = left + (right - left) / 2;
        if (first_of(leaf->at[middle]) <= sector)
            left = middle;
        else
            right = middle;
    }
    return (Place){low, left};
}

static void note_dirty(EkReadMap *map, EkSector from, EkSector to)
{
    GArray *dirty = map->dirty;
    /* The first range that reaches to or past `from`. */
    guint low = 0;
    guint high = dirty->len;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        if (g_array_index(dirty, Dirty, middle).to + 1 >= from)
            high = middle;
        else
            low = middle + 1;
    }
    guint past = low;
    while (past < dirty->len && g_array_index(dirty, Dirty, past).from <= to + 1) {
        from = MIN(from, g_array_index(dirty, Dirty, past).from);
        to = MAX(to, g_array_index(dirty, Dirty, past).to);
        past++;
    }
    Dirty range = {from, to};
    if (past == low) {
        g_array_insert_val(dirty, low, range);
        return;
    }
    g_array_index(dirty, Dirty, low) = range;
    if (past - low > 1)
        g_array_remove_range(dirty, low + 1, past - low - 1);
}

/* Makes room in a full leaf. What is appended to the end of the map leaves full leaves behind. */
static void split(EkReadMap *map, guint number)
{
    Leaf *leaf = leaf_at(map, number);
    guint keep = number + 1 == map->leaves->len ? leaf->count - 1 : leaf->count / 2;
    Leaf right = {first_of(leaf->at[keep]), leaf->count - keep, g_new(Boundary, LEAF_ROOM)};
    memcpy(right.at, leaf->at + keep, right.count * sizeof *right.at);
    leaf->count = keep;
    g_array_insert_val(map->leaves, number + 1, right);
}

/* Puts a boundary at `place`, before what stands there, and tells where that is now. */
static Place insert(EkReadMap *map, Place place, Boundary boundary)
{
    if (leaf_at(map, place.leaf)->count == LEAF_ROOM) {
        split(map, place.leaf);
        guint kept = leaf_at(map, place.leaf)->count;
        if (place.index > kept)
            place = (Place){place.leaf + 1, place.index - kept};
    }
    Leaf *leaf = leaf_at(map, place.leaf);
    memmove(leaf->at + place.index + 1, leaf->at + place.index,
            (leaf->count - place.index) * sizeof *leaf->at);
    leaf->at[place.index] = boundary;
    leaf->count++;
    leaf->first = first_of(leaf->at[0]);
    return place;
}

static void drop_leaf(EkReadMap *map, guint number)
{
    g_free(leaf_at(map, number)->at);
    g_array_remove_index(map->leaves, number);
}

/* Two neighbours that fit into half a leaf become one. */
static void merge(EkReadMap *map, guint number)
{
    if (number + 1 >= map->leaves->len)
        return;
    Leaf *leaf = leaf_at(map, number);
    const Leaf *next = leaf_at(map, number + 1);
    if (leaf->count + next->count > LEAF_ROOM / 2)
        return;
    memcpy(leaf->at + leaf->count, next->at, next->count * sizeof *leaf->at);
    leaf->count += next->count;
    drop_leaf(map, number + 1);
}

static void take_out(EkReadMap *map, Place place, gsize count)
{
    guint from = place.leaf;
    while (count > 0) {
        Leaf *leaf = leaf_at(map, place.leaf);
        guint part = (guint)MIN(count, (gsize)(leaf->count - place.index));
        memmove(leaf->at + place.index, leaf->at + place.index + part,
                (leaf->count - place.index - part) * sizeof *leaf->at);
        leaf->count -= part;
        count -= part;
        if (leaf->count == 0) {
            drop_leaf(map, place.leaf);
            continue;
        }
        leaf->first = first_of(leaf->at[0]);
        if (place.index >= leaf->count)
            place = (Place){place.leaf + 1, 0};
    }
    merge(map, MIN(from, map->leaves->len - 1));
    if (from > 0)
        merge(map, from - 1);
}

/* Puts `fresh` where `old` boundaries (at least one) from `place` on stand. */
static void splice(EkReadMap *map, Place place, gsize old, const Boundary *fresh, guint fresh_count)
{
    for (guint i = 0; i < fresh_count && i < old; i++) {
        Leaf *leaf = leaf_at(map, place.leaf);
        leaf->at[place.index] = fresh[i];
        leaf->first = first_of(leaf->at[0]);
        if (i + 1 < old)
            step(map, &place);
        else
            place.index++; /* behind the last one, in its leaf */
    }
    if (old > fresh_count)
        take_out(map, place, old - fresh_count);
    for (guint i = fresh_count; i > old; i--)
        place = insert(map, place, fresh[i - 1]);
}

void ek_read_map_set(EkReadMap *map, EkSector first, EkSector count, EkMark mark)
{
    if (first >= map->sectors || count == 0)
        return;
    EkSector end = first + MIN(count, map->sectors - first);
    guint number = number_of(map, mark);
    Place left = governing(map, first);
    Boundary leftmost = get(map, left);

    /* Take out what the touched boundaries stood for … */
    Place place = left;
    gsize old = 0;
    gboolean more = TRUE;
    guint after = 0; /* the mark that holds on past the end */
    EkSector stop = 0;
    do {
        Boundary boundary = get(map, place);
        EkState state = g_array_index(map->marks, EkMark, number_in(boundary)).state;
        stop = end_of(map, place);
        map->totals[state] -= MIN(stop, end) - MAX(first_of(boundary), first);
        map->stretches[state]--;
        after = number_in(boundary);
        old++;
        more = step(map, &place);
    } while (more && stop < end);

    /* … and put in what stands there now: the left part of the first, the new run, and the right
     * part of the last, each only where it differs from what comes before it. */
    Boundary fresh[MAX_FRESH];
    guint fresh_count = 0;
    gint64 before = -1;
    if (first_of(leftmost) < first) {
        before = number_in(leftmost);
        fresh[fresh_count++] = leftmost;
        map->stretches[g_array_index(map->marks, EkMark, number_in(leftmost)).state]++;
    } else if (left.index > 0 || left.leaf > 0) {
        Place previous = left.index > 0
                             ? (Place){left.leaf, left.index - 1}
                             : (Place){left.leaf - 1, leaf_at(map, left.leaf - 1)->count - 1};
        before = number_in(get(map, previous));
    }
    if (before != (gint64)number) {
        fresh[fresh_count++] = compose(first, number);
        map->stretches[mark.state]++;
    }
    map->totals[mark.state] += end - first;
    if (end < stop) {
        if (after != number) {
            fresh[fresh_count++] = compose(end, after);
            map->stretches[g_array_index(map->marks, EkMark, after).state]++;
        }
    } else if (more && number_in(get(map, place)) == number) {
        old++;
        map->stretches[mark.state]--;
    }
    splice(map, left, old, fresh, fresh_count);
    note_dirty(map, first, end);
}

void ek_read_map_append(EkReadMap *map, EkSector first, EkMark mark)
{
    guint number = number_of(map, mark);
    Leaf *leaf = leaf_at(map, map->leaves->len - 1);
    Boundary last = leaf->at[leaf->count - 1];
    EkState before = g_array_index(map->marks, EkMark, number_in(last)).state;
    g_assert(first < map->sectors && (first > first_of(last) || first == 0));
    if (number == number_in(last))
        return;
    map->totals[before] -= map->sectors - first;
    map->totals[mark.state] += map->sectors - first;
    map->stretches[mark.state]++;
    if (first == 0) {
        map->stretches[before]--;
        leaf->at[0] = compose(0, number);
        return;
    }
    insert(map, (Place){map->leaves->len - 1, leaf->count}, compose(first, number));
}

EkStretch ek_read_map_at(const EkReadMap *map, EkSector sector)
{
    g_assert(sector < map->sectors);
    Place place = governing(map, sector);
    EkSector first = first_of(get(map, place));
    return (EkStretch){first, end_of(map, place) - first, mark_at(map, place)};
}

void ek_read_map_each(const EkReadMap *map, EkSector from, EkStretchSink sink, void *data)
{
    if (from >= map->sectors)
        return;
    Place place = governing(map, from);
    EkStretch stretch;
    do {
        EkSector first = MAX(from, first_of(get(map, place)));
        stretch = (EkStretch){first, end_of(map, place) - first, mark_at(map, place)};
    } while (sink(data, &stretch) && step(map, &place));
}

gboolean ek_read_map_next(const EkReadMap *map, EkSector from, guint states, EkStretch *stretch)
{
    if (from >= map->sectors)
        return FALSE;
    Place place = governing(map, from);
    do {
        EkMark mark = mark_at(map, place);
        if ((EK_STATE_BIT(mark.state) & states) == 0)
            continue;
        EkSector first = MAX(from, first_of(get(map, place)));
        *stretch = (EkStretch){first, end_of(map, place) - first, mark};
        return TRUE;
    } while (step(map, &place));
    return FALSE;
}

EkSector ek_read_map_total(const EkReadMap *map, EkState state)
{
    return map->totals[state];
}

EkSector ek_read_map_stretches(const EkReadMap *map, EkState state)
{
    return map->stretches[state];
}

void ek_read_map_tally(const EkReadMap *map, EkSector first, EkSector count,
                       EkSector tally[EK_STATES])
{
    memset(tally, 0, EK_STATES * sizeof *tally);
    if (first >= map->sectors || count == 0)
        return;
    EkSector end = first + MIN(count, map->sectors - first);
    Place place = governing(map, first);
    do {
        EkSector from = first_of(get(map, place));
        if (from >= end)
            break;
        tally[mark_at(map, place).state] += MIN(end_of(map, place), end) - MAX(from, first);
    } while (step(map, &place));
}

static void change_free(gpointer data)
{
    EkMapChange *change = data;
    g_free(change->stretches);
    g_free(change);
}

GPtrArray *ek_read_map_take_changes(EkReadMap *map)
{
    GPtrArray *changes = g_ptr_array_new_with_free_func(change_free);
    for (guint d = 0; d < map->dirty->len; d++) {
        Dirty dirty = g_array_index(map->dirty, Dirty, d);
        GArray *stretches = g_array_new(FALSE, FALSE, sizeof(EkStretch));
        Place place = governing(map, MIN(dirty.from, map->sectors - 1));
        gboolean more = TRUE;
        if (first_of(get(map, place)) < dirty.from)
            more = step(map, &place);
        for (; more && first_of(get(map, place)) <= dirty.to; more = step(map, &place)) {
            EkSector first = first_of(get(map, place));
            EkStretch stretch = {first, end_of(map, place) - first, mark_at(map, place)};
            g_array_append_val(stretches, stretch);
        }
        EkMapChange *change = g_new0(EkMapChange, 1);
        change->from = dirty.from;
        change->to = dirty.to;
        change->count = stretches->len;
        change->stretches = (EkStretch *)(gpointer)g_array_free(stretches, FALSE);
        g_ptr_array_add(changes, change);
    }
    g_array_set_size(map->dirty, 0);
    return changes;
}
