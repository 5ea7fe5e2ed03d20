/* SPDX-License-Identifier: MIT */
/* Choosing files to show. */
#include "work/showcase.h"

#include "kind/kind.h"

#include <string.h>

#define FOLDERS_MOST 128u
#define EACH_MOST 8u           /* of a folder */
#define LEAST_BYTES 512u       /* of a picture: smaller ones are marks and bullets */
#define SMALL_BYTES 8192u      /* up to here it is often a part of a program or a page */
#define LESSER 4u              /* farther than all others */
#define MOST_BYTES (96u << 20) /* of what is decoded for one small picture */

typedef struct {
    guint distance;      /* the lower the better */
    guint turn;          /* in which it was seen */
    GPtrArray *exhibits; /* EkExhibit */
} Folder;

struct EkShowcase {
    GHashTable *folders; /* "VOLUME:path" to Folder */
    guint turns;
};

static void exhibit_free(void *data)
{
    EkExhibit *exhibit = data;
    g_free(exhibit->path);
    g_free(exhibit);
}

static void folder_free(void *data)
{
    Folder *folder = data;
    g_ptr_array_unref(folder->exhibits);
    g_free(folder);
}

EkShowcase *ek_showcase_new(void)
{
    EkShowcase *showcase = g_new0(EkShowcase, 1);
    showcase->folders = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, folder_free);
    return showcase;
}

void ek_showcase_free(EkShowcase *showcase)
{
    g_hash_table_unref(showcase->folders);
    g_free(showcase);
}

/* Folders by the names that systems give them, whatever they show instead. */
static const char *const near_names[] = {"pictures", "photos",  "photo",     "images", "camera",
                                         "dcim",     "desktop", "documents", "videos", "movies"};
static const char *const far_names[] = {"windows",
                                        "program files",
                                        "program files (x86)",
                                        "programdata",
                                        "appdata",
                                        "applications",
                                        "library",
                                        "system32",
                                        "node_modules",
                                        "thumbnails",
                                        ".cache",
                                        "cache",
                                        "caches",
                                        "temp",
                                        "tmp",
                                        "usr",
                                        "lib",
                                        "etc",
                                        "var",
                                        "site-packages",
                                        "$recycle.bin",
                                        "system volume information"};

static gboolean is_among(const char *name, const char *const *names, gsize count)
{
    for (gsize i = 0; i < count; i++)
        if (strcmp(name, names[i]) == 0)
            return TRUE;
    return FALSE;
}

guint ek_showcase_distance(const char *path)
{
    g_autofree char *lower = g_ascii_strdown(path, -1);
    g_auto(GStrv) names = g_strsplit(lower, "/", -1);
    guint distance = 1;
    for (char **name = names; *name != NULL && name[1] != NULL; name++) {
        if (is_among(*name, far_names, G_N_ELEMENTS(far_names)))
            return 2;
        if (is_among(*name, near_names, G_N_ELEMENTS(near_names)))
            distance = 0;
    }
    return distance;
}

/* Office files carry a small picture of their first page; films and PDFs may hold pictures. */
static gboolean can_be_shown(const EkItem *item)
{
    static const char ends[] = " docx pptx xlsx odt ods odp odg epub pdf ";
    const char *dot = strrchr(item->name, '.');
    g_autofree char *end = g_strdup_printf(" %s ", dot != NULL ? dot + 1 : "");
    g_autofree char *lower = g_ascii_strdown(end, -1);
    if (item->file.type != EK_TYPE_FILE || item->is_again || item->file.size > MOST_BYTES ||
        (item->file.flags & EK_FILE_DELETED) != 0)
        return FALSE;
    EkKind kind = ek_kind_of(item->name);
    return ((kind == EK_KIND_PICTURE || kind == EK_KIND_VIDEO) && item->file.size >= LEAST_BYTES) ||
           (strlen(lower) > 2 && strstr(ends, lower) != NULL);
}

/* The one that is given up for a better: the farthest, of those the last. */
static gboolean make_room(EkShowcase *showcase, guint distance)
{
    GHashTableIter iter;
    gpointer key;
    gpointer value;
    const char *worst = NULL;
    const Folder *farthest = NULL;
    g_hash_table_iter_init(&iter, showcase->folders);
    while (g_hash_table_iter_next(&iter, &key, &value)) {
        const Folder *folder = value;
        if (farthest == NULL || folder->distance > farthest->distance ||
            (folder->distance == farthest->distance && folder->turn > farthest->turn)) {
            farthest = folder;
            worst = key;
        }
    }
    if (farthest == NULL || farthest->distance <= distance)
        return FALSE;
    return g_hash_table_remove(showcase->folders, worst);
}

static Folder *folder_of(EkShowcase *showcase, guint volume, const char *path, gboolean is_small,
                         gboolean is_lesser)
{
    const char *slash = strrchr(path, '/');
    g_autofree char *key = g_strdup_printf("%u:%d:%.*s", volume, is_small,
                                           slash != NULL ? (int)(slash - path) : 0, path);
    Folder *folder = g_hash_table_lookup(showcase->folders, key);
    guint distance = ek_showcase_distance(path) + (is_small ? 1 : 0) + (is_lesser ? LESSER : 0);
    if (folder != NULL ||
        (g_hash_table_size(showcase->folders) >= FOLDERS_MOST && !make_room(showcase, distance)))
        return folder;
    folder = g_new0(Folder, 1);
    folder->distance = distance;
    folder->turn = showcase->turns++;
    folder->exhibits = g_ptr_array_new_with_free_func(exhibit_free);
    g_hash_table_insert(showcase->folders, g_steal_pointer(&key), folder);
    return folder;
}

/* In a full folder a whole file takes the place of one that is not. */
static gboolean has_room(Folder *folder, const EkItem *item)
{
    for (guint i = 0; i < folder->exhibits->len && folder->exhibits->len >= EACH_MOST; i++) {
        const EkExhibit *exhibit = folder->exhibits->pdata[i];
        if (exhibit->condition != EK_CONDITION_WHOLE &&
            item->damage.condition == EK_CONDITION_WHOLE)
            g_ptr_array_remove_index(folder->exhibits, i);
    }
    return folder->exhibits->len < EACH_MOST;
}

void ek_showcase_add(EkShowcase *showcase, guint volume, const char *path, const EkItem *item,
                     gboolean is_lesser)
{
    if (!can_be_shown(item))
        return;
    gboolean is_small = item->file.size < SMALL_BYTES && ek_kind_of(item->name) == EK_KIND_PICTURE;
    Folder *folder = folder_of(showcase, volume, path, is_small, is_lesser);
    if (folder == NULL || !has_room(folder, item))
        return;
    EkExhibit *exhibit = g_new0(EkExhibit, 1);
    exhibit->volume = volume;
    exhibit->path = g_strdup(path);
    exhibit->file = item->file;
    exhibit->condition = item->damage.condition;
    g_ptr_array_add(folder->exhibits, exhibit);
}

static int compare_folders(const void *a, const void *b)
{
    const Folder *one = *(const Folder *const *)a;
    const Folder *other = *(const Folder *const *)b;
    if (one->distance != other->distance)
        return one->distance < other->distance ? -1 : 1;
    return one->turn < other->turn ? -1 : one->turn > other->turn;
}

/* Folders of one distance take turns; those farther off come when nothing nearer is left. */
GPtrArray *ek_showcase_list(const EkShowcase *showcase)
{
    GPtrArray *list = g_ptr_array_new();
    g_autoptr(GPtrArray) folders = g_ptr_array_new();
    GHashTableIter iter;
    gpointer value;
    g_hash_table_iter_init(&iter, showcase->folders);
    while (g_hash_table_iter_next(&iter, NULL, &value))
        g_ptr_array_add(folders, value);
    g_ptr_array_sort(folders, compare_folders);
    for (guint from = 0; from < folders->len;) {
        guint to = from;
        guint distance = ((const Folder *)folders->pdata[from])->distance;
        while (to < folders->len && ((const Folder *)folders->pdata[to])->distance == distance)
            to++;
        for (guint turn = 0; turn < EACH_MOST; turn++)
            for (guint i = from; i < to; i++) {
                const Folder *folder = folders->pdata[i];
                if (turn < folder->exhibits->len)
                    g_ptr_array_add(list, folder->exhibits->pdata[turn]);
            }
        from = to;
    }
    return list;
}
