/* SPDX-License-Identifier: MIT */
/* What following a file comes to. */
#include "carve/carving.h"
#include "carve/followed.h"

const char *ek_content_state_name(EkContentState state)
{
    static const char *const names[] = {"whole", "cut", "doubtful"};
    return names[MIN(state, EK_CONTENT_DOUBTFUL)];
}

void ek_found_free(EkFound *found)
{
    if (found == NULL)
        return;
    g_clear_pointer(&found->places, g_array_unref);
    g_free(found->why);
    g_free(found);
}

/* --- what it comes to ----------------------------------------------------------------------- */

static EkContentState state_of(const EkCarveType *type, const EkFollowed *followed,
                               gboolean has_hole, gboolean in_pieces, gboolean is_told)
{
    if (has_hole || (followed->end == EK_FOLLOW_BROKE && !followed->may_end))
        return EK_CONTENT_CUT;
    /* Tables say where everything is, and not that it is still there. */
    gboolean is_covered = followed->proof >= EK_PROOF_DECODED ||
                          ((!in_pieces || is_told) && !ek_may_hide(0, followed->length));
    /* Two films may go on from one to the other, at the same time of each; and what tells where it
     * lies may be left from another file. */
    if (in_pieces && type->by_landmark && followed->proof < EK_PROOF_FULL)
        is_covered = FALSE;
    if (followed->proof == EK_PROOF_LENGTH || followed->is_doubtful || followed->is_tail ||
        followed->has_next || followed->may_end || !is_covered)
        return EK_CONTENT_DOUBTFUL;
    return EK_CONTENT_WHOLE;
}

static char *why_of(const EkFollowed *followed, EkContentState state, EkByte hole, guint pieces)
{
    if (state == EK_CONTENT_CUT && hole < followed->length)
        return g_strdup_printf("not read from byte %" G_GUINT64_FORMAT " on%s%s", hole,
                               followed->end == EK_FOLLOW_BROKE ? ", and then: " : "",
                               followed->end == EK_FOLLOW_BROKE ? followed->why : "");
    if (state == EK_CONTENT_CUT)
        return g_strdup_printf("%s at byte %" G_GUINT64_FORMAT, followed->why, followed->length);
    if (followed->has_next)
        return g_strdup_printf("%s; another one begins right behind it and may be part of it",
                               followed->why);
    if (pieces > 1)
        return g_strdup_printf("%s; joined from %u pieces", followed->why, pieces);
    return g_strdup(followed->why);
}

/* What lies right before it may be of it too: then its beginning is missing. */
static gboolean is_rest(const EkContent *content, const EkCarveType *type)
{
    guint8 before[EK_CARVE_BEFORE];
    if (type->is_rest == NULL)
        return FALSE;
    gsize length = ek_content_before(content, before, sizeof before);
    return length > 0 && type->is_rest((EkSpan){before, length});
}

/* Files end where their ground ends: what is behind is another's. */
EkFound *ek_carving_follow(EkContent *content, const EkCarveType *type, gboolean is_told)
{
    EkFollowed followed = {0};
    type->follow(content, &followed);
    if (followed.end == EK_FOLLOW_NOTHING || followed.length == 0)
        return NULL;
    followed.length = MIN(followed.length, ek_content_bytes(content));
    followed.is_tail = followed.is_tail || is_rest(content, type);
    EkFound *found = g_new0(EkFound, 1);
    found->type = type;
    found->places = g_array_new(FALSE, FALSE, sizeof(EkRange));
    found->bytes = followed.length;
    ek_content_places(content, found->bytes, found->places);
    gboolean has_hole = ek_content_has_hole(content, 0, found->bytes);
    found->is_told = is_told;
    found->state = state_of(type, &followed, has_hole, found->places->len > 1, is_told);
    found->why = why_of(&followed, found->state, has_hole ? ek_content_hole(content) : G_MAXUINT64,
                        found->places->len);
    found->followed = followed;
    return found;
}

EkByte ek_found_first(const EkFound *found)
{
    return g_array_index(found->places, EkRange, 0).first;
}

EkHides ek_found_hides(const EkFound *found)
{
    const EkFollowed *followed = &found->followed;
    if (followed->is_tail)
        return EK_HIDES_SAME;
    /* It goes on to where it may end; or another file begins there. */
    if (followed->sure < followed->length &&
        (followed->may_end || followed->end == EK_FOLLOW_ENDED))
        return EK_HIDES_PLAIN;
    if (found->state != EK_CONTENT_DOUBTFUL || ek_found_held(found) > 0 || found->type->is_disk)
        return EK_HIDES_NOTHING;
    /* A length alone may be anything. */
    return followed->proof >= EK_PROOF_TABLES ? EK_HIDES_WEAK : EK_HIDES_PLAIN;
}

EkByte ek_found_held(const EkFound *found)
{
    if (found->followed.end == EK_FOLLOW_BROKE)
        return found->followed.sure;
    if ((found->type->is_solid || found->type->is_disk) && found->state == EK_CONTENT_DOUBTFUL)
        return 0;
    /* What was joined on a guess does not keep others from their ground. */
    if (found->state == EK_CONTENT_DOUBTFUL && found->places->len > 1 && !found->is_told)
        return MIN(found->bytes, g_array_index(found->places, EkRange, 0).bytes);
    return found->followed.proof == EK_PROOF_LENGTH ? 0 : MIN(found->bytes, found->followed.sure);
}

void ek_carving_hold(EkCarve *carve, const EkFound *found)
{
    EkByte held = ek_found_held(found);
    for (guint i = 0; i < found->places->len && held > 0; i++) {
        EkRange place = g_array_index(found->places, EkRange, i);
        place.bytes = MIN(place.bytes, held);
        held -= place.bytes;
        ek_carve_hold(carve, place);
    }
}
