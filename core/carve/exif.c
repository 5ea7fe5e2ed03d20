/* SPDX-License-Identifier: MIT */
/* What a picture says of itself (Exif 2.3). */
#include "carve/exif.h"

#define TAG_MODEL 0x0110u
#define TAG_CHANGED 0x0132u
#define TAG_EXIF 0x8769u
#define TAG_TAKEN 0x9003u
#define ENTRIES_MOST 512u

typedef struct {
    EkSpan tiff;
    gboolean big;
    EkSpan model;
    EkSpan changed;
    EkSpan taken;
} Exif;

static guint16 get16(const Exif *exif, gsize at)
{
    return exif->big ? ek_span_be16(exif->tiff, at) : ek_span_le16(exif->tiff, at);
}

static guint32 get32(const Exif *exif, gsize at)
{
    return exif->big ? ek_span_be32(exif->tiff, at) : ek_span_le32(exif->tiff, at);
}

static void take_directory(Exif *exif, gsize at, gboolean is_first)
{
    guint count = MIN(get16(exif, at), ENTRIES_MOST);
    for (guint i = 0; i < count; i++) {
        gsize entry = at + 2 + 12 * (gsize)i;
        guint32 length = get32(exif, entry + 4);
        gsize value = length <= 4 ? entry + 8 : get32(exif, entry + 8);
        EkSpan text = ek_span_part(exif->tiff, value, length);
        switch (get16(exif, entry)) {
        case TAG_MODEL: exif->model = text; break;
        case TAG_CHANGED: exif->changed = text; break;
        case TAG_TAKEN: exif->taken = text; break;
        case TAG_EXIF:
            if (is_first)
                take_directory(exif, get32(exif, entry + 8), FALSE);
            break;
        default: break;
        }
    }
}

void ek_exif_take(EkFollowed *followed, EkSpan tiff)
{
    Exif exif = {.tiff = tiff, .big = ek_span_u8(tiff, 0) == 'M'};
    if (get16(&exif, 2) != 42 && get16(&exif, 2) != 0x55)
        return;
    take_directory(&exif, get32(&exif, 4), TRUE);
    ek_followed_date_digits(followed, exif.taken, TRUE);
    ek_followed_date_digits(followed, exif.changed, TRUE);
    ek_followed_words(followed, exif.model);
}
