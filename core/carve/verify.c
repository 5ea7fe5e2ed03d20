/* SPDX-License-Identifier: MIT */
/* Following one file whose bytes are known. */
#include "carve/verify.h"

#include "carve/types.h"
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
    EkVerification found = {.type = type, .at = followed.length, .why = followed.why};
    if (followed.is_wrong)
        found.at = followed.broken.first;
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
EkVerification ek_verify(EkReader *reader, const gint *cancel)
{
    EkVerification best = {0};
    EkByte bytes = ek_reader_bytes(reader);
    g_autoptr(EkContent) content = ek_content_new(reader);
    ek_content_watch(content, cancel);
    for (guint i = 0; ek_carve_types[i] != NULL && best.verified != EK_VERIFIED_RIGHT; i++) {
        const EkCarveType *type = ek_carve_types[i];
        EkRange all = {0, bytes};
        ek_content_lay(content, &all, 1);
        if (type->is_plain || bytes <= type->before || !begins_as(type, content))
            continue;
        ek_content_lay(content, &all, 1);
        EkVerification found = follow(type, content, bytes);
        if (found.verified == EK_VERIFIED_RIGHT || (best.type == NULL && found.type != NULL))
            best = found;
    }
    if (cancel != NULL && g_atomic_int_get(cancel) != 0)
        best = (EkVerification){0};
    return best;
}
