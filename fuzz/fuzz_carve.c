/* SPDX-License-Identifier: MIT */
/* The types that are searched for by content: the first byte of an input chooses one, the rest is
 * followed as a file of it, in one piece and then over a gap. */
#include "carve/indirect.h"
#include "carve/types.h"
#include "harness.h"

#include <stdlib.h>

#define SHOWN 4096u /* what is never laid anew: it was looked at before */
#define GAP 4096u

/* What it says must stand somewhere is looked for in each block, as joining does: in a few bytes
 * first, then in all that it wants, of which there may be less. */
static void look(EkContent *content, const EkLandmark *landmark)
{
    if (landmark->stands == NULL)
        return;
    if (landmark->shown < EK_LANDMARK_GLANCE)
        abort();
    for (EkByte at = landmark->at % SHOWN; at < ek_content_bytes(content); at += SHOWN) {
        gsize sizes[] = {EK_LANDMARK_GLANCE, MIN(landmark->shown, EK_CONTENT_SHOWN)};
        for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++) {
            EkSpan span = ek_content_some(content, at, sizes[i]);
            /* As in a buffer of its own: what is read behind it is noticed. */
            g_autofree guint8 *copy = g_memdup2(span.data, span.length);
            if (span.length < EK_LANDMARK_GLANCE ||
                !landmark->stands(landmark, (EkSpan){copy, span.length}))
                break;
        }
    }
}

/* The same, of what may stand anywhere. */
static void find(EkContent *content, const EkLandmark *landmark)
{
    EkByte step = EK_CONTENT_SHOWN - EK_LANDMARK_GLANCE;
    if (landmark->finds == NULL)
        return;
    for (EkByte first = 0; first < ek_content_bytes(content); first += step) {
        EkSpan span = ek_content_some(content, first, EK_CONTENT_SHOWN);
        g_autofree guint8 *copy = g_memdup2(span.data, span.length);
        for (gsize at = 0; landmark->finds(landmark, (EkSpan){copy, span.length}, &at); at++)
            if (at + EK_LANDMARK_GLANCE > span.length)
                abort();
    }
}

/* What joining asks of blocks that may be anything. */
static void ask(EkContent *content, const EkCarveType *type)
{
    for (EkByte at = 0; at < ek_content_bytes(content); at += SHOWN) {
        EkSpan span = ek_content_some(content, at, SHOWN);
        g_autofree guint8 *copy = g_memdup2(span.data, span.length);
        if (type->is_rest != NULL)
            (void)type->is_rest((EkSpan){copy, span.length});
        if (type->may_lie_in != NULL && span.length > 1)
            (void)type->may_lie_in((EkSpan){copy, span.length});
    }
}

static void follow(EkContent *content, const EkCarveType *type)
{
    EkFollowed followed = {0};
    type->follow(content, &followed);
    if (followed.end == EK_FOLLOW_BROKE) {
        look(content, &followed.landmark);
        find(content, &followed.landmark);
    }
    if (followed.end == EK_FOLLOW_NOTHING)
        return;
    if (followed.why == NULL || followed.sure > followed.length ||
        !g_utf8_validate(followed.words, -1, NULL))
        abort();
    /* What it says it is stands in the ground. */
    if (followed.end == EK_FOLLOW_ENDED && followed.length > ek_content_bytes(content) + 1)
        abort();
}

/* Its sound, where that is plain samples: block by block, and over a seam. */
static void hear(EkContent *content, const EkCarveType *type)
{
    EkSamples samples = {0};
    if (type->samples == NULL || !type->samples(ek_content_some(content, 0, SHOWN), &samples))
        return;
    for (EkByte at = 0; at < MIN(ek_content_bytes(content), (EkByte)16 * SHOWN); at += SHOWN) {
        EkSpan block = ek_content_some(content, at, SHOWN);
        ek_samples_evenness(&samples, block, at);
        ek_samples_go_on(&samples, block, block.length / 2, at);
    }
}

/* As blocks of numbers in it say, where there are any: in its run, or anywhere. */
static void follow_as_laid(EkReader *reader, EkContent *content, const EkCarveType *type,
                           const EkRange *whole)
{
    EkBlocks blocks;
    g_autofree guint8 *bytes = ek_reader_read_new(reader, 0, whole->bytes, NULL, NULL);
    g_autoptr(GArray) listed = g_array_new(FALSE, FALSE, sizeof(EkListed));
    g_autoptr(GArray) firsts = g_array_new(FALSE, FALSE, sizeof(EkByte));
    g_array_append_val(firsts, whole->first);
    if (bytes != NULL)
        ek_lists_look((EkSpan){bytes, whole->bytes}, 0, listed);
    EkLists *lists = ek_lists_new();
    for (guint i = 0; i < listed->len; i++)
        ek_lists_add(lists, g_array_index(listed, EkListed, i));
    ek_lists_settle(lists, firsts);
    for (guint i = 0; i < 6; i++) {
        EkByte block = (EkByte)1024 << i % 3;
        EkByte list = EK_INDIRECT_DIRECT * block;
        gboolean anywhere = i >= 3;
        if (anywhere ? listed->len == 0 : !ek_indirect_in_run(reader, 0, block, &blocks))
            continue;
        if (anywhere) {
            blocks = (EkBlocks){0, block};
            list = g_array_index(listed, EkListed, 0).place;
        }
        g_autoptr(GArray) laid =
            ek_indirect_layout(reader, anywhere ? lists : NULL, blocks, 0, list, TRUE);
        ek_content_lay(content, (const EkRange *)(gconstpointer)laid->data, laid->len);
        follow(content, type);
        ek_content_lay(content, whole, 1);
        follow(content, type);
    }
    ek_lists_free(lists);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    guint count = 0;
    FuzzImage image;
    while (ek_carve_types[count] != NULL)
        count++;
    /* Types that are new are listed last: what was kept for the others stays theirs. */
    if (size < 16 || data[0] >= count || !fuzz_image_open(&image, data + 1, size - 1))
        return 0;
    const EkCarveType *type = ek_carve_types[data[0]];
    g_autoptr(EkContent) content = ek_content_new(image.reader);
    EkRange whole = {0, size - 1};
    ek_content_set_types(content, ek_carve_types);
    ek_content_lay(content, &whole, 1);
    ask(content, type);
    if (type->begin == NULL || type->begin(ek_content_some(content, 0, SHOWN))) {
        follow(content, type);
        hear(content, type);
        follow_as_laid(image.reader, content, type, &whole);
        /* Gone on from the middle, elsewhere. */
        EkRange later = {SHOWN + GAP, ek_reader_bytes(image.reader) - SHOWN - GAP};
        if (ek_content_bytes(content) > SHOWN) {
            ek_content_relay(content, MAX(ek_content_kept_at(content), SHOWN), &later, 1);
            follow(content, type);
        }
    }
    fuzz_image_close(&image);
    return 0;
}
