/* SPDX-License-Identifier: MIT */
/* ReFS volumes: the boot sector as in Microsoft's [MS-FSCC] and the published layout of its volume
 * boot record. Found by the boot sector or the backup in the last sector; nothing else of it is
 * looked at. The files are not listed by this version. */
#include "volume/formats.h"
#include "volume/headers.h"

typedef struct {
    guint64 sectors;
    guint32 sector_size;
    guint32 cluster_bytes;
    guint8 major;
    guint8 minor;
    guint64 serial;
} Boot;

static const EkSignature signatures[] = {
    {.offset = 3, .length = 8, .bytes = {'R', 'e', 'F', 'S', 0, 0, 0, 0}},
};

static gboolean boot_read(EkSpan span, Boot *boot)
{
    if (span.length < EK_HEADER_BYTES || !ek_span_equals(span, 3, "ReFS\0\0\0\0", 8) ||
        !ek_span_equals(span, 16, "FSRS", 4))
        return FALSE;
    guint32 per_cluster = ek_span_le32(span, 36);
    *boot = (Boot){
        .sectors = ek_span_le64(span, 24),
        .sector_size = ek_span_le32(span, 32),
        .major = ek_span_u8(span, 40),
        .minor = ek_span_u8(span, 41),
        .serial = ek_span_le64(span, 56),
    };
    if (!ek_is_power_of_two(boot->sector_size) || boot->sector_size < 512 ||
        boot->sector_size > 4096 || !ek_is_power_of_two(per_cluster) ||
        (guint64)per_cluster * boot->sector_size > 1u << 20)
        return FALSE;
    boot->cluster_bytes = per_cluster * boot->sector_size;
    return boot->sectors > per_cluster && boot->sectors < G_MAXINT64 / 4096;
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Boot boot;
    guint count = 0;
    if (!boot_read(span, &boot))
        return 0;
    candidates[count++] = (EkCandidate){at, at, EK_ROLE_PRIMARY};
    /* The backup is the last sector of the partition, right behind the volume's own. */
    EkByte before = boot.sectors * boot.sector_size;
    if (before <= at)
        candidates[count++] = (EkCandidate){at - before, at, EK_ROLE_BACKUP};
    return count;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    guint8 copy[EK_HEADER_BYTES];
    Boot boot;
    g_autoptr(EkVolume) volume =
        ek_header_begin("refs", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !boot_read((EkSpan){data, sizeof data}, &boot))
        return g_steal_pointer(&volume);
    EkByte backup = candidate->first_byte + boot.sectors * boot.sector_size;
    volume->bytes = (boot.sectors + 1) * boot.sector_size;
    volume->own_sector_size = boot.sector_size;
    volume->uuid = g_strdup_printf("%016" G_GINT64_MODIFIER "X", boot.serial);
    ek_volume_property_number(volume, "bytes per sector", boot.sector_size);
    ek_volume_property_number(volume, "bytes per cluster", boot.cluster_bytes);
    ek_volume_property(volume, "version", "%u.%u", boot.major, boot.minor);
    EkHeaderState first =
        ek_header_look(reader, candidate->first_byte, data, EK_HEADER_BYTES, copy);
    EkHeaderState second = ek_header_look(reader, backup, data, EK_HEADER_BYTES, copy);
    ek_header_reason(volume, first, "boot sector", candidate->first_byte, 30);
    ek_header_reason(volume, second, "backup boot sector", backup, 30);
    /* Two alike at this very distance are no accident. */
    gboolean both = first == EK_HEADER_AGREES && second == EK_HEADER_AGREES;
    gboolean unread = first == EK_HEADER_UNREAD || second == EK_HEADER_UNREAD;
    ek_header_end(volume, both || unread);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_refs = {
    .name = "refs",
    .types = {{.mbr = 0x07, .gpt = "Microsoft basic data", .apm = ""}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};
