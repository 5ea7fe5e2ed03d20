/* SPDX-License-Identifier: MIT */
/* The primary header of a volume beside its backup, field by field. */
#include "headers.h"

#include "base/text.h"
#include "show.h"

#define HEADER_MOST 1024u
#define HEX_BYTES 8u

typedef struct {
    EkByte at; /* EK_UNPLACED: there is none */
    gboolean is_read;
    guint8 data[HEADER_MOST];
    gsize length;
    GPtrArray *fields; /* EkField* */
} Header;

static void header_load(EkReader *reader, const EkVolume *volume, EkByte at, Header *header)
{
    EkKnown known = {0};
    *header = (Header){.at = at, .length = volume->format->header_bytes};
    header->is_read = at != EK_UNPLACED && header->length <= HEADER_MOST &&
                      ek_reader_read(reader, at, header->data, header->length, &known, NULL) &&
                      known.good == header->length;
    header->fields = volume->format->explain((EkSpan){header->data, header->length});
}

/* What a field says: its meaning, or its first bytes. */
static char *said(const Header *header, const EkField *field)
{
    if (!header->is_read)
        return g_strdup("not read");
    if (*field->meaning != '\0')
        return ek_text_escape(field->meaning);
    gsize shown = MIN(field->length, HEX_BYTES);
    g_autofree char *hex = ek_text_hex(header->data + field->offset, shown, ' ');
    return g_strdup_printf("%s%s", hex, shown < field->length ? " …" : "");
}

/* What it was composed as, where none is left. */
static void header_compose(const EkVolume *volume, Header *header)
{
    *header = (Header){.at = EK_UNPLACED, .is_read = TRUE, .length = volume->format->header_bytes};
    memcpy(header->data, volume->header, MIN(header->length, EK_HEADER_BYTES));
    header->fields = volume->format->explain((EkSpan){header->data, header->length});
}

#define SHOWN_MOST 3u

/* The headers that are put side by side. */
typedef struct {
    Header all[SHOWN_MOST];
    char *heads[SHOWN_MOST];
    guint count;
} Sides;

static Header *add_side(Sides *sides, char *head)
{
    sides->heads[sides->count] = head;
    return &sides->all[sides->count++];
}

/* Of one that was composed a side that was not read is told in a word, not field by field. */
static void drop_unread(Sides *sides, const char *which)
{
    Header *last = &sides->all[sides->count - 1];
    if (last->is_read)
        return;
    ek_cli_print("The %s (sector %" G_GUINT64_FORMAT ") could not be read.\n", which,
                 last->at / EK_STEP);
    g_ptr_array_unref(last->fields);
    g_free(sides->heads[--sides->count]);
}

static void load_sides(EkReader *reader, const EkVolume *volume, Sides *sides)
{
    EkByte first = volume->first_byte + volume->format->header_offset;
    EkByte backup = volume->format->backup != NULL ? volume->format->backup(volume) : EK_UNPLACED;
    header_load(
        reader, volume, first,
        add_side(sides, g_strdup_printf("FIRST (SECTOR %" G_GUINT64_FORMAT ")", first / EK_STEP)));
    if (volume->composed)
        drop_unread(sides, "header");
    if (backup != EK_UNPLACED)
        header_load(reader, volume, backup,
                    add_side(sides, g_strdup_printf("BACKUP (SECTOR %" G_GUINT64_FORMAT ")",
                                                    backup / EK_STEP)));
    if (backup != EK_UNPLACED && volume->composed)
        drop_unread(sides, "backup header");
    if (volume->composed)
        header_compose(volume, add_side(sides, g_strdup("RECONSTRUCTED")));
}

static gboolean differs(const Sides *sides, const EkField *field)
{
    const Header *one = &sides->all[0];
    for (guint i = 1; i < sides->count; i++) {
        const Header *other = &sides->all[i];
        if (one->is_read && other->is_read &&
            memcmp(one->data + field->offset, other->data + field->offset, field->length) != 0)
            return TRUE;
    }
    return FALSE;
}

/* How a field is explained can depend on others: the names are those of one that was read. */
static const Header *names_of(const Sides *sides)
{
    for (guint i = 0; i < sides->count; i++)
        if (sides->all[i].is_read)
            return &sides->all[i];
    return &sides->all[0];
}

void ek_headers_print(EkCli *cli, EkReader *reader, const EkVolume *volume)
{
    if (volume->format->explain == NULL || volume->format->header_bytes == 0)
        return;
    Sides sides = {.count = 0};
    guint different = 0;
    ek_cli_print("\n");
    load_sides(reader, volume, &sides);
    EkColumn columns[SHOWN_MOST + 2] = {{"", FALSE, FALSE, 0}, {"FIELD", FALSE, TRUE, 0}};
    const Header *names = names_of(&sides);
    guint rows = names->fields->len;
    for (guint i = 0; i < sides.count; i++) {
        columns[i + 2] = (EkColumn){sides.heads[i], FALSE, TRUE, 0};
        rows = MIN(rows, sides.all[i].fields->len);
    }
    EkShowTable *table = ek_show_table_new(columns, sides.count + 2);
    for (guint row = 0; row < rows; row++) {
        const EkField *field = names->fields->pdata[row];
        gboolean is_different = differs(&sides, field);
        char *texts[SHOWN_MOST] = {NULL};
        const char *cells[SHOWN_MOST + 2] = {is_different ? "*" : "", field->name};
        different += is_different ? 1 : 0;
        for (guint i = 0; i < sides.count; i++)
            cells[i + 2] = texts[i] = said(&sides.all[i], sides.all[i].fields->pdata[row]);
        ek_show_table_row(table, cells);
        for (guint i = 0; i < sides.count; i++)
            g_free(texts[i]);
    }
    ek_show_table_print(table, cli->width);
    if (different > 0)
        ek_cli_print("* %u fields differ\n", different);
    for (guint i = 0; i < sides.count; i++) {
        g_ptr_array_unref(sides.all[i].fields);
        g_free(sides.heads[i]);
    }
}
