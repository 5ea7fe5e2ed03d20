/* SPDX-License-Identifier: MIT */
/* A named part of an on-disk structure, for showing what bytes mean. */
#include "base/field.h"

static void field_free(gpointer data)
{
    EkField *field = data;
    g_free(field->meaning);
    g_free(field);
}

GPtrArray *ek_fields_new(void)
{
    return g_ptr_array_new_with_free_func(field_free);
}

void ek_fields_add(GPtrArray *fields, gsize offset, gsize length, const char *name, char *meaning)
{
    EkField *field = g_new0(EkField, 1);
    field->offset = offset;
    field->length = length;
    field->name = name;
    field->meaning = meaning != NULL ? meaning : g_strdup("");
    g_ptr_array_add(fields, field);
}

static guint64 number_of(EkSpan span, const EkFieldRule *rule)
{
    switch (rule->kind) {
    case EK_FIELD_U8: return ek_span_u8(span, rule->offset);
    case EK_FIELD_LE16: return ek_span_le16(span, rule->offset);
    case EK_FIELD_LE32: return ek_span_le32(span, rule->offset);
    case EK_FIELD_LE64: return ek_span_le64(span, rule->offset);
    case EK_FIELD_BYTES: break;
    }
    return 0;
}

void ek_fields_add_rules(GPtrArray *fields, EkSpan span, const EkFieldRule *rules, gsize count)
{
    for (gsize i = 0; i < count; i++) {
        char *meaning = NULL;
        if (rules[i].kind != EK_FIELD_BYTES)
            meaning = g_strdup_printf("%" G_GUINT64_FORMAT "%s%s", number_of(span, &rules[i]),
                                      rules[i].unit != NULL ? " " : "",
                                      rules[i].unit != NULL ? rules[i].unit : "");
        ek_fields_add(fields, rules[i].offset, rules[i].length, rules[i].name, meaning);
    }
}
