/* SPDX-License-Identifier: MIT */
/* Makes an input of pieces out of an image: those sectors without which something else would be
 * found in it; and another one of which the first piece is not read. Usage: fuzz_gather IMAGE
 * OUTPUT */
#include "pieces.h"

#include "base/text.h"
#include "hunt/hunt.h"
#include "hunt/steps.h"
#include "table/table.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define RUN_MOST 255u

typedef struct {
    EkImage *image;
    EkReadMap *map;
    EkReader *reader;
    int fd;
    EkByte bytes;
} Drive;

static gboolean drive_open(Drive *drive, const char *path)
{
    drive->fd = open(path, O_RDWR | O_CLOEXEC);
    if (drive->fd < 0)
        return FALSE;
    drive->bytes = (EkByte)lseek(drive->fd, 0, SEEK_END) / 512 * 512;
    drive->image = ek_image_open(path, drive->bytes, FALSE, NULL);
    drive->map = ek_read_map_new(drive->bytes / 512);
    ek_read_map_set(drive->map, 0, drive->bytes / 512,
                    (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    EkImageReaderParts parts = {.image = drive->image, .map = drive->map, .sector_size = 512};
    drive->reader = drive->image != NULL ? ek_image_reader_new(&parts, EK_FACE_AS_READ) : NULL;
    return drive->reader != NULL;
}

/* --- files, as text --- */

typedef struct {
    GString *text;
    GArray *encoded; /* EkFile */
} Files;

static gboolean add_content(void *data, const guint8 *bytes, gsize length)
{
    GString *text = data;
    guint32 sum = 0;
    for (gsize i = 0; bytes != NULL && i < length; i++)
        sum = (sum << 1 | sum >> 31) + bytes[i];
    g_string_append_printf(text, "c%zu %u\n", length, sum);
    return TRUE;
}

static gboolean add_file(void *data, const EkFile *file)
{
    Files *files = data;
    if ((file->flags & EK_FILE_ENCODED) != 0)
        g_array_append_vals(files->encoded, file, 1);
    g_string_append_printf(files->text, "f%" G_GUINT64_FORMAT " %d %u %" G_GUINT64_FORMAT "\n",
                           file->number, (int)file->type, file->flags, file->size);
    return TRUE;
}

static gboolean add_extent(void *data, guint64 file, const EkExtent *extent)
{
    g_string_append_printf(((Files *)data)->text,
                           "e%" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT
                           " %" G_GUINT64_FORMAT "\n",
                           file, extent->offset, extent->bytes, extent->first_byte);
    return TRUE;
}

static gboolean add_name(void *data, const EkFileName *name)
{
    g_string_append_printf(((Files *)data)->text, "n%" G_GUINT64_FORMAT " %s\n", name->parent,
                           name->text);
    return TRUE;
}

static gboolean add_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    g_string_append_printf(((Files *)data)->text, "d%" G_GUINT64_FORMAT " %d\n", folder,
                           damage->cut_short);
    return TRUE;
}

static gboolean pass_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    (void)data;
    (void)from;
    (void)done;
    (void)total;
    return TRUE;
}

static void add_files(GString *text, EkReader *reader, const EkVolume *volume)
{
    g_autoptr(GArray) encoded = g_array_new(FALSE, FALSE, sizeof(EkFile));
    Files files = {text, encoded};
    EkFileSink sink = {&files, add_file, add_extent, add_name, add_damage, pass_mark};
    EkOpened *opened =
        volume->format->open != NULL ? volume->format->open(reader, volume, NULL) : NULL;
    if (opened == NULL)
        return;
    volume->format->walk(opened, 0, &sink);
    for (guint i = 0; i < encoded->len; i++)
        volume->format->decode(opened, &g_array_index(encoded, EkFile, i), add_content, text);
    volume->format->close(opened);
}

/* As it was when each transaction of its journal was committed; and with what is known by name
 * only.
 */
static void add_past(GString *text, EkReader *reader, const EkVolume *volume)
{
    EkVolume was = *volume;
    g_autoptr(GArray) moments =
        volume->format->moments != NULL ? volume->format->moments(reader, volume) : NULL;
    for (guint i = 0; moments != NULL && i < moments->len; i++) {
        const EkMoment *moment = &g_array_index(moments, EkMoment, i);
        was.as_of = (EkAsOf){EK_AS_OF_TRANSACTION, (gint64)moment->transaction};
        g_string_append_printf(text, "t%" G_GUINT64_FORMAT "\n", moment->transaction);
        add_files(text, reader, &was);
    }
    was.as_of = (EkAsOf){EK_AS_IT_IS, 0};
    was.with_lost = TRUE;
    add_files(text, reader, &was);
}

static void add_repair(void *data, EkRepair *repair)
{
    guint32 sum = 0;
    for (gsize i = 0; i < repair->length; i++)
        sum = (sum << 1 | sum >> 31) + repair->after[i];
    g_string_append_printf(data, "m%" G_GUINT64_FORMAT " %u\n", repair->first_byte, sum);
    ek_repair_free(repair);
}

/* Traces of the sectors that are listed, and all that follows from them, as text. */
static char *found_in(const Drive *drive, const GArray *sectors)
{
    static EkHuntSteps *steps;
    if (steps == NULL)
        steps = ek_hunt_steps_new();
    g_autoptr(GArray) traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    g_autoptr(GPtrArray) all = g_ptr_array_new();
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < sectors->len; i++) {
        guint8 step[EK_RECOGNISE_BYTES];
        EkByte at = g_array_index(sectors, EkByte, i);
        gsize length = (gsize)MIN(sizeof step, drive->bytes - at);
        if (ek_reader_read(drive->reader, at, step, length, NULL, NULL))
            ek_hunt_steps_look(steps, drive->reader, (EkSpan){step, length}, at, traces, traces);
    }
    for (guint i = 0; i < traces->len; i++)
        g_ptr_array_add(all, &g_array_index(traces, EkTrace, i));
    g_autoptr(GPtrArray) findings = ek_hunt_agree(drive->reader, 512, all, NULL, NULL);
    for (guint i = 0; findings != NULL && i < findings->len; i++) {
        const EkFinding *finding = findings->pdata[i];
        const EkVolume *volume = finding->volume;
        g_string_append_printf(text, "%s %" G_GUINT64_FORMAT " %s %s\n", volume->filesystem,
                               volume->first_byte, volume->label, volume->uuid);
        for (guint k = 0; k < volume->reasons->len; k++)
            g_string_append(text, ((const EkEvidence *)volume->reasons->pdata[k])->text);
        for (guint k = 0; k < volume->properties->len; k++)
            g_string_append(text, ((const EkProperty *)volume->properties->pdata[k])->value);
        g_autofree char *unclean =
            volume->format->unclean != NULL ? volume->format->unclean(drive->reader, volume) : NULL;
        g_string_append(text, unclean != NULL ? unclean : "-");
        add_files(text, drive->reader, volume);
        add_past(text, drive->reader, volume);
        EkVolume sized = *volume;
        sized.length_is_least = FALSE;
        if (volume->is_confirmed && volume->format->repair != NULL)
            volume->format->repair(drive->reader, &sized, add_repair, text, NULL);
        for (guint k = 0; k < 16; k++)
            g_string_append_printf(text, "%d",
                                   ek_volume_use_at(volume, drive->reader,
                                                    volume->first_byte + volume->bytes / 16 * k));
    }
    g_autofree EkTable *table = g_new0(EkTable, 1);
    gboolean unread = FALSE;
    if (ek_table_current(drive->reader, 512, table, &unread))
        g_string_append_printf(text, "%s %u %d", ek_scheme_name(table->scheme), table->count,
                               table->is_whole);
    return g_string_free(text, FALSE);
}

static void set_sector(const Drive *drive, EkByte at, const guint8 *bytes)
{
    if (pwrite(drive->fd, bytes, 512, (off_t)at) != 512)
        abort();
}

/* Leaves out ever smaller parts of what is kept, as long as the same is found. */
static void reduce(const Drive *drive, GArray *kept, GHashTable *content)
{
    static const guint8 nothing[512];
    g_autofree char *wanted = found_in(drive, kept);
    for (guint part = kept->len / 2; part > 0; part /= 2)
        for (guint from = 0; from < kept->len;) {
            guint count = MIN(part, kept->len - from);
            g_autoptr(GArray) rest = g_array_new(FALSE, FALSE, sizeof(EkByte));
            for (guint i = 0; i < kept->len; i++)
                if (i < from || i >= from + count)
                    g_array_append_vals(rest, &g_array_index(kept, EkByte, i), 1);
                else
                    set_sector(drive, g_array_index(kept, EkByte, i), nothing);
            g_autofree char *now = found_in(drive, rest);
            if (g_str_equal(now, wanted)) {
                g_array_remove_range(kept, from, count);
                continue;
            }
            for (guint i = from; i < from + count; i++) {
                EkByte at = g_array_index(kept, EkByte, i);
                set_sector(drive, at, g_hash_table_lookup(content, &at));
            }
            from += count;
        }
}

/* The pieces in order, or with `last_unread` the other way round: the first one is not read then.
 */
static void write_pieces(const char *path, const GArray *kept, GHashTable *content,
                         gboolean last_unread)
{
    g_autoptr(GByteArray) pieces = g_byte_array_new();
    for (guint i = 0; i < kept->len;) {
        EkByte at = g_array_index(kept, EkByte, i);
        guint count = 1;
        while (i + count < kept->len && count < RUN_MOST &&
               g_array_index(kept, EkByte, i + count) == at + count * 512ull)
            count++;
        g_autoptr(GByteArray) piece = g_byte_array_new();
        EkSector sector = at / 512;
        guint8 head[4] = {(guint8)sector, (guint8)(sector >> 8), (guint8)(sector >> 16),
                          (guint8)count};
        g_byte_array_append(piece, head, sizeof head);
        for (guint k = 0; k < count; k++) {
            EkByte place = at + k * 512ull;
            g_byte_array_append(piece, g_hash_table_lookup(content, &place), 512);
        }
        if (last_unread)
            g_byte_array_prepend(pieces, piece->data, piece->len);
        else
            g_byte_array_append(pieces, piece->data, piece->len);
        i += count;
    }
    guint8 flags = last_unread ? FUZZ_UNREAD : 0;
    g_byte_array_prepend(pieces, &flags, 1);
    g_file_set_contents(path, (const char *)pieces->data, (gssize)pieces->len, NULL);
}

int main(int argc, char **argv)
{
    Drive drive;
    if (argc != 3 || !drive_open(&drive, argv[1]))
        return 2;
    g_autoptr(GArray) kept = g_array_new(FALSE, FALSE, sizeof(EkByte));
    g_autoptr(GHashTable) content =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    EkRange part = {0, 0};
    for (EkByte at = 0; at < drive.bytes && ek_reader_next_data(drive.reader, at, &part);
         at = ek_range_end(part))
        for (EkByte place = MAX(at, part.first); place < ek_range_end(part); place += 512) {
            guint8 sector[512];
            if (!ek_reader_read(drive.reader, place, sector, sizeof sector, NULL, NULL) ||
                ek_bytes_are_zero(sector, sizeof sector))
                continue;
            g_array_append_val(kept, place);
            g_hash_table_insert(content, g_memdup2(&place, sizeof place),
                                g_memdup2(sector, sizeof sector));
        }
    reduce(&drive, kept, content);
    g_autofree char *unread = g_strconcat(argv[2], "-unread", NULL);
    write_pieces(argv[2], kept, content, FALSE);
    write_pieces(unread, kept, content, TRUE);
    printf("%s: %u sectors\n", argv[2], kept->len);
    return 0;
}
