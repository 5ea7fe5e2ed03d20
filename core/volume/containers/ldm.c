/* SPDX-License-Identifier: MIT */
/* Windows dynamic disks: the private header of the Logical Disk Manager, after the Linux kernel's
 * block/partitions/ldm.h. It counts in sectors of the drive, and says where the region of the
 * volumes and the database about them lie; copies of it stand there. Volumes of several drives are
 * not told apart here: this is the container. */
#include "volume/formats.h"
#include "volume/headers.h"

#define PRIMARY_SECTOR 6u
#define DISK_START 0x11bu
#define DISK_SIZE 0x123u
#define DATABASE_START 0x12bu
#define DATABASE_SIZE 0x133u

static const EkSignature signatures[] = {
    {.offset = 0, .length = 8, .bytes = {'P', 'R', 'I', 'V', 'H', 'E', 'A', 'D'}},
};

static gboolean is_header(EkSpan span)
{
    guint64 size = ek_span_be64(span, DISK_SIZE);
    return span.length >= EK_STEP && ek_span_equals(span, 0, "PRIVHEAD", 8) &&
           ek_span_be16(span, 12) == 2 && size > 0 && size < G_MAXINT64 / EK_STEP / 2 &&
           ek_span_be64(span, DISK_START) < G_MAXINT64 / EK_STEP / 2 &&
           ek_span_be64(span, DATABASE_SIZE) == 2048 &&
           ek_span_be64(span, DATABASE_START) < G_MAXINT64 / EK_STEP / 2;
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    if (!is_header(span))
        return 0;
    guint count = 0;
    /* In front, behind the table; or in the database, in its last sector and the one before the
     * middle of it. */
    if (at >= PRIMARY_SECTOR * EK_STEP)
        candidates[count++] = (EkCandidate){at - PRIMARY_SECTOR * EK_STEP, at, EK_ROLE_PRIMARY};
    EkByte last =
        (ek_span_be64(span, DATABASE_START) + ek_span_be64(span, DATABASE_SIZE) - 1) * EK_STEP;
    if (last <= at)
        candidates[count++] = (EkCandidate){at - last, at, EK_ROLE_BACKUP};
    return count;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    guint8 block[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    g_autoptr(EkVolume) volume =
        ek_header_begin("ldm", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !is_header(span))
        return g_steal_pointer(&volume);
    EkByte drive = candidate->first_byte;
    EkByte database = ek_span_be64(span, DATABASE_START) * EK_STEP;
    EkByte toc = drive + database + EK_STEP;
    volume->first_byte = drive + ek_span_be64(span, DISK_START) * EK_STEP;
    volume->bytes = ek_span_be64(span, DISK_SIZE) * EK_STEP;
    volume->uuid = ek_volume_label(ek_span_part(span, 0x30, 64));
    volume->label = ek_volume_label(ek_span_part(span, 0xf0, 32));
    volume->is_container = TRUE;
    ek_volume_reason(volume, 20, "private header at sector %" G_GUINT64_FORMAT,
                     candidate->header_byte / EK_STEP);
    EkPresence contents = ek_presence_read(reader, toc, block, sizeof block);
    if (contents == EK_PRESENT && memcmp(block, "TOCBLOCK", 8) != 0)
        contents = EK_ABSENT;
    ek_presence_reason(volume, contents, "the database's table of contents", toc, 40);
    EkByte at = drive + database + 17 * EK_STEP;
    EkPresence head = ek_presence_read(reader, at, block, sizeof block);
    if (head == EK_PRESENT && memcmp(block, "VMDB", 4) != 0)
        head = EK_ABSENT;
    ek_presence_reason(volume, head, "the database", at, 30);
    ek_volume_property_number(volume, "database begins at sector", database / EK_STEP);
    ek_volume_property_number(volume, "first sector for volumes", ek_span_be64(span, DISK_START));
    ek_volume_property_number(volume, "sectors for volumes", ek_span_be64(span, DISK_SIZE));
    ek_header_end(volume, contents != EK_ABSENT || head == EK_PRESENT);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_ldm = {
    .name = "ldm",
    .types = {{.mbr = 0x42, .gpt = "Windows dynamic disk data", .apm = ""}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};
