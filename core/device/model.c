/* SPDX-License-Identifier: MIT */
/* Reads drive models. The format is a key file, but stricter than the common readers of those: a
 * repeated group or key, an unknown one, or a value with a rest is a mistake that gets its line. */
#include "device/model.h"

#include "base/repetition.h"

#include <errno.h>
#include <math.h>
#include <string.h>

#define MAX_MODEL_BYTES (256u << 20)

typedef enum {
    VALUE_TEXT,
    VALUE_SECTORS,
    VALUE_SIGNED,
    VALUE_NUMBER, /* not negative */
    VALUE_FLAG,
    VALUE_KIND
} ValueKind;

typedef struct {
    const char *key;
    ValueKind kind;
} KeyRule;

/* The order is that of the fields in DriveKeys and FaultKeys below. */
enum {
    DRIVE_MODEL,
    DRIVE_SERIAL,
    DRIVE_BACKING,
    DRIVE_SECTOR_SIZE,
    DRIVE_PHYSICAL,
    DRIVE_READ_RATE,
    DRIVE_MAX_TRANSFER,
    DRIVE_COMMAND_TIME,
    DRIVE_SEEK_TIME,
    DRIVE_ERROR_TIME,
    DRIVE_RETURNS,
    DRIVE_REALTIME,
    DRIVE_SEED,
    DRIVE_LIFETIME,
    DRIVE_WEAR,
    DRIVE_KEYS
};

static const KeyRule drive_rules[DRIVE_KEYS] = {
    [DRIVE_MODEL] = {"model", VALUE_TEXT},
    [DRIVE_SERIAL] = {"serial", VALUE_TEXT},
    [DRIVE_BACKING] = {"backing", VALUE_TEXT},
    [DRIVE_SECTOR_SIZE] = {"sector-size", VALUE_SECTORS},
    [DRIVE_PHYSICAL] = {"physical-sector-size", VALUE_SECTORS},
    [DRIVE_READ_RATE] = {"read-rate", VALUE_NUMBER},
    [DRIVE_MAX_TRANSFER] = {"max-transfer", VALUE_SECTORS},
    [DRIVE_COMMAND_TIME] = {"command-time", VALUE_NUMBER},
    [DRIVE_SEEK_TIME] = {"seek-time", VALUE_NUMBER},
    [DRIVE_ERROR_TIME] = {"error-time", VALUE_NUMBER},
    [DRIVE_RETURNS] = {"returns-before-error", VALUE_FLAG},
    [DRIVE_REALTIME] = {"realtime", VALUE_FLAG},
    [DRIVE_SEED] = {"seed", VALUE_SECTORS},
    [DRIVE_LIFETIME] = {"lifetime", VALUE_NUMBER},
    [DRIVE_WEAR] = {"wear", VALUE_NUMBER},
};

enum {
    FAULT_KIND,
    FAULT_FIRST,
    FAULT_COUNT,
    FAULT_REPEAT,
    FAULT_DRIFT,
    FAULT_UNTIL,
    FAULT_CHANCE,
    FAULT_RATE,
    FAULT_HANG,
    FAULT_AFTER,
    FAULT_BACK,
    FAULT_KEYS
};

static const KeyRule fault_rules[FAULT_KEYS] = {
    [FAULT_KIND] = {"kind", VALUE_KIND},         [FAULT_FIRST] = {"first", VALUE_SECTORS},
    [FAULT_COUNT] = {"count", VALUE_SECTORS},    [FAULT_REPEAT] = {"repeat-every", VALUE_SECTORS},
    [FAULT_DRIFT] = {"drift", VALUE_SIGNED},     [FAULT_UNTIL] = {"until", VALUE_SECTORS},
    [FAULT_CHANCE] = {"chance", VALUE_NUMBER},   [FAULT_RATE] = {"rate", VALUE_NUMBER},
    [FAULT_HANG] = {"hang", VALUE_NUMBER},       [FAULT_AFTER] = {"after-errors", VALUE_SECTORS},
    [FAULT_BACK] = {"back-after", VALUE_NUMBER},
};

/* Behind the signs, which are named as everywhere. */
enum {
    HEALTH_PENDING_PER_FAILURE = EK_SIGN_COUNT,
    HEALTH_HEATS,
    HEALTH_COOLS,
    HEALTH_SILENT_AFTER,
    HEALTH_KEYS
};

static const KeyRule health_rules[HEALTH_KEYS] = {
    [EK_SIGN_ASSESSMENT] = {"fit", VALUE_FLAG},
    [EK_SIGN_HOURS] = {"power-on-hours", VALUE_SECTORS},
    [EK_SIGN_TEMPERATURE] = {"temperature", VALUE_SECTORS},
    [EK_SIGN_PENDING] = {"pending", VALUE_SECTORS},
    [EK_SIGN_UNCORRECTABLE] = {"uncorrectable", VALUE_SECTORS},
    [EK_SIGN_REALLOCATED] = {"reallocated", VALUE_SECTORS},
    [EK_SIGN_TRANSFER] = {"crc-errors", VALUE_SECTORS},
    [EK_SIGN_MEDIA] = {"media-errors", VALUE_SECTORS},
    [EK_SIGN_SPARE] = {"spare-percent", VALUE_SECTORS},
    [EK_SIGN_SPARE_LEAST] = {"spare-least-percent", VALUE_SECTORS},
    [EK_SIGN_USED] = {"used-percent", VALUE_SECTORS},
    [HEALTH_PENDING_PER_FAILURE] = {"pending-per-failure", VALUE_NUMBER},
    [HEALTH_HEATS] = {"heats", VALUE_NUMBER},
    [HEALTH_COOLS] = {"cools", VALUE_NUMBER},
    [HEALTH_SILENT_AFTER] = {"silent-after", VALUE_NUMBER},
};

static const char *const kind_names[] = {
    [EK_FAULT_UNREADABLE] = "unreadable", [EK_FAULT_SLOW] = "slow",     [EK_FAULT_FLAKY] = "flaky",
    [EK_FAULT_STUCK] = "stuck",           [EK_FAULT_VANISH] = "vanish",
};

/* The keys that only one kind of fault has. */
static const struct {
    int key;
    EkFaultKind kind;
} special_keys[] = {
    {FAULT_CHANCE, EK_FAULT_FLAKY}, {FAULT_RATE, EK_FAULT_SLOW},   {FAULT_HANG, EK_FAULT_STUCK},
    {FAULT_AFTER, EK_FAULT_VANISH}, {FAULT_BACK, EK_FAULT_VANISH},
};

#define MAX_KEYS MAX((int)DRIVE_KEYS, (int)HEALTH_KEYS)

typedef struct {
    gboolean set;
    int line;
    const char *text; /* points into the file */
    guint64 whole;
    gint64 with_sign;
    double number;
} Value;

typedef struct {
    const char *name; /* in messages */
    const KeyRule *rules;
    int count;
} GroupRule;

static const GroupRule drive_group = {"drive", drive_rules, DRIVE_KEYS};
static const GroupRule health_group = {"health", health_rules, HEALTH_KEYS};
static const GroupRule fault_group = {"fault", fault_rules, FAULT_KEYS};

typedef struct {
    const char *path;
    int line;
    EkModel *model;
    gboolean has_drive;
    gboolean has_health;
    const GroupRule *group; /* the one being read, NULL before the first */
    EkFault *fault;         /* the one being read */
    int group_line;
    GHashTable *names; /* of the faults so far */
    Value values[MAX_KEYS];
} Reader;

static gboolean mistake(const Reader *reader, int line, GError **error, const char *format, ...)
    G_GNUC_PRINTF(4, 5);

static gboolean mistake(const Reader *reader, int line, GError **error, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_autofree char *what = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    return ek_error_set(error, EK_ERROR_DAMAGED, "%s:%d: %s", reader->path, line, what);
}

static gboolean parse_value(const Reader *reader, const KeyRule *rule, Value *value, GError **error)
{
    const char *text = value->text;
    char *end = NULL;
    errno = 0;
    switch (rule->kind) {
    case VALUE_TEXT:
        if (*text == '\0' || !g_utf8_validate(text, -1, NULL))
            return mistake(reader, value->line, error, "%s is empty or not UTF-8", rule->key);
        return TRUE;
    case VALUE_SECTORS:
        if (!g_ascii_string_to_unsigned(text, 10, 0, G_MAXINT64, &value->whole, NULL))
            return mistake(reader, value->line, error, "%s=%s is not a whole number", rule->key,
                           text);
        return TRUE;
    case VALUE_SIGNED:
        if (!g_ascii_string_to_signed(text, 10, -G_MAXINT32, G_MAXINT32, &value->with_sign, NULL))
            return mistake(reader, value->line, error, "%s=%s is not a whole number", rule->key,
                           text);
        return TRUE;
    case VALUE_NUMBER:
        value->number = g_ascii_strtod(text, &end);
        if (end == text || *end != '\0' || errno != 0 || !isfinite(value->number) ||
            value->number < 0 || value->number > 1e12)
            return mistake(reader, value->line, error, "%s=%s is not a number from 0 up", rule->key,
                           text);
        return TRUE;
    case VALUE_FLAG:
        if (strcmp(text, "true") != 0 && strcmp(text, "false") != 0)
            return mistake(reader, value->line, error, "%s=%s is neither true nor false", rule->key,
                           text);
        value->whole = strcmp(text, "true") == 0;
        return TRUE;
    case VALUE_KIND:
        for (guint64 kind = 0; kind < G_N_ELEMENTS(kind_names); kind++) {
            value->whole = kind;
            if (strcmp(text, kind_names[kind]) == 0)
                return TRUE;
        }
        return mistake(reader, value->line, error,
                       "kind=%s is not a kind of fault; there are: unreadable, slow, flaky, stuck, "
                       "vanish",
                       text);
    }
    return FALSE;
}

static gint64 nanoseconds(const Value *value, double unit, double otherwise)
{
    return (gint64)llround((value->set ? value->number : otherwise) * unit);
}

static gboolean finish_drive(Reader *reader, GError **error)
{
    EkModel *model = reader->model;
    const Value *v = reader->values;
    if (!v[DRIVE_BACKING].set)
        return mistake(reader, reader->group_line, error, "[drive] has no backing=FILE");

    g_autofree char *folder = g_path_get_dirname(reader->path);
    const char *backing = v[DRIVE_BACKING].text;
    model->backing =
        g_path_is_absolute(backing) ? g_strdup(backing) : g_build_filename(folder, backing, NULL);
    model->model = g_strdup(v[DRIVE_MODEL].set ? v[DRIVE_MODEL].text : "simulated drive");
    model->serial = v[DRIVE_SERIAL].set ? g_strdup(v[DRIVE_SERIAL].text) : NULL;

    guint64 sector = v[DRIVE_SECTOR_SIZE].set ? v[DRIVE_SECTOR_SIZE].whole : 512;
    if (!ek_is_power_of_two(sector) || sector < 512 || sector > 65536)
        return mistake(reader, v[DRIVE_SECTOR_SIZE].line, error,
                       "sector-size is not a power of two from 512 to 65536");
    guint64 physical =
        v[DRIVE_PHYSICAL].set && v[DRIVE_PHYSICAL].whole != 0 ? v[DRIVE_PHYSICAL].whole : sector;
    if (!ek_is_power_of_two(physical) || physical < sector || physical > 65536)
        return mistake(reader, v[DRIVE_PHYSICAL].line, error,
                       "physical-sector-size is not a power of two from sector-size to 65536");
    guint64 transfer = v[DRIVE_MAX_TRANSFER].set ? v[DRIVE_MAX_TRANSFER].whole : 1024;
    if (transfer == 0 || transfer > 65536 || transfer * 1024 % sector != 0)
        return mistake(reader, v[DRIVE_MAX_TRANSFER].line, error,
                       "max-transfer is not 1 to 65536 KiB in whole sectors");
    model->sector_size = (guint32)sector;
    model->physical_sector_size = (guint32)physical;
    model->max_transfer = (guint32)transfer * 1024;

    model->read_rate = v[DRIVE_READ_RATE].set ? v[DRIVE_READ_RATE].number : 160;
    if (model->read_rate < 0.001)
        return mistake(reader, v[DRIVE_READ_RATE].line, error, "read-rate is below 0.001 MiB/s");
    model->command_time = nanoseconds(&v[DRIVE_COMMAND_TIME], 1e6, 0.1);
    model->seek_time = nanoseconds(&v[DRIVE_SEEK_TIME], 1e6, 9);
    model->error_time = nanoseconds(&v[DRIVE_ERROR_TIME], 1e6, 1500);
    model->returns_before_error = v[DRIVE_RETURNS].set && v[DRIVE_RETURNS].whole;
    model->realtime = v[DRIVE_REALTIME].set && v[DRIVE_REALTIME].whole;
    model->seed = v[DRIVE_SEED].set ? v[DRIVE_SEED].whole : 1;
    model->lifetime = nanoseconds(&v[DRIVE_LIFETIME], 1e9, 0);
    model->wear = nanoseconds(&v[DRIVE_WEAR], 1e9, 0);
    return TRUE;
}

static gboolean finish_fault(Reader *reader, GError **error)
{
    EkFault *fault = reader->fault;
    const Value *v = reader->values;
    if (!v[FAULT_KIND].set || !v[FAULT_FIRST].set || !v[FAULT_COUNT].set)
        return mistake(reader, reader->group_line, error, "[fault %s] needs kind, first and count",
                       fault->name);
    fault->kind = (EkFaultKind)v[FAULT_KIND].whole;
    fault->first = v[FAULT_FIRST].whole;
    fault->count = v[FAULT_COUNT].whole;
    fault->repeat_every = v[FAULT_REPEAT].whole;
    fault->drift = v[FAULT_DRIFT].with_sign;
    fault->until = v[FAULT_UNTIL].whole;
    fault->chance = v[FAULT_CHANCE].set ? v[FAULT_CHANCE].number : 1;
    fault->rate = v[FAULT_RATE].set ? v[FAULT_RATE].number : 2;
    fault->hang = nanoseconds(&v[FAULT_HANG], 1e9, 30);
    fault->after_errors = v[FAULT_AFTER].set ? v[FAULT_AFTER].whole : 0;
    fault->back_after = nanoseconds(&v[FAULT_BACK], 1e9, 20);
    if (fault->count == 0)
        return mistake(reader, v[FAULT_COUNT].line, error, "count is 0");
    if (fault->kind == EK_FAULT_SLOW && fault->rate < 0.001)
        return mistake(reader, v[FAULT_RATE].line, error, "rate is below 0.001 MiB/s");
    if (fault->chance > 1)
        return mistake(reader, v[FAULT_CHANCE].line, error, "chance is more than 1");
    for (guint i = 0; i < G_N_ELEMENTS(special_keys); i++)
        if (v[special_keys[i].key].set && special_keys[i].kind != fault->kind)
            return mistake(reader, v[special_keys[i].key].line, error, "%s belongs to kind=%s",
                           fault_rules[special_keys[i].key].key, kind_names[special_keys[i].kind]);
    if (fault->repeat_every != 0 && fault->repeat_every < fault->count)
        return mistake(reader, v[FAULT_REPEAT].line, error,
                       "repeat-every is less than count: the repetitions would overlap");
    if (fault->drift != 0 && fault->repeat_every == 0)
        return mistake(reader, v[FAULT_DRIFT].line, error, "drift without repeat-every");
    return TRUE;
}

static gboolean finish_health(Reader *reader, GError **error)
{
    EkModelHealth *health = &reader->model->health;
    const Value *v = reader->values;
    for (int i = 0; i < EK_SIGN_COUNT; i++) {
        if (v[i].set && v[i].whole > G_MAXINT32)
            return mistake(reader, v[i].line, error, "%s is above %d", health_rules[i].key,
                           G_MAXINT32);
        if (v[i].set)
            health->at_first.value[i] = (gint64)v[i].whole;
    }
    health->pending_per_failure = v[HEALTH_PENDING_PER_FAILURE].number;
    health->heats = v[HEALTH_HEATS].number;
    health->cools = v[HEALTH_COOLS].number;
    health->silent_after = nanoseconds(&v[HEALTH_SILENT_AFTER], 1e9, 0);
    return TRUE;
}

static gboolean finish_group(Reader *reader, GError **error)
{
    if (reader->group == &fault_group)
        return finish_fault(reader, error);
    if (reader->group == &health_group)
        return finish_health(reader, error);
    return reader->group == NULL || finish_drive(reader, error);
}

static gboolean begin_once(Reader *reader, const GroupRule *group, gboolean *has, GError **error)
{
    if (*has)
        return mistake(reader, reader->line, error, "duplicate group [%s]", group->name);
    *has = TRUE;
    reader->group = group;
    return TRUE;
}

static gboolean begin_group(Reader *reader, char *header, GError **error)
{
    gsize length = strlen(header);
    if (header[length - 1] != ']')
        return mistake(reader, reader->line, error, "a group ends with ]");
    header[length - 1] = '\0';
    if (!finish_group(reader, error))
        return FALSE;

    memset(reader->values, 0, sizeof reader->values);
    reader->group_line = reader->line;
    if (strcmp(header, "[drive") == 0)
        return begin_once(reader, &drive_group, &reader->has_drive, error);
    gboolean is_health = strcmp(header, "[health") == 0;
    if (!is_health && (!g_str_has_prefix(header, "[fault ") || header[strlen("[fault ")] == '\0'))
        return mistake(reader, reader->line, error,
                       "unknown group %s]; there are: [drive], [health], [fault NAME]", header);
    if (!reader->has_drive)
        return mistake(reader, reader->line, error, "[drive] comes first");
    if (is_health)
        return begin_once(reader, &health_group, &reader->has_health, error);
    const char *name = header + strlen("[fault ");
    if (g_hash_table_contains(reader->names, name))
        return mistake(reader, reader->line, error, "duplicate group [fault %s]", name);
    reader->group = &fault_group;
    reader->fault = g_new0(EkFault, 1);
    reader->fault->name = g_strdup(name);
    g_hash_table_add(reader->names, reader->fault->name);
    g_ptr_array_add(reader->model->faults, reader->fault);
    return TRUE;
}

static gboolean take_key(Reader *reader, char *text, GError **error)
{
    char *equals = strchr(text, '=');
    if (equals == NULL)
        return mistake(reader, reader->line, error, "neither [group], key=value nor # comment");
    if (!reader->has_drive)
        return mistake(reader, reader->line, error, "a key before [drive]");
    *equals = '\0';
    const char *key = g_strchomp(text);
    const KeyRule *rules = reader->group->rules;
    int count = reader->group->count;
    for (int i = 0; i < count; i++) {
        if (strcmp(rules[i].key, key) != 0)
            continue;
        Value *value = &reader->values[i];
        if (value->set)
            return mistake(reader, reader->line, error, "duplicate key %s", key);
        value->set = TRUE;
        value->line = reader->line;
        value->text = g_strchug(equals + 1);
        return parse_value(reader, &rules[i], value, error);
    }
    return mistake(reader, reader->line, error, "unknown key %s in [%s]", key, reader->group->name);
}

static gboolean read_lines(Reader *reader, char *contents, GError **error)
{
    for (char *next = contents; next != NULL;) {
        char *line = next;
        next = strchr(line, '\n');
        if (next != NULL)
            *next++ = '\0';
        reader->line++;
        g_strstrip(line);
        gboolean fine = TRUE;
        if (*line == '[')
            fine = begin_group(reader, line, error);
        else if (*line != '\0' && *line != '#')
            fine = take_key(reader, line, error);
        if (!fine)
            return FALSE;
    }
    if (!reader->has_drive)
        return mistake(reader, reader->line, error, "there is no [drive]");
    return finish_group(reader, error);
}

void ek_fault_free(EkFault *fault)
{
    g_free(fault->name);
    g_free(fault);
}

EkModel *ek_model_new(void)
{
    EkModel *model = g_new0(EkModel, 1);
    ek_health_init(&model->health.at_first, NULL);
    model->faults = g_ptr_array_new_with_free_func((GDestroyNotify)(void (*)(void))ek_fault_free);
    return model;
}

EkModel *ek_model_read(const char *path, GError **error)
{
    g_autofree char *contents = NULL;
    gsize length = 0;
    g_autoptr(GError) reason = NULL;
    if (!g_file_get_contents(path, &contents, &length, &reason)) {
        ek_error_set(error,
                     g_error_matches(reason, G_FILE_ERROR, G_FILE_ERROR_NOENT) ? EK_ERROR_ABSENT
                                                                               : EK_ERROR_FAILED,
                     "cannot read the drive model: %s", reason->message);
        return NULL;
    }
    if (length > MAX_MODEL_BYTES || strlen(contents) != length) {
        ek_error_set(error, EK_ERROR_DAMAGED, "%s is not a drive model", path);
        return NULL;
    }
    g_autoptr(EkModel) model = ek_model_new();
    g_autoptr(GHashTable) names = g_hash_table_new(g_str_hash, g_str_equal);
    Reader reader = {.path = path, .model = model, .names = names};
    return read_lines(&reader, contents, error) ? g_steal_pointer(&model) : NULL;
}

void ek_model_free(EkModel *model)
{
    g_free(model->model);
    g_free(model->serial);
    g_free(model->backing);
    ek_health_clear(&model->health.at_first);
    g_ptr_array_unref(model->faults);
    g_free(model);
}

gboolean ek_fault_run(const EkFault *fault, EkSector sector, EkSector *first, EkSector *count)
{
    EkRepetition repetition = {fault->first, fault->count, fault->repeat_every, fault->drift,
                               fault->until};
    EkRepeated run;
    if (!ek_repetition_find(&repetition, sector, &run))
        return FALSE;
    *first = run.first;
    *count = run.count;
    return TRUE;
}
