/* SPDX-License-Identifier: MIT */
#include "files/files.h"
#include "harness.h"
#include "volume/fat/fat.h"
#include "volume/formats.h"

#include <stdlib.h>
#include <string.h>

#define MOST_ENTRIES 2000u /* so that one input does not take seconds */

typedef struct {
    EkFiles *files;
    guint entries;
} Walk;

static gboolean take_entry(void *data, const char *path, const EkEntry *entry)
{
    Walk *walk = data;
    EkDamage damage;
    if (!g_utf8_validate(path, -1, NULL) || strchr(entry->name, '/') != NULL)
        abort();
    if (entry->size < 1u << 20 && ek_files_assess(walk->files, entry, &damage, NULL)) {
        EkByte last = 0;
        for (guint i = 0; i < damage.holes->len; i++) {
            const EkHole *hole = &g_array_index(damage.holes, EkHole, i);
            if (hole->offset < last || hole->offset + hole->bytes > entry->size)
                abort();
            last = hole->offset + hole->bytes;
        }
        ek_damage_clear(&damage);
    }
    return ++walk->entries < MOST_ENTRIES;
}

static void walk_volume(FuzzImage *fuzz, const EkVolume *volume)
{
    EkFiles files = {0};
    EkFolderDamage damage;
    guint cut = 0;
    if (!ek_files_open(&files, fuzz->gate, volume, NULL))
        return;
    Walk walk = {&files, 0};
    g_autoptr(EkEntry) root = files.format->root(files.opened);
    ek_files_walk(&files, "", root, TRUE, take_entry, &walk, &damage, &cut, NULL);
    ek_files_close(&files);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzImage fuzz;
    EkClaim claims[EK_CLAIMS_MOST];
    g_ptr_array_unref(ek_fat_boot_explain((EkSpan){data, size}));
    guint count = ek_fs_fat.recognise((EkSpan){data, size}, 0, claims);
    if (count == 0 || !fuzz_image_open(&fuzz, data, size))
        return 0;
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume = ek_fs_fat.measure(fuzz.gate, &claims[i], NULL);
        if (volume == NULL || volume->confidence < 0 || volume->confidence > 100)
            abort();
        walk_volume(&fuzz, volume);
    }
    fuzz_image_close(&fuzz);
    return 0;
}
