/* SPDX-License-Identifier: MIT */
/* A sink that takes everything and does nothing with it. */
#include "volume/file.h"

static gboolean take_file(void *data, const EkFile *file)
{
    (void)data;
    (void)file;
    return TRUE;
}

static gboolean take_extent(void *data, guint64 file, const EkExtent *extent)
{
    (void)data;
    (void)file;
    (void)extent;
    return TRUE;
}

static gboolean take_name(void *data, const EkFileName *name)
{
    (void)data;
    (void)name;
    return TRUE;
}

static gboolean take_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    (void)data;
    (void)folder;
    (void)damage;
    return TRUE;
}

static gboolean pass_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    const EkFileSink *sink = data;
    (void)from;
    return sink->mark(sink->data, 0, done, total);
}

static gboolean take_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    (void)data;
    (void)from;
    (void)done;
    (void)total;
    return TRUE;
}

EkFileSink ek_file_sink_none(void)
{
    return (EkFileSink){NULL, take_file, take_extent, take_name, take_damage, take_mark};
}

EkFileSink ek_file_sink_muted(const EkFileSink *sink)
{
    /* It is handed back to whoever gave it, and not changed. */
    return (EkFileSink){(void *)sink, take_file, take_extent, take_name, take_damage, pass_mark};
}
