/* SPDX-License-Identifier: MIT */
/* The one list of types that are searched for by content. */
#include "carve/types.h"

#include "carve/types/all.h"

/* clang-format off */
const EkCarveType *const ek_carve_types[] = {
    &ek_carve_jpeg,
    &ek_carve_png,
    &ek_carve_gif,
    &ek_carve_webp,
    &ek_carve_bmp,
    &ek_carve_tiff,
    &ek_carve_raf,
    &ek_carve_psd,
    &ek_carve_jpeg2000,
    &ek_carve_ico,
    &ek_carve_isom,
    &ek_carve_matroska,
    &ek_carve_avi,
    &ek_carve_mpegts,
    &ek_carve_mpegps,
    &ek_carve_asf,
    &ek_carve_flv,
    &ek_carve_wav,
    &ek_carve_flac,
    &ek_carve_ogg,
    &ek_carve_mp3,
    &ek_carve_aac,
    &ek_carve_au,
    &ek_carve_amr,
    &ek_carve_aiff,
    &ek_carve_midi,
    &ek_carve_pdf,
    &ek_carve_ole,
    &ek_carve_chm,
    &ek_carve_rtf,
    &ek_carve_html,
    &ek_carve_xml,
    &ek_carve_mail,
    &ek_carve_pst,
    &ek_carve_card,
    &ek_carve_zip,
    &ek_carve_sevenzip,
    &ek_carve_rar,
    &ek_carve_cab,
    &ek_carve_gzip,
    &ek_carve_bzip2,
    &ek_carve_xz,
    &ek_carve_zstd,
    &ek_carve_tar,
    &ek_carve_iso,
    &ek_carve_vhd,
    &ek_carve_vhdx,
    &ek_carve_vmdk,
    &ek_carve_qcow,
    &ek_carve_vdi,
    &ek_carve_sqlite,
    &ek_carve_jetdb,
    &ek_carve_dbf,
    &ek_carve_font,
    &ek_carve_woff,
    &ek_carve_elf,
    &ek_carve_exe,
    &ek_carve_macho,
    &ek_carve_shortcut,
    &ek_carve_text,
    &ek_carve_ar,
    NULL,
};
/* clang-format on */

const EkCarveType *ek_carve_type_named(const char *name)
{
    for (guint i = 0; ek_carve_types[i] != NULL; i++)
        if (g_str_equal(ek_carve_types[i]->name, name))
            return ek_carve_types[i];
    for (guint i = 0; ek_carve_types[i] != NULL; i++)
        if (g_str_equal(ek_carve_types[i]->ending, name))
            return ek_carve_types[i];
    return NULL;
}
