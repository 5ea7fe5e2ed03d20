/* SPDX-License-Identifier: MIT */
/* One file system or container, FORMAT: each piece of the drive is taken for a header and measured;
 * what stands is repaired, explained, walked and asked what it uses; from the records that are
 * recognised volumes are inferred. */
#include "pieces.h"
#include "volume/formats.h"
#include "walk.h"

#include <stdlib.h>

#define USES 16u
#define MOMENTS_MOST 4u

static void drop_repair(void *data, EkRepair *repair)
{
    (void)data;
    ek_repair_free(repair);
}

static void check(const EkVolume *volume)
{
    if (volume->confidence < 0 || volume->confidence > 100 || volume->filesystem == NULL)
        abort();
}

/* As it was when transactions of its journal were committed, and before; and with what is known by
 * name only. */
static void walk_past(EkReader *reader, EkVolume *volume)
{
    g_autoptr(GArray) moments =
        volume->format->moments != NULL ? volume->format->moments(reader, volume) : NULL;
    for (guint i = 0; moments != NULL && i < MIN(moments->len, MOMENTS_MOST); i++) {
        const EkMoment *moment = &g_array_index(moments, EkMoment, i);
        volume->as_of = (EkAsOf){EK_AS_OF_TRANSACTION, (gint64)moment->transaction};
        fuzz_walk(reader, volume);
        volume->as_of = (EkAsOf){EK_AS_OF_TIME, moment->time.seconds - 1};
        fuzz_walk(reader, volume);
    }
    volume->as_of = (EkAsOf){EK_AS_IT_IS, 0};
    volume->with_lost = TRUE;
    fuzz_walk(reader, volume);
    volume->with_lost = FALSE;
}

static void use_volume(EkReader *reader, EkVolume *volume)
{
    const EkFileSystem *format = volume->format;
    check(volume);
    if (!volume->is_confirmed)
        return;
    if (format->repair != NULL)
        format->repair(reader, volume, drop_repair, NULL, NULL);
    fuzz_walk(reader, volume);
    walk_past(reader, volume);
    if (format->backup != NULL)
        format->backup(volume);
    EkByte same = 0;
    for (guint i = 0; i < USES; i++)
        ek_volume_use(volume, reader,
                      (EkRange){volume->first_byte + volume->bytes / USES * i,
                                volume->bytes - volume->bytes / USES * i},
                      &same);
    if (format->explain != NULL) {
        GPtrArray *fields = format->explain(ek_volume_header(volume));
        if (fields != NULL)
            g_ptr_array_unref(fields);
    }
}

static void take_volume(void *data, EkVolume *volume)
{
    use_volume(data, volume);
    /* As if the user had said how long it is. */
    if (volume->is_confirmed && volume->length_is_least && volume->format->repair != NULL) {
        volume->length_is_least = FALSE;
        volume->format->repair(data, volume, drop_repair, NULL, NULL);
    }
    ek_volume_free(volume);
}

/* What stands is kept in `volumes`. */
static void measure(EkReader *reader, EkByte at, GPtrArray *volumes)
{
    guint8 start[EK_RECOGNISE_BYTES];
    EkCandidate candidates[EK_CANDIDATES_MOST];
    if (!ek_reader_read(reader, at, start, sizeof start, NULL, NULL))
        return;
    guint count = FORMAT.recognise((EkSpan){start, sizeof start}, at, candidates);
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume = ek_volume_measure(&FORMAT, reader, &candidates[i], NULL);
        if (volume == NULL)
            abort();
        use_volume(reader, volume);
        if (volume->is_confirmed)
            g_ptr_array_add(volumes, g_steal_pointer(&volume));
    }
}

static void infer(const FuzzDrive *drive, EkReader *reader, const GPtrArray *volumes)
{
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < drive->count; i++)
        for (guint32 at = 0; at < drive->lengths[i]; at += EK_STEP) {
            guint8 step[EK_RECOGNISE_BYTES];
            EkRecord record;
            EkByte place = drive->places[i] + at;
            if (!ek_reader_read(reader, place, step, sizeof step, NULL, NULL) ||
                !FORMAT.record((EkSpan){step, sizeof step}, &record))
                continue;
            EkRecordRun run = {place, record.number, 1, record.bytes};
            g_array_append_val(runs, run);
        }
    /* A table names what begins where the first piece is. */
    EkRange named = {drive->places[0], (EkByte)drive->lengths[drive->count - 1] << 11};
    g_array_append_val(places, named);
    g_autoptr(GPtrArray) none = g_ptr_array_new();
    EkSightings sightings = {runs, places, 512, volumes, NULL, FALSE, NULL};
    ek_volume_infer(&FORMAT, reader, &sightings, FALSE, take_volume, reader, NULL);
    ek_volume_infer(&FORMAT, reader, &sightings, TRUE, take_volume, reader, NULL);
    sightings.is_deep = TRUE;
    ek_volume_infer(&FORMAT, reader, &sightings, TRUE, take_volume, reader, NULL);
    /* As if nothing else were known. */
    sightings.volumes = none;
    ek_volume_infer(&FORMAT, reader, &sightings, TRUE, take_volume, reader, NULL);
    g_array_set_size(places, 0);
    ek_volume_infer(&FORMAT, reader, &sightings, FALSE, take_volume, reader, NULL);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzDrive drive;
    if (!fuzz_drive_open(&drive, data, size))
        return 0;
    g_autoptr(GPtrArray) volumes = g_ptr_array_new_with_free_func((GDestroyNotify)ek_volume_free);
    for (guint i = 0; i < drive.count; i++)
        measure(drive.image.reader, drive.places[i], volumes);
    if (FORMAT.infer != NULL)
        infer(&drive, drive.image.reader, volumes);
    fuzz_drive_close(&drive);
    return 0;
}
