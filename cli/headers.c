/* SPDX-License-Identifier: MIT */
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

static void header_load(EkGate *gate, const EkVolume *volume, EkByte at, Header *header)
{
    EkKnown known = {0};
    *header = (Header){.at = at, .length = volume->format->header_bytes};
    header->is_read = at != EK_UNPLACED && header->length <= HEADER_MOST &&
                      ek_gate_read(gate, at, header->data, header->length, &known, NULL) &&
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

static gboolean differs(const Header *one, const Header *other, const EkField *field)
{
    return one->is_read && other->is_read &&
           memcmp(one->data + field->offset, other->data + field->offset, field->length) != 0;
}

void ek_headers_print(EkCli *cli, EkGate *gate, const EkVolume *volume)
{
    if (volume->format->explain == NULL || volume->format->header_bytes == 0)
        return;
    Header first;
    Header backup;
    guint different = 0;
    header_load(gate, volume, volume->first_byte + volume->format->header_offset, &first);
    header_load(gate, volume,
                volume->format->backup != NULL ? volume->format->backup(volume) : EK_UNPLACED,
                &backup);
    g_autofree char *first_head =
        g_strdup_printf("FIRST (SECTOR %" G_GUINT64_FORMAT ")", first.at / EK_STEP);
    g_autofree char *backup_head =
        g_strdup_printf("BACKUP (SECTOR %" G_GUINT64_FORMAT ")", backup.at / EK_STEP);
    const EkColumn columns[] = {{"", FALSE, FALSE},
                                {"FIELD", FALSE, TRUE},
                                {first_head, FALSE, TRUE},
                                {backup_head, FALSE, TRUE}};
    guint shown = backup.at == EK_UNPLACED ? 3 : 4;
    EkShowTable *table = ek_show_table_new(columns, shown);
    for (guint i = 0; i < MIN(first.fields->len, backup.fields->len); i++) {
        /* How a field is explained can depend on others: the names are those of the one that was
         * read. */
        const EkField *field = (first.is_read ? first : backup).fields->pdata[i];
        gboolean is_different = shown == 4 && differs(&first, &backup, field);
        g_autofree char *left = said(&first, first.fields->pdata[i]);
        g_autofree char *right = said(&backup, backup.fields->pdata[i]);
        const char *cells[] = {is_different ? "*" : "", field->name, left, right};
        different += is_different ? 1 : 0;
        ek_show_table_row(table, cells);
    }
    puts("");
    ek_show_table_print(table, cli->width);
    if (different > 0)
        printf("* %u fields differ\n", different);
    g_ptr_array_unref(first.fields);
    g_ptr_array_unref(backup.fields);
}
