/* SPDX-License-Identifier: MIT */
/* A plugin of nbdkit that exports the drive of a case. Parameters: case=FOLDER, as=read|repaired,
 * zeros=0|1. */
#define NBDKIT_API_VERSION 2
#include <nbdkit-plugin.h>

#include "work/serving.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define THREAD_MODEL NBDKIT_THREAD_MODEL_PARALLEL

static char *folder;
static EkFace face = EK_FACE_AS_REPAIRED;
static int zeros;
static EkServing *serving;

static int on_config(const char *key, const char *value)
{
    if (strcmp(key, "case") == 0) {
        free(folder);
        folder = nbdkit_absolute_path(value);
        return folder != NULL ? 0 : -1;
    }
    if (strcmp(key, "as") == 0 && (strcmp(value, "read") == 0 || strcmp(value, "repaired") == 0)) {
        face = strcmp(value, "read") == 0 ? EK_FACE_AS_READ : EK_FACE_AS_REPAIRED;
        return 0;
    }
    if (strcmp(key, "zeros") == 0) {
        zeros = nbdkit_parse_bool(value);
        return zeros < 0 ? -1 : 0;
    }
    nbdkit_error("unknown parameter %s=%s", key, value);
    return -1;
}

static int on_config_complete(void)
{
    if (folder != NULL)
        return 0;
    nbdkit_error("case=FOLDER is missing");
    return -1;
}

static int on_get_ready(void)
{
    GError *error = NULL;
    serving = ek_serving_new(folder, face, &error);
    if (serving != NULL)
        return 0;
    nbdkit_error("%s", error->message);
    g_error_free(error);
    return -1;
}

static void on_unload(void)
{
    g_clear_pointer(&serving, ek_serving_free);
    free(folder);
}

static int on_list_exports(int readonly, int is_tls, struct nbdkit_exports *exports)
{
    (void)readonly;
    (void)is_tls;
    for (guint i = 0; i < ek_serving_count(serving); i++) {
        const EkExport *one = ek_serving_export(serving, i);
        if (nbdkit_add_export(exports, one->name, one->text) != 0)
            return -1;
    }
    return 0;
}

static const char *on_default_export(int readonly, int is_tls)
{
    (void)readonly;
    (void)is_tls;
    return ek_serving_export(serving, 0)->name;
}

static void *on_open(int readonly)
{
    const char *name = nbdkit_export_name();
    (void)readonly;
    const EkExport *one = name != NULL ? ek_serving_named(serving, name) : NULL;
    if (one == NULL) {
        nbdkit_error("no export of that name");
        nbdkit_set_error(ENOENT);
    }
    return (void *)(guintptr)one;
}

static int64_t on_get_size(void *handle)
{
    return (int64_t)((const EkExport *)handle)->bytes;
}

static int on_can_write(void *handle)
{
    (void)handle;
    return 0;
}

/* All connections see the same. */
static int on_can_multi_conn(void *handle)
{
    (void)handle;
    return 1;
}

static const char *on_export_description(void *handle)
{
    return ((const EkExport *)handle)->text;
}

static int on_pread(void *handle, void *buffer, uint32_t count, uint64_t offset, uint32_t flags)
{
    GError *error = NULL;
    (void)flags;
    if (ek_serving_read(serving, handle, offset, buffer, count, zeros != 0, &error))
        return 0;
    nbdkit_debug("%s", error->message);
    g_error_free(error);
    nbdkit_set_error(EIO);
    return -1;
}

static struct nbdkit_plugin plugin = {
    .name = "ektypon",
    .longname = "Ektypon: the drive of a case",
    .version = EKTYPON_VERSION,
    .description = "The drive of a case as it was read, or with the plan's edits in place",
    .config = on_config,
    .config_complete = on_config_complete,
    .config_help = "case=<FOLDER>      (required) the case\n"
                   "as=read|repaired   without or with the edits of the plan\n"
                   "zeros=<BOOL>       missing bytes are zeros, not errors",
    .get_ready = on_get_ready,
    .unload = on_unload,
    .list_exports = on_list_exports,
    .default_export = on_default_export,
    .open = on_open,
    .get_size = on_get_size,
    .can_write = on_can_write,
    .can_multi_conn = on_can_multi_conn,
    .export_description = on_export_description,
    .pread = on_pread,
};

NBDKIT_REGISTER_PLUGIN(plugin)
