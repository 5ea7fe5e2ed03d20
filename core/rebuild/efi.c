/* SPDX-License-Identifier: MIT */
/* An EFI system partition is a FAT volume of which only a table, or its boot folder, tells. */
#include "rebuild/planner.h"

#define NAMES_MOST 4096u

typedef struct {
    guint64 root;
    guint names;
    gboolean found;
} Search;

static gboolean take_name(void *data, const EkFileName *name)
{
    Search *search = data;
    search->found = name->parent == search->root && !name->is_deleted &&
                    g_ascii_strcasecmp(name->text, "EFI") == 0;
    return !search->found && ++search->names < NAMES_MOST;
}

/* The root folder comes first: behind it nothing is looked for. */
static gboolean take_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    (void)data;
    (void)from;
    (void)total;
    return done == 0;
}

gboolean ek_planner_is_efi(const EkPlanner *planner, const EkChosen *chosen)
{
    if (chosen->volume == NULL || planner->chosen->len < 2 ||
        !g_str_has_prefix(chosen->filesystem, "fat"))
        return FALSE;
    const EkFileSystem *format = chosen->volume->format;
    EkOpened *opened = format->open(planner->reader, chosen->volume, NULL);
    if (opened == NULL)
        return FALSE;
    Search search = {.root = format->root(opened)};
    EkFileSink sink = ek_file_sink_none();
    sink.data = &search;
    sink.name = take_name;
    sink.mark = take_mark;
    format->walk(opened, 0, &sink);
    format->close(opened);
    return search.found;
}
