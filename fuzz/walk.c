/* SPDX-License-Identifier: MIT */
/* Walks the files of a volume, and aborts where what is handed on breaks a promise. */
#include "walk.h"

#include <stdlib.h>
#include <string.h>

#define MOST_CALLS 4000u /* so that one input does not take seconds */
#define MOST_BYTES (1u << 20)
#define MOST_DECODED 64u

typedef struct {
    const EkFileSystem *format;
    EkOpened *opened;
    EkFile file;
    EkByte covered;
    guint calls;
    guint most; /* calls; then the sink wants no more */
    guint decoded;
    gsize bytes;
} Walk;

static gboolean take_content(void *data, const guint8 *bytes, gsize length)
{
    Walk *walk = data;
    volatile guint8 last = bytes != NULL && length > 0 ? bytes[length - 1] : 0;
    (void)last;
    walk->bytes += length;
    return walk->bytes < MIN(MOST_BYTES, walk->most * 4096ul);
}

static gboolean take_file(void *data, const EkFile *file)
{
    Walk *walk = data;
    walk->file = *file;
    walk->covered = 0;
    if ((file->flags & EK_FILE_ENCODED) != 0 && walk->decoded++ < MOST_DECODED) {
        walk->bytes = 0;
        if (walk->format->decode(walk->opened, file, take_content, walk) &&
            walk->bytes != file->size)
            abort();
    }
    return ++walk->calls < walk->most;
}

static gboolean take_extent(void *data, guint64 file, const EkExtent *extent)
{
    Walk *walk = data;
    gboolean is_encoded = (walk->file.flags & EK_FILE_ENCODED) != 0;
    if (file != walk->file.number || extent->offset > walk->file.size ||
        extent->bytes > walk->file.size - extent->offset ||
        (extent->offset < walk->covered && !is_encoded && extent->first_byte != EK_UNPLACED) ||
        (!extent->is_packed && extent->first_byte != EK_UNPLACED &&
         extent->stored != extent->bytes))
        abort();
    walk->covered = MAX(walk->covered, extent->offset + extent->bytes);
    return ++walk->calls < walk->most;
}

static gboolean take_name(void *data, const EkFileName *name)
{
    Walk *walk = data;
    if (!g_utf8_validate(name->text, -1, NULL) || strchr(name->text, '/') != NULL)
        abort();
    return ++walk->calls < walk->most;
}

static gboolean take_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    Walk *walk = data;
    (void)folder;
    if (damage->bad_bytes + damage->unread_bytes == 0 && !damage->cut_short)
        abort();
    return ++walk->calls < walk->most;
}

static gboolean take_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    Walk *walk = data;
    (void)from;
    if (done > total)
        abort();
    return ++walk->calls < walk->most;
}

/* What a hunt would have seen of its records. */
static void adopt(EkReader *reader, const EkVolume *volume, EkOpened *opened)
{
    const EkFileSystem *format = volume->format;
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    guint8 span[EK_RECOGNISE_BYTES];
    if (format->lacks == NULL || !format->lacks(opened))
        return;
    for (EkByte at = 0; at < MIN(volume->bytes, MOST_BYTES); at += EK_STEP) {
        EkRecord record = {0};
        if (ek_reader_read(reader, volume->first_byte + at, span, sizeof span, NULL, NULL) &&
            format->record((EkSpan){span, sizeof span}, &record)) {
            EkRecordRun run = {volume->first_byte + at, record.number, 1, record.bytes};
            g_array_append_val(runs, run);
        }
    }
    format->adopt(opened, runs, NULL);
}

void fuzz_walk(EkReader *reader, const EkVolume *volume)
{
    Walk walk = {.format = volume->format, .most = MOST_CALLS};
    EkFileSink sink = {&walk, take_file, take_extent, take_name, take_damage, take_mark};
    if (walk.format->unclean != NULL)
        g_free(walk.format->unclean(reader, volume));
    if (walk.format->open == NULL)
        return;
    walk.opened = walk.format->open(reader, volume, NULL);
    if (walk.opened == NULL)
        return;
    adopt(reader, volume, walk.opened);
    walk.format->root(walk.opened);
    walk.format->walk(walk.opened, 0, &sink);
    /* Once more, and stopped anywhere. */
    walk.most = 1 + (guint)(volume->bytes / EK_STEP + walk.calls * 7) % (walk.calls + 1);
    walk.calls = walk.decoded = 0;
    if (walk.format->walk(walk.opened, 0, &sink) && walk.calls >= walk.most)
        abort();
    walk.format->close(walk.opened);
}
