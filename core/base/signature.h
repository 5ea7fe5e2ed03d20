/* SPDX-License-Identifier: MIT */
/* What must stand somewhere for anybody to look closer. */
#ifndef EK_BASE_SIGNATURE_H
#define EK_BASE_SIGNATURE_H

#include "base/bytes.h"

typedef struct {
    gsize offset; /* in a step of 512 bytes; the signature ends within it */
    gsize length; /* at most 8 */
    guint8 bytes[8];
    guint8 mask[8]; /* all zero: every bit counts */
} EkSignature;

/* `step` has 512 bytes. */
static inline gboolean ek_signature_stands(const EkSignature *signature, const guint8 *step)
{
    static const guint8 every_bit[8] = {0};
    gboolean masked = memcmp(signature->mask, every_bit, sizeof every_bit) != 0;
    for (gsize i = 0; i < signature->length; i++) {
        guint8 mask = masked ? signature->mask[i] : 0xff;
        if (((step[signature->offset + i] ^ signature->bytes[i]) & mask) != 0)
            return FALSE;
    }
    return TRUE;
}

#endif
