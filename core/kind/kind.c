/* SPDX-License-Identifier: MIT */
/* Kinds of files: one table of the types of content, with the ends of their names, their media
 * types (RFC 6838) and what their published formats have them begin with. */
#include "kind/kind.h"

#include <string.h>

static const char *const names[] = {
    [EK_KIND_PICTURE] = "pictures", [EK_KIND_VIDEO] = "video",
    [EK_KIND_AUDIO] = "audio",      [EK_KIND_DOCUMENT] = "documents",
    [EK_KIND_MAIL] = "mail",        [EK_KIND_DATABASE] = "databases",
    [EK_KIND_ARCHIVE] = "archives", [EK_KIND_PROGRAM] = "programs",
    [EK_KIND_OTHER] = "other"};

#define OLE "\xd0\xcf\x11\xe0"

/* Of several media types that fit the first counts, families last. Ends stand between spaces. */
static const EkContentType types[] = {
    {"jpeg", EK_KIND_PICTURE, " jpg jpeg jpe ", "image/jpeg", 0, 3, "\xff\xd8\xff"},
    {"png", EK_KIND_PICTURE, " png ", "image/png", 0, 4, "\x89PNG"},
    {"gif", EK_KIND_PICTURE, " gif ", "image/gif", 0, 4, "GIF8"},
    {"webp", EK_KIND_PICTURE, " webp ", "image/webp", 0, 4, "RIFF"},
    {"bmp", EK_KIND_PICTURE, " bmp ", "image/bmp", 0, 2, "BM"},
    {"djvu", EK_KIND_DOCUMENT, " djvu ", "image/vnd.djvu", 0, 0, NULL},
    {"dwg", EK_KIND_DOCUMENT, " dwg dxf ", "image/vnd.dwg", 0, 0, NULL},
    {"picture", EK_KIND_PICTURE,
     " tif tiff heic heif avif jxl svg psd xcf raw dng cr2 cr3 nef arw orf rw2 raf pef srw ico cur "
     "jp2 j2k jpx ai eps ",
     "image/", 0, 0, NULL},

    {"avi", EK_KIND_VIDEO, " avi ", "video/x-msvideo", 0, 4, "RIFF"},
    {"mp4", EK_KIND_VIDEO, " mp4 ", "video/mp4", 4, 4, "ftyp"},
    {"quicktime", EK_KIND_VIDEO, " mov ", "video/quicktime", 4, 4, "ftyp"},
    {"mxf", EK_KIND_VIDEO, " mxf ", "application/mxf", 0, 0, NULL},
    {"video", EK_KIND_VIDEO, " m4v mkv webm mpg mpeg mts m2ts vob wmv flv 3gp 3g2 ogv ", "video/",
     0, 0, NULL},

    {"wav", EK_KIND_AUDIO, " wav ", "audio/x-wav", 0, 4, "RIFF"},
    {"flac", EK_KIND_AUDIO, " flac ", "audio/flac", 0, 4, "fLaC"},
    {"ogg", EK_KIND_AUDIO, " ogg ", "application/ogg", 0, 4, "OggS"},
    {"audio", EK_KIND_AUDIO, " mp3 aac m4a oga opus wma aif aiff mid midi amr au ape mka ",
     "audio/", 0, 0, NULL},

    {"mbox", EK_KIND_MAIL, " mbox mbx ", "application/mbox", 0, 0, NULL},
    {"outlook", EK_KIND_MAIL, " pst ost ", "application/vnd.ms-outlook", 0, 0, NULL},
    {"tnef", EK_KIND_MAIL, "", "application/vnd.ms-tnef", 0, 0, NULL},
    {"calendar", EK_KIND_MAIL, " ics ", "text/calendar", 0, 0, NULL},
    {"vcard", EK_KIND_MAIL, " vcf ", "text/vcard", 0, 0, NULL},
    {"mail", EK_KIND_MAIL, " eml emlx msg dbx nsf ", "message/", 0, 0, NULL},

    {"c", EK_KIND_PROGRAM, " c h cpp ", "text/x-c", 0, 0, NULL},
    {"java", EK_KIND_PROGRAM, " java class ", "text/x-java", 0, 0, NULL},
    {"batch", EK_KIND_PROGRAM, " bat cmd ps1 ", "text/x-msdos-batch", 0, 0, NULL},
    {"perl", EK_KIND_PROGRAM, "", "text/x-perl", 0, 0, NULL},
    {"php", EK_KIND_PROGRAM, "", "text/x-php", 0, 0, NULL},
    {"python", EK_KIND_PROGRAM, " py ", "text/x-python", 0, 0, NULL},
    {"ruby", EK_KIND_PROGRAM, "", "text/x-ruby", 0, 0, NULL},
    {"script", EK_KIND_PROGRAM, "", "text/x-script", 0, 0, NULL},
    {"shell", EK_KIND_PROGRAM, " sh ", "text/x-shellscript", 0, 0, NULL},
    {"javascript", EK_KIND_PROGRAM, " js ", "application/javascript", 0, 0, NULL},

    {"pdf", EK_KIND_DOCUMENT, " pdf ", "application/pdf", 0, 5, "%PDF-"},
    {"postscript", EK_KIND_DOCUMENT, "", "application/postscript", 0, 0, NULL},
    {"rtf", EK_KIND_DOCUMENT, " rtf ", "application/rtf", 0, 0, NULL},
    {"json", EK_KIND_DOCUMENT, " json ", "application/json", 0, 0, NULL},
    {"epub", EK_KIND_DOCUMENT, " epub ", "application/epub", 0, 0, NULL},
    {"word", EK_KIND_DOCUMENT, " doc ", "application/msword", 0, 4, OLE},
    {"excel", EK_KIND_DOCUMENT, " xls ", "application/vnd.ms-excel", 0, 4, OLE},
    {"powerpoint", EK_KIND_DOCUMENT, " ppt pps ", "application/vnd.ms-powerpoint", 0, 4, OLE},
    {"ole", EK_KIND_DOCUMENT, "", "application/x-ole-storage", 0, 0, NULL},
    {"ole", EK_KIND_DOCUMENT, "", "application/CDFV2", 0, 0, NULL},
    {"ooxml", EK_KIND_DOCUMENT, " docx xlsx pptx ", "application/vnd.openxmlformats", 0, 2, "PK"},
    {"odf-image", EK_KIND_PICTURE, "", "application/vnd.oasis.opendocument.image", 0, 0, NULL},
    {"odf-database", EK_KIND_DATABASE, " odb ", "application/vnd.oasis.opendocument.database", 0, 0,
     NULL},
    {"odf", EK_KIND_DOCUMENT, " odt ods odp ", "application/vnd.oasis", 0, 2, "PK"},
    {"document", EK_KIND_DOCUMENT,
     " docm dot dotx ott txt md tex xlsm xlsb csv tsv pptx ppsx pages numbers key mobi htm html "
     "xml xps vsd vsdx pub one chm ",
     "text/", 0, 0, NULL},

    {"sqlite", EK_KIND_DATABASE, " db sqlite sqlite3 ", "application/vnd.sqlite3", 0, 0, NULL},
    {"sqlite", EK_KIND_DATABASE, "", "application/x-sqlite3", 0, 0, NULL},
    {"access", EK_KIND_DATABASE, " mdb accdb ", "application/x-msaccess", 0, 0, NULL},
    {"dbf", EK_KIND_DATABASE, " dbf ", "application/x-dbf", 0, 0, NULL},
    {"mysql", EK_KIND_DATABASE, " ibd frm myd myi ", "application/x-mysql", 0, 0, NULL},
    {"database", EK_KIND_DATABASE, " mdf ldf ndf fdb gdb bak sql kdb kdbx qbw ", NULL, 0, 0, NULL},

    {"jar", EK_KIND_ARCHIVE, " jar ", "application/java-archive", 0, 0, NULL},
    {"zip", EK_KIND_ARCHIVE, " zip ", "application/zip", 0, 2, "PK"},
    {"gzip", EK_KIND_ARCHIVE, " gz ", "application/gzip", 0, 2, "\x1f\x8b"},
    {"gzip", EK_KIND_ARCHIVE, " tgz ", "application/x-gzip", 0, 0, NULL},
    {"zstd", EK_KIND_ARCHIVE, " zst ", "application/zstd", 0, 0, NULL},
    {"cab", EK_KIND_ARCHIVE, " cab ", "application/vnd.ms-cab", 0, 0, NULL},
    {"rar", EK_KIND_ARCHIVE, " rar ", "application/vnd.rar", 0, 0, NULL},
    {"rar", EK_KIND_ARCHIVE, "", "application/x-rar", 0, 0, NULL},
    {"7z", EK_KIND_ARCHIVE, " 7z ", "application/x-7z", 0, 4, "7z\xbc\xaf"},
    {"bzip", EK_KIND_ARCHIVE, " bz2 tbz ", "application/x-bzip", 0, 0, NULL},
    {"compress", EK_KIND_ARCHIVE, "", "application/x-compress", 0, 0, NULL},
    {"cpio", EK_KIND_ARCHIVE, "", "application/x-cpio", 0, 0, NULL},
    {"iso9660", EK_KIND_ARCHIVE, " iso ", "application/x-iso9660", 0, 0, NULL},
    {"lzip", EK_KIND_ARCHIVE, " lz lzma ", "application/x-lz", 0, 0, NULL},
    {"qcow", EK_KIND_ARCHIVE, " qcow2 ", "application/x-qemu-disk", 0, 0, NULL},
    {"tar", EK_KIND_ARCHIVE, " tar ", "application/x-tar", 0, 0, NULL},
    {"vdi", EK_KIND_ARCHIVE, " vdi ", "application/x-virtualbox", 0, 0, NULL},
    {"xz", EK_KIND_ARCHIVE, " xz txz ", "application/x-xz", 0, 0, NULL},
    {"archive", EK_KIND_ARCHIVE, " arj img vhd vhdx vmdk dmg ", NULL, 0, 0, NULL},

    {"exe", EK_KIND_PROGRAM, " exe dll ", "application/x-dosexec", 0, 2, "MZ"},
    {"exe", EK_KIND_PROGRAM, " sys com ", "application/vnd.microsoft.portable-executable", 0, 0,
     NULL},
    {"elf", EK_KIND_PROGRAM, "", "application/x-executable", 0, 0, NULL},
    {"elf", EK_KIND_PROGRAM, "", "application/x-pie-executable", 0, 0, NULL},
    {"elf", EK_KIND_PROGRAM, " so ", "application/x-sharedlib", 0, 0, NULL},
    {"elf", EK_KIND_PROGRAM, " o ko ", "application/x-object", 0, 0, NULL},
    {"mach-o", EK_KIND_PROGRAM, " dylib app ", "application/x-mach-binary", 0, 0, NULL},
    {"java", EK_KIND_PROGRAM, "", "application/x-java", 0, 0, NULL},
    {"msi", EK_KIND_PROGRAM, " msi ", "application/x-msi", 0, 0, NULL},
    {"android", EK_KIND_PROGRAM, " apk ", "application/vnd.android", 0, 0, NULL},
    {"deb", EK_KIND_PROGRAM, " deb ", "application/vnd.debian.binary-package", 0, 0, NULL},
    {"rpm", EK_KIND_PROGRAM, " rpm ", "application/x-rpm", 0, 0, NULL},
};

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

const EkContentType *ek_content_type_of(const char *file_name)
{
    const char *dot = strrchr(file_name, '.');
    char wanted[16];
    if (dot == NULL || strlen(dot) > 12 || strchr(dot, ' ') != NULL)
        return NULL;
    g_snprintf(wanted, sizeof wanted, " %s ", dot + 1);
    for (char *c = wanted; *c != '\0'; c++)
        *c = g_ascii_tolower(*c);
    for (gsize i = 0; i < G_N_ELEMENTS(types); i++)
        if (strstr(types[i].ends, wanted) != NULL)
            return &types[i];
    return NULL;
}

EkKind ek_kind_of(const char *file_name)
{
    const EkContentType *type = ek_content_type_of(file_name);
    return type != NULL ? type->kind : EK_KIND_OTHER;
}

EkKind ek_kind_of_mime(const char *mime)
{
    for (gsize i = 0; i < G_N_ELEMENTS(types); i++)
        if (types[i].media != NULL && g_str_has_prefix(mime, types[i].media))
            return types[i].kind;
    return EK_KIND_OTHER;
}
