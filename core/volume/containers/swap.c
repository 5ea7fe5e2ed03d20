/* SPDX-License-Identifier: MIT */
/* Linux swap areas: as in mkswap(8) and the kernel's include/linux/swap.h. The signature ends the
 * first page, whose size is tried; the header in it counts the pages. */
#include "volume/formats.h"
#include "volume/headers.h"

#define SIGNATURE_BYTES 10u
#define INFO_OFFSET 1024u
#define INFO_BYTES 512u
#define LEAST_PAGE 4096u
#define MOST_PAGE 65536u
#define MOST_BAD 637u

static const EkSignature signatures[] = {
    {.offset = 502, .length = 8, .bytes = {'S', 'W', 'A', 'P', 'S', 'P', 'A', 'C'}},
};

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    if (!ek_span_equals(span, 502, "SWAPSPACE2", SIGNATURE_BYTES) || at + EK_STEP < LEAST_PAGE)
        return 0;
    candidates[0] = (EkCandidate){at + EK_STEP - LEAST_PAGE, at, EK_ROLE_PRIMARY};
    return 1;
}

/* The page size for which version and number of pages make sense; 0: none. */
static guint32 find_page(EkReader *reader, EkByte end, guint8 info[INFO_BYTES], gboolean *unread)
{
    EkSpan span = {info, INFO_BYTES};
    for (guint32 page = LEAST_PAGE; page <= MOST_PAGE && page <= end; page *= 2) {
        EkPresence part = ek_presence_read(reader, end - page + INFO_OFFSET, info, INFO_BYTES);
        *unread |= part == EK_UNREAD;
        if (part == EK_PRESENT && ek_span_le32(span, 0) == 1 && ek_span_le32(span, 4) > 0 &&
            ek_span_le32(span, 8) <= MOST_BAD)
            return page;
    }
    return 0;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    guint8 info[INFO_BYTES];
    gboolean unread = FALSE;
    g_autoptr(EkVolume) volume =
        ek_header_begin("linux-swap", reader, candidate, data, sizeof data, error);
    if (volume == NULL)
        return NULL;
    EkByte end = candidate->header_byte + EK_STEP;
    guint32 page = find_page(reader, end, info, &unread);
    EkSpan span = {info, sizeof info};
    ek_volume_reason(volume, 40, "signature at sector %" G_GUINT64_FORMAT,
                     candidate->header_byte / EK_STEP);
    if (page != 0) {
        volume->first_byte = end - page;
        volume->bytes = ((EkByte)ek_span_le32(span, 4) + 1) * page;
        volume->uuid = ek_volume_uuid(ek_span_part(span, 12, 16));
        volume->label = ek_volume_label(ek_span_part(span, 28, 16));
        ek_volume_reason(volume, 40, "its header counts pages of %u bytes", page);
        ek_volume_property_number(volume, "bytes per page", page);
        ek_volume_property_number(volume, "pages", (guint64)ek_span_le32(span, 4) + 1);
    } else if (unread) {
        volume->bytes = LEAST_PAGE;
        volume->length_is_least = TRUE;
        ek_volume_reason(volume, 0, "its header was not read: its length is not known");
    }
    ek_header_end(volume, page != 0 || unread);
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_swap = {
    .name = "linux-swap",
    .types = {{.mbr = 0x82, .gpt = "Linux swap", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};
