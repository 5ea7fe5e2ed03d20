/* SPDX-License-Identifier: MIT */
/* Choosing the layout: of the volumes that are believed, the set with the most evidence in which
 * none lies on another's region. Evidence weighs by its third power, so that many weak claims do
 * not outweigh a strong one. Older layers are what remains when the newer ones are taken away. */
#include "rebuild/planner.h"

#include "base/text.h"

#define ALTERNATIVES_MOST 16u
#define LAYERS_MOST 16u
#define PLACED_LEAST 35 /* confidence of one whose place is proved twice */
#define PROOF_POINTS 10

typedef struct {
    const EkPlanVolume *entry;
    EkRange range;
    guint64 weight;
    gboolean is_forced;
    guint layer; /* from 1; 0: in none yet */
} Candidate;

static gboolean holds(const GArray *numbers, guint number)
{
    for (guint i = 0; i < numbers->len; i++)
        if (g_array_index(numbers, guint, i) == number)
            return TRUE;
    return FALSE;
}

static const EkPlanVolume *volume_of(const EkPlanner *planner, guint number)
{
    for (gsize i = 0; i < planner->input->volume_count; i++)
        if (planner->input->volumes[i].number == number)
            return &planner->input->volumes[i];
    return NULL;
}

/* What was said last of a volume's length; NULL: nothing. */
static const EkPlanResized *resized_of(const EkPlanner *planner, guint number)
{
    const GArray *resized = planner->wishes->resized;
    for (guint i = resized->len; i > 0; i--)
        if (g_array_index(resized, EkPlanResized, i - 1).volume == number)
            return &g_array_index(resized, EkPlanResized, i - 1);
    return NULL;
}

/* A container of which neither it nor anybody else says how long it is. */
static gboolean has_no_end(const EkPlanner *planner, const EkPlanVolume *entry)
{
    return entry->volume->length_is_least && entry->volume->is_container &&
           resized_of(planner, entry->number) == NULL;
}

/* Where the region of a container ends at most: where the next volume begins, or the drive. */
static EkByte end_at_most(const EkPlanner *planner, const EkPlanVolume *entry)
{
    EkByte first = entry->volume->first_byte;
    EkByte backup = ek_gpt_backup_bytes(planner->table_size);
    EkByte end = planner->bytes - MIN(planner->bytes, backup);
    for (gsize i = 0; i < planner->input->volume_count; i++) {
        const EkPlanVolume *other = &planner->input->volumes[i];
        if (other->volume->first_byte > first && ek_standing_is_on_top(other->standing) &&
            other->volume->confidence >= EK_CONFIDENT)
            end = MIN(end, other->volume->first_byte);
    }
    return end - end % planner->table_size;
}

static EkRange range_of(const EkPlanner *planner, const EkPlanVolume *entry)
{
    guint32 size = planner->table_size;
    EkRange range = ek_volume_range(entry->volume);
    const EkPlanResized *resized = resized_of(planner, entry->number);
    range.bytes = resized != NULL ? resized->bytes : ek_divide_up(range.bytes, size) * size;
    if (has_no_end(planner, entry))
        range.bytes = MAX(range.bytes, end_at_most(planner, entry) -
                                           MIN(end_at_most(planner, entry), range.first));
    return range;
}

/* Why a volume cannot stand in any table; NULL when it can. */
static char *why_never(const EkPlanner *planner, const EkPlanVolume *entry, EkRange range)
{
    const EkVolume *volume = entry->volume;
    EkRange inside;
    if (ek_partition_type_for(volume->filesystem)->mbr == 0)
        return g_strdup(entry->standing == EK_STANDING_TABLELESS
                            ? "it begins in sector 0 and needs no partition table"
                            : "this kind of volume is not stored in a partition");
    if (volume->length_is_least && !volume->is_container &&
        resized_of(planner, entry->number) == NULL)
        return g_strdup_printf("its end is unknown. To set its length: --resize %u:SECTORS",
                               entry->number);
    if (!ek_range_checked(range.first, range.bytes, planner->bytes, &inside))
        return g_strdup_printf("it extends %" G_GUINT64_FORMAT
                               " bytes past the end of this drive. Was the original drive larger?",
                               range.first + range.bytes - planner->bytes);
    if (range.bytes < volume->bytes)
        return g_strdup_printf("it needs %" G_GUINT64_FORMAT " sectors",
                               ek_divide_up(volume->bytes, planner->table_size));
    return NULL;
}

static gboolean is_remains(const EkPlanVolume *entry)
{
    return entry->standing == EK_STANDING_REMAINS;
}

/* Do two structures apart from each other say where it begins and how long it is? */
static gboolean is_placed(const EkPlanVolume *entry)
{
    guint proofs = 0;
    for (guint i = 0; i < entry->volume->reasons->len; i++)
        proofs += ((const EkEvidence *)entry->volume->reasons->pdata[i])->points >= PROOF_POINTS;
    return proofs >= 2 && !entry->volume->composed && !entry->volume->length_is_least;
}

/* Why it is not planned for unless it is asked for; NULL when it is. */
static char *why_not(const EkPlanVolume *entry)
{
    if (entry->standing == EK_STANDING_NESTED)
        return g_strdup("it is stored in a file on another volume");
    /* Its header is made from its files alone. */
    if (entry->volume->is_earlier && !is_remains(entry))
        return g_strdup("only files of it were found, and nothing that says where it ends");
    /* Of what a newer volume has overwritten less is left to believe in. Where it lies and whether
     * it opens are two things: that one is proved is enough for its entry. */
    int least = is_remains(entry)  ? EK_CONFIDENT / 2
                : is_placed(entry) ? PLACED_LEAST
                                   : EK_CONFIDENT;
    if (entry->volume->confidence < least)
        return g_strdup_printf("its confidence (%d) is below the limit (%d)",
                               entry->volume->confidence, least);
    return NULL;
}

static gint by_end(gconstpointer a, gconstpointer b)
{
    const Candidate *left = *(const Candidate *const *)a;
    const Candidate *right = *(const Candidate *const *)b;
    EkByte left_end = ek_range_end(left->range);
    EkByte right_end = ek_range_end(right->range);
    if (left_end != right_end)
        return left_end < right_end ? -1 : 1;
    if (left->range.first != right->range.first)
        return left->range.first < right->range.first ? -1 : 1;
    return (gint)left->entry->number - (gint)right->entry->number;
}

/* The heaviest set of candidates (const Candidate*) in which none overlaps another; in order of
 * position, the caller unrefs. */
static GPtrArray *heaviest(GPtrArray *candidates)
{
    GPtrArray *set = g_ptr_array_new();
    guint count = candidates->len;
    g_ptr_array_sort(candidates, by_end);
    /* best[i]: the weight of the best set among the first i. */
    g_autofree guint64 *best = g_new0(guint64, count + 1);
    g_autofree guint *before = g_new0(guint, count + 1); /* those that end before it begins */
    for (guint i = 0; i < count; i++) {
        const Candidate *one = candidates->pdata[i];
        guint low = 0;
        for (guint high = i; low < high;) {
            guint middle = low + (high - low) / 2;
            if (ek_range_end(((const Candidate *)candidates->pdata[middle])->range) <=
                one->range.first)
                low = middle + 1;
            else
                high = middle;
        }
        before[i] = low;
        best[i + 1] = MAX(best[i], best[low] + one->weight);
    }
    for (guint i = count; i > 0;) {
        const Candidate *one = candidates->pdata[i - 1];
        if (best[i] == best[i - 1]) {
            i--;
            continue;
        }
        g_ptr_array_insert(set, 0, (gpointer)one);
        i = before[i - 1];
    }
    return set;
}

static const Candidate *overlapping(const GPtrArray *set, EkRange range)
{
    for (guint i = 0; i < set->len; i++)
        if (ek_ranges_overlap(((const Candidate *)set->pdata[i])->range, range))
            return set->pdata[i];
    return NULL;
}

/* --- wishes --------------------------------------------------------------------------------- */

static gboolean check_numbers(const EkPlanner *planner, const GArray *numbers, GError **error)
{
    for (guint i = 0; i < numbers->len; i++)
        if (volume_of(planner, g_array_index(numbers, guint, i)) == NULL)
            return ek_error_set(error, EK_ERROR_ABSENT, "no such volume: %u",
                                g_array_index(numbers, guint, i));
    return TRUE;
}

static gboolean check_added(const EkPlanner *planner, GError **error)
{
    const GPtrArray *added = planner->wishes->added;
    for (guint i = 0; i < added->len; i++) {
        const EkPlanAdded *one = added->pdata[i];
        EkRange inside;
        guint32 size = planner->sector_size;
        if (ek_partition_type_for(one->filesystem)->mbr == 0)
            return ek_error_set(
                error, EK_ERROR_UNSUPPORTED,
                "--add: \"%s\" is not a file system that a partition can hold. Known "
                "are ntfs, fat32, exfat, ext4, hfsplus and the others that "
                "\"ektypon help volumes\" lists",
                one->filesystem);
        if (!ek_range_checked(one->range.first, one->range.bytes, planner->bytes, &inside) ||
            one->range.bytes == 0 || one->range.first == 0)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "--add: invalid range (first sector %" G_GUINT64_FORMAT
                                ", length %" G_GUINT64_FORMAT
                                "). A partition must lie between sectors 1 and %" G_GUINT64_FORMAT
                                " and must not be empty",
                                one->range.first / size, one->range.bytes / size,
                                planner->bytes / size - 1);
    }
    return TRUE;
}

static gboolean check_resized(const EkPlanner *planner, GError **error)
{
    for (guint i = 0; i < planner->wishes->resized->len; i++) {
        guint number = g_array_index(planner->wishes->resized, EkPlanResized, i).volume;
        if (volume_of(planner, number) == NULL)
            return ek_error_set(error, EK_ERROR_ABSENT, "--resize: no such volume: %u", number);
    }
    return TRUE;
}

/* --- candidates ----------------------------------------------------------------------------- */

static guint64 weight_of(const EkVolume *volume)
{
    guint64 confidence = (guint64)MAX(volume->confidence, 1);
    return confidence * confidence * confidence;
}

static Candidate *candidate_new(const EkPlanner *planner, const EkPlanVolume *entry)
{
    Candidate *candidate = g_new0(Candidate, 1);
    candidate->entry = entry;
    candidate->range = range_of(planner, entry);
    candidate->weight = weight_of(entry->volume);
    candidate->is_forced = holds(planner->wishes->keep, entry->number);
    return candidate;
}

/* An earlier volume is planned only when it is asked for: that costs what was made over it. */
static void tell_of_earlier(EkPlanner *planner, const EkPlanVolume *earlier)
{
    for (gsize i = 0; i < planner->input->volume_count; i++) {
        const EkPlanVolume *other = &planner->input->volumes[i];
        if (other != earlier && !is_remains(other) &&
            ek_ranges_overlap(range_of(planner, earlier), range_of(planner, other)))
            ek_planner_warn(
                planner,
                "volume %u (%s) is an earlier one: volume %u (%s) was created over it, "
                "and is lost with this plan. The repairs overwrite its first sectors, and "
                "its files cannot be opened any more. To take files out of volume %u no "
                "plan is needed: use extract",
                earlier->number, earlier->volume->filesystem, other->number,
                other->volume->filesystem, earlier->number);
    }
}

/* Those that may be planned for. FALSE when one that is asked for cannot be. */
static gboolean gather(EkPlanner *planner, GPtrArray *candidates, GError **error)
{
    for (gsize i = 0; i < planner->input->volume_count; i++) {
        const EkPlanVolume *entry = &planner->input->volumes[i];
        gboolean is_kept = holds(planner->wishes->keep, entry->number);
        if (holds(planner->wishes->drop, entry->number)) {
            ek_planner_warn(planner, "volume %u (%s) is left out: --drop %u", entry->number,
                            entry->volume->filesystem, entry->number);
            continue;
        }
        g_autofree char *never = why_never(planner, entry, range_of(planner, entry));
        if (is_kept && never != NULL)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED, "--keep %u: %s", entry->number, never);
        if (is_kept && entry->volume->is_earlier && is_remains(entry))
            tell_of_earlier(planner, entry);
        g_autofree char *why = never != NULL ? g_steal_pointer(&never) : why_not(entry);
        if (why == NULL || is_kept)
            g_ptr_array_add(candidates, candidate_new(planner, entry));
        else
            ek_planner_warn(planner, "volume %u (%s) is left out: %s", entry->number,
                            entry->volume->filesystem, why);
    }
    return TRUE;
}

static gboolean is_added_over(const EkPlanner *planner, EkRange range)
{
    for (guint i = 0; i < planner->wishes->added->len; i++)
        if (ek_ranges_overlap(((const EkPlanAdded *)planner->wishes->added->pdata[i])->range,
                              range))
            return TRUE;
    return FALSE;
}

/* Those of the pool that overlap nothing of what must be in the set. */
static GPtrArray *free_of(const EkPlanner *planner, const GPtrArray *pool, const GPtrArray *fixed,
                          guint layer)
{
    GPtrArray *rest = g_ptr_array_new();
    for (guint i = 0; i < pool->len; i++) {
        Candidate *one = pool->pdata[i];
        gboolean in_layer = layer == 1 ? !is_remains(one->entry) : one->layer == 0;
        if (!one->is_forced && in_layer && overlapping(fixed, one->range) == NULL &&
            !is_added_over(planner, one->range))
            g_ptr_array_add(rest, one);
    }
    return rest;
}

/* What must be in it. FALSE when two such lie on the same region. */
static gboolean fix(const EkPlanner *planner, const GPtrArray *candidates, GPtrArray *fixed,
                    GError **error)
{
    for (guint i = 0; i < candidates->len; i++) {
        Candidate *one = candidates->pdata[i];
        if (!one->is_forced)
            continue;
        const Candidate *other = overlapping(fixed, one->range);
        if (other != NULL)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "volumes %u and %u overlap: use --keep for only one of them",
                                other->entry->number, one->entry->number);
        if (is_added_over(planner, one->range))
            return ek_error_set(error, EK_ERROR_UNSUPPORTED, "--add and --keep %u overlap",
                                one->entry->number);
        g_ptr_array_add(fixed, one);
    }
    const GPtrArray *added = planner->wishes->added;
    for (guint i = 0; i < added->len; i++)
        for (guint k = i + 1; k < added->len; k++)
            if (ek_ranges_overlap(((const EkPlanAdded *)added->pdata[i])->range,
                                  ((const EkPlanAdded *)added->pdata[k])->range))
                return ek_error_set(error, EK_ERROR_UNSUPPORTED, "two --add partitions overlap");
    return TRUE;
}

static void mark_layer(const GPtrArray *set, guint layer)
{
    for (guint i = 0; i < set->len; i++)
        if (((Candidate *)set->pdata[i])->layer == 0)
            ((Candidate *)set->pdata[i])->layer = layer;
}

/* Peels off the layers, the newest first; what older ones leave free is filled from newer ones.
 * Returns the set of the layer that is wanted. */
static GPtrArray *peel(EkPlanner *planner, GPtrArray *candidates, const GPtrArray *fixed)
{
    guint wanted = MAX(planner->wishes->layer, 1);
    GPtrArray *result = NULL;
    guint layer = 1;
    for (; layer <= LAYERS_MOST; layer++) {
        g_autoptr(GPtrArray) rest = free_of(planner, candidates, fixed, layer);
        g_autoptr(GPtrArray) set = heaviest(rest);
        if (set->len == 0 && layer > 1)
            break;
        mark_layer(set, layer);
        if (layer != wanted)
            continue;
        result = g_ptr_array_new();
        for (guint i = 0; i < fixed->len; i++)
            g_ptr_array_add(result, fixed->pdata[i]);
        for (guint i = 0; i < set->len; i++)
            g_ptr_array_add(result, set->pdata[i]);
        for (guint i = 0; i < candidates->len; i++) {
            Candidate *one = candidates->pdata[i];
            if (one->layer > 0 && one->layer < layer && overlapping(result, one->range) == NULL &&
                !is_added_over(planner, one->range))
                g_ptr_array_add(result, one);
        }
    }
    planner->plan->layers = layer - 1;
    return result;
}

/* --- what is left out ----------------------------------------------------------------------- */

static char *day_of(EkTimestamp timestamp)
{
    g_autoptr(GDateTime) when = g_date_time_new_from_unix_utc(timestamp.seconds);
    return when != NULL ? g_date_time_format(when, "%Y-%m-%d") : g_strdup("(no date)");
}

static char *describe(const EkPlanner *planner, const Candidate *one)
{
    const EkVolume *volume = one->entry->volume;
    GString *text = g_string_new(NULL);
    g_autofree char *size = ek_text_size(one->range.bytes);
    g_string_append_printf(text, "volume %u (%s%s%s, %s from sector %" G_GUINT64_FORMAT,
                           one->entry->number, volume->filesystem, volume->label != NULL ? " " : "",
                           volume->label != NULL ? volume->label : "", size,
                           one->range.first / planner->sector_size);
    if (volume->created.is_set) {
        g_autofree char *when = day_of(volume->created);
        g_string_append_printf(text, ", made %s", when);
    }
    if (volume->used.is_set) {
        g_autofree char *when = day_of(volume->used);
        g_string_append_printf(text, ", last used %s", when);
    }
    g_string_append_printf(text, ", confidence %d)", volume->confidence);
    return g_string_free(text, FALSE);
}

static void tell_left_out(EkPlanner *planner, const GPtrArray *candidates, const GPtrArray *set)
{
    for (guint i = 0; i < candidates->len; i++) {
        const Candidate *one = candidates->pdata[i];
        const Candidate *winner = overlapping(set, one->range);
        const char *filesystem = one->entry->volume->filesystem;
        guint number = one->entry->number;
        if (winner == one)
            continue;
        if (winner == NULL)
            ek_planner_warn(planner, "volume %u (%s) is left out: %s", number, filesystem,
                            is_added_over(planner, one->range) ? "an --add partition overlaps it"
                                                               : "a newer volume overlaps it");
        else if (is_remains(one->entry) && !is_remains(winner->entry))
            ek_planner_warn(
                planner, "volume %u (%s) is left out: a newer volume overlaps it, %u (%s)", number,
                filesystem, winner->entry->number, winner->entry->volume->filesystem);
        else
            ek_planner_warn(
                planner, "volume %u (%s) is not in the plan: it overlaps volume %u (%s), which %s",
                number, filesystem, winner->entry->number, winner->entry->volume->filesystem,
                winner->is_forced               ? "was asked for"
                : winner->weight >= one->weight ? "has more evidence"
                                                : "belongs to this layer");
        if (planner->plan->alternatives->len >= ALTERNATIVES_MOST)
            continue;
        g_autofree char *own = describe(planner, one);
        g_autofree char *other = winner != NULL ? describe(planner, winner) : g_strdup("");
        EkPlanAlternative *alternative = g_new0(EkPlanAlternative, 1);
        alternative->volume = number;
        alternative->text =
            winner != NULL ? g_strdup_printf("%s in place of %s", own, other) : g_strdup(own);
        g_ptr_array_add(planner->plan->alternatives, alternative);
    }
}

static gint by_position(gconstpointer a, gconstpointer b)
{
    const EkChosen *left = a;
    const EkChosen *right = b;
    return left->range.first < right->range.first ? -1 : left->range.first > right->range.first;
}

gboolean ek_planner_choose(EkPlanner *planner, GError **error)
{
    g_autoptr(GPtrArray) candidates = g_ptr_array_new_with_free_func(g_free);
    g_autoptr(GPtrArray) fixed = g_ptr_array_new();
    if (!check_numbers(planner, planner->wishes->keep, error) ||
        !check_numbers(planner, planner->wishes->drop, error) || !check_resized(planner, error) ||
        !check_added(planner, error) || !gather(planner, candidates, error) ||
        !fix(planner, candidates, fixed, error))
        return FALSE;
    g_autoptr(GPtrArray) set = peel(planner, candidates, fixed);
    if (set == NULL)
        return ek_error_set(
            error, EK_ERROR_ABSENT, "--layer %u: this drive has %u layer%s of volumes",
            planner->wishes->layer, planner->plan->layers, planner->plan->layers == 1 ? "" : "s");
    tell_left_out(planner, candidates, set);
    for (guint i = 0; i < set->len; i++) {
        const Candidate *one = set->pdata[i];
        EkChosen chosen = {one->entry->number,
                           one->entry->volume,
                           one->entry->volume->filesystem,
                           one->range,
                           resized_of(planner, one->entry->number) != NULL,
                           has_no_end(planner, one->entry)};
        g_array_append_val(planner->chosen, chosen);
    }
    if (fixed->len > 0 && set->len > fixed->len)
        ek_planner_warn(planner, "--keep adds to the volumes that are planned without it. To leave "
                                 "a volume out: --drop NUMBER");
    for (guint i = 0; i < planner->wishes->added->len; i++) {
        const EkPlanAdded *added = planner->wishes->added->pdata[i];
        EkChosen chosen = {
            .filesystem = added->filesystem, .range = added->range, .is_exact = TRUE};
        g_array_append_val(planner->chosen, chosen);
    }
    g_array_sort(planner->chosen, by_position);
    return TRUE;
}
