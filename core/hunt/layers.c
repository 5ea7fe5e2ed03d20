/* SPDX-License-Identifier: MIT */
/* What lies on what: the remains of an older layout, and what is nothing but a file of another
 * volume. */
#include "hunt/layers.h"
#include "volume/headers.h"

#include <string.h>

#define COPIES_POINTS (-45)
#define START_BYTES 2048u /* of a volume: its first header stands in it */
#define INNER_SHARE 10u   /* what takes less of a volume than one part of so many lies in it */

/* Does it begin where a partition would? Where that is no more than usual it is chance, if there
 * are several of its kind. */
static gboolean is_anchored(const EkFinding *finding)
{
    return finding->anchor >= EK_ANCHOR_NAMED ||
           (finding->anchor != EK_ANCHOR_NONE && finding->copies < 2);
}

static gboolean covers(const EkVolume *volume, EkByte at)
{
    return ek_range_holds(ek_volume_range(volume), at);
}

/* Which of two that lie on the same region is the newer one: above 0 the first, 0 not told. The one
 * that tells most comes first. */
typedef int (*Criterion)(const EkFinding *a, const EkFinding *b);

static int by_table(const EkFinding *a, const EkFinding *b)
{
    return (a->standing == EK_STANDING_LISTED) - (b->standing == EK_STANDING_LISTED);
}

/* What begins anywhere at all may be a file, or what is left of one. */
static int by_anchor(const EkFinding *a, const EkFinding *b)
{
    return is_anchored(a) - is_anchored(b);
}

static gboolean has_lost_header(const EkFinding *older, const EkFinding *newer)
{
    return older->volume->by_backup && !older->is_start_unread && !newer->volume->by_backup &&
           covers(newer->volume, older->volume->first_byte);
}

/* Whose first header is gone where the other one begins was overwritten by it. */
static int by_header(const EkFinding *a, const EkFinding *b)
{
    return has_lost_header(b, a) - has_lost_header(a, b);
}

static int by_date(const EkFinding *a, const EkFinding *b)
{
    return ek_volume_is_later(a->volume, b->volume) - ek_volume_is_later(b->volume, a->volume);
}

static int by_confidence(const EkFinding *a, const EkFinding *b)
{
    return a->volume->confidence - b->volume->confidence;
}

static const struct {
    Criterion compare;
    const char *why;
} criteria[] = {
    {by_table, "the partition table lists it"},
    {by_anchor, "it begins where a partition does, the other one anywhere"},
    {by_date, "it was used later"},
    {by_header, "it is where the first header of the other was"},
    {by_confidence, "more of its structures are intact"},
};

static gboolean is_inside(const EkVolume *inner, const EkVolume *outer)
{
    return inner->first_byte > outer->first_byte &&
           inner->first_byte + inner->bytes <= outer->first_byte + outer->bytes;
}

/* Hybrid discs hold the same files for several systems: UDF from the same place on, HFS+ or a
 * second ISO 9660 inside. */
static gboolean share_disc(const EkVolume *disc, const EkVolume *other)
{
    if (!g_str_equal(disc->filesystem, "iso9660"))
        return FALSE;
    return g_str_equal(other->filesystem, "udf") ? disc->first_byte == other->first_byte
                                                 : g_str_equal(other->filesystem, "hfsplus") ||
                                                       g_str_equal(other->filesystem, "iso9660");
}

/* Two that do not contradict each other: a container and what is in it, or two formats that share
 * one volume on purpose. */
static gboolean are_together(const EkVolume *a, const EkVolume *b)
{
    return a->is_container || b->is_container || share_disc(a, b) || share_disc(b, a);
}

static void set_remains(EkFinding *older, const EkFinding *newer, const char *why)
{
    /* The table lists one volume at a place: of two that it may mean, the newer one. */
    gboolean is_listed =
        older->standing == EK_STANDING_LISTED && newer->standing != EK_STANDING_LISTED;
    if (older->standing == EK_STANDING_REMAINS || is_listed)
        return;
    older->standing = EK_STANDING_REMAINS;
    older->host = newer;
    ek_volume_reason(older->volume, 0,
                     "overlapped by a newer volume (%s at sector %" G_GUINT64_FORMAT "): %s",
                     newer->volume->filesystem, newer->volume->first_byte / EK_STEP, why);
}

/* Where an older volume lay that the newer one does not use yet: it may be whole. */
static void set_remains_in_free(EkFinding *older, const EkFinding *newer)
{
    set_remains(older, newer, "its first blocks are free in the newer volume, so it may be intact");
    older->in_free = older->standing == EK_STANDING_REMAINS;
}

static gboolean compete(const EkFinding *a, const EkFinding *b)
{
    return a->standing != EK_STANDING_REMAINS && b->standing != EK_STANDING_REMAINS &&
           ek_ranges_overlap(ek_volume_range(a->volume), ek_volume_range(b->volume)) &&
           !are_together(a->volume, b->volume) && !is_inside(a->volume, b->volume) &&
           !is_inside(b->volume, a->volume);
}

/* What is told best is settled first: what was written over no longer competes with anything. */
static void weigh_pairs(const GPtrArray *findings)
{
    for (gsize c = 0; c < G_N_ELEMENTS(criteria); c++)
        for (guint i = 0; i < findings->len; i++)
            for (guint k = i + 1; k < findings->len; k++) {
                EkFinding *a = findings->pdata[i];
                EkFinding *b = findings->pdata[k];
                int age = compete(a, b) ? criteria[c].compare(a, b) : 0;
                if (age > 0)
                    set_remains(b, a, criteria[c].why);
                else if (age < 0)
                    set_remains(a, b, criteria[c].why);
            }
}

static void set_nested(EkFinding *inner, const EkFinding *host, EkUsage use)
{
    inner->standing = EK_STANDING_NESTED;
    inner->host = host;
    ek_volume_reason(inner->volume, 0,
                     "located inside the %s volume at sector %" G_GUINT64_FORMAT
                     " (%s): probably a disk image stored as a file",
                     host->volume->filesystem, host->volume->first_byte / EK_STEP,
                     use == EK_USAGE_USED ? "which uses these sectors" : "whose extent covers it");
}

/* Did the inner one come after the outer one, as a volume of its own? Then it begins where a
 * partition does, and a table names it, or it was made after the outer one was last used, and that
 * is exact, or it takes more of it than a file would, or begins right behind another volume; or it
 * takes nearly all of it. */
static gboolean came_after(const EkFinding *inner, const EkFinding *outer, EkUsage use,
                           const char **why)
{
    const EkVolume *volume = outer->volume;
    const EkTimestamp *made = &inner->volume->created;
    if (!is_anchored(inner) || outer->standing == EK_STANDING_LISTED)
        return FALSE;
    *why = "the partition table lists it";
    if (inner->standing == EK_STANDING_LISTED)
        return TRUE;
    if (ek_volume_is_later(volume, inner->volume))
        return FALSE;
    *why = "a partition table names it, and none the other one";
    if (volume->by_backup && inner->anchor >= EK_ANCHOR_NAMED && outer->anchor < EK_ANCHOR_NAMED)
        return TRUE;
    *why = "it covers nearly all of the other one";
    if (inner->volume->bytes >= volume->bytes / 10 * 9)
        return TRUE;
    *why = "it was created after the other volume was last used";
    return (use != EK_USAGE_USED || inner->volume->bytes >= volume->bytes / 2 ||
            inner->anchor > EK_ANCHOR_USUAL || volume->used_is_exact) &&
           volume->used.is_set && made->is_set && volume->used.is_local == made->is_local &&
           ek_timestamp_nanoseconds(*made) > ek_volume_last_use(volume);
}

static gboolean is_within(const EkFinding *inner, const EkFinding *outer)
{
    return is_inside(inner->volume, outer->volume) && !are_together(inner->volume, outer->volume) &&
           outer->standing != EK_STANDING_REMAINS && inner->standing != EK_STANDING_NESTED;
}

static EkUsage use_of(EkReader *reader, const EkFinding *inner, const EkFinding *outer)
{
    return ek_volume_use_at(outer->volume, reader, inner->volume->first_byte);
}

/* One that begins inside another, and came after it. */
static void weigh_overrun(EkReader *reader, EkFinding *inner, EkFinding *outer)
{
    const char *why = NULL;
    if (is_anchored(inner) && is_within(inner, outer) &&
        came_after(inner, outer, use_of(reader, inner, outer), &why))
        set_remains(outer, inner, why);
}

/* One that begins inside another: a file of it, or what was there before it. */
static void weigh_inner(EkReader *reader, EkFinding *inner, const EkFinding *outer)
{
    if (!is_within(inner, outer))
        return;
    EkUsage use = use_of(reader, inner, outer);
    if (use == EK_USAGE_FREE)
        set_remains_in_free(inner, outer);
    else
        set_nested(inner, outer, use);
}

/* --- files whose volume is gone ------------------------------------------------------------- */

static gboolean is_stray(const EkFinding *finding)
{
    return finding->anchor < EK_ANCHOR_NAMED &&
           (finding->standing == EK_STANDING_LOST || finding->standing == EK_STANDING_DISPLACED);
}

/* A file of a volume that was itself written over. */
static void weigh_in_remains(EkFinding *inner, const GPtrArray *findings)
{
    for (guint i = 0; i < findings->len && is_stray(inner) && !is_anchored(inner); i++) {
        const EkFinding *outer = findings->pdata[i];
        if (outer->standing == EK_STANDING_REMAINS && is_anchored(outer) &&
            is_inside(inner->volume, outer->volume) && !are_together(inner->volume, outer->volume))
            set_nested(inner, outer, EK_USAGE_UNKNOWN);
    }
}

static gboolean is_copy(const EkVolume *a, const EkVolume *b)
{
    return a->format == b->format && a->bytes == b->bytes &&
           (a->label == NULL || b->label == NULL || g_str_equal(a->label, b->label)) &&
           (a->composed || b->composed || (a->uuid != NULL && g_strcmp0(a->uuid, b->uuid) == 0));
}

static guint count_copies(const EkFinding *finding, const GPtrArray *findings)
{
    guint copies = 0;
    for (guint i = 0; i < findings->len; i++) {
        const EkVolume *other = ((const EkFinding *)findings->pdata[i])->volume;
        copies += !ek_ranges_overlap(ek_volume_range(finding->volume), ek_volume_range(other)) &&
                          is_copy(finding->volume, other)
                      ? 1
                      : 0;
    }
    return copies;
}

/* One disk image in several places, or its deleted versions: partitions are not so alike. One that
 * begins where a partition may be the one the others are copies of. */
static void weigh_copies(EkFinding *finding)
{
    guint copies = finding->copies;
    if (copies >= (finding->anchor == EK_ANCHOR_NONE ? 1u : 2u))
        ek_volume_reason(finding->volume, finding->anchor == EK_ANCHOR_NONE ? 0 : COPIES_POINTS,
                         "the same volume is on this drive %u times: perhaps a disk image, "
                         "kept in files of a volume that is gone",
                         copies + 1);
    if (copies > 0 && finding->anchor == EK_ANCHOR_NONE)
        finding->standing = EK_STANDING_NESTED;
}

/* How much of it newer volumes lie on, told in the reasons. */
static void count_overwritten(EkFinding *finding, const GPtrArray *findings)
{
    EkRange own = ek_volume_range(finding->volume);
    g_autoptr(GArray) taken = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *other = findings->pdata[i];
        EkRange range = ek_volume_range(other->volume);
        if (other == finding->host && finding->in_free)
            continue;
        if (other != finding && other->standing != EK_STANDING_REMAINS &&
            other->standing != EK_STANDING_NESTED && ek_ranges_overlap(own, range) &&
            !are_together(finding->volume, other->volume))
            g_array_append_val(taken, range);
    }
    g_array_sort(taken, ek_range_by_first);
    EkByte at = own.first;
    finding->overwritten = 0;
    for (guint i = 0; i < taken->len; i++) {
        EkRange range = g_array_index(taken, EkRange, i);
        EkByte from = MAX(range.first, at);
        EkByte end = MIN(ek_range_end(range), ek_range_end(own));
        if (end > from)
            finding->overwritten += end - from;
        at = MAX(at, end);
    }
    ek_volume_reason(finding->volume, 0, "%.1f %% of it lies under newer volumes",
                     own.bytes > 0 ? (double)finding->overwritten * 100 / (double)own.bytes : 0.0);
}

/* What was found as one that another was made over lies below the largest that covers its place.
 * Where nothing but what lies in it was found, it is no earlier one. */
static void weigh_earlier(EkFinding *earlier, const GPtrArray *findings)
{
    const EkFinding *over = NULL;
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *other = findings->pdata[i];
        if (!other->volume->is_earlier && other->standing != EK_STANDING_NESTED &&
            (earlier->standing != EK_STANDING_LISTED ||
             other->volume->confidence >= earlier->volume->confidence) &&
            ek_ranges_overlap(ek_volume_range(earlier->volume), ek_volume_range(other->volume)) &&
            (over == NULL || other->volume->bytes > over->volume->bytes))
            over = other;
    }
    if (over == NULL || (is_inside(over->volume, earlier->volume) &&
                         (earlier->standing == EK_STANDING_LISTED ||
                          over->volume->bytes < earlier->volume->bytes / INNER_SHARE)))
        return;
    earlier->standing = EK_STANDING_REMAINS;
    earlier->in_free = TRUE;
    earlier->host = over;
    ek_volume_reason(earlier->volume, 0,
                     "the %s volume at sector %" G_GUINT64_FORMAT
                     " was created over it: what that one has not written over is left",
                     over->volume->filesystem, over->volume->first_byte / EK_STEP);
}

static gboolean is_start_unread(EkReader *reader, const EkVolume *volume)
{
    guint8 start[START_BYTES];
    return ek_presence_read(reader, volume->first_byte, start, sizeof start) == EK_UNREAD;
}

void ek_hunt_layer(EkReader *reader, GPtrArray *findings)
{
    for (guint i = 0; i < findings->len; i++)
        if (((const EkFinding *)findings->pdata[i])->volume->is_earlier)
            weigh_earlier(findings->pdata[i], findings);
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        finding->copies = count_copies(finding, findings);
        finding->is_start_unread = is_start_unread(reader, finding->volume);
    }
    for (guint i = 0; i < findings->len; i++)
        for (guint k = 0; k < findings->len; k++)
            weigh_overrun(reader, findings->pdata[i], findings->pdata[k]);
    weigh_pairs(findings);
    for (guint i = 0; i < findings->len; i++)
        for (guint k = 0; k < findings->len; k++)
            weigh_inner(reader, findings->pdata[i], findings->pdata[k]);
    for (guint i = 0; i < findings->len; i++)
        weigh_in_remains(findings->pdata[i], findings);
    for (guint i = 0; i < findings->len; i++)
        if (is_stray(findings->pdata[i]))
            weigh_copies(findings->pdata[i]);
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        if (finding->standing == EK_STANDING_REMAINS && !finding->volume->is_earlier)
            count_overwritten(finding, findings);
    }
}
