/* SPDX-License-Identifier: MIT */
/* The types that are searched for by content, for the one list of them. */
#ifndef EK_CARVE_TYPES_ALL_H
#define EK_CARVE_TYPES_ALL_H

#include "carve/type.h"

extern const EkCarveType ek_carve_aac;
extern const EkCarveType ek_carve_aiff;
extern const EkCarveType ek_carve_amr;
extern const EkCarveType ek_carve_ar;
extern const EkCarveType ek_carve_asf;
extern const EkCarveType ek_carve_au;
extern const EkCarveType ek_carve_avi;
extern const EkCarveType ek_carve_bmp;
extern const EkCarveType ek_carve_bzip2;
extern const EkCarveType ek_carve_cab;
extern const EkCarveType ek_carve_card;
extern const EkCarveType ek_carve_chm;
extern const EkCarveType ek_carve_dbf;
extern const EkCarveType ek_carve_elf;
extern const EkCarveType ek_carve_exe;
extern const EkCarveType ek_carve_flac;
extern const EkCarveType ek_carve_flv;
extern const EkCarveType ek_carve_font;
extern const EkCarveType ek_carve_gif;
extern const EkCarveType ek_carve_gzip;
extern const EkCarveType ek_carve_html;
extern const EkCarveType ek_carve_ico;
extern const EkCarveType ek_carve_iso;
extern const EkCarveType ek_carve_isom;
extern const EkCarveType ek_carve_jetdb;
extern const EkCarveType ek_carve_jpeg2000;
extern const EkCarveType ek_carve_jpeg;
extern const EkCarveType ek_carve_macho;
extern const EkCarveType ek_carve_mail;
extern const EkCarveType ek_carve_matroska;
extern const EkCarveType ek_carve_midi;
extern const EkCarveType ek_carve_mp3;
extern const EkCarveType ek_carve_mpegps;
extern const EkCarveType ek_carve_mpegts;
extern const EkCarveType ek_carve_ogg;
extern const EkCarveType ek_carve_ole;
extern const EkCarveType ek_carve_pdf;
extern const EkCarveType ek_carve_png;
extern const EkCarveType ek_carve_psd;
extern const EkCarveType ek_carve_pst;
extern const EkCarveType ek_carve_qcow;
extern const EkCarveType ek_carve_raf;
extern const EkCarveType ek_carve_rar;
extern const EkCarveType ek_carve_rtf;
extern const EkCarveType ek_carve_sevenzip;
extern const EkCarveType ek_carve_shortcut;
extern const EkCarveType ek_carve_sqlite;
extern const EkCarveType ek_carve_tar;
extern const EkCarveType ek_carve_text;
extern const EkCarveType ek_carve_tiff;
extern const EkCarveType ek_carve_vdi;
extern const EkCarveType ek_carve_vhd;
extern const EkCarveType ek_carve_vhdx;
extern const EkCarveType ek_carve_vmdk;
extern const EkCarveType ek_carve_wav;
extern const EkCarveType ek_carve_webp;
extern const EkCarveType ek_carve_woff;
extern const EkCarveType ek_carve_xml;
extern const EkCarveType ek_carve_xz;
extern const EkCarveType ek_carve_zip;
extern const EkCarveType ek_carve_zstd;

#endif
