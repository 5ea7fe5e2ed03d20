/* SPDX-License-Identifier: MIT */
/* The types that are searched for by content: the first byte of an input chooses one, the rest is
 * followed as a file of it, in one piece and then over a gap. */
#include "carve/types.h"
#include "harness.h"

#include <stdlib.h>

#define SHOWN 4096u /* what is never laid anew: it was looked at before */
#define GAP 4096u

static void follow(EkContent *content, const EkCarveType *type)
{
    EkFollowed followed = {0};
    type->follow(content, &followed);
    if (followed.end == EK_FOLLOW_NOTHING)
        return;
    if (followed.why == NULL || followed.sure > followed.length ||
        !g_utf8_validate(followed.words, -1, NULL))
        abort();
    /* What it says it is stands in the ground. */
    if (followed.end == EK_FOLLOW_ENDED && followed.length > ek_content_bytes(content) + 1)
        abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    guint count = 0;
    FuzzImage image;
    while (ek_carve_types[count] != NULL)
        count++;
    if (size < 16 || !fuzz_image_open(&image, data + 1, size - 1))
        return 0;
    const EkCarveType *type = ek_carve_types[data[0] % count];
    g_autoptr(EkContent) content = ek_content_new(image.reader);
    EkRange whole = {0, size - 1};
    ek_content_lay(content, &whole, 1);
    if (type->begin == NULL || type->begin(ek_content_some(content, 0, SHOWN))) {
        follow(content, type);
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
