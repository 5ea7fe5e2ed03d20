/* SPDX-License-Identifier: MIT */
/* Following a file whose bytes are known, by itself or in another one. */
#include "carve/parts.h"

#include "carve/followed.h"
#include "scan/scan.h"

#include <string.h>

#define STEP 512u

/* Text is right as long as people can read it, and archives of blocks are written by many hands:
 * what breaks in them says nothing. */
static gboolean may_be_wrong(const EkCarveType *type)
{
    static const char *const lenient[] = {"html", "xml", "rtf", "mail", "vcard", "text", "tar"};
    for (gsize i = 0; i < G_N_ELEMENTS(lenient); i++)
        if (g_str_equal(type->name, lenient[i]))
            return FALSE;
    return TRUE;
}

/* What is packed may be anything, whatever its tables say: it must be unpacked. Elsewhere complete
 * tables are what programs open it by. */
static EkProof least_proof(const EkCarveType *type)
{
    return type->kind == EK_KIND_ARCHIVE ? EK_PROOF_DECODED : EK_PROOF_TABLES;
}

/* Does it begin as this type does? */
static gboolean begins_as(const EkCarveType *type, EkContent *content)
{
    guint8 step[STEP] = {0};
    EkSpan span = ek_content_some(content, type->before, EK_SCAN_SHOWN);
    gboolean stands = FALSE;
    if (span.length == 0)
        return FALSE;
    memcpy(step, span.data, MIN(span.length, STEP));
    for (guint i = 0; i < type->signature_count && !stands; i++)
        stands = type->signatures[i].offset + type->signatures[i].length <= span.length &&
                 ek_signature_stands(&type->signatures[i], step);
    return stands && (type->begin == NULL || type->begin(span));
}

/* What goes on to an end that nothing tells goes on to that of the file. */
static gboolean is_broken(const EkCarveType *type, const EkFollowed *followed, EkByte bytes)
{
    gboolean is_endless = followed->may_end || type->is_rest != NULL;
    return followed->is_wrong || (followed->end == EK_FOLLOW_BROKE && !followed->may_end) ||
           (is_endless && followed->length + STEP <= bytes);
}

static EkVerification follow(const EkCarveType *type, EkContent *content, EkByte bytes)
{
    EkFollowed followed;
    memset(&followed, 0, sizeof followed);
    type->follow(content, &followed);
    EkVerification found = {.type = type,
                            .at = followed.is_wrong ? followed.broken.first : followed.length,
                            .followed = followed};
    if (followed.end == EK_FOLLOW_NOTHING)
        found.type = NULL;
    else if (is_broken(type, &followed, bytes))
        found.verified = may_be_wrong(type) ? EK_VERIFIED_WRONG : EK_VERIFIED_NOT;
    else if (followed.length <= bytes && followed.proof >= least_proof(type) &&
             !followed.is_doubtful && !followed.is_tail)
        found.verified = EK_VERIFIED_RIGHT;
    return found;
}

/* The one that is right counts, else the first that says anything. */
EkVerification ek_parts_verify(EkContent *content)
{
    const EkCarveType *const *types = ek_content_types(content);
    EkVerification best = {0};
    EkByte bytes = ek_content_bytes(content);
    g_autoptr(GArray) all = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(content, bytes, all);
    for (guint i = 0; types != NULL && types[i] != NULL && best.verified != EK_VERIFIED_RIGHT;
         i++) {
        const EkCarveType *type = types[i];
        if (type->is_plain || bytes <= type->before || !begins_as(type, content))
            continue;
        ek_content_lay(content, (const EkRange *)(gconstpointer)all->data, all->len);
        EkVerification found = follow(type, content, bytes);
        if (found.verified == EK_VERIFIED_RIGHT || (best.type == NULL && found.type != NULL))
            best = found;
    }
    return best;
}

/* --- in another one -------------------------------------------------------------------------- */

#define LONG 65536u /* what is longer is gone on with when other pieces are tried */

/* What was followed last, for the next try. */
typedef struct {
    EkByte first;
    const EkCarveType *type;
    EkContent *content;
    EkByte changed; /* of the whole: from here on other pieces lie */
} Part;

static void part_free(void *data)
{
    Part *part = data;
    ek_content_free(part->content);
    g_free(part);
}

static void part_forget(void *data, EkByte offset)
{
    Part *part = data;
    part->changed = MIN(part->changed, offset);
}

/* Lays the part as the whole is laid now. */
static void lay_again(Part *part, const EkContent *content, EkByte bytes)
{
    EkByte from = part->changed - part->first;
    from = MIN(MIN(from, ek_content_bytes(part->content)), bytes);
    g_autoptr(GArray) pieces = ek_content_pieces(content, part->first + from, bytes - from);
    ek_content_relay(part->content, from, (const EkRange *)(gconstpointer)pieces->data,
                     pieces->len);
    ek_content_set_fixed(part->content, ek_content_is_fixed(content));
    part->changed = G_MAXUINT64;
}

static void hold_part(EkContent *content, EkByte first, const EkCarveType *type, EkContent *own)
{
    Part *part = ek_content_aside(content, EK_ASIDE_PART);
    if (part != NULL)
        part_free(part);
    part = g_new0(Part, 1);
    *part = (Part){first, type, own, G_MAXUINT64};
    ek_content_set_aside(content, EK_ASIDE_PART, part, part_free, part_forget);
}

EkVerification ek_parts_verify_one(EkContent *content, EkByte offset, EkByte bytes)
{
    EkVerification found = {0};
    Part *held = ek_content_aside(content, EK_ASIDE_PART);
    if (held != NULL && held->first == offset && held->changed > offset) {
        guint64 work = ek_content_work(held->content);
        lay_again(held, content, bytes);
        found = follow(held->type, held->content, bytes);
        ek_content_charge(content, ek_content_work(held->content) - work);
        return found;
    }
    EkContent *part = ek_content_part(content, offset, bytes);
    if (part == NULL)
        return found;
    found = ek_parts_verify(part);
    ek_content_charge(content, ek_content_work(part));
    if (found.type != NULL && bytes > LONG && ek_content_remembers(content))
        hold_part(content, offset, found.type, part);
    else
        ek_content_free(part);
    return found;
}

void ek_parts_break(EkFollowed *whole, const EkVerification *part, EkByte first, EkByte least,
                    const char *why)
{
    whole->tells_late = part->type != NULL && !part->type->joins;
    if (part->type != NULL && part->followed.end == EK_FOLLOW_BROKE) {
        whole->broken = part->followed.broken;
        whole->landmark = part->followed.landmark;
        whole->broken.first += first;
        whole->landmark.at += first;
        ek_followed_break(whole, first + part->followed.sure, first + part->at, least, why);
    } else {
        ek_followed_break(whole, first, first + part->at, least, why);
    }
}
