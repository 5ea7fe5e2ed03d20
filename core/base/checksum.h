/* SPDX-License-Identifier: MIT */
/* The checksums that on-disk formats use. */
#ifndef EK_BASE_CHECKSUM_H
#define EK_BASE_CHECKSUM_H

#include "base/bytes.h"

/* CRC-32 as in IEEE 802.3: GPT, APM drivers and others. */
guint32 ek_crc32(EkSpan span);

/* The same sum continued from `seed`, inverted neither at the beginning nor at the end: F2FS. */
guint32 ek_crc32_from(guint32 seed, EkSpan span);

/* CRC-32 with the bits in the other order (polynomial 04c11db7, the highest first), continued from
 * `seed`: the journal of ext3. */
guint32 ek_crc32_forward(guint32 seed, EkSpan span);

/* CRC-32C (Castagnoli), continued from `seed`, neither inverted at the beginning nor at the end:
 * ext4, XFS and Btrfs differ in that. */
guint32 ek_crc32c(guint32 seed, EkSpan span);

/* ek_crc32c run backwards: the seed from which these bytes lead to `sum`. */
guint32 ek_crc32c_before(guint32 sum, EkSpan span);

/* CRC-64 of ECMA-182, the bits reversed, continued from `seed`, inverted at both ends: xz. 0 to
 * begin with. */
guint64 ek_crc64(guint64 seed, EkSpan span);

/* CRC-16 with the reversed polynomial a001, continued from `seed`: descriptors of ext4. */
guint16 ek_crc16_from(guint16 seed, EkSpan span);

/* CRC-16 of ECMA-167 descriptors (polynomial 1021, from 0). */
guint16 ek_crc16(EkSpan span);

#endif
