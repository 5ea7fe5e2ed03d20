/* SPDX-License-Identifier: MIT */
/* Blocks of numbers: which there are, and what they are counted from. A file goes on behind its
 * first twelve blocks where the first block of numbers says, mostly without a gap. So a file and
 * its own block of numbers tell where the volume begins; a file and another's tell any place. What
 * many pairs agree on is right. */
#include "carve/lists.h"

#include <stdlib.h>

#define KEPT_MOST (1u << 20)
#define LEAST_BLOCK 1024u
#define STARTS 4u    /* numbers that are looked at first */
#define FILES 256u   /* of a sample */
#define LISTED 2048u /* near them */
#define SAMPLES 4u   /* over the drive */
#define VOTES_LEAST 4u
#define BLOCKS_MOST 8u

struct EkLists {
    GArray *listed; /* EkListed: by place, and once settled by number, then by place */
    GArray *blocks; /* EkBlocks */
};

gboolean ek_lists_is_one(EkSpan span)
{
    gsize count = 0;
    gsize jumps = 0;
    while (4 * count + 4 <= span.length && ek_span_le32(span, 4 * count) >= EK_INDIRECT_LEAST) {
        if (count > 0)
            jumps += ek_span_le32(span, 4 * count) != ek_span_le32(span, 4 * (count - 1)) + 1;
        count++;
    }
    return count > 0 && jumps <= 1 + count / 5 &&
           ek_bytes_are_zero(span.data + 4 * count, span.length - 4 * count);
}

/* Nearly all steps are none by their first two numbers. */
static gboolean may_begin(guint32 first, guint32 second)
{
    return (second == first + 1 || second == 0) && first >= EK_INDIRECT_LEAST;
}

void ek_lists_look(EkSpan span, EkByte at, GArray *found)
{
    for (gsize step = 0; step + EK_STEP <= span.length; step += EK_STEP) {
        guint32 first = ek_span_le32(span, step);
        if (!may_begin(first, ek_span_le32(span, step + 4)))
            continue;
        EkSpan own = ek_span_part(span, step, EK_STEP);
        EkListed listed = {at + step, first};
        /* The middle of one that begins before. */
        gboolean goes_on = step > 0 && listed.place % LEAST_BLOCK != 0 &&
                           ek_span_le32(span, step - 4) + 1 == first;
        if (!goes_on && ek_lists_is_one(ek_span_part(own, 0, 4 * STARTS)) && ek_lists_is_one(own))
            g_array_append_val(found, listed);
    }
}

EkLists *ek_lists_new(void)
{
    EkLists *lists = g_new0(EkLists, 1);
    lists->listed = g_array_new(FALSE, FALSE, sizeof(EkListed));
    lists->blocks = g_array_new(FALSE, FALSE, sizeof(EkBlocks));
    return lists;
}

void ek_lists_free(EkLists *lists)
{
    if (lists == NULL)
        return;
    g_array_unref(lists->listed);
    g_array_unref(lists->blocks);
    g_free(lists);
}

gboolean ek_lists_add(EkLists *lists, EkListed listed)
{
    if (lists->listed->len >= KEPT_MOST)
        return FALSE;
    g_array_append_val(lists->listed, listed);
    return TRUE;
}

/* --- what they are counted from -------------------------------------------------------------- */

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkListed *one = a;
    const EkListed *other = b;
    return one->place < other->place ? -1 : one->place > other->place;
}

static gint by_number(gconstpointer a, gconstpointer b)
{
    const EkListed *one = a;
    const EkListed *other = b;
    if (one->number != other->number)
        return one->number < other->number ? -1 : 1;
    return by_place(a, b);
}

static gint by_byte(gconstpointer a, gconstpointer b)
{
    EkByte one = *(const EkByte *)a;
    EkByte other = *(const EkByte *)b;
    return one < other ? -1 : one > other;
}

/* Where the volume begins if this file goes on in this one. FALSE: nowhere. */
static gboolean volume_of(EkByte first, EkListed listed, EkByte block, EkByte *volume)
{
    EkByte next = first + EK_INDIRECT_DIRECT * block;
    EkByte counted = listed.number * block;
    *volume = next - MIN(next, counted);
    return counted <= next && *volume % EK_STEP == 0 && *volume + 2 * block <= first &&
           *volume < listed.place && (listed.place - *volume) % block == 0;
}

typedef struct {
    EkBlocks blocks;
    guint votes;
} Vote;

static gint by_votes(gconstpointer a, gconstpointer b)
{
    const Vote *one = a;
    const Vote *other = b;
    return one->votes > other->votes ? -1 : one->votes < other->votes;
}

static void add_vote(GArray *votes, Vote vote)
{
    for (guint i = 0; i < votes->len; i++) {
        Vote *other = &g_array_index(votes, Vote, i);
        if (vote.blocks.volume == other->blocks.volume &&
            vote.blocks.block == other->blocks.block) {
            other->votes += vote.votes;
            return;
        }
    }
    g_array_append_val(votes, vote);
}

/* What many of these pairs agree on: twice as many as on another place. */
static void count_votes(GArray *volumes, EkByte block, GArray *votes)
{
    guint distinct = 0;
    g_array_sort(volumes, by_byte);
    const EkByte *all = (const EkByte *)(gconstpointer)volumes->data;
    for (guint i = 0; i < volumes->len; i++)
        distinct += i == 0 || all[i] != all[i - 1];
    for (guint i = 0, same = 0; i < volumes->len; i += same) {
        same = 1;
        while (i + same < volumes->len && all[i + same] == all[i])
            same++;
        Vote vote = {{all[i], block}, same};
        if (same >= VOTES_LEAST && (guint64)same * (distinct - 1) >= 2 * (volumes->len - same))
            g_array_append_val(votes, vote);
    }
}

/* The first one, in this order, that is not before another. */
static guint first_from(const EkLists *lists, EkListed other, GCompareFunc order)
{
    guint low = 0;
    guint high = lists->listed->len;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        if (order(&g_array_index(lists->listed, EkListed, middle), &other) < 0)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* A sample: files that begin one behind the other, and the blocks of numbers nearest to them. What
 * is likely next to the likeliest counts. */
static void sample(const EkLists *lists, const GArray *firsts, guint from, GArray *votes)
{
    guint files = MIN(FILES, firsts->len - from);
    EkListed middle = {g_array_index(firsts, EkByte, from + files / 2), 0};
    guint near = first_from(lists, middle, by_place);
    guint begin = near - MIN(near, LISTED / 2);
    guint stop = MIN(begin + LISTED, lists->listed->len);
    g_autoptr(GArray) volumes = g_array_new(FALSE, FALSE, sizeof(EkByte));
    g_autoptr(GArray) own = g_array_new(FALSE, FALSE, sizeof(Vote));
    for (EkByte block = 1024; block <= 4096; block *= 2) {
        g_array_set_size(volumes, 0);
        for (guint i = from; i < from + files; i++)
            for (guint k = begin; k < stop; k++) {
                EkByte volume = 0;
                if (volume_of(g_array_index(firsts, EkByte, i),
                              g_array_index(lists->listed, EkListed, k), block, &volume))
                    g_array_append_val(volumes, volume);
            }
        count_votes(volumes, block, own);
    }
    g_array_sort(own, by_votes);
    for (guint i = 0; i < own->len; i++) {
        Vote vote = g_array_index(own, Vote, i);
        if (3 * vote.votes >= 2 * g_array_index(own, Vote, 0).votes)
            add_vote(votes, vote);
    }
}

void ek_lists_settle(EkLists *lists, const GArray *firsts)
{
    g_autoptr(GArray) votes = g_array_new(FALSE, FALSE, sizeof(Vote));
    g_array_sort(lists->listed, by_place);
    guint last = firsts->len - MIN(firsts->len, FILES);
    for (guint i = 0; i < SAMPLES && firsts->len > 0 && lists->listed->len > 0; i++) {
        if (i == 0 || last > 0)
            sample(lists, firsts, (guint)((guint64)last * i / (SAMPLES - 1)), votes);
    }
    g_array_sort(votes, by_votes);
    for (guint i = 0; i < MIN(votes->len, BLOCKS_MOST); i++)
        g_array_append_val(lists->blocks, g_array_index(votes, Vote, i).blocks);
    g_array_sort(lists->listed, by_number);
}

const GArray *ek_lists_blocks(const EkLists *lists)
{
    return lists->blocks;
}

guint ek_lists_find(const EkLists *lists, guint32 number, EkByte *places, guint most)
{
    guint low = first_from(lists, (EkListed){0, number}, by_number);
    guint count = 0;
    for (guint i = low; i < lists->listed->len && count < most &&
                        g_array_index(lists->listed, EkListed, i).number == number;
         i++)
        places[count++] = g_array_index(lists->listed, EkListed, i).place;
    return count;
}
