/* SPDX-License-Identifier: MIT */
/* Signatures at the same place, with the same bits that count among the first four bytes, form a
 * group. A group is one load, one multiplication and one bit: which of its signatures it is, if
 * any, is looked at only when the bit is set. */
#include "scan/matcher.h"

#include "base/units.h"

#define WORD 4u
#define HASH_BITS 11
#define HASH_FACTOR 0x9e3779b1u

typedef struct {
    const EkSignature *signature;
    guint id;
} Member;

typedef struct {
    gsize offset;
    guint32 mask;
    guint64 bits[(1u << HASH_BITS) / 64];
    GArray *members; /* Member */
} Group;

struct EkMatcher {
    GArray *groups; /* Group */
};

EkMatcher *ek_matcher_new(void)
{
    EkMatcher *matcher = g_new0(EkMatcher, 1);
    matcher->groups = g_array_new(FALSE, TRUE, sizeof(Group));
    return matcher;
}

void ek_matcher_free(EkMatcher *matcher)
{
    for (guint i = 0; i < matcher->groups->len; i++)
        g_array_unref(g_array_index(matcher->groups, Group, i).members);
    g_array_unref(matcher->groups);
    g_free(matcher);
}

static guint32 word_at(const guint8 *p)
{
    guint32 word;
    memcpy(&word, p, sizeof word);
    return GUINT32_FROM_LE(word);
}

static guint hash_of(guint32 word)
{
    return word * HASH_FACTOR >> (32 - HASH_BITS);
}

/* The word that holds the first bytes of a signature, as far as they count. */
static gsize word_of(const EkSignature *signature, guint32 *word, guint32 *mask)
{
    gsize offset = MIN(signature->offset, EK_STEP - WORD);
    gsize shift = signature->offset - offset;
    guint8 bytes[WORD] = {0};
    guint8 counts[WORD] = {0};
    gboolean masked = !ek_bytes_are_zero(signature->mask, sizeof signature->mask);
    for (gsize i = 0; i < signature->length && shift + i < WORD; i++) {
        counts[shift + i] = masked ? signature->mask[i] : 0xff;
        bytes[shift + i] = signature->bytes[i] & counts[shift + i];
    }
    *word = word_at(bytes);
    *mask = word_at(counts);
    return offset;
}

void ek_matcher_add(EkMatcher *matcher, guint id, const EkSignature *signatures, gsize count)
{
    for (gsize i = 0; i < count; i++) {
        guint32 word = 0;
        guint32 mask = 0;
        gsize offset = word_of(&signatures[i], &word, &mask);
        guint place = 0;
        while (place < matcher->groups->len) {
            const Group *group = &g_array_index(matcher->groups, Group, place);
            if (group->offset == offset && group->mask == mask)
                break;
            place++;
        }
        if (place == matcher->groups->len) {
            Group fresh = {.offset = offset,
                           .mask = mask,
                           .members = g_array_new(FALSE, FALSE, sizeof(Member))};
            g_array_append_val(matcher->groups, fresh);
        }
        Group *group = &g_array_index(matcher->groups, Group, place);
        guint hash = hash_of(word);
        group->bits[hash / 64] |= (guint64)1 << hash % 64;
        Member member = {&signatures[i], id};
        g_array_append_val(group->members, member);
    }
}

static void add_match(EkMatches *matches, guint id)
{
    guint place = matches->count;
    while (place > 0 && matches->ids[place - 1] > id)
        place--;
    if (place > 0 && matches->ids[place - 1] == id)
        return;
    memmove(matches->ids + place + 1, matches->ids + place,
            (matches->count - place) * sizeof *matches->ids);
    matches->ids[place] = id;
    matches->count++;
}

static void look_closer(const Group *group, const guint8 *step, EkMatches *matches)
{
    for (guint i = 0; i < group->members->len; i++) {
        const Member *member = &g_array_index(group->members, Member, i);
        if (ek_signature_stands(member->signature, step))
            add_match(matches, member->id);
    }
}

gboolean ek_matcher_look(const EkMatcher *matcher, const guint8 *step, EkMatches *matches)
{
    gboolean is_any = FALSE;
    const Group *groups = (const Group *)(gconstpointer)matcher->groups->data;
    for (guint i = 0; i < matcher->groups->len; i++) {
        guint hash = hash_of(word_at(step + groups[i].offset) & groups[i].mask);
        if ((groups[i].bits[hash / 64] >> hash % 64 & 1) == 0)
            continue;
        if (!is_any)
            matches->count = 0;
        is_any = TRUE;
        look_closer(&groups[i], step, matches);
    }
    return is_any && matches->count > 0;
}
