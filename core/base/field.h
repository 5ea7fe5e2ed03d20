/* SPDX-License-Identifier: MIT */
/* A named part of an on-disk structure, for showing what bytes mean. */
#ifndef EK_BASE_FIELD_H
#define EK_BASE_FIELD_H

#include "base/bytes.h"

typedef struct {
    gsize offset;
    gsize length;
    const char *name;
    char *meaning; /* of what stands there; "" when there is nothing to say */
} EkField;

/* An empty list of EkField*. */
GPtrArray *ek_fields_new(void);

/* Appends a field. `meaning` is taken over; NULL for "". */
void ek_fields_add(GPtrArray *fields, gsize offset, gsize length, const char *name, char *meaning);

/* How a number field is decoded and shown. */
typedef enum {
    EK_FIELD_BYTES,
    EK_FIELD_U8,
    EK_FIELD_LE16,
    EK_FIELD_LE32,
    EK_FIELD_LE64
} EkFieldKind;

/* One line of a table that describes a structure. */
typedef struct {
    gsize offset;
    gsize length;
    const char *name;
    EkFieldKind kind;
    const char *unit; /* after the number; NULL for none */
} EkFieldRule;

/* Appends the fields of a table of rules, read from `span`. */
void ek_fields_add_rules(GPtrArray *fields, EkSpan span, const EkFieldRule *rules, gsize count);

#endif
