/* SPDX-License-Identifier: MIT */
/* SHA-256 (FIPS 180-4) and the sums that guard an image's blocks. */
#include "base/digest.h"

#include "base/bytes.h"
#include "base/text.h"

#include <openssl/evp.h>
#include <string.h>
#include <xxhash.h>

struct EkSha256 {
    EVP_MD_CTX *context;
};

EkSha256 *ek_sha256_new(void)
{
    EkSha256 *digest = g_new0(EkSha256, 1);
    digest->context = EVP_MD_CTX_new();
    /* Only a broken installation of the library refuses these calls; there is nothing to go on
     * with. */
    if (digest->context == NULL || EVP_DigestInit_ex(digest->context, EVP_sha256(), NULL) != 1)
        g_error("SHA-256 is not available");
    return digest;
}

void ek_sha256_free(EkSha256 *digest)
{
    EVP_MD_CTX_free(digest->context);
    g_free(digest);
}

void ek_sha256_update(EkSha256 *digest, const void *data, gsize length)
{
    if (EVP_DigestUpdate(digest->context, data, length) != 1)
        g_error("SHA-256 failed");
}

void ek_sha256_finish(EkSha256 *digest, guint8 result[EK_SHA256_BYTES])
{
    unsigned length = 0;
    if (EVP_DigestFinal_ex(digest->context, result, &length) != 1 || length != EK_SHA256_BYTES)
        g_error("SHA-256 failed");
}

char *ek_sha256_finish_hex(EkSha256 *digest)
{
    guint8 result[EK_SHA256_BYTES];
    ek_sha256_finish(digest, result);
    return ek_text_hex(result, sizeof result, '\0');
}

void ek_sha256_of(const void *data, gsize length, guint8 result[EK_SHA256_BYTES])
{
    g_autoptr(EkSha256) digest = ek_sha256_new();
    ek_sha256_update(digest, data, length);
    ek_sha256_finish(digest, result);
}

EkFill ek_fill_of(const guint8 *sector, gsize length)
{
    guint64 word = 0;
    if (length < 2 * sizeof word)
        return EK_FILL_NONE;
    memcpy(&word, sector, sizeof word);
    if (memcmp(sector, sector + sizeof word, length - sizeof word) != 0)
        return EK_FILL_NONE;
    if (word == 0)
        return EK_FILL_ZEROS;
    return word == G_MAXUINT64 ? EK_FILL_ONES : EK_FILL_PATTERN;
}

guint64 ek_block_sum_and_fill(EkSector first, guint32 sector_size, const guint8 *data, gsize length,
                              EkSector fill[EK_FILLS])
{
    guint64 sum = 0;
    for (gsize at = 0; at < length; at += sector_size, first++) {
        gsize bytes = MIN(sector_size, length - at);
        EkFill kind = ek_fill_of(data + at, bytes);
        fill[kind]++;
        if (kind == EK_FILL_ZEROS || (kind == EK_FILL_NONE && ek_bytes_are_zero(data + at, bytes)))
            continue;
        sum += XXH3_64bits_withSeed(data + at, bytes, first);
    }
    return sum;
}

guint64 ek_block_sum(EkSector first, guint32 sector_size, const guint8 *data, gsize length)
{
    EkSector fill[EK_FILLS] = {0};
    return ek_block_sum_and_fill(first, sector_size, data, length, fill);
}
