/* SPDX-License-Identifier: MIT */
/* Partition tables of all schemes: which one is current, and reading it. */
#include "table/table.h"

const EkTableFormat *const ek_table_formats[] = {
    &ek_table_gpt, &ek_table_gpt_entries, &ek_table_apm, &ek_table_ebr, &ek_table_mbr, NULL};

const char *ek_table_scheme_words(EkScheme scheme)
{
    switch (scheme) {
    case EK_SCHEME_GPT: return "a GPT";
    case EK_SCHEME_MBR: return "an MBR";
    case EK_SCHEME_APM: return "an Apple partition map";
    case EK_SCHEME_UNKNOWN:
    case EK_SCHEME_NONE:
    case EK_SCHEME_EBR:
    case EK_SCHEME_GPT_ENTRIES:
    case EK_SCHEMES: break;
    }
    return "none";
}

static const char *const scheme_names[EK_SCHEMES] = {
    [EK_SCHEME_UNKNOWN] = "", [EK_SCHEME_NONE] = "none", [EK_SCHEME_MBR] = "mbr",
    [EK_SCHEME_EBR] = "ebr",  [EK_SCHEME_GPT] = "gpt",   [EK_SCHEME_GPT_ENTRIES] = "gpt-entries",
    [EK_SCHEME_APM] = "apm",
};

const char *ek_scheme_name(EkScheme scheme)
{
    return scheme_names[scheme];
}

gboolean ek_scheme_from_name(const char *name, EkScheme *scheme)
{
    for (guint i = EK_SCHEME_NONE; i < EK_SCHEMES; i++)
        if (g_strcmp0(scheme_names[i], name) == 0) {
            *scheme = (EkScheme)i;
            return TRUE;
        }
    return FALSE;
}

gboolean ek_table_load(const EkTableFormat *format, EkReader *reader, EkByte at,
                       guint32 sector_size, EkTable *table)
{
    guint8 start[EK_STEP];
    if (!ek_reader_read(reader, at, start, sizeof start, NULL, NULL) ||
        !format->read((EkSpan){start, sizeof start}, sector_size, table))
        return FALSE;
    table->first_byte = at;
    return format->follow == NULL || format->follow(reader, at, table);
}

/* The header in sector 1, or else the one in the last sector. */
static gboolean load_gpt_in(EkReader *reader, guint32 sector_size, EkTable *table)
{
    EkByte bytes = ek_reader_bytes(reader);
    if (bytes < 2 * (EkByte)sector_size)
        return FALSE;
    EkByte last = (bytes / sector_size - 1) * sector_size;
    return (ek_table_load(&ek_table_gpt, reader, sector_size, sector_size, table) &&
            table->is_whole) ||
           (ek_table_load(&ek_table_gpt, reader, last, sector_size, table) && table->is_whole) ||
           ek_table_load(&ek_table_gpt, reader, sector_size, sector_size, table);
}

/* In sectors of the drive, or of another size: an adapter may present them so. */
static gboolean load_gpt(EkReader *reader, guint32 sector_size, EkTable *table)
{
    return load_gpt_in(reader, sector_size, table) ||
           load_gpt_in(reader, sector_size == 512 ? 4096 : 512, table);
}

static gboolean is_protective(const EkTable *mbr)
{
    for (guint i = 0; i < mbr->count; i++)
        if (mbr->entries[i].type == EK_MBR_PROTECTIVE)
            return TRUE;
    return FALSE;
}

gboolean ek_table_current(EkReader *reader, guint32 sector_size, EkTable *table, gboolean *unread)
{
    EkByte least = MIN(ek_reader_bytes(reader), 2 * (EkByte)sector_size);
    *unread = ek_reader_known(reader, 0, least).good < least;
    gboolean has_mbr = ek_table_load(&ek_table_mbr, reader, 0, sector_size, table);
    if (has_mbr && !is_protective(table))
        return TRUE;
    EkTable other;
    /* Without a protective MBR no system looks at a GPT. */
    gboolean may_be_protected = has_mbr || ek_reader_known(reader, 0, EK_STEP).good < EK_STEP;
    if (may_be_protected && load_gpt(reader, sector_size, &other)) {
        *table = other;
        return TRUE;
    }
    guint8 block[EK_STEP];
    EkSpan span = {block, sizeof block};
    if (!has_mbr && ek_reader_read(reader, 0, block, sizeof block, NULL, NULL) &&
        ek_span_equals(span, 0, "ER", 2)) {
        guint32 size = ek_span_be16(span, 2);
        return ek_table_load(&ek_table_apm, reader, size == 2048 ? size : EK_STEP, EK_STEP,
                             table) ||
               ek_table_load(&ek_table_apm, reader, EK_STEP, EK_STEP, table) ||
               ek_apm_gather(reader, table);
    }
    return has_mbr;
}
