/* SPDX-License-Identifier: MIT */
/* A plan as JSON. */
#include "planshow.h"

#include "base/text.h"

static json_t *text_or_null(const char *text)
{
    return *text != '\0' ? ek_json_text(text) : json_null();
}

static json_t *uuid_json(const guint8 *uuid)
{
    g_autofree char *text = ek_gpt_uuid(uuid);
    return ek_bytes_are_zero(uuid, 16) ? json_null() : ek_json_text(text);
}

static json_t *partition_json(const EkPlanPartition *partition, guint32 sector_size)
{
    const EkTableEntry *entry = &partition->entry;
    gboolean is_gpt = !ek_bytes_are_zero(entry->type_uuid, sizeof entry->type_uuid);
    g_autofree char *type = is_gpt                      ? ek_gpt_uuid(entry->type_uuid)
                            : *entry->type_text != '\0' ? g_strdup(entry->type_text)
                                                        : g_strdup_printf("%02x", entry->type);
    json_t *row = json_object();
    json_object_set_new(row, "index", json_integer(entry->index + 1));
    json_object_set_new(row, "volume",
                        partition->volume != 0 ? json_integer(partition->volume) : json_null());
    json_object_set_new(row, "first_byte", ek_json_u64(entry->range.first));
    json_object_set_new(row, "bytes", ek_json_u64(entry->range.bytes));
    json_object_set_new(row, "first_sector", ek_json_whole(entry->range.first, sector_size));
    json_object_set_new(row, "sectors", ek_json_whole(entry->range.bytes, sector_size));
    json_object_set_new(row, "type", ek_json_text(type));
    json_object_set_new(row, "name", text_or_null(entry->name));
    json_object_set_new(row, "uuid", uuid_json(entry->uuid));
    json_object_set_new(row, "active", json_boolean(entry->active));
    json_object_set_new(row, "logical", json_boolean(entry->logical));
    json_object_set_new(row, "extended", json_boolean(entry->extended));
    json_object_set_new(row, "from", ek_json_text(partition->note));
    json_object_set_new(row, "now", ek_json_text(partition->now));
    json_object_set_new(row, "check", text_or_null(partition->check));
    json_object_set_new(row, "label", ek_json_text(partition->label));
    const EkPlanContents *contents = &partition->contents;
    gboolean is_open = *partition->check != '\0' && partition->opens == EK_PLAN_OPENS;
    json_object_set_new(row, "files", is_open ? ek_json_u64(contents->files) : json_null());
    json_object_set_new(row, "damaged", is_open ? ek_json_u64(contents->damaged) : json_null());
    json_object_set_new(row, "opens", json_boolean(partition->opens == EK_PLAN_OPENS));
    json_object_set_new(row, "state",
                        *partition->check != '\0'
                            ? ek_json_text(ek_plan_opens_name(partition->opens))
                            : json_null());
    return row;
}

/* What the table has now. */
static json_t *current_json(const EkPlan *plan, guint32 sector_size)
{
    json_t *list = json_array();
    for (guint i = 0; i < plan->current->len; i++) {
        const EkTableEntry *entry = &g_array_index(plan->current, EkTableEntry, i);
        json_t *row = json_object();
        json_object_set_new(row, "index", json_integer(entry->index + 1));
        json_object_set_new(row, "first_sector", ek_json_whole(entry->range.first, sector_size));
        json_object_set_new(row, "sectors", ek_json_whole(entry->range.bytes, sector_size));
        json_object_set_new(row, "logical", json_boolean(entry->logical));
        json_object_set_new(row, "extended", json_boolean(entry->extended));
        json_array_append_new(list, row);
    }
    return json_pack("{s:o,s:o}", "scheme", ek_json_text(ek_scheme_name(plan->current_scheme)),
                     "partitions", list);
}

static json_t *edits_json(const EkPlan *plan)
{
    json_t *list = json_array();
    for (guint i = 0; i < plan->edits->len; i++) {
        const EkEdit *edit = plan->edits->pdata[i];
        g_autofree char *before = ek_text_hex(edit->before, edit->length, '\0');
        g_autofree char *after = ek_text_hex(edit->after, edit->length, '\0');
        json_t *row = json_object();
        json_object_set_new(row, "first_byte", ek_json_u64(edit->first_byte));
        json_object_set_new(row, "bytes", ek_json_u64(edit->length));
        json_object_set_new(row, "why", ek_json_text(edit->why));
        json_object_set_new(row, "before", ek_json_text(before));
        json_object_set_new(row, "after", ek_json_text(after));
        json_array_append_new(list, row);
    }
    return list;
}

static json_t *alternatives_json(const EkPlan *plan)
{
    json_t *list = json_array();
    for (guint i = 0; i < plan->alternatives->len; i++) {
        const EkPlanAlternative *alternative = plan->alternatives->pdata[i];
        json_t *row = json_object();
        json_object_set_new(row, "keep", json_integer(alternative->volume));
        json_object_set_new(row, "text", ek_json_text(alternative->text));
        json_array_append_new(list, row);
    }
    return list;
}

int ek_plan_print_json(const EkPlan *plan, guint32 sector_size)
{
    json_t *partitions = json_array();
    json_t *repairs = json_array();
    json_t *warnings = json_array();
    for (guint i = 0; i < plan->partitions->len; i++)
        json_array_append_new(partitions, partition_json(plan->partitions->pdata[i], sector_size));
    for (guint i = 0; i < plan->repairs->len; i++) {
        const EkPlanRepair *repair = plan->repairs->pdata[i];
        json_array_append_new(repairs, json_pack("{s:i,s:o,s:o}", "volume", (int)repair->volume,
                                                 "what", ek_json_text(repair->what), "from",
                                                 ek_json_text(repair->from)));
    }
    for (guint i = 0; i < plan->warnings->len; i++)
        json_array_append_new(warnings, ek_json_text(plan->warnings->pdata[i]));
    json_t *root = json_object();
    json_object_set_new(root, "scheme", ek_json_text(ek_scheme_name(plan->scheme)));
    json_object_set_new(root, "sector_size", json_integer(sector_size));
    json_object_set_new(root, "opens", json_boolean(plan->opens));
    json_object_set_new(root, "layers", json_integer(plan->layers));
    json_object_set_new(root, "current", current_json(plan, sector_size));
    json_object_set_new(root, "partitions", partitions);
    json_object_set_new(root, "repairs", repairs);
    json_object_set_new(root, "edits", edits_json(plan));
    json_object_set_new(root, "alternatives", alternatives_json(plan));
    json_object_set_new(root, "warnings", warnings);
    return ek_cli_print_json(root);
}
