/* SPDX-License-Identifier: MIT */
/* What a walk hands on, kept for looking at. */
#include "listing.h"

#include <string.h>

static void called_free(gpointer data)
{
    Called *called = data;
    g_free(called->text);
    g_free(called);
}

static void listed_free(gpointer data)
{
    Listed *listed = data;
    g_array_unref(listed->extents);
    g_ptr_array_unref(listed->names);
    g_free(listed);
}

static Listed *listed_of(Listing *listing, guint64 number)
{
    Listed *listed = g_hash_table_lookup(listing->by_number, &number);
    if (listed != NULL)
        return listed;
    listed = g_new0(Listed, 1);
    listed->file.number = number;
    listed->extents = g_array_new(FALSE, FALSE, sizeof(EkExtent));
    listed->names = g_ptr_array_new_with_free_func(called_free);
    g_ptr_array_add(listing->listed, listed);
    g_hash_table_insert(listing->by_number, g_memdup2(&number, sizeof number), listed);
    return listed;
}

static gboolean take_file(void *data, const EkFile *file)
{
    Listing *listing = data;
    listed_of(listing, file->number)->file = *file;
    return listing->most == 0 || listing->listed->len < listing->most;
}

static gboolean take_extent(void *data, guint64 file, const EkExtent *extent)
{
    g_array_append_val(listed_of(data, file)->extents, *extent);
    return TRUE;
}

static gboolean take_name(void *data, const EkFileName *name)
{
    Listing *listing = data;
    if (name->is_made) {
        listing->made_names++;
        return TRUE;
    }
    Called *called = g_new0(Called, 1);
    called->parent = name->parent;
    called->text = g_strdup(name->text);
    called->is_deleted = name->is_deleted;
    g_ptr_array_add(listed_of(listing, name->file)->names, called);
    return TRUE;
}

static gboolean take_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    Listing *listing = data;
    (void)folder;
    listing->folders_damaged++;
    listing->damage.bad_bytes += damage->bad_bytes;
    listing->damage.unread_bytes += damage->unread_bytes;
    listing->damage.cut_short |= damage->cut_short;
    return TRUE;
}

static gboolean take_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    Listing *listing = data;
    listing->marks++;
    listing->from = from != 0 ? from : listing->from;
    return done <= total && listing->marks != listing->cut_at;
}

static gboolean walk_into(Listing *listing, EkFiles *files, guint64 from)
{
    EkFileSink sink = {listing, take_file, take_extent, take_name, take_damage, take_mark};
    listing->files = files;
    if (listing->listed == NULL) {
        listing->listed = g_ptr_array_new_with_free_func(listed_free);
        listing->by_number = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    }
    return files->format->walk(files->opened, from, &sink);
}

Listing *listing_new_cut(EkFiles *files, guint mark)
{
    Listing *listing = g_new0(Listing, 1);
    listing->cut_at = mark;
    if (!walk_into(listing, files, 0))
        walk_into(listing, files, listing->from);
    return listing;
}

static gint by_file_number(gconstpointer a, gconstpointer b)
{
    guint64 left = (*(const Listed *const *)a)->file.number;
    guint64 right = (*(const Listed *const *)b)->file.number;
    return left < right ? -1 : left > right;
}

char *listing_lines(const Listing *listing)
{
    g_autoptr(GPtrArray) sorted = g_ptr_array_new();
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < listing->listed->len; i++)
        g_ptr_array_add(sorted, listing->listed->pdata[i]);
    g_ptr_array_sort(sorted, by_file_number);
    for (guint i = 0; i < sorted->len; i++) {
        const Listed *listed = sorted->pdata[i];
        g_string_append_printf(text, "%" G_GUINT64_FORMAT " %d %x %" G_GUINT64_FORMAT,
                               listed->file.number, listed->file.type, listed->file.flags,
                               listed->file.size);
        for (guint k = 0; k < listed->extents->len; k++)
            g_string_append_printf(text, " %" G_GUINT64_FORMAT,
                                   g_array_index(listed->extents, EkExtent, k).first_byte);
        for (guint k = 0; k < listed->names->len; k++) {
            const Called *called = listed->names->pdata[k];
            g_string_append_printf(text, " %" G_GUINT64_FORMAT "/%s", called->parent, called->text);
        }
        g_string_append_c(text, '\n');
    }
    g_string_append_printf(text, "%u folders damaged\n", listing->folders_damaged);
    return g_string_free(text, FALSE);
}

Listing *listing_new(EkFiles *files, guint most)
{
    Listing *listing = g_new0(Listing, 1);
    listing->most = most;
    walk_into(listing, files, 0);
    return listing;
}

void listing_free(Listing *listing)
{
    g_hash_table_unref(listing->by_number);
    g_ptr_array_unref(listing->listed);
    g_free(listing);
}

/* Up to the root; what leads nowhere begins with "?". */
static char *path_of(const Listing *listing, const Called *called)
{
    g_autofree char *path = g_strdup(called->text);
    guint64 root = listing->files->format->root(listing->files->opened);
    guint64 parent = called->parent;
    for (guint depth = 0; parent != root; depth++) {
        const Listed *folder = g_hash_table_lookup(listing->by_number, &parent);
        const Called *name =
            folder != NULL && folder->names->len > 0 ? folder->names->pdata[0] : NULL;
        char *longer = g_strdup_printf("%s/%s", name != NULL ? name->text : "?", path);
        g_free(path);
        path = longer;
        if (name == NULL || depth == 100)
            break;
        parent = name->parent;
    }
    return g_steal_pointer(&path);
}

static gint by_text(gconstpointer a, gconstpointer b)
{
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

char *listing_tree(const Listing *listing, gboolean deleted)
{
    g_autoptr(GPtrArray) lines = g_ptr_array_new_with_free_func(g_free);
    for (guint i = 0; i < listing->listed->len; i++) {
        const Listed *listed = listing->listed->pdata[i];
        for (guint k = 0; k < listed->names->len; k++) {
            g_autofree char *path = path_of(listing, listed->names->pdata[k]);
            if (((listed->file.flags & EK_FILE_DELETED) != 0) == deleted &&
                (listed->file.flags & EK_FILE_OWN) == 0)
                g_ptr_array_add(lines,
                                g_strdup_printf("%s%s %" G_GUINT64_FORMAT "\n", path,
                                                listed->file.type == EK_TYPE_FOLDER ? "/" : "",
                                                listed->file.size));
        }
    }
    g_ptr_array_sort(lines, by_text);
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < lines->len; i++)
        g_string_append(text, lines->pdata[i]);
    return g_string_free(text, FALSE);
}

const Listed *listing_find(const Listing *listing, const char *path)
{
    for (guint i = 0; i < listing->listed->len; i++) {
        const Listed *listed = listing->listed->pdata[i];
        for (guint k = 0; k < listed->names->len; k++) {
            g_autofree char *own = path_of(listing, listed->names->pdata[k]);
            if (g_str_equal(own, path))
                return listed;
        }
    }
    return NULL;
}

EkDamage listing_damage(const Listing *listing, const Listed *listed, GArray **holes)
{
    EkDamage damage = {0};
    EkReader *reader = listing->files->reader;
    for (guint i = 0; i < listed->extents->len; i++) {
        const EkExtent *extent = &g_array_index(listed->extents, EkExtent, i);
        EkRange inside;
        if (extent->first_byte == EK_UNPLACED ||
            !ek_range_checked(extent->first_byte, extent->stored, ek_reader_bytes(reader),
                              &inside)) {
            damage.unplaced_bytes += extent->bytes;
            continue;
        }
        EkKnown known = ek_reader_known(reader, inside.first, inside.bytes);
        damage.bad_bytes += known.bad;
        damage.unread_bytes += known.unread;
    }
    damage.condition = ek_damage_condition(&damage);
    *holes = ek_files_holes(reader, listed->extents);
    return damage;
}
