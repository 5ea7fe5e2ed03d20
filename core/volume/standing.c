/* SPDX-License-Identifier: MIT */
/* What a volume is to the current partition table. */
#include "volume/standing.h"

static const char *const names[EK_STANDINGS] = {
    [EK_STANDING_LISTED] = "listed",       [EK_STANDING_LOST] = "lost",
    [EK_STANDING_DISPLACED] = "displaced", [EK_STANDING_TABLELESS] = "tableless",
    [EK_STANDING_REMAINS] = "remains",     [EK_STANDING_NESTED] = "nested",
};

const char *ek_standing_name(EkStanding standing)
{
    return names[standing];
}

gboolean ek_standing_from_name(const char *name, EkStanding *standing)
{
    for (guint i = 0; i < EK_STANDINGS; i++)
        if (g_strcmp0(names[i], name) == 0) {
            *standing = (EkStanding)i;
            return TRUE;
        }
    return FALSE;
}

gboolean ek_standing_is_on_top(EkStanding standing)
{
    return standing != EK_STANDING_REMAINS && standing != EK_STANDING_NESTED;
}
