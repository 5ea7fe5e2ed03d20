/* SPDX-License-Identifier: MIT */
/* Disk images of the catalogue and the volumes that lie in them. */
#include "work/diskimages.h"

#include "carve/followed.h"
#include "carve/types.h"

#define NAMED_MOST 2u
#define CONFIDENCE 30 /* that a volume needs to be named */

static gboolean note(void *data, const EkContentEntry *entry)
{
    GArray *numbers = data;
    const EkCarveType *type = ek_carve_type_named(entry->type);
    if (type != NULL && type->is_disk)
        g_array_append_val(numbers, entry->number);
    return TRUE;
}

static gboolean holds(const GArray *pieces, EkByte at)
{
    for (guint i = 0; i < pieces->len; i++)
        if (ek_range_holds(g_array_index(pieces, EkRange, i), at))
            return TRUE;
    return FALSE;
}

static gboolean is_in(const EkCaseVolume *entry, const GArray *pieces)
{
    const EkVolume *volume = entry->volume;
    return entry->standing != EK_STANDING_REMAINS && !volume->is_container &&
           volume->confidence >= CONFIDENCE && holds(pieces, ek_volume_range(volume).first);
}

/* Fills in its words; FALSE: no volume lies in these pieces. */
static gboolean find_words(const GPtrArray *volumes, const GArray *pieces, EkFollowed *named)
{
    g_autoptr(GString) words = g_string_new(NULL);
    guint count = 0;
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (!is_in(entry, pieces) || ++count > NAMED_MOST)
            continue;
        g_string_append_printf(words, "%s%s", count > 1 ? ", " : "", entry->volume->filesystem);
        if (entry->volume->label != NULL && *entry->volume->label != '\0')
            g_string_append_printf(words, " %s", entry->volume->label);
    }
    if (count > NAMED_MOST)
        g_string_append_printf(words, " and %u more", count - NAMED_MOST);
    /* Labels are of the drive: what a name must not hold is left out. */
    ek_followed_words(named, (EkSpan){(const guint8 *)words->str, words->len});
    return count > 0;
}

gboolean ek_disk_images_name(EkContentStore *store, const GPtrArray *volumes, GError **error)
{
    g_autoptr(GArray) numbers = g_array_new(FALSE, FALSE, sizeof(guint64));
    if (!ek_contentstore_each(store, note, numbers, error))
        return FALSE;
    for (guint i = 0; i < numbers->len; i++) {
        guint64 number = g_array_index(numbers, guint64, i);
        g_autoptr(GArray) pieces = ek_contentstore_pieces(store, number, error);
        if (pieces == NULL)
            return FALSE;
        EkFollowed named = {0};
        if (find_words(volumes, pieces, &named) &&
            !ek_contentstore_set_words(store, number, named.words, error))
            return FALSE;
    }
    return ek_contentstore_flush(store, error);
}
