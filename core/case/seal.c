/* SPDX-License-Identifier: MIT */
/* Sums of what is written to a target. */
#include "case/seal.h"

#include <string.h>

static void add_number(GChecksum *sum, guint64 number)
{
    guint8 bytes[8];
    ek_put_le64(bytes, number);
    g_checksum_update(sum, bytes, sizeof bytes);
}

static void add_bytes(GChecksum *sum, const void *bytes, gsize length)
{
    add_number(sum, length);
    g_checksum_update(sum, bytes, (gssize)length);
}

static void add_edit(GChecksum *sum, const EkEdit *edit)
{
    add_number(sum, edit->first_byte);
    add_bytes(sum, edit->before, edit->length);
    add_bytes(sum, edit->after, edit->length);
    add_bytes(sum, edit->why, strlen(edit->why));
}

char *ek_seal_edit(const EkEdit *edit, gint64 application, guint position)
{
    g_autoptr(GChecksum) sum = g_checksum_new(G_CHECKSUM_SHA256);
    add_number(sum, (guint64)application);
    add_number(sum, position);
    add_edit(sum, edit);
    return g_strdup(g_checksum_get_string(sum));
}

char *ek_seal_plan(const EkPlan *plan)
{
    g_autoptr(GChecksum) sum = g_checksum_new(G_CHECKSUM_SHA256);
    const char *scheme = ek_scheme_name(plan->scheme);
    add_bytes(sum, scheme, strlen(scheme));
    add_number(sum, plan->opens != 0);
    add_number(sum, plan->layers);
    add_number(sum, plan->table_sectors);
    add_number(sum, plan->partitions->len);
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        const EkTableEntry *entry = &partition->entry;
        add_number(sum, partition->volume);
        add_number(sum, entry->index);
        add_number(sum, entry->range.first);
        add_number(sum, entry->range.bytes);
        add_number(sum, entry->type);
        add_bytes(sum, entry->type_uuid, sizeof entry->type_uuid);
        add_bytes(sum, entry->uuid, sizeof entry->uuid);
        add_number(sum, partition->opens);
    }
    add_number(sum, plan->edits->len);
    for (guint i = 0; i < plan->edits->len; i++) {
        const EkEdit *edit = plan->edits->pdata[i];
        add_bytes(sum, edit->structure, strlen(edit->structure));
        add_edit(sum, edit);
    }
    return g_strdup(g_checksum_get_string(sum));
}
