/* SPDX-License-Identifier: MIT */
/* Following one file whose bytes are known. */
#include "carve/verify.h"

#include "carve/types.h"

EkVerification ek_verify(EkReader *reader, const gint *cancel)
{
    g_autoptr(EkContent) content = ek_content_new(reader);
    EkRange all = {0, ek_reader_bytes(reader)};
    ek_content_watch(content, cancel);
    ek_content_lay(content, &all, 1);
    ek_content_set_types(content, ek_carve_types);
    EkVerification found = ek_parts_verify(content);
    if (cancel != NULL && g_atomic_int_get(cancel) != 0)
        found = (EkVerification){0};
    return found;
}
