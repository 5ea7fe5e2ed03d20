/* SPDX-License-Identifier: MIT */
/* LUKS containers: as in the LUKS On-Disk Format Specifications 1.2.3 and LUKS2 1.1.1. LUKS2 keeps
 * a second header, which says where it stands. How long such a volume is stands in neither. */
#include "volume/formats.h"
#include "volume/headers.h"

#include <openssl/evp.h>

#define HEADER_BYTES 4096u
#define SUM_OFFSET 448u
#define SUM_BYTES 64u
#define SHA256_BYTES 32u
#define JSON_MOST ((EkByte)4 << 20)

static const EkSignature signatures[] = {
    {.offset = 0, .length = 6, .bytes = {'L', 'U', 'K', 'S', 0xba, 0xbe}},
    {.offset = 0, .length = 6, .bytes = {'S', 'K', 'U', 'L', 0xba, 0xbe}},
};

static gboolean is_known_size(guint64 bytes)
{
    return ek_is_power_of_two(bytes) && bytes >= 16384 && bytes <= JSON_MOST;
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    guint16 version = ek_span_be16(span, 6);
    EkByte before = 0;
    if (span.length < EK_HEADER_BYTES)
        return 0;
    if (version == 2) {
        before = ek_span_be64(span, 256);
        if (!is_known_size(ek_span_be64(span, 8)) || before > at || before > JSON_MOST)
            return 0;
    } else if (version != 1 || ek_span_u8(span, 0) != 'L' || ek_span_be32(span, 104) == 0 ||
               ek_span_be32(span, 104) > 1u << 24 || ek_span_be32(span, 108) == 0 ||
               ek_span_be32(span, 108) > EK_STEP) {
        return 0;
    }
    candidates[0] = (EkCandidate){at - before, at, before == 0 ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
    return 1;
}

/* The sum over header and JSON area, its own field counted as zeros. Only SHA-256 is known. */
static EkPresence look_at_sum(EkReader *reader, EkByte at, EkSpan header)
{
    gsize length = (gsize)ek_span_be64(header, 8);
    g_autofree guint8 *area = g_malloc(length);
    guint8 digest[EVP_MAX_MD_SIZE];
    unsigned size = 0;
    EkPresence part = ek_presence_read(reader, at, area, length);
    if (part != EK_PRESENT)
        return part;
    memset(area + SUM_OFFSET, 0, SUM_BYTES);
    if (EVP_Digest(area, length, digest, &size, EVP_sha256(), NULL) != 1 ||
        !ek_span_equals(header, SUM_OFFSET, digest, SHA256_BYTES))
        return EK_ABSENT;
    return EK_PRESENT;
}

static gboolean weigh_second(EkReader *reader, EkVolume *volume, EkSpan header)
{
    EkByte own = ek_span_be64(header, 256);
    EkByte at = volume->first_byte + (own == 0 ? ek_span_be64(header, 8) : 0);
    guint8 other[EK_HEADER_BYTES];
    EkPresence part = ek_presence_read(reader, at, other, sizeof other);
    if (part == EK_PRESENT && (memcmp(other + 168, header.data + 168, 40) != 0 ||
                               ek_span_be16((EkSpan){other, sizeof other}, 6) != 2))
        part = EK_ABSENT;
    ek_presence_reason(volume, part, own == 0 ? "the second header" : "the first header", at, 20);
    gboolean there = part == EK_PRESENT;
    if (ek_span_equals(header, 72, "sha256", 7)) {
        part = look_at_sum(reader, volume->header_byte, header);
        ek_volume_reason(volume, part == EK_PRESENT ? 40 : 0, "its checksum %s",
                         part == EK_PRESENT  ? "fits"
                         : part == EK_UNREAD ? "could not be checked: not all was read"
                                             : "does not fit");
        there |= part != EK_ABSENT;
    }
    return there;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("luks", reader, candidate, data, sizeof data, error);
    EkCandidate again[EK_CANDIDATES_MOST];
    if (volume == NULL || recognise(span, candidate->header_byte, again) == 0)
        return g_steal_pointer(&volume);
    guint16 version = ek_span_be16(span, 6);
    volume->uuid = ek_volume_label(ek_span_part(span, 168, 40));
    volume->filesystem = version == 2 ? "luks2" : "luks1";
    volume->length_is_least = TRUE;
    volume->is_container = TRUE;
    ek_volume_reason(volume, 40, "header of version %u at sector %" G_GUINT64_FORMAT, version,
                     candidate->header_byte / EK_STEP);
    gboolean stands = TRUE;
    if (version == 2) {
        volume->label = ek_volume_label(ek_span_part(span, 24, 48));
        volume->bytes = 2 * ek_span_be64(span, 8);
        ek_volume_property_number(volume, "bytes per header", ek_span_be64(span, 8));
        stands = weigh_second(reader, volume, span);
    } else {
        g_autofree char *cipher = ek_volume_label(ek_span_part(span, 8, 32));
        g_autofree char *mode = ek_volume_label(ek_span_part(span, 40, 32));
        volume->bytes = (EkByte)ek_span_be32(span, 104) * EK_STEP;
        ek_volume_property_number(volume, "content begins at sector", ek_span_be32(span, 104));
        ek_volume_property(volume, "cipher", "%s %s", cipher != NULL ? cipher : "",
                           mode != NULL ? mode : "");
        /* Names of ciphers and a UUID in the right places are not chance. */
        stands = cipher != NULL && mode != NULL && volume->uuid != NULL;
        ek_volume_reason(volume, stands ? 40 : 0, "cipher, mode and UUID are %snamed",
                         stands ? "" : "not ");
    }
    ek_header_end(volume, stands);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_luks = {
    .name = "luks",
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};
