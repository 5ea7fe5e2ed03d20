/* SPDX-License-Identifier: MIT */
#include "files/record.h"

#include "base/text.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define HEADER                                                                                     \
    "volume,number,path,written_as,size,sha256,condition,bad_bytes,unread_bytes,holes\r\n"

enum { COLUMN_VOLUME, COLUMN_NUMBER, COLUMN_SUM = 5, COLUMNS = 10 };

struct EkRecordTable {
    FILE *file;
    GHashTable *sums; /* "VOLUME:NUMBER" to the sum */
};

static char *key_of(guint64 volume, guint64 number)
{
    return g_strdup_printf("%" G_GUINT64_FORMAT ":%" G_GUINT64_FORMAT, volume, number);
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

static void load(EkRecordTable *table, const char *text)
{
    g_autoptr(GString) field = g_string_new(NULL);
    guint64 volume = 0;
    guint64 number = 0;
    guint column = 0;
    gboolean is_last = FALSE;
    gboolean is_number = FALSE;
    g_autofree char *sum = NULL;
    while (next_field(&text, field, &is_last)) {
        if (column == COLUMN_VOLUME)
            is_number = ek_text_parse_u64(field->str, &volume);
        else if (column == COLUMN_NUMBER)
            is_number = is_number && ek_text_parse_u64(field->str, &number);
        else if (column == COLUMN_SUM && strlen(field->str) == 64)
            sum = g_strdup(field->str);
        column++;
        if (!is_last)
            continue;
        if (column == COLUMNS && is_number && sum != NULL)
            g_hash_table_replace(table->sums, key_of(volume, number), g_steal_pointer(&sum));
        g_clear_pointer(&sum, g_free);
        column = 0;
    }
}

EkRecordTable *ek_record_open(const char *folder, GError **error)
{
    g_autofree char *path = g_build_filename(folder, EK_RECORD_NAME, NULL);
    g_autofree char *text = NULL;
    gsize length = 0;
    EkRecordTable *table = g_new0(EkRecordTable, 1);
    table->sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    gboolean fine = TRUE;
    if (g_file_test(path, G_FILE_TEST_IS_SYMLINK))
        fine = ek_error_set(error, EK_ERROR_REFUSED, "%s is a link: not written through", path);
    else if (g_file_get_contents(path, &text, &length, NULL) && g_str_has_prefix(text, "volume,"))
        load(table, text);
    else if (length > 0)
        fine = ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is no table of what was extracted. Name another folder", path);
    if (fine && (table->file = fopen(path, "ae")) == NULL)
        fine = ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write %s", path);
    if (!fine) {
        ek_record_close(table, NULL);
        return NULL;
    }
    if (length == 0)
        fputs(HEADER, table->file);
    else if (text[length - 1] != '\n')
        fputs("\r\n", table->file); /* behind a row that was cut off */
    return table;
}

gboolean ek_record_close(EkRecordTable *table, GError **error)
{
    gboolean fine = TRUE;
    if (table->file != NULL && (fflush(table->file) != 0 || ferror(table->file) != 0))
        fine =
            ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write %s", EK_RECORD_NAME);
    if (table->file != NULL)
        fclose(table->file);
    g_hash_table_unref(table->sums);
    g_free(table);
    return fine;
}

const char *ek_record_sha256(const EkRecordTable *table, guint64 volume, guint64 number)
{
    g_autofree char *key = key_of(volume, number);
    return g_hash_table_lookup(table->sums, key);
}

/* --- writing -------------------------------------------------------------------------------- */

/* A text that a spreadsheet would take for a formula is told from one by a space. */
static void put_text(FILE *file, const char *text)
{
    fputc('"', file);
    if (*text != '\0' && strchr("=+-@\t\r", *text) != NULL)
        fputc(' ', file);
    for (const char *p = text; *p != '\0'; p++) {
        if (*p == '"')
            fputc('"', file);
        fputc(*p, file);
    }
    fputs("\",", file);
}

void ek_record_add(EkRecordTable *table, guint64 volume, const char *path, const EkItem *item,
                   const EkExtracted *result, const GArray *holes)
{
    fprintf(table->file, "%" G_GUINT64_FORMAT ",%" G_GUINT64_FORMAT ",", volume, item->file.number);
    put_text(table->file, path);
    put_text(table->file, result->written_as);
    fprintf(table->file, "%" G_GUINT64_FORMAT ",%s,%s,%" G_GUINT64_FORMAT ",%" G_GUINT64_FORMAT ",",
            item->file.size, result->sha256 != NULL ? result->sha256 : "",
            ek_condition_name(item->damage.condition), item->damage.bad_bytes,
            item->damage.unread_bytes);
    for (guint i = 0; holes != NULL && i < holes->len; i++) {
        const EkHole *hole = &g_array_index(holes, EkHole, i);
        fprintf(table->file, "%s%" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT, i > 0 ? " " : "",
                hole->offset, hole->bytes);
    }
    fputs("\r\n", table->file);
}
