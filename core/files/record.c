/* SPDX-License-Identifier: MIT */
/* The table of extracted files, in the folder they were extracted to (RFC 4180). */
#include "files/record.h"

#include "base/text.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#define HEADER                                                                                     \
    "volume,number,path,written_as,size,sha256,condition,bad_bytes,unread_bytes,holes,case,origin" \
    "\r\n"

enum {
    COLUMN_VOLUME,
    COLUMN_NUMBER,
    COLUMN_NAME = 3,
    COLUMN_SUM = 5,
    COLUMN_BAD = 7,
    COLUMN_UNREAD,
    COLUMN_CASE = 10,
    COLUMN_ORIGIN,
    COLUMNS
};

/* What a spreadsheet takes for a formula begins with one of these. */
#define FORMULA_STARTS "=+-@\t\r"

struct EkRecordTable {
    FILE *file;
    GHashTable *rows; /* "CASE:VOLUME:NUMBER" to EkRecorded */
};

static void recorded_free(gpointer data)
{
    EkRecorded *row = data;
    g_free(row->name);
    g_free(row->sha256);
    g_free(row->origin);
    g_free(row);
}

static char *key_of(const char *case_id, guint64 volume, guint64 number)
{
    return g_strdup_printf("%s:%" G_GUINT64_FORMAT ":%" G_GUINT64_FORMAT, case_id, volume, number);
}

static char *origin_of(const GArray *extents, const GArray *holes)
{
    XXH3_state_t *state = XXH3_createState();
    XXH3_64bits_reset(state);
    for (guint i = 0; i < extents->len; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        const guint64 key[] = {extent->offset, extent->bytes, extent->first_byte, extent->stored,
                               extent->layer};
        XXH3_64bits_update(state, key, sizeof key);
    }
    for (guint i = 0; holes != NULL && i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        const guint64 key[] = {hole->offset, hole->bytes};
        XXH3_64bits_update(state, key, sizeof key);
    }
    guint64 digest = XXH3_64bits_digest(state);
    XXH3_freeState(state);
    return g_strdup_printf("%016" G_GINT64_MODIFIER "x", digest);
}

/* --- reading -------------------------------------------------------------------------------- */

/* The next field; *is_last when a row ends behind it. FALSE at the end, also of a row that was cut
 * off. */
static gboolean next_field(const char **at, GString *field, gboolean *is_last)
{
    const char *p = *at;
    gboolean quoted = *p == '"';
    g_string_truncate(field, 0);
    if (quoted)
        p++;
    while (*p != '\0') {
        if (quoted && p[0] == '"' && p[1] == '"')
            p++;
        else if (quoted && *p == '"')
            quoted = FALSE, p++;
        if (!quoted && (*p == ',' || *p == '\r' || *p == '\n' || *p == '\0'))
            break;
        g_string_append_c(field, *p++);
    }
    if (*p == '\0')
        return FALSE;
    *is_last = *p != ',';
    p += p[0] == '\r' && p[1] == '\n' ? 2 : 1;
    *at = p;
    return TRUE;
}

/* A text without the mark that keeps spreadsheets from computing it. */
static const char *without_mark(const char *text)
{
    return text[0] == '\'' && text[1] != '\0' && strchr("'" FORMULA_STARTS, text[1]) != NULL
               ? text + 1
               : text;
}

static void load(EkRecordTable *table, const char *text)
{
    g_autoptr(GString) field = g_string_new(NULL);
    guint64 volume = 0;
    guint64 number = 0;
    guint64 missing[2] = {0};
    guint column = 0;
    gboolean is_last = FALSE;
    gboolean is_number = FALSE;
    g_autofree char *sum = NULL;
    g_autofree char *name = NULL;
    g_autofree char *case_id = NULL;
    g_autofree char *origin = NULL;
    while (next_field(&text, field, &is_last)) {
        if (column == COLUMN_VOLUME)
            is_number = ek_text_parse_u64(field->str, &volume);
        else if (column == COLUMN_NUMBER)
            is_number = is_number && ek_text_parse_u64(field->str, &number);
        else if (column == COLUMN_NAME)
            name = g_strdup(without_mark(field->str));
        else if (column == COLUMN_SUM && (field->len == 64 || field->len == 0))
            sum = g_strdup(field->str);
        else if (column == COLUMN_BAD || column == COLUMN_UNREAD)
            is_number = ek_text_parse_u64(field->str, &missing[column - COLUMN_BAD]) && is_number;
        else if (column == COLUMN_CASE)
            case_id = g_strdup(field->str);
        else if (column == COLUMN_ORIGIN)
            origin = g_strdup(field->str);
        column++;
        if (!is_last)
            continue;
        if (column == COLUMNS && is_number && sum != NULL && name != NULL) {
            EkRecorded *row = g_new0(EkRecorded, 1);
            row->name = g_steal_pointer(&name);
            row->sha256 = g_steal_pointer(&sum);
            row->origin = g_steal_pointer(&origin);
            row->missing = missing[0] + missing[1];
            g_hash_table_replace(table->rows, key_of(case_id, volume, number), row);
        }
        g_clear_pointer(&sum, g_free);
        g_clear_pointer(&name, g_free);
        g_clear_pointer(&case_id, g_free);
        g_clear_pointer(&origin, g_free);
        column = 0;
    }
}

/* The file in the folder: a regular one with one name, not reached through a link. */
static int open_file(const char *folder, GError **error)
{
    struct stat st;
    int at = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    int fd = at < 0
                 ? -1
                 : openat(at, EK_RECORD_NAME,
                          O_RDWR | O_APPEND | O_CREAT | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC, 0666);
    int errnum = errno;
    if (at >= 0)
        close(at);
    if (fd >= 0 && fstat(fd, &st) == 0 && S_ISREG(st.st_mode) && st.st_nlink == 1)
        return fd;
    if (fd >= 0 || errnum == ELOOP || errnum == ENXIO)
        ek_error_set(error, EK_ERROR_REFUSED,
                     "%s/" EK_RECORD_NAME " is a link, has a second name, or is no regular file. "
                     "Nothing was written. Remove it, or name another folder",
                     folder);
    else
        ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot write %s/" EK_RECORD_NAME,
                            folder);
    if (fd >= 0)
        close(fd);
    return -1;
}

static GString *read_all(int fd)
{
    GString *text = g_string_new(NULL);
    g_autofree char *buffer = g_malloc(65536);
    ssize_t got;
    while ((got = read(fd, buffer, 65536)) > 0)
        g_string_append_len(text, buffer, got);
    return text;
}

EkRecordTable *ek_record_open(const char *folder, GError **error)
{
    int fd = open_file(folder, error);
    if (fd < 0)
        return NULL;
    EkRecordTable *table = g_new0(EkRecordTable, 1);
    table->rows = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, recorded_free);
    table->file = fdopen(fd, "a");
    GString *text = read_all(fd);
    gboolean is_ours = text->len == 0 || g_str_has_prefix(text->str, "volume,");
    if (is_ours)
        load(table, text->str);
    if (text->len == 0)
        fputs(HEADER, table->file);
    else if (is_ours && text->str[text->len - 1] != '\n')
        fputs("\r\n", table->file); /* behind a row that was cut off */
    g_string_free(text, TRUE);
    if (is_ours)
        return table;
    ek_error_set(error, EK_ERROR_REFUSED,
                 "%s/" EK_RECORD_NAME
                 " is not a table of extracted files. Nothing was written. Name another folder",
                 folder);
    ek_record_close(table, NULL);
    return NULL;
}

gboolean ek_record_close(EkRecordTable *table, GError **error)
{
    gboolean fine = TRUE;
    if (table->file != NULL && (fflush(table->file) != 0 || ferror(table->file) != 0))
        fine =
            ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write %s", EK_RECORD_NAME);
    if (table->file != NULL)
        fclose(table->file);
    g_hash_table_unref(table->rows);
    g_free(table);
    return fine;
}

const EkRecorded *ek_record_find(const EkRecordTable *table, const char *case_id, guint64 volume,
                                 guint64 number)
{
    g_autofree char *key = key_of(case_id, volume, number);
    return g_hash_table_lookup(table->rows, key);
}

gboolean ek_recorded_is_of(const EkRecorded *recorded, const GArray *extents, const GArray *holes)
{
    g_autofree char *origin = origin_of(extents, holes);
    return g_str_equal(origin, recorded->origin);
}

gboolean ek_recorded_has_less(const EkRecorded *recorded, const EkItem *item)
{
    return item->damage.bad_bytes + item->damage.unread_bytes < recorded->missing;
}

/* --- writing -------------------------------------------------------------------------------- */

void ek_record_put_text(FILE *file, const char *text)
{
    fputc('"', file);
    if (*text != '\0' && strchr("'" FORMULA_STARTS, *text) != NULL)
        fputc('\'', file);
    for (const char *p = text; *p != '\0'; p++) {
        if (*p == '"')
            fputc('"', file);
        fputc(*p, file);
    }
    fputs("\",", file);
}

void ek_record_add(EkRecordTable *table, const char *case_id, guint64 volume, const char *path,
                   const EkItem *item, const EkExtracted *result, const GArray *extents,
                   const GArray *holes)
{
    g_autofree char *origin = origin_of(extents, holes);
    fprintf(table->file, "%" G_GUINT64_FORMAT ",%" G_GUINT64_FORMAT ",", volume, item->file.number);
    ek_record_put_text(table->file, path);
    ek_record_put_text(table->file, result->written_as);
    fprintf(table->file, "%" G_GUINT64_FORMAT ",%s,%s,%" G_GUINT64_FORMAT ",%" G_GUINT64_FORMAT ",",
            item->file.size, result->sha256 != NULL ? result->sha256 : "",
            ek_condition_name(item->damage.condition), item->damage.bad_bytes,
            item->damage.unread_bytes);
    for (guint i = 0; holes != NULL && i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        fprintf(table->file, "%s%" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT, i > 0 ? " " : "",
                hole->offset, hole->bytes);
    }
    fprintf(table->file, ",%s,%s\r\n", case_id, origin);
}
