/* SPDX-License-Identifier: MIT */
/* The pass that finds and follows. Workers follow what begins in their chunk through ground as it
 * lies; the thread that carves takes the results in order of position, and passes over what lies
 * in a file that it took before. So what is found does not depend on the workers. */
#include "carve/carve.h"

#include "base/error.h"
#include "carve/carving.h"
#include "carve/indirect.h"
#include "carve/types.h"

#include <string.h>

#define LOOSE_MOST 64u     /* that are asked, the last ones */
#define AHEAD 128u         /* sectors behind one that may be of a crowd */
#define NEAR 8u            /* the next of a crowd begins within so many */
#define APART 16u          /* sectors between the beginnings of one, or fewer */
#define CROWD_LEAST 4u     /* that are a crowd, at the end of a drive */
#define CROWDED_MOST 8192u /* bytes of what is of a crowd that are followed */
#define SURE_LEAST 4096u   /* proved bytes of what is listed in a crowd though it is not whole */

/* --- the visitor ----------------------------------------------------------------------------- */

/* What begins at a place. */
typedef struct {
    EkByte at;
    EkFound *found; /* NULL: it is not followed yet, as a file before it may hold it */
    EkMatches *matches;
    EkByte most; /* bytes of it that are followed; 0: all */
    EkByte next; /* it is of a crowd: where the next of its type begins; 0: it is not */
} Candidate;

/* What a chunk gathers. */
typedef struct {
    const EkCarve *carve;
    EkByte before; /* where the chunk before it ends */
    EkContent *content;
    EkByte at;          /* of what is followed */
    GArray *candidates; /* Candidate, by position */
    EkByte held;        /* what begins before this waits: a file of this chunk holds it */
    EkLoose tail;       /* the last one here whose beginning is missing */
    GArray *listed;     /* EkListed, by place */
} Gathered;

static void candidate_clear(void *data)
{
    Candidate *candidate = data;
    ek_found_free(candidate->found);
    g_free(candidate->matches);
}

/* What goes on behind its chunk is followed when it is known that nothing before holds it. */
static gboolean may_go_on(void *data)
{
    const Gathered *gathered = data;
    return ek_claims_wait(gathered->carve->claims, gathered->before, gathered->at,
                          gathered->carve->cancel);
}

static void *begin_chunk(void *data, EkRange chunk)
{
    EkCarve *carve = data;
    Gathered *gathered = g_new0(Gathered, 1);
    gathered->carve = carve;
    gathered->before = carve->begun;
    carve->begun = ek_range_end(chunk);
    gathered->content = ek_content_new(carve->order.reader);
    ek_content_set_types(gathered->content, ek_carve_types);
    if (!carve->order.nested)
        ek_content_set_gate(gathered->content, ek_range_end(chunk), may_go_on, gathered);
    ek_content_watch(gathered->content, carve->cancel);
    gathered->candidates = g_array_new(FALSE, FALSE, sizeof(Candidate));
    g_array_set_clear_func(gathered->candidates, candidate_clear);
    gathered->listed = g_array_new(FALSE, FALSE, sizeof(EkListed));
    return gathered;
}

static void discard_chunk(void *data)
{
    Gathered *gathered = data;
    ek_content_free(gathered->content);
    g_array_unref(gathered->candidates);
    g_array_unref(gathered->listed);
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

/* As one type, through ground as it lies, or, where that does not come to a whole file, as ext2 and
 * ext3 lay it. */
static EkFound *follow_as(const EkCarve *carve, EkContent *content, const EkCarveType *type,
                          EkByte first, EkByte most)
{
    ek_content_lay_from(content, carve->order.ground, first);
    if (ek_content_place(content, 0) != first)
        return NULL;
    if (most > 0)
        ek_content_cut(content, most);
    EkFound *found = ek_carving_follow(content, type, FALSE);
    if (most > 0 || found == NULL || found->state == EK_CONTENT_WHOLE ||
        ek_content_is_shut(content))
        return found;
    EkFound *other = ek_indirect_follow(content, carve->order.reader, type, first);
    if (other == NULL || (other->followed.end == EK_FOLLOW_BROKE &&
                          other->followed.length <= found->followed.length)) {
        ek_found_free(other);
        return found;
    }
    ek_found_free(found);
    return other;
}

/* Follows what begins at `at` as each of the types that it may be; NULL: it is none. `most` bytes
 * of it; 0: all. */
static EkFound *follow(const EkCarve *carve, EkContent *content, const EkMatches *matches,
                       EkByte at, EkByte most)
{
    EkFound *best = NULL;
    for (guint i = 0; i < matches->count; i++) {
        const EkCarveType *type = ek_carve_types[matches->ids[i]];
        if (at < type->before)
            continue;
        EkFound *found = follow_as(carve, content, type, at - type->before, most);
        if (ek_content_is_shut(content)) {
            ek_found_free(found);
            break;
        }
        if (found != NULL && is_better(found, best)) {
            ek_found_free(best);
            best = found;
        } else {
            ek_found_free(found);
        }
    }
    return best;
}

/* Those of the types that may begin with these bytes. */
static EkMatches those_that_begin(const EkMatches *matches, EkSpan span)
{
    EkMatches left;
    left.count = 0;
    for (guint i = 0; i < matches->count; i++) {
        const EkCarveType *type = ek_carve_types[matches->ids[i]];
        if (type->begin == NULL || type->begin(span))
            left.ids[left.count++] = matches->ids[i];
    }
    return left;
}

static gboolean is_of_same(const EkLoose *loose, const EkMatches *matches, EkByte at)
{
    return loose->hides == EK_HIDES_SAME && ek_range_holds(loose->range, at) &&
           matches->count == 1 && ek_carve_types[matches->ids[0]] == loose->type;
}

/* Is it part of a file before it that does not hold its ground? `found` is NULL as long as it was
 * not followed. */
static gboolean is_hidden(const EkCarve *carve, const Candidate *candidate)
{
    const EkFound *found = candidate->found;
    guint count = carve->loose->len;
    for (guint i = count; i > 0 && i + LOOSE_MOST > count; i--) {
        const EkLoose *loose = &g_array_index(carve->loose, EkLoose, i - 1);
        if (!ek_range_holds(loose->range, candidate->at))
            continue;
        if (is_of_same(loose, candidate->matches, candidate->at) ||
            (loose->hides == EK_HIDES_WEAK && found != NULL && found->state != EK_CONTENT_WHOLE) ||
            (loose->hides == EK_HIDES_PLAIN && found != NULL && found->type->is_plain))
            return TRUE;
    }
    return FALSE;
}

/* Right behind the word that begins a stream of a PDF it is a picture of that, however much of the
 * rest is gone. */
static gboolean is_in_document(const EkCarve *carve, EkByte at)
{
    static const char *const words[] = {"stream\n", "stream\r\n"};
    guint8 before[8];
    if (at < sizeof before ||
        !ek_reader_read(carve->order.reader, at - sizeof before, before, sizeof before, NULL, NULL))
        return FALSE;
    for (gsize i = 0; i < G_N_ELEMENTS(words); i++) {
        gsize length = strlen(words[i]);
        if (memcmp(before + sizeof before - length, words[i], length) == 0)
            return TRUE;
    }
    return FALSE;
}

static EkMatches *copy_matches(const EkMatches *matches)
{
    return g_memdup2(matches, G_STRUCT_OFFSET(EkMatches, ids) + matches->count * sizeof(guint));
}

static gboolean begins_as(const EkCarveType *type, EkSpan span)
{
    for (gsize i = 0; i < type->signature_count; i++)
        if (ek_signature_stands(&type->signatures[i], span.data))
            return type->begin == NULL || type->begin(span);
    return FALSE;
}

/* Do files of its type begin right behind it, in what is followed of it, and on and on? Then it is
 * of a crowd: a table of beginnings, the same sector again and again, headers made to mislead;
 * unless what is in a file begins as the file does. All that says so is on the drive, whoever
 * looks: what is behind `span` is read. */
static void look_for_crowd(const EkCarve *carve, const EkMatches *matches, EkSpan span,
                           Candidate *candidate)
{
    gsize count = 0;
    EkByte next = 0;
    EkReader *reader = carve->order.reader;
    g_autofree guint8 *buffer = NULL;
    const EkCarveType *type = ek_carve_types[matches->ids[0]];
    EkByte left = ek_reader_bytes(reader) - candidate->at;
    gsize there = (gsize)MIN(AHEAD, left / EK_STEP - 1);
    for (gsize i = 1; !type->repeats && i <= there && (i <= NEAR || count > 0); i++) {
        gsize wanted = (gsize)MIN((i + 1) * EK_STEP + EK_SCAN_SHOWN, left);
        if (span.length < wanted && buffer == NULL) {
            wanted = (gsize)MIN(AHEAD * EK_STEP + 2 * EK_SCAN_SHOWN, left);
            buffer = ek_reader_read_new(reader, candidate->at, wanted, NULL, NULL);
            if (buffer == NULL)
                return;
            span = (EkSpan){buffer, wanted};
        }
        if (begins_as(type, ek_span_part(span, i * EK_STEP, EK_SCAN_SHOWN)) && count++ == 0)
            next = candidate->at + i * EK_STEP;
    }
    if (count < CROWD_LEAST || count * APART < there)
        return;
    candidate->most = CROWDED_MOST;
    candidate->next = next;
}

static void look(void *data, void *gathered_data, const EkMatches *seen, EkSpan span, EkByte at)
{
    const EkCarve *carve = data;
    Gathered *gathered = gathered_data;
    Candidate candidate = {.at = at};
    EkMatches matches = those_that_begin(seen, ek_span_part(span, 0, EK_SCAN_SHOWN));
    if (matches.count == 0)
        return;
    gboolean waits =
        !carve->order.nested && (at < gathered->held || ek_claims_hold(carve->claims, at) ||
                                 is_of_same(&gathered->tail, &matches, at));
    if (!carve->order.nested)
        look_for_crowd(carve, &matches, span, &candidate);
    gathered->at = at;
    ek_content_set_near(gathered->content, at, span);
    ek_claims_begin(carve->claims, at, gathered->content);
    EkFound *found = waits ? NULL : follow(carve, gathered->content, &matches, at, candidate.most);
    EkByte held = found != NULL && found->places->len == 1 ? ek_found_held(found) : 0;
    gboolean claims = held > 0 && found->followed.end == EK_FOLLOW_ENDED;
    ek_claims_end(carve->claims, gathered->content, claims ? at + held : 0);
    ek_content_set_near(gathered->content, 0, (EkSpan){NULL, 0});
    if (waits || ek_content_is_shut(gathered->content)) {
        ek_found_free(found);
        found = NULL;
    } else if (found == NULL) {
        return;
    }
    if (found != NULL && held > 0)
        gathered->held = MAX(gathered->held, ek_found_first(found) + held);
    if (found != NULL && ek_found_hides(found) == EK_HIDES_SAME)
        gathered->tail = (EkLoose){{at, found->bytes}, found->type, EK_HIDES_SAME};
    candidate.matches = copy_matches(&matches);
    candidate.found = found;
    g_array_append_val(gathered->candidates, candidate);
}

static void glance(void *data, void *gathered_data, EkSpan span, EkByte at)
{
    (void)data;
    ek_lists_look(span, at, ((Gathered *)gathered_data)->listed);
}

/* Those too in what a file holds: it may hold too much. */
static gboolean commit_lists(EkCarve *carve, const GArray *listed, GError **error)
{
    for (guint i = 0; i < listed->len; i++) {
        EkListed one = g_array_index(listed, EkListed, i);
        if (ek_lists_add(carve->lists, one) && carve->sink.listed != NULL &&
            !carve->sink.listed(carve->sink.data, one, error))
            return FALSE;
    }
    return TRUE;
}

/* Bytes that are surely its own: not those that only a length bounds. */
static EkByte sure_bytes(const EkFollowed *followed)
{
    return followed->end == EK_FOLLOW_ENDED && followed->proof == EK_PROOF_LENGTH ? 0
                                                                                  : followed->sure;
}

/* Does the next one of a crowd begin in what this one claims, without a proof, or right where it
 * breaks? Small files lie close together too, and end before the next one begins. */
static gboolean is_crowded(const Candidate *candidate)
{
    const EkFound *found = candidate->found;
    EkByte near = found->followed.end == EK_FOLLOW_BROKE ? EK_STEP - 1 : 0;
    return candidate->next > 0 && found->state != EK_CONTENT_WHOLE &&
           sure_bytes(&found->followed) < SURE_LEAST &&
           ek_found_first(found) + found->bytes + near >= candidate->next;
}

static gboolean commit(void *data, void *gathered_data, EkRange chunk, GError **error)
{
    EkCarve *carve = data;
    Gathered *gathered = gathered_data;
    gboolean tells_all = carve->order.nested;
    guint64 crowded = 0;
    for (guint i = 0; i < gathered->candidates->len; i++) {
        Candidate *candidate = &g_array_index(gathered->candidates, Candidate, i);
        if (!tells_all && (ek_carving_is_held(carve, candidate->at) || is_hidden(carve, candidate)))
            continue;
        /* What waited, and is in no file now. */
        if (candidate->found == NULL)
            candidate->found =
                follow(carve, carve->content, candidate->matches, candidate->at, candidate->most);
        /* What ends early because it was asked to end is no file. */
        if (g_atomic_int_get(carve->cancel) != 0) {
            ek_claims_pass(carve->claims, G_MAXUINT64);
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        }
        if (candidate->found == NULL ||
            (!tells_all && (is_hidden(carve, candidate) || is_in_document(carve, candidate->at))))
            continue;
        if (is_crowded(candidate)) {
            crowded++;
            continue;
        }
        ek_carve_pass(carve, (EkRange){candidate->at, candidate->found->bytes},
                      candidate->found->type->name, ek_found_hides(candidate->found));
        if (!carve->sink.found(carve->sink.data, candidate->found, error)) {
            ek_claims_pass(carve->claims, G_MAXUINT64);
            return FALSE;
        }
        ek_carving_hold(carve, candidate->found);
    }
    ek_claims_pass(carve->claims, ek_range_end(chunk));
    return commit_lists(carve, gathered->listed, error) &&
           carve->sink.searched(carve->sink.data, chunk, crowded, error);
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
    carve->held = g_array_new(FALSE, FALSE, sizeof(EkRange));
    carve->scan = ek_scan_new(order->reader, order->threads, cancel);
    carve->claims = ek_claims_new();
    carve->loose = g_array_new(FALSE, FALSE, sizeof(EkLoose));
    carve->content = ek_content_new(order->reader);
    ek_content_set_types(carve->content, ek_carve_types);
    ek_content_watch(carve->content, cancel);
    carve->lists = ek_lists_new();
    EkScanVisitor visitor = {carve, begin_chunk, look, glance, commit, discard_chunk, enter};
    ek_scan_add(carve->scan, &visitor);
    return carve;
}

void ek_carve_free(EkCarve *carve)
{
    ek_scan_free(carve->scan);
    ek_claims_free(carve->claims);
    ek_lists_free(carve->lists);
    g_array_unref(carve->loose);
    ek_content_free(carve->content);
    g_array_unref(carve->held);
    g_free(carve);
}

void ek_carve_pass(EkCarve *carve, EkRange range, const char *type, EkHides hides)
{
    EkLoose loose = {range, ek_carve_type_named(type), hides};
    if (loose.type != NULL && hides != EK_HIDES_NOTHING && range.bytes > 0)
        g_array_append_val(carve->loose, loose);
}

void ek_carve_list(EkCarve *carve, EkListed listed)
{
    ek_lists_add(carve->lists, listed);
}

gboolean ek_carve_settle(EkCarve *carve, const GArray *firsts)
{
    ek_lists_settle(carve->lists, firsts);
    return ek_lists_blocks(carve->lists)->len > 0;
}

gboolean ek_carve_scan(EkCarve *carve, const GArray *ranges, GError **error)
{
    carve->begun = 0;
    ek_claims_pass(carve->claims, 0);
    return ek_scan_run(carve->scan, ranges, error);
}

EkScanProgress ek_carve_progress(EkCarve *carve)
{
    return ek_scan_progress(carve->scan);
}
