/* SPDX-License-Identifier: MIT */
/* drives: lists the drives of this machine and who uses them. */
#include "cli.h"

#include "base/bytes.h"
#include "base/text.h"
#include "device/device.h"
#include "show.h"
#include "signs.h"

#include <stdlib.h>
#include <string.h>

#define LABEL_MOST (100ull * 1000 * 1000 * 1000 * 1000) /* no drive of today is larger */
#define LOOK_ALIGNMENT 65536u

typedef struct {
    const EkDrive *drive;
    GPtrArray *warnings; /* char* */
    char *looked;        /* what reading the first and last sector told; NULL: was not asked */
    EkHealth *health;    /* NULL: was not asked */
} Row;

static void row_clear(gpointer data)
{
    Row *row = data;
    g_ptr_array_unref(row->warnings);
    g_free(row->looked);
    if (row->health != NULL)
        ek_health_clear(row->health);
    g_free(row->health);
}

static void warn(Row *row, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void warn(Row *row, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(row->warnings, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

static void warn_of_uses(Row *row, const char *name, GPtrArray *uses)
{
    for (guint i = 0; i < uses->len; i++) {
        const EkUse *use = uses->pdata[i];
        if (use->is_mount && use->discards)
            warn(row, "%s is mounted on %s with discard on: deleted data is being erased", name,
                 use->where);
        else if (use->is_mount)
            warn(row, "%s is mounted on %s: unmount it before imaging", name, use->where);
        else
            warn(row, "%s is held by %s", name, use->where);
    }
}

static void find_warnings(Row *row)
{
    const EkDrive *drive = row->drive;
    if (drive->bytes == 0)
        warn(row, "size 0: no medium, or the drive failed to initialise");
    else if (drive->bytes > LABEL_MOST)
        warn(row, "impossible capacity reported: suspect the adapter or the drive's firmware");
    warn_of_uses(row, drive->name, drive->uses);
    for (guint i = 0; i < drive->parts->len; i++) {
        const EkPart *part = drive->parts->pdata[i];
        warn_of_uses(row, part->name, part->uses);
    }
    if (drive->buffered)
        warn(row, "a loop device that uses the page cache: one bad sector makes its whole page "
                  "unreadable. Recreate it with direct I/O (losetup --direct-io=on)");
    if (drive->state != NULL && !g_str_equal(drive->state, "running") &&
        !g_str_equal(drive->state, "live"))
        warn(row, "the kernel has taken the drive offline: power-cycle it");
    if (drive->error_count > 0)
        warn(row, "commands have failed since the drive was connected");
    if (drive->bytes > 0 && drive->table == NULL && drive->filesystem == NULL &&
        drive->parts->len == 0)
        warn(row, "the kernel sees no partition table");
}

/* Reads the first and the last sector, only when asked to. */
static void look(Row *row)
{
    const EkDrive *drive = row->drive;
    g_autoptr(GError) error = NULL;
    EkDeviceOptions options = {.look_only = TRUE};
    g_autoptr(EkDevice) device = ek_device_open(drive->path, &options, &error);
    if (device == NULL) {
        row->looked = g_strdup(error->message);
        return;
    }
    const EkDeviceInfo *info = ek_device_info(device);
    void *buffer = NULL;
    if (posix_memalign(&buffer, LOOK_ALIGNMENT, LOOK_ALIGNMENT) != 0)
        return;
    EkSector places[] = {0, info->sectors - 1};
    const char *said[2];
    for (int i = 0; i < 2; i++) {
        EkReadOutcome outcome = ek_device_read(device, places[i], 1, buffer);
        said[i] = outcome.reason != EK_REASON_NONE               ? ek_reason_name(outcome.reason)
                  : ek_bytes_are_zero(buffer, info->sector_size) ? "reads, all zero"
                                                                 : "reads";
    }
    free(buffer);
    row->looked = g_strdup_printf("first sector: %s; last sector: %s", said[0], said[1]);
}

static json_t *uses_json(GPtrArray *uses)
{
    json_t *list = json_array();
    for (guint i = 0; i < uses->len; i++) {
        const EkUse *use = uses->pdata[i];
        json_array_append_new(list, json_pack("{s:o,s:b,s:b}", "where", ek_json_text(use->where),
                                              "mount", use->is_mount, "discard", use->discards));
    }
    return list;
}

static json_t *row_json(const Row *row)
{
    const EkDrive *drive = row->drive;
    json_t *parts = json_array();
    json_t *warnings = json_array();
    for (guint i = 0; i < drive->parts->len; i++) {
        const EkPart *part = drive->parts->pdata[i];
        json_array_append_new(
            parts,
            json_pack("{s:o,s:o,s:o,s:o,s:o,s:o}", "name", ek_json_text(part->name), "first_byte",
                      ek_json_u64(part->range.first), "bytes", ek_json_u64(part->range.bytes),
                      "filesystem", ek_json_text(part->filesystem), "label",
                      ek_json_text(part->label), "uses", uses_json(part->uses)));
    }
    for (guint i = 0; i < row->warnings->len; i++)
        json_array_append_new(warnings, ek_json_text(row->warnings->pdata[i]));
    json_t *out = json_object();
    json_object_set_new(out, "name", ek_json_text(drive->name));
    json_object_set_new(out, "path", ek_json_text(drive->path));
    json_object_set_new(out, "bytes", ek_json_u64(drive->bytes));
    json_object_set_new(out, "sector_size", ek_json_u64(drive->sector_size));
    json_object_set_new(out, "physical_sector_size", ek_json_u64(drive->physical_sector_size));
    json_object_set_new(out, "model", ek_json_text(drive->model));
    json_object_set_new(out, "serial", ek_json_text(drive->serial));
    json_object_set_new(out, "bus", ek_json_text(drive->bus));
    json_object_set_new(out, "table", ek_json_text(drive->table));
    json_object_set_new(out, "filesystem", ek_json_text(drive->filesystem));
    json_object_set_new(out, "read_only", json_boolean(drive->read_only));
    json_object_set_new(out, "removable", json_boolean(drive->removable));
    json_object_set_new(out, "can_discard", json_boolean(drive->can_discard));
    json_object_set_new(out, "buffered", json_boolean(drive->buffered));
    json_object_set_new(out, "state", ek_json_text(drive->state));
    json_object_set_new(out, "command_timeout_seconds",
                        drive->timeout_seconds > 0 ? ek_json_u64(drive->timeout_seconds)
                                                   : json_null());
    json_object_set_new(out, "errors",
                        drive->error_count >= 0 ? json_integer(drive->error_count) : json_null());
    json_object_set_new(out, "uses", uses_json(drive->uses));
    json_object_set_new(out, "partitions", parts);
    json_object_set_new(out, "looked", ek_json_text(row->looked));
    json_object_set_new(out, "scheduler", ek_json_text(drive->scheduler));
    json_object_set_new(out, "queue_depth",
                        drive->queue_depth > 0 ? ek_json_u64(drive->queue_depth) : json_null());
    json_object_set_new(out, "write_cache", ek_json_text(drive->write_cache));
    json_object_set_new(out, "power", ek_json_text(drive->power));
    json_object_set_new(out, "health",
                        row->health != NULL ? ek_signs_json(row->health) : json_null());
    json_object_set_new(out, "warnings", warnings);
    return out;
}

static void print_uses(GString *text, GPtrArray *uses)
{
    for (guint i = 0; i < uses->len; i++) {
        const EkUse *use = uses->pdata[i];
        g_autofree char *where = ek_text_escape(use->where);
        g_string_append_printf(text, ", %s %s", use->is_mount ? "mounted on" : "held by", where);
    }
}

static void print_part(const EkPart *part, guint32 sector_size)
{
    g_autoptr(GString) text = g_string_new(NULL);
    g_autofree char *size = ek_text_size(part->range.bytes);
    g_autofree char *label = ek_text_escape(part->label != NULL ? part->label : "");
    g_string_append_printf(text, "%s: %s%s%s%s, %s from sector %" G_GUINT64_FORMAT, part->name,
                           part->filesystem != NULL ? part->filesystem : "file system not known",
                           *label != '\0' ? " \"" : "", label, *label != '\0' ? "\"" : "", size,
                           part->range.first / MAX(sector_size, 1));
    print_uses(text, part->uses);
    ek_show_sentence(stdout, "    ", 6, text->str);
}

/* What the kernel says of how the drive has been doing. */
static void print_kernel(const EkDrive *drive)
{
    g_autoptr(GString) text = g_string_new(NULL);
    if (drive->state != NULL) {
        g_autofree char *state = ek_text_escape(drive->state);
        g_string_append_printf(text, "; state %s", state);
    }
    if (drive->error_count >= 0)
        g_string_append_printf(text, "; %" G_GINT64_FORMAT " failed commands", drive->error_count);
    if (drive->timeout_seconds > 0)
        g_string_append_printf(text, "; command timeout %u s", drive->timeout_seconds);
    if (text->len == 0)
        return;
    g_autofree char *line = g_strdup_printf("kernel: %s", text->str + 2);
    ek_show_sentence(stdout, "    ", 6, line);
}

/* A few lines a drive: a table of all this would be too wide to read. */
static void print_drive(EkCli *cli, const Row *row)
{
    const EkDrive *drive = row->drive;
    g_autofree char *label = ek_text_label_size(drive->bytes);
    g_autofree char *binary = ek_text_size(drive->bytes);
    g_autofree char *model = ek_text_escape(drive->model != NULL ? drive->model : "model unknown");
    g_autofree char *serial = ek_text_escape(drive->serial != NULL ? drive->serial : "unknown");
    g_autofree char *path = ek_show_in(cli->color_out, EK_COLOR_STRONG, drive->path);
    g_autofree char *backing = ek_text_escape(drive->backing != NULL ? drive->backing : "");
    ek_cli_print("%s  %s, serial %s%s%s%s%s\n", path, model, serial, drive->bus != NULL ? ", " : "",
                 drive->bus != NULL ? drive->bus : "", drive->backing != NULL ? " over " : "",
                 backing);

    g_autoptr(GString) text = g_string_new(NULL);
    g_string_append_printf(text, "%s (%s), %u-byte sectors", label, binary, drive->sector_size);
    if (drive->physical_sector_size != drive->sector_size)
        g_string_append_printf(text, " (%u inside)", drive->physical_sector_size);
    g_string_append_printf(text, "; discard %s%s", drive->can_discard ? "possible" : "not possible",
                           drive->read_only ? "; read-only" : "");
    ek_show_sentence(stdout, "    ", 6, text->str);
    print_kernel(drive);
    g_string_printf(text, "holds: %s%s%s", drive->table != NULL ? drive->table : "",
                    drive->table != NULL && drive->filesystem != NULL ? ", " : "",
                    drive->filesystem != NULL ? drive->filesystem : "");
    if (drive->table == NULL && drive->filesystem == NULL)
        g_string_append(text,
                        drive->parts->len > 0 ? "partitions" : "no known table or file system");
    print_uses(text, drive->uses);
    ek_show_sentence(stdout, "    ", 6, text->str);
    for (guint i = 0; i < drive->parts->len; i++)
        print_part(drive->parts->pdata[i], drive->sector_size);
    for (guint i = 0; i < row->warnings->len; i++) {
        g_autofree char *mark = ek_show_in(cli->color_out, EK_COLOR_WARN, "  ! ");
        g_autofree char *safe = ek_text_escape(row->warnings->pdata[i]);
        ek_show_sentence(stdout, mark, 4, safe);
    }
    if (row->looked != NULL)
        ek_show_sentence(stdout, "    ", 6, row->looked);
    if (row->health != NULL)
        ek_signs_print(cli, drive, row->health);
}

/* A simulated drive, in the shape of a real one. */
static EkDrive *simulated_drive(const char *source, GError **error)
{
    g_autoptr(EkDevice) device = ek_device_open(source, NULL, error);
    if (device == NULL)
        return NULL;
    const EkDeviceInfo *info = ek_device_info(device);
    EkDrive *drive = g_new0(EkDrive, 1);
    drive->name = g_path_get_basename(info->path);
    drive->path = g_strdup(source);
    drive->bytes = info->bytes;
    drive->sector_size = info->sector_size;
    drive->physical_sector_size = info->physical_sector_size;
    drive->model = g_strdup(info->model);
    drive->serial = g_strdup(info->serial);
    drive->bus = g_strdup("simulated");
    drive->read_only = TRUE;
    drive->error_count = -1;
    drive->uses = g_ptr_array_new();
    drive->parts = g_ptr_array_new();
    return drive;
}

static gboolean gather(EkCli *cli, GPtrArray **drives, GError **error)
{
    if (cli->operands[0] == NULL) {
        *drives = ek_system_drives(cli->system);
        return TRUE;
    }
    *drives = g_ptr_array_new_with_free_func((GDestroyNotify)ek_drive_free);
    for (char **operand = cli->operands; *operand != NULL; operand++) {
        EkDrive *drive = g_str_has_prefix(*operand, "sim:")
                             ? simulated_drive(*operand, error)
                             : ek_system_drive_of_path(cli->system, *operand);
        if (drive == NULL) {
            if (error != NULL && *error == NULL)
                ek_error_set(error, EK_ERROR_ABSENT, "no such drive: %s", *operand);
            return FALSE;
        }
        g_ptr_array_add(*drives, drive);
    }
    return TRUE;
}

int ek_command_drives(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean wants_look = FALSE;
    gboolean wants_signs = FALSE;
    const GOptionEntry entries[] = {
        {"look", 0, 0, G_OPTION_ARG_NONE, &wants_look,
         "read the first and the last sector of each drive", NULL},
        {"signs", 0, 0, G_OPTION_ARG_NONE, &wants_signs,
         "ask each drive for its health (needs smartctl and root)", NULL},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;

    g_autoptr(GPtrArray) drives = NULL;
    GError *error = NULL;
    if (!gather(cli, &drives, &error))
        return ek_cli_fail(cli, error);
    g_autoptr(GArray) rows = g_array_new(FALSE, TRUE, sizeof(Row));
    g_array_set_clear_func(rows, row_clear);
    for (guint i = 0; i < drives->len; i++) {
        Row row = {drives->pdata[i], g_ptr_array_new_with_free_func(g_free), NULL, NULL};
        find_warnings(&row);
        if (wants_look)
            look(&row);
        if (wants_signs) {
            row.health = g_new(EkHealth, 1);
            ek_signs_ask(row.drive, row.health);
        }
        g_array_append_val(rows, row);
    }
    if (json) {
        json_t *list = json_array();
        for (guint i = 0; i < rows->len; i++)
            json_array_append_new(list, row_json(&g_array_index(rows, Row, i)));
        status = ek_cli_print_json(json_pack("{s:o}", "drives", list));
    } else if (rows->len == 0) {
        ek_cli_print("No drives found. If the system does not detect a drive, check power, cable "
                     "and\nelectronics: no software can reach it.\n");
    } else {
        for (guint i = 0; i < rows->len; i++)
            print_drive(cli, &g_array_index(rows, Row, i));
    }
    return status;
}
