/* SPDX-License-Identifier: MIT */
#include "files/kind.h"

#include <string.h>

static const char *const names[] = {
    [EK_KIND_PICTURE] = "pictures", [EK_KIND_VIDEO] = "video",
    [EK_KIND_AUDIO] = "audio",      [EK_KIND_DOCUMENT] = "documents",
    [EK_KIND_MAIL] = "mail",        [EK_KIND_DATABASE] = "databases",
    [EK_KIND_ARCHIVE] = "archives", [EK_KIND_PROGRAM] = "programs",
    [EK_KIND_OTHER] = "other"};

/* Endings, each with a space on both sides. */
static const char *const endings[] = {
    [EK_KIND_PICTURE] =
        " jpg jpeg jpe png gif bmp tif tiff webp heic heif avif jxl svg psd xcf raw "
        "dng cr2 cr3 nef arw orf rw2 raf pef srw ico ai eps ",
    [EK_KIND_VIDEO] = " mp4 m4v mov avi mkv webm mpg mpeg mts m2ts vob wmv flv 3gp 3g2 ogv mxf ",
    [EK_KIND_AUDIO] = " mp3 wav flac aac m4a ogg oga opus wma aif aiff mid midi amr ape mka ",
    [EK_KIND_DOCUMENT] =
        " doc docx docm dot dotx odt ott rtf pdf txt md tex xls xlsx xlsm xlsb ods "
        "csv tsv ppt pptx pps ppsx odp pages numbers key epub mobi djvu htm html "
        "xml xps vsd vsdx pub one dwg dxf ",
    [EK_KIND_MAIL] = " eml emlx msg mbox mbx pst ost dbx ics vcf nsf ",
    [EK_KIND_DATABASE] = " mdb accdb db sqlite sqlite3 dbf mdf ldf ndf ibd frm myd myi fdb gdb bak "
                         "sql odb kdb kdbx qbw ",
    [EK_KIND_ARCHIVE] =
        " zip rar 7z tar gz tgz bz2 tbz xz txz zst lz lzma cab arj iso img vhd vhdx "
        "vmdk vdi qcow2 dmg jar ",
    [EK_KIND_PROGRAM] =
        " exe dll sys msi com bat cmd ps1 sh so dylib app apk deb rpm py js c h cpp "
        "java class o ko ",
    [EK_KIND_OTHER] = " "};

const char *ek_kind_name(EkKind kind)
{
    return names[MIN(kind, EK_KIND_OTHER)];
}

gboolean ek_kind_from_name(const char *name, EkKind *kind)
{
    for (guint i = 0; i < EK_KINDS; i++)
        if (g_str_equal(name, names[i])) {
            *kind = (EkKind)i;
            return TRUE;
        }
    return FALSE;
}

EkKind ek_kind_of(const char *file_name)
{
    const char *dot = strrchr(file_name, '.');
    char wanted[16];
    if (dot == NULL || strlen(dot) > 12 || strchr(dot, ' ') != NULL)
        return EK_KIND_OTHER;
    g_snprintf(wanted, sizeof wanted, " %s ", dot + 1);
    for (char *c = wanted; *c != '\0'; c++)
        *c = g_ascii_tolower(*c);
    for (guint i = 0; i < EK_KIND_OTHER; i++)
        if (strstr(endings[i], wanted) != NULL)
            return (EkKind)i;
    return EK_KIND_OTHER;
}
