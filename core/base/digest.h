/* SPDX-License-Identifier: MIT */
/* SHA-256 (FIPS 180-4) and the sums that guard an image's blocks. */
#ifndef EK_BASE_DIGEST_H
#define EK_BASE_DIGEST_H

#include "base/units.h"

#define EK_SHA256_BYTES 32u

typedef struct EkSha256 EkSha256;

EkSha256 *ek_sha256_new(void);
void ek_sha256_free(EkSha256 *digest);
void ek_sha256_update(EkSha256 *digest, const void *data, gsize length);

/* Ends the digest, which then takes no more data, and writes its 32 bytes. */
void ek_sha256_finish(EkSha256 *digest, guint8 result[EK_SHA256_BYTES]);

/* As ek_sha256_finish, as 64 hex digits for the caller to g_free. */
char *ek_sha256_finish_hex(EkSha256 *digest);

/* SHA-256 of one buffer. */
void ek_sha256_of(const void *data, gsize length, guint8 result[EK_SHA256_BYTES]);

/* What a sector is filled with, when it is one thing repeated. */
typedef enum {
    EK_FILL_NONE,
    EK_FILL_ZEROS,
    EK_FILL_ONES,   /* FF throughout */
    EK_FILL_PATTERN /* eight bytes, again and again */
} EkFill;

#define EK_FILLS 4

EkFill ek_fill_of(const guint8 *sector, gsize length);

/* What the sectors at `data` add to the sum of their block: the sum, modulo 2^64, of XXH3 of each
 * sector seeded with its number; a sector of zeros adds nothing. Independent of the order in which
 * sectors are read. `length` is in bytes; the last sector may be short. Where `fill` is given the
 * sectors of each kind are added to it. */
guint64 ek_block_sum(EkSector first, guint32 sector_size, const guint8 *data, gsize length);
guint64 ek_block_sum_and_fill(EkSector first, guint32 sector_size, const guint8 *data, gsize length,
                              EkSector fill[EK_FILLS]);

G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkSha256, ek_sha256_free)

#endif
