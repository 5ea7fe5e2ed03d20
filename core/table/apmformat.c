/* SPDX-License-Identifier: MIT */
/* The Apple partition map as a table among others. */
#include "table/apm.h"
#include "table/table.h"

#include "base/text.h"

static const EkSignature signatures[] = {
    /* PM, two zeros, a number of entries below 65536. */
    {.offset = 0, .length = 6, .bytes = {'P', 'M', 0, 0, 0, 0}},
};

static GPtrArray *apm_explain(EkSpan span, guint32 sector_size)
{
    GPtrArray *fields = ek_fields_new();
    EkTable one;
    (void)sector_size;
    if (ek_span_equals(span, 0, "ER", 2)) {
        ek_fields_add(fields, 0, 2, "signature", NULL);
        ek_fields_add(fields, 2, 2, "bytes per block",
                      g_strdup_printf("%u", ek_span_be16(span, 2)));
        ek_fields_add(fields, 4, 4, "blocks", g_strdup_printf("%u", ek_span_be32(span, 4)));
        ek_fields_add(fields, 8, 504, "drivers, boot code", NULL);
        return fields;
    }
    if (!ek_apm_entry_read(span, EK_STEP, &one)) {
        ek_fields_add(fields, 0, span.length, "no entry", NULL);
        return fields;
    }
    ek_fields_add(fields, 0, 4, "signature", NULL);
    ek_fields_add(fields, 4, 4, "entries", g_strdup_printf("%u", one.entry_count));
    ek_fields_add(fields, 8, 4, "first block", g_strdup_printf("%u", ek_span_be32(span, 8)));
    ek_fields_add(fields, 12, 4, "blocks", g_strdup_printf("%u", ek_span_be32(span, 12)));
    ek_fields_add(fields, EK_APM_NAME_AT, EK_APM_TEXT, "name", ek_text_escape(one.entries[0].name));
    ek_fields_add(fields, EK_APM_TYPE_AT, EK_APM_TEXT, "type",
                  ek_text_escape(one.entries[0].type_text));
    ek_fields_add(fields, 80, 8, "first block and blocks of data", NULL);
    ek_fields_add(fields, 88, 4, "status", NULL);
    ek_fields_add(fields, 92, 420, "boot code", NULL);
    return fields;
}

const EkTableFormat ek_table_apm = {
    .scheme = EK_SCHEME_APM,
    .header_bytes = EK_STEP,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = ek_apm_read,
    .follow = ek_apm_follow,
    .compose = ek_apm_compose,
    .explain = apm_explain,
};
