/* SPDX-License-Identifier: MIT */
/* What large files that are being followed may hold. */
#include "carve/claims.h"

#define LARGE (4u << 20)
#define PATIENCE (20 * G_TIME_SPAN_MILLISECOND) /* between two looks */
#define LOOKS_MOST 250u

typedef struct {
    EkRange range;            /* what it is known to hold */
    const EkContent *content; /* in which it is followed; NULL: no more */
} Claim;

struct EkClaims {
    GMutex lock;
    GCond moved;
    EkByte passed;
    GArray *list; /* Claim: those that are followed, and large ones that ended */
};

EkClaims *ek_claims_new(void)
{
    EkClaims *claims = g_new0(EkClaims, 1);
    g_mutex_init(&claims->lock);
    g_cond_init(&claims->moved);
    claims->list = g_array_new(FALSE, FALSE, sizeof(Claim));
    return claims;
}

void ek_claims_free(EkClaims *claims)
{
    g_mutex_clear(&claims->lock);
    g_cond_clear(&claims->moved);
    g_array_unref(claims->list);
    g_free(claims);
}

void ek_claims_begin(EkClaims *claims, EkByte first, const EkContent *content)
{
    Claim claim = {{first, 0}, content};
    g_mutex_lock(&claims->lock);
    g_array_append_val(claims->list, claim);
    g_mutex_unlock(&claims->lock);
}

void ek_claims_end(EkClaims *claims, const EkContent *content, EkByte end)
{
    g_mutex_lock(&claims->lock);
    for (guint i = claims->list->len; i > 0; i--) {
        Claim *claim = &g_array_index(claims->list, Claim, i - 1);
        if (claim->content != content)
            continue;
        claim->content = NULL;
        claim->range.bytes = end - MIN(end, claim->range.first);
        if (claim->range.bytes < LARGE)
            g_array_remove_index_fast(claims->list, i - 1);
    }
    g_mutex_unlock(&claims->lock);
}

static gboolean hold(const EkClaims *claims, EkByte at)
{
    for (guint i = 0; i < claims->list->len; i++) {
        const Claim *claim = &g_array_index(claims->list, Claim, i);
        if (claim->content != NULL
                ? claim->range.first < at && ek_content_reached(claim->content) >= LARGE
                : ek_range_holds(claim->range, at))
            return TRUE;
    }
    return FALSE;
}

gboolean ek_claims_hold(EkClaims *claims, EkByte at)
{
    g_mutex_lock(&claims->lock);
    gboolean holds = hold(claims, at);
    g_mutex_unlock(&claims->lock);
    return holds;
}

gboolean ek_claims_wait(EkClaims *claims, EkByte from, EkByte at, const gint *cancel)
{
    gboolean holds;
    g_mutex_lock(&claims->lock);
    for (guint i = 0; holds = hold(claims, at),
               !holds && claims->passed < from && i < LOOKS_MOST && g_atomic_int_get(cancel) == 0;
         i++)
        g_cond_wait_until(&claims->moved, &claims->lock, g_get_monotonic_time() + PATIENCE);
    g_mutex_unlock(&claims->lock);
    return !holds;
}

void ek_claims_pass(EkClaims *claims, EkByte at)
{
    g_mutex_lock(&claims->lock);
    for (guint i = claims->list->len; i > 0; i--) {
        const Claim *claim = &g_array_index(claims->list, Claim, i - 1);
        if (claim->content == NULL && ek_range_end(claim->range) <= at)
            g_array_remove_index_fast(claims->list, i - 1);
    }
    claims->passed = at;
    g_cond_broadcast(&claims->moved);
    g_mutex_unlock(&claims->lock);
}
