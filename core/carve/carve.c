/* SPDX-License-Identifier: MIT */
/* The pass that finds and follows. Workers follow what begins in their chunk through ground as it
 * lies; the thread that carves takes the results in order of position, and passes over what lies
 * in a file that it took before. So what is found does not depend on the workers. */
#include "carve/carve.h"

#include "base/error.h"
#include "carve/carving.h"
#include "carve/join.h"
#include "carve/types.h"

/* --- the visitor ----------------------------------------------------------------------------- */

/* What a chunk gathers. */
typedef struct {
    EkContent *content;
    GPtrArray *found; /* EkFound, by position */
    EkByte held;      /* nothing before this is looked at: a file of this chunk holds it */
} Gathered;

static void *begin_chunk(void *data)
{
    const EkCarve *carve = data;
    Gathered *gathered = g_new0(Gathered, 1);
    gathered->content = ek_content_new(carve->order.reader);
    ek_content_watch(gathered->content, carve->cancel);
    gathered->found = g_ptr_array_new_with_free_func((GDestroyNotify)ek_found_free);
    return gathered;
}

static void discard_chunk(void *data)
{
    Gathered *gathered = data;
    ek_content_free(gathered->content);
    g_ptr_array_unref(gathered->found);
    g_free(gathered);
}

/* Of what stands at one place the one with the most behind it is taken. */
static gboolean is_better(const EkFound *one, const EkFound *other)
{
    if (other == NULL || one->state != other->state)
        return other == NULL || one->state == EK_CONTENT_WHOLE ||
               (other->state != EK_CONTENT_WHOLE && one->state == EK_CONTENT_CUT &&
                one->followed.sure > other->followed.sure);
    return one->followed.proof > other->followed.proof ||
           (one->followed.proof == other->followed.proof && one->bytes > other->bytes);
}

static void look(void *data, void *gathered_data, const EkMatches *matches, EkSpan span, EkByte at)
{
    const EkCarve *carve = data;
    Gathered *gathered = gathered_data;
    EkFound *best = NULL;
    if (at < gathered->held && !carve->order.nested)
        return;
    for (guint i = 0; i < matches->count; i++) {
        const EkCarveType *type = ek_carve_types[matches->ids[i]];
        if (type->begin != NULL && !type->begin(span))
            continue;
        ek_content_lay_from(gathered->content, carve->order.ground, at);
        if (ek_content_place(gathered->content, 0) != at)
            continue;
        EkFound *found = ek_carving_follow(gathered->content, type);
        if (found != NULL && is_better(found, best)) {
            ek_found_free(best);
            best = found;
        } else {
            ek_found_free(found);
        }
    }
    if (best == NULL)
        return;
    if (ek_found_held(best) > 0 && best->places->len == 1 && best->followed.end == EK_FOLLOW_ENDED)
        gathered->held = MAX(gathered->held, at + best->bytes);
    g_ptr_array_add(gathered->found, best);
}

static gboolean commit(void *data, void *gathered_data, EkRange chunk, GError **error)
{
    EkCarve *carve = data;
    Gathered *gathered = gathered_data;
    for (guint i = 0; i < gathered->found->len; i++) {
        EkFound *found = gathered->found->pdata[i];
        if (!carve->order.nested && ek_carving_is_held(carve, ek_found_first(found)))
            continue;
        if (!carve->sink.found(carve->sink.data, found, error))
            return FALSE;
        ek_carving_hold(carve, found);
    }
    return carve->sink.searched(carve->sink.data, chunk, error);
}

static guint enter(void *data, EkMatcher *matcher, guint first)
{
    const EkCarve *carve = data;
    guint id = 0;
    for (; ek_carve_types[id] != NULL; id++)
        if (carve->order.wanted == NULL || carve->order.wanted[id] != 0)
            ek_matcher_add(matcher, first + id, ek_carve_types[id]->signatures,
                           ek_carve_types[id]->signature_count);
    return first + id;
}

/* --- the job --------------------------------------------------------------------------------- */

EkCarve *ek_carve_new(const EkCarveOrder *order, const EkCarveSink *sink, const gint *cancel)
{
    EkCarve *carve = g_new0(EkCarve, 1);
    carve->order = *order;
    carve->sink = *sink;
    carve->cancel = cancel;
    carve->held = g_tree_new_full(ek_carving_compare, NULL, g_free, g_free);
    carve->scan = ek_scan_new(order->reader, order->threads, cancel);
    EkScanVisitor visitor = {carve, begin_chunk, look, commit, discard_chunk, enter};
    ek_scan_add(carve->scan, &visitor);
    return carve;
}

void ek_carve_free(EkCarve *carve)
{
    ek_scan_free(carve->scan);
    g_tree_unref(carve->held);
    g_free(carve);
}

gboolean ek_carve_scan(EkCarve *carve, const GArray *ranges, GError **error)
{
    return ek_scan_run(carve->scan, ranges, error);
}

EkScanProgress ek_carve_progress(EkCarve *carve)
{
    return ek_scan_progress(carve->scan);
}

EkFound *ek_carve_join(EkCarve *carve, const EkCarveType *type, EkByte first, guint tries)
{
    EkFound *found = ek_join(carve, type, first, tries);
    if (found != NULL)
        ek_carving_hold(carve, found);
    return found;
}
