/* SPDX-License-Identifier: MIT */
/* Is a file right, whose beginning and length are known? The types that are searched for by content
 * follow it to its end. */
#ifndef EK_CARVE_VERIFY_H
#define EK_CARVE_VERIFY_H

#include "carve/parts.h"

/* `reader` has the bytes of the file, and no others. Ends soon after *cancel (atomic) is not 0,
 * with EK_VERIFIED_NOT. */
EkVerification ek_verify(EkReader *reader, const gint *cancel);

#endif
