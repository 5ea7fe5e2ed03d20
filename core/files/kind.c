/* SPDX-License-Identifier: MIT */
/* Kinds of files, by name or media type. */
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

/* What a media type begins with; the first that fits counts. */
static const struct {
    const char *prefix;
    EkKind kind;
} media[] = {
    {"image/vnd.djvu", EK_KIND_DOCUMENT},
    {"image/vnd.dwg", EK_KIND_DOCUMENT},
    {"image/", EK_KIND_PICTURE},
    {"video/", EK_KIND_VIDEO},
    {"audio/", EK_KIND_AUDIO},
    {"message/", EK_KIND_MAIL},
    {"application/mbox", EK_KIND_MAIL},
    {"application/vnd.ms-outlook", EK_KIND_MAIL},
    {"text/calendar", EK_KIND_MAIL},
    {"text/vcard", EK_KIND_MAIL},
    {"text/x-c", EK_KIND_PROGRAM},
    {"text/x-java", EK_KIND_PROGRAM},
    {"text/x-msdos-batch", EK_KIND_PROGRAM},
    {"text/x-perl", EK_KIND_PROGRAM},
    {"text/x-php", EK_KIND_PROGRAM},
    {"text/x-python", EK_KIND_PROGRAM},
    {"text/x-ruby", EK_KIND_PROGRAM},
    {"text/x-script", EK_KIND_PROGRAM},
    {"text/x-shellscript", EK_KIND_PROGRAM},
    {"text/", EK_KIND_DOCUMENT},
    {"application/pdf", EK_KIND_DOCUMENT},
    {"application/postscript", EK_KIND_DOCUMENT},
    {"application/rtf", EK_KIND_DOCUMENT},
    {"application/json", EK_KIND_DOCUMENT},
    {"application/epub", EK_KIND_DOCUMENT},
    {"application/msword", EK_KIND_DOCUMENT},
    {"application/vnd.oasis.opendocument.image", EK_KIND_PICTURE},
    {"application/vnd.oasis.opendocument.database", EK_KIND_DATABASE},
    {"application/vnd.oasis", EK_KIND_DOCUMENT},
    {"application/vnd.openxmlformats", EK_KIND_DOCUMENT},
    {"application/vnd.ms-excel", EK_KIND_DOCUMENT},
    {"application/vnd.ms-powerpoint", EK_KIND_DOCUMENT},
    {"application/vnd.ms-tnef", EK_KIND_MAIL},
    {"application/x-ole-storage", EK_KIND_DOCUMENT},
    {"application/CDFV2", EK_KIND_DOCUMENT},
    {"application/ogg", EK_KIND_AUDIO},
    {"application/mxf", EK_KIND_VIDEO},
    {"application/vnd.sqlite3", EK_KIND_DATABASE},
    {"application/x-sqlite3", EK_KIND_DATABASE},
    {"application/x-msaccess", EK_KIND_DATABASE},
    {"application/x-dbf", EK_KIND_DATABASE},
    {"application/x-mysql", EK_KIND_DATABASE},
    {"application/java-archive", EK_KIND_ARCHIVE},
    {"application/zip", EK_KIND_ARCHIVE},
    {"application/gzip", EK_KIND_ARCHIVE},
    {"application/zstd", EK_KIND_ARCHIVE},
    {"application/vnd.ms-cab", EK_KIND_ARCHIVE},
    {"application/vnd.rar", EK_KIND_ARCHIVE},
    {"application/x-7z", EK_KIND_ARCHIVE},
    {"application/x-bzip", EK_KIND_ARCHIVE},
    {"application/x-compress", EK_KIND_ARCHIVE},
    {"application/x-cpio", EK_KIND_ARCHIVE},
    {"application/x-gzip", EK_KIND_ARCHIVE},
    {"application/x-iso9660", EK_KIND_ARCHIVE},
    {"application/x-lz", EK_KIND_ARCHIVE},
    {"application/x-qemu-disk", EK_KIND_ARCHIVE},
    {"application/x-rar", EK_KIND_ARCHIVE},
    {"application/x-tar", EK_KIND_ARCHIVE},
    {"application/x-virtualbox", EK_KIND_ARCHIVE},
    {"application/x-xz", EK_KIND_ARCHIVE},
    {"application/x-dosexec", EK_KIND_PROGRAM},
    {"application/vnd.microsoft.portable-executable", EK_KIND_PROGRAM},
    {"application/x-executable", EK_KIND_PROGRAM},
    {"application/x-pie-executable", EK_KIND_PROGRAM},
    {"application/x-sharedlib", EK_KIND_PROGRAM},
    {"application/x-object", EK_KIND_PROGRAM},
    {"application/x-mach-binary", EK_KIND_PROGRAM},
    {"application/x-java", EK_KIND_PROGRAM},
    {"application/x-msi", EK_KIND_PROGRAM},
    {"application/vnd.android", EK_KIND_PROGRAM},
    {"application/vnd.debian.binary-package", EK_KIND_PROGRAM},
    {"application/x-rpm", EK_KIND_PROGRAM},
    {"application/javascript", EK_KIND_PROGRAM},
};

EkKind ek_kind_of_mime(const char *mime)
{
    for (gsize i = 0; i < G_N_ELEMENTS(media); i++)
        if (g_str_has_prefix(mime, media[i].prefix))
            return media[i].kind;
    return EK_KIND_OTHER;
}
