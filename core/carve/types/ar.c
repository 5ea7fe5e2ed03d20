/* SPDX-License-Identifier: MIT */
/* Archives of ar (the common format of System V and BSD): a mark, and members behind headers of
 * text. Packages of Debian are such (deb(5)): their version, and two archives, the second of which
 * is the last. */
#include "carve/followed.h"
#include "carve/parts.h"
#include "carve/types/all.h"

#include <string.h>

#define MARK 8u
#define HEADER 60u
#define MEMBERS_MOST 1000000u
#define PARTS_MOST 64u /* of a package */
#define VERSION "debian-binary"
#define DATA "data.tar"
#define LONG 512u /* what is no longer lies in one block, mostly */

static const EkSignature signatures[] = {{0, 8, {'!', '<', 'a', 'r', 'c', 'h', '>', '\n'}, {0}}};

/* How far it is followed. */
typedef struct {
    EkByte at;
    EkByte sure;
    guint32 members;
    EkProof proof; /* of the weakest member */
    gboolean is_package;
    gboolean is_last; /* the member before is the last one of a package */
    EkRange wrong; /* a member that is not right, with the next header behind it; 0 bytes: none */
} Place;

/* A field of digits, filled up with blanks. */
static gboolean number_of(EkSpan header, gsize at, gsize length, guint64 *value)
{
    gsize digits = 0;
    *value = 0;
    while (digits < length && g_ascii_isdigit(ek_span_u8(header, at + digits)))
        *value = *value * 10 + (guint64)(ek_span_u8(header, at + digits++) - '0');
    for (gsize i = digits; i < length; i++)
        if (ek_span_u8(header, at + i) != ' ')
            return FALSE;
    return digits > 0;
}

/* `size`: bytes of the member. */
static gboolean is_header(EkSpan header, guint64 *size)
{
    return header.length >= HEADER && ek_span_equals(header, 58, "`\n", 2) &&
           number_of(header, 48, 10, size);
}

static gboolean begin(EkSpan span)
{
    guint64 size = 0;
    return is_header(ek_span_part(span, MARK, HEADER), &size);
}

static gboolean starts(EkSpan header, const char *name)
{
    return ek_span_equals(header, 0, name, strlen(name));
}

/* What a package calls packed begins as something that is. */
static gboolean says_packed(EkSpan header)
{
    static const char *const endings[] = {".gz", ".xz", ".zst", ".bz2"};
    gsize length = 0;
    while (length < 16 && ek_span_u8(header, length) != ' ' && ek_span_u8(header, length) != '/')
        length++;
    for (gsize i = 0; i < G_N_ELEMENTS(endings); i++) {
        gsize own = strlen(endings[i]);
        if (length > own && ek_span_equals(header, length - own, endings[i], own))
            return TRUE;
    }
    return FALSE;
}

/* As a file of its own, where it is of a package or longer than a block; what is wrong in it was so
 * when it was packed where the next header stands right behind it. */
static gboolean take_member(EkContent *content, EkFollowed *followed, Place *place, EkSpan header,
                            EkByte size)
{
    EkByte first = place->at + HEADER;
    EkByte next = first + size;
    EkByte there = ek_content_bytes(content);
    gboolean is_version = place->members == 0 && starts(header, VERSION);
    gboolean is_data = place->is_package && starts(header, DATA);
    gboolean is_there = next <= there && ek_content_at(content, next - 1, 1).length == 1;
    guint64 size_behind = 0;
    EkVerification member = {0};
    if ((size > LONG || place->is_package) && first < there)
        member = ek_parts_verify_one(content, first, MIN(size, there - first));
    gboolean is_wrong = member.verified == EK_VERIFIED_WRONG ||
                        (place->is_package && member.type == NULL && says_packed(header));
    gboolean goes_on =
        is_there &&
        (!is_wrong || is_header(ek_content_some(content, next + next % 2, HEADER), &size_behind));
    if (!goes_on && is_wrong)
        ek_parts_break(followed, &member, first, MARK, "a member of it breaks");
    else if (!goes_on)
        ek_followed_break(followed, first, place->at, MARK, EK_GROUND_ENDS);
    if (!goes_on)
        return FALSE;
    if (is_wrong)
        place->wrong = (EkRange){first, size};
    gboolean is_right = is_version || (member.verified == EK_VERIFIED_RIGHT && member.at == size);
    EkProof proof = is_version ? EK_PROOF_FULL : is_right ? member.followed.proof : EK_PROOF_LENGTH;
    place->sure = size <= LONG || is_right ? next : first;
    place->proof = MIN(place->proof, proof);
    place->is_package = place->is_package || is_version;
    place->is_last = is_data;
    place->members++;
    place->at = next + next % 2;
    return TRUE;
}

/* Where no header stands it ends; that it is all of it the last member of a package tells. */
static void end(EkContent *content, EkFollowed *followed, const Place *place)
{
    EkByte length = MIN(place->at, ek_content_bytes(content));
    gboolean is_told = place->is_package && place->is_last;
    if (place->is_package && !is_told) {
        ek_followed_break(followed, MIN(place->sure, length), length, MARK,
                          "a package without its last member");
        return;
    }
    followed->is_doubtful = !is_told || place->proof < EK_PROOF_DECODED;
    if (!place->is_package)
        ek_followed_ending(followed, "a");
    ek_followed_end(followed, length, MAX(place->proof, EK_PROOF_TABLES),
                    is_told && place->proof >= EK_PROOF_DECODED
                        ? "each member, unpacked, to the last one of a package"
                    : is_told ? "each header, to the last member of a package"
                              : "its headers; whether the last member is the end is not known");
    followed->is_wrong = place->wrong.bytes > 0;
    followed->broken = (EkBroken){.first = place->wrong.first, .bytes = place->wrong.bytes};
    followed->sure = place->sure >= length - length % 2 ? length : place->sure;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Place place = {.at = MARK, .proof = EK_PROOF_FULL};
    ek_content_kept(content, &place, sizeof place);
    while (place.members < (place.is_package ? PARTS_MOST : MEMBERS_MOST) && !place.is_last) {
        guint8 bytes[HEADER];
        guint64 size = 0;
        guint64 date = 0;
        EkSpan header = ek_content_some(content, place.at, HEADER);
        if (!is_header(header, &size) || size > G_MAXINT64 / 4)
            break;
        /* What is shown holds until the next call only. */
        memcpy(bytes, header.data, HEADER);
        header = (EkSpan){bytes, HEADER};
        if (number_of(header, 16, 12, &date))
            ek_followed_date(followed, ek_timestamp_utc((gint64)MIN(date, G_MAXINT32)));
        if (!take_member(content, followed, &place, header, size))
            return;
        ek_content_keep(content, place.at, &place, sizeof place, TRUE);
    }
    if (place.members > 0)
        end(content, followed, &place);
}

const EkCarveType ek_carve_ar = {
    .name = "deb",
    .ending = "deb",
    .kind = EK_KIND_PROGRAM,
    .checks = "each header, and the members; the last one of a package of Debian",
    .names = "the date of the first member",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
