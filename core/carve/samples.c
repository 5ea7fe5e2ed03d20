/* SPDX-License-Identifier: MIT */
/* Sound as plain samples. */
#include "carve/samples.h"

#define LOOKED_AT 4096u
#define LEAST 64u   /* samples that say anything */
#define FAINTEST 8u /* how far they are from their mean, where they say anything: of 65536 */
#define LOUD 1024u
#define FURTHEST 8u /* times the mean step */

gsize ek_samples_chunk(EkSpan head, const char *name, gboolean is_big)
{
    for (gsize at = 12; at + 8 <= head.length;) {
        gsize length = is_big ? ek_span_be32(head, at + 4) : ek_span_le32(head, at + 4);
        if (ek_span_equals(head, at, name, 4))
            return at;
        if (length > head.length)
            break;
        at += 8 + length + (length & 1);
    }
    return 0;
}

/* The two highest bytes of a sample, or its only one. */
static gint32 value_at(const EkSamples *samples, EkSpan block, gsize at)
{
    if (samples->width == 1) {
        gint32 byte = ek_span_u8(block, at);
        return (samples->is_unsigned ? byte - 128 : (gint8)byte) * 256;
    }
    return samples->is_big ? (gint16)ek_span_be16(block, at)
                           : (gint16)ek_span_le16(block, at + samples->width - 2);
}

/* Where the first whole sample of the first channel begins in these bytes. */
static EkByte first_frame(const EkSamples *samples, EkByte offset)
{
    EkByte frame = (EkByte)samples->width * samples->channels;
    return offset < samples->first ? samples->first - offset
                                   : (frame - (offset - samples->first) % frame) % frame;
}

EkEvenness ek_samples_evenness(const EkSamples *samples, EkSpan block, EkByte offset)
{
    gsize frame = (gsize)samples->width * samples->channels;
    block.length = MIN(block.length, LOOKED_AT);
    EkByte skip = first_frame(samples, offset);
    if (skip >= block.length)
        return EK_EVEN_UNKNOWN;
    gint64 sum = 0;
    guint64 steps = 0; /* from each to the next of its channel */
    guint64 count = 0;
    for (gsize at = (gsize)skip; at + frame + samples->width <= block.length;
         at += samples->width, count++) {
        gint32 value = value_at(samples, block, at);
        sum += value;
        steps += (guint64)ABS(value - value_at(samples, block, at + frame));
    }
    if (count < LEAST)
        return EK_EVEN_UNKNOWN;
    gint64 mean = sum / (gint64)count;
    guint64 apart = 0; /* from their mean */
    guint64 high = 0;
    for (guint64 i = 0; i < count; i++) {
        gint64 value = value_at(samples, block, (gsize)skip + (gsize)i * samples->width);
        apart += (guint64)ABS(value - mean);
        high += value >= 0 ? 1 : 0;
    }
    if (apart < FAINTEST * count)
        return EK_EVEN_UNKNOWN;
    /* Of white noise they come to one, of packed data to four thirds; of most recordings to less
     * than a half. What is uneven goes both ways from nothing; letters are all on one side. */
    if (steps * 20 < apart * 17)
        return EK_EVEN;
    gboolean is_one_sided =
        !samples->is_picture && apart > LOUD * count && (high == 0 || high == count);
    return is_one_sided || steps * 20 > apart * 23 ? EK_UNEVEN : EK_EVEN_UNKNOWN;
}

gboolean ek_samples_go_on(const EkSamples *samples, EkSpan bytes, gsize seam, EkByte offset)
{
    gsize frame = (gsize)samples->width * samples->channels;
    guint64 over = 0; /* the longest step over the seam */
    guint64 steps = 0;
    guint64 count = 0;
    for (EkByte at = first_frame(samples, offset); at + frame + samples->width <= bytes.length;
         at += samples->width) {
        guint64 step = (guint64)ABS(value_at(samples, bytes, (gsize)at) -
                                    value_at(samples, bytes, (gsize)at + frame));
        if (at < seam && at + frame + samples->width > seam) {
            over = MAX(over, step);
        } else {
            steps += step;
            count++;
        }
    }
    return over * count <= FURTHEST * (steps + count * FAINTEST);
}
