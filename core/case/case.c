/* SPDX-License-Identifier: MIT */
/* The case folder. */
#include "case/case.h"

#include "base/text.h"
#include "case/folder.h"
#include "case/schema.h"
#include "image/readmap.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

struct EkCase {
    char *folder; /* absolute */
    char *named;
    EkCaseInfo info;
    sqlite3 *store;
    sqlite3 *map;
};

static void info_clear(EkCaseInfo *info)
{
    g_free(info->id);
    g_free(info->source);
    g_free(info->kind);
    g_free(info->path);
    g_free(info->model);
    g_free(info->serial);
    g_free(info->image);
    g_free(info->image_name);
}

void ek_case_close(EkCase *self)
{
    sqlite3_close(self->store);
    sqlite3_close(self->map);
    info_clear(&self->info);
    g_free(self->folder);
    g_free(self->named);
    g_free(self);
}

const EkCaseInfo *ek_case_info(const EkCase *self)
{
    return &self->info;
}

const char *ek_case_folder(const EkCase *self)
{
    return self->folder;
}

const char *ek_case_named(const EkCase *self)
{
    return self->named;
}

sqlite3 *ek_case_store(EkCase *self)
{
    return self->store;
}

sqlite3 *ek_case_map(EkCase *self)
{
    return self->map;
}

gboolean ek_case_check_absent(const char *folder, GError **error)
{
    g_autofree char *store = g_build_filename(folder, "case.db", NULL);
    if (g_file_test(store, G_FILE_TEST_EXISTS))
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "%s already is a case. To continue: ektypon status %s", folder, folder);
    if (!g_file_test(folder, G_FILE_TEST_EXISTS))
        return TRUE;
    GDir *inside = g_dir_open(folder, 0, NULL);
    gboolean is_empty = inside != NULL && g_dir_read_name(inside) == NULL;
    if (inside != NULL)
        g_dir_close(inside);
    if (is_empty)
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "%s exists and is not an empty folder. Choose a new name", folder);
}

static gboolean put_meta(sqlite3 *store, GError **error, const char *key, const char *value)
{
    return value == NULL ||
           ek_sql_do(store, error, "INSERT INTO meta VALUES (?,?)", "ss", key, value);
}

static gboolean put_number(sqlite3 *store, GError **error, const char *key, guint64 value)
{
    g_autofree char *text = g_strdup_printf("%" G_GUINT64_FORMAT, value);
    return put_meta(store, error, key, text);
}

/* The name of an image that is inside the case, relative to it: so that the folder can be moved. */
static char *name_inside(const EkCase *self, const char *image)
{
    g_autofree char *prefix = g_strconcat(self->folder, "/", NULL);
    return g_str_has_prefix(image, prefix) ? g_strdup(image + strlen(prefix)) : NULL;
}

static gboolean put_info(sqlite3 *store, void *data, GError **error)
{
    const EkCase *self = data;
    const EkCaseInfo *info = &self->info;
    const char *image = info->image_name != NULL ? info->image_name : info->image;
    return put_meta(store, error, "id", info->id) &&
           put_meta(store, error, "source", info->source) &&
           put_meta(store, error, "source-kind", info->kind) &&
           put_meta(store, error, "source-path", info->path) &&
           put_meta(store, error, "source-model", info->model) &&
           put_meta(store, error, "source-serial", info->serial) &&
           put_meta(store, error, "image", image) &&
           put_number(store, error, "image-verified", info->verified ? 1 : 0) &&
           put_number(store, error, "sector-size", info->sector_size) &&
           put_number(store, error, "physical-sector-size", info->physical_sector_size) &&
           put_number(store, error, "bytes", info->bytes) &&
           put_number(store, error, "created", (guint64)info->created);
}

static gboolean put_map(sqlite3 *store, void *data, GError **error)
{
    const EkCaseInfo *info = data;
    return ek_sql_run(store, "INSERT INTO boundary VALUES (0,0)", error) &&
           ek_sql_do(store, error,
                     "INSERT INTO totals (id,sectors,untouched,good,set_aside,bad,"
                     "stretches_untouched,stretches_good,stretches_set_aside,stretches_bad,"
                     "device_clock,failed_commands,round,has_sums)"
                     " VALUES (1,?1,?1,0,0,0,1,0,0,0,0,0,0,1)",
                     "u", info->sectors);
}

static char *new_id(void)
{
    g_autofree char *uuid = g_uuid_string_random();
    g_auto(GStrv) parts = g_strsplit(uuid, "-", -1);
    return g_strjoinv("", parts);
}

EkCase *ek_case_create(const char *folder, const EkCaseInfo *info, const char *machine,
                       GError **error)
{
    g_autoptr(EkCase) self = g_new0(EkCase, 1);
    self->folder = g_canonicalize_filename(folder, NULL);
    self->named = g_strdup(folder);
    self->info = *info;
    self->info.id = new_id();
    self->info.source = g_strdup(info->source);
    self->info.kind = g_strdup(info->kind);
    self->info.path = g_strdup(info->path);
    self->info.model = g_strdup(info->model);
    self->info.serial = g_strdup(info->serial);
    self->info.image = g_canonicalize_filename(info->image, NULL);
    self->info.image_name = name_inside(self, self->info.image);
    self->info.created = g_get_real_time() / G_USEC_PER_SEC;

    if (g_mkdir_with_parents(self->folder, 0777) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s", folder);
        return NULL;
    }
    /* The map first: a folder with a case.db is a whole case. */
    self->map = ek_sql_open(self->folder, "map.db", TRUE, TRUE, error);
    if (self->map == NULL ||
        !ek_sql_migrate(self->map, ek_map_schema, EK_MAP_SCHEMA_VERSIONS, error) ||
        !ek_sql_transaction(self->map, put_map, &self->info, error))
        return NULL;
    self->store = ek_sql_open(self->folder, "case.db", TRUE, TRUE, error);
    if (self->store == NULL ||
        !ek_sql_migrate(self->store, ek_case_schema, EK_CASE_SCHEMA_VERSIONS, error) ||
        !ek_sql_transaction(self->store, put_info, self, error) ||
        !ek_case_settle(self, machine, error))
        return NULL;
    return g_steal_pointer(&self);
}

static char *meta(EkCase *self, const char *key)
{
    g_autoptr(EkStatement) statement =
        ek_sql_prepare(self->store, NULL, "SELECT value FROM meta WHERE key=?", "s", key);
    if (statement == NULL || ek_sql_step(self->store, statement, NULL) != 1)
        return NULL;
    return ek_sql_text(statement, 0);
}

static guint64 meta_number(EkCase *self, const char *key)
{
    g_autofree char *text = meta(self, key);
    return text != NULL ? g_ascii_strtoull(text, NULL, 10) : 0;
}

static gboolean put_home(sqlite3 *store, void *data, GError **error)
{
    g_autofree char *owner = g_strdup_printf("%ld", (long)geteuid());
    return ek_sql_do(store, error, "INSERT OR REPLACE INTO meta VALUES ('machine',?),('owner',?)",
                     "ss", data, owner);
}

gboolean ek_case_settle(EkCase *self, const char *machine, GError **error)
{
    return ek_sql_transaction(self->store, put_home, (void *)machine, error);
}

gboolean ek_case_is_foreign(EkCase *self, const char *machine)
{
    g_autofree char *home = meta(self, "machine");
    g_autofree char *owner = meta(self, "owner");
    g_autofree char *here = g_strdup_printf("%ld", (long)geteuid());
    return g_strcmp0(home, machine) != 0 || g_strcmp0(owner, here) != 0;
}

EkImage *ek_case_open_image(const EkCase *self, GError **error)
{
    const EkCaseInfo *info = &self->info;
    if (info->image_name == NULL)
        return ek_image_open(info->image, info->bytes, FALSE, error);
    int fd = ek_folder_open(self->folder, info->image_name, O_RDONLY, error);
    return fd >= 0 ? ek_image_of(fd, info->image, info->bytes, error) : NULL;
}

const char *ek_note_name(EkNote note)
{
    static const char *const names[] = {"client", "reference", "note"};
    return names[note];
}

char *ek_case_note(EkCase *self, EkNote note)
{
    g_autofree char *key = g_strconcat("note-", ek_note_name(note), NULL);
    return meta(self, key);
}

gboolean ek_case_set_note(EkCase *self, EkNote note, const char *text, GError **error)
{
    g_autofree char *key = g_strconcat("note-", ek_note_name(note), NULL);
    return text != NULL && *text != '\0'
               ? ek_sql_do(self->store, error, "INSERT OR REPLACE INTO meta VALUES (?,?)", "ss",
                           key, text)
               : ek_sql_do(self->store, error, "DELETE FROM meta WHERE key=?", "s", key);
}

gboolean ek_case_allows_short_space(EkCase *self)
{
    return meta_number(self, "short-space") != 0;
}

gboolean ek_case_allow_short_space(EkCase *self, GError **error)
{
    return ek_sql_do(self->store, error, "INSERT OR REPLACE INTO meta VALUES ('short-space','1')",
                     "");
}

gboolean ek_case_expected(EkCase *self, EkExpected *expected)
{
    g_autofree char *text = meta(self, "expected");
    g_auto(GStrv) parts = text != NULL ? g_strsplit(text, " ", -1) : NULL;
    if (parts == NULL || g_strv_length(parts) != 3)
        return FALSE;
    const EkFileSystem *format = ek_file_system_for(parts[0]);
    *expected = (EkExpected){.filesystem = g_intern_string(parts[0])};
    expected->has_first = ek_text_parse_u64(parts[1], &expected->first_byte);
    expected->unit = (guint32)g_ascii_strtoull(parts[2], NULL, 10);
    return format != NULL;
}

gboolean ek_case_is_deep(EkCase *self)
{
    return meta_number(self, "deep") != 0;
}

gboolean ek_case_make_deep(EkCase *self, GError **error)
{
    return ek_case_is_deep(self) ||
           (ek_sql_do(self->store, error, "DELETE FROM meta WHERE key='measured'", "") &&
            ek_sql_do(self->store, error, "INSERT OR REPLACE INTO meta VALUES ('deep','1')", ""));
}

gboolean ek_case_expect(EkCase *self, const EkExpected *expected, GError **error)
{
    /* What was measured without knowing of it is measured anew. */
    if (!ek_sql_do(self->store, error, "DELETE FROM meta WHERE key IN ('expected','measured')", ""))
        return FALSE;
    if (expected == NULL)
        return ek_sql_do(self->store, error, "DELETE FROM meta WHERE key='deep'", "");
    g_autofree char *first = expected->has_first
                                 ? g_strdup_printf("%" G_GUINT64_FORMAT, expected->first_byte)
                                 : g_strdup("-");
    g_autofree char *text =
        g_strdup_printf("%s %s %u", expected->filesystem, first, expected->unit);
    return ek_sql_do(self->store, error, "INSERT OR REPLACE INTO meta VALUES ('expected',?)", "s",
                     text);
}

gboolean ek_case_set_image(EkCase *self, const char *path, GError **error)
{
    g_autofree char *absolute = g_canonicalize_filename(path, NULL);
    g_autofree char *inside = name_inside(self, absolute);
    if (!ek_sql_do(self->store, error, "UPDATE meta SET value=? WHERE key='image'", "s",
                   inside != NULL ? inside : absolute))
        return FALSE;
    g_free(self->info.image);
    g_free(self->info.image_name);
    self->info.image = g_steal_pointer(&absolute);
    self->info.image_name = g_steal_pointer(&inside);
    return TRUE;
}

static gboolean load_info(EkCase *self, GError **error)
{
    EkCaseInfo *info = &self->info;
    info->id = meta(self, "id");
    info->source = meta(self, "source");
    info->kind = meta(self, "source-kind");
    info->path = meta(self, "source-path");
    info->model = meta(self, "source-model");
    info->serial = meta(self, "source-serial");
    g_autofree char *image = meta(self, "image");
    if (image != NULL) {
        info->image = g_canonicalize_filename(image, self->folder);
        info->image_name = name_inside(self, info->image);
    }
    info->verified = meta_number(self, "image-verified") != 0;
    info->bytes = meta_number(self, "bytes");
    info->created = (gint64)meta_number(self, "created");
    guint64 sector_size = meta_number(self, "sector-size");
    guint64 physical = meta_number(self, "physical-sector-size");
    if (info->id == NULL || info->source == NULL || info->kind == NULL || info->path == NULL ||
        info->image == NULL || info->bytes == 0 || info->bytes > G_MAXINT64 ||
        !ek_is_power_of_two(sector_size) || sector_size < 512 || sector_size > 65536 ||
        !ek_is_power_of_two(physical) || physical < sector_size || physical > 1u << 20)
        return ek_error_set(error, EK_ERROR_DAMAGED, "its drive information is incomplete");
    info->sector_size = (guint32)sector_size;
    info->physical_sector_size = (guint32)physical;
    info->sectors = ek_divide_up(info->bytes, sector_size);
    if (info->sectors > EK_SECTORS_MOST)
        return ek_error_set(error, EK_ERROR_DAMAGED, "it speaks of more sectors than a drive has");
    return TRUE;
}

static gboolean ready_store(sqlite3 *store, gboolean writable, const char *const *schema,
                            int versions, const char *sum, GError **error)
{
    int version = ek_sql_version(store, error);
    if (version < 0 ||
        (version <= versions && !ek_sql_check_schema(store, schema, version, sum, error)))
        return FALSE;
    if (writable || version > versions)
        return ek_sql_migrate(store, schema, versions, error);
    if (version < versions)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "made by an older Ektypon (schema %d, this one has %d). Any command "
                            "that writes brings it up to date, for instance: ektypon hunt",
                            version, versions);
    return TRUE;
}

/* Says which file of the case is meant, and that the others are safe. */
static EkCase *open_failed(const char *folder, const char *name, GError **error)
{
    if (error != NULL && *error != NULL && g_error_matches(*error, EK_ERROR, EK_ERROR_DAMAGED)) {
        g_autofree char *path = g_build_filename(folder, name, NULL);
        g_prefix_error(error, "%s is damaged: ", path);
    } else {
        g_prefix_error(error, "%s: ", folder);
    }
    return NULL;
}

gboolean ek_case_is_at(const char *folder)
{
    g_autofree char *path = g_build_filename(folder, "case.db", NULL);
    return g_file_test(path, G_FILE_TEST_EXISTS);
}

EkCase *ek_case_open(const char *folder, gboolean writable, GError **error)
{
    if (!ek_case_is_at(folder)) {
        gboolean exists = g_file_test(folder, G_FILE_TEST_EXISTS);
        ek_error_set(error, EK_ERROR_ABSENT,
                     "%s is not a case: %s. To create one: ektypon new %s SOURCE", folder,
                     exists ? "it holds no case.db" : "there is no such folder", folder);
        return NULL;
    }
    if (writable && access(folder, W_OK) != 0) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     "the case folder %s is read-only. status, map, volumes, ls and log still "
                     "work; this command must write to it",
                     folder);
        return NULL;
    }

    g_autoptr(EkCase) self = g_new0(EkCase, 1);
    self->folder = g_canonicalize_filename(folder, NULL);
    self->named = g_strdup(folder);
    self->store = ek_sql_open(self->folder, "case.db", writable, FALSE, error);
    if (self->store == NULL ||
        !ready_store(self->store, writable, ek_case_schema, EK_CASE_SCHEMA_VERSIONS,
                     EK_CASE_SCHEMA_SUM, error) ||
        !load_info(self, error))
        return open_failed(folder, "case.db", error);
    self->map = ek_sql_open(self->folder, "map.db", writable, FALSE, error);
    if (self->map == NULL || !ready_store(self->map, writable, ek_map_schema,
                                          EK_MAP_SCHEMA_VERSIONS, EK_MAP_SCHEMA_SUM, error))
        return open_failed(folder, "map.db", error);
    return g_steal_pointer(&self);
}
