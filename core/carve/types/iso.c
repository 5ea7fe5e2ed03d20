/* SPDX-License-Identifier: MIT */
/* Disc images (ECMA-119): the descriptors behind 16 sectors say how long the disc is, and the path
 * table where its folders are. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define SECTOR 2048u
#define AREA 32768u /* of the system, before the first descriptor */
#define FOLDERS_MOST 65536u
#define FOLDER_MOST (1u << 20)

static const EkSignature signatures[] = {{0, 7, {1, 'C', 'D', '0', '0', '1', 1}, {0}}};

/* What files with these endings begin with. */
static const struct {
    const char *ending;
    const char *begins;
    gsize length;
} begins[] = {{".JPG", "\xff\xd8\xff", 3},
              {".JPEG", "\xff\xd8\xff", 3},
              {".PNG", "\x89PNG", 4},
              {".PDF", "%PDF", 4},
              {".GIF", "GIF8", 4},
              {".ZIP", "PK", 2},
              {".DOCX", "PK", 2},
              {".XLSX", "PK", 2},
              {".EXE", "MZ", 2},
              {".DLL", "MZ", 2},
              {".7Z", "7z\xbc\xaf", 4},
              {".CAB", "MSCF", 4},
              {".DOC", "\xd0\xcf\x11\xe0", 4},
              {".GZ", "\x1f\x8b", 2},
              {".WAV", "RIFF", 4},
              {".AVI", "RIFF", 4},
              {".RAR", "Rar!", 4}};

/* Does the file of this entry begin as its name says? */
static gboolean is_named_rightly(EkContent *content, EkSpan entry, EkByte block)
{
    char name[224];
    gsize length = MIN(ek_span_u8(entry, 32), sizeof name - 1);
    EkSpan text = ek_span_part(entry, 33, length);
    memcpy(name, text.data, text.length);
    name[text.length] = '\0';
    g_strdelimit(name, ";", '\0');
    const char *ending = strrchr(name, '.');
    EkByte place = ek_span_le32(entry, 2) * block;
    for (gsize i = 0; ending != NULL && i < G_N_ELEMENTS(begins); i++)
        if (g_ascii_strcasecmp(ending, begins[i].ending) == 0 &&
            ek_span_le32(entry, 10) >= begins[i].length)
            return ek_content_has_hole(content, place, begins[i].length) ||
                   ek_span_equals(ek_content_some(content, place, begins[i].length), 0,
                                  begins[i].begins, begins[i].length);
    return TRUE;
}

/* The files of a folder: those that are named for what they are must be that. */
static gboolean has_files(EkContent *content, EkByte place, EkByte block)
{
    guint32 bytes = ek_span_le32(ek_content_some(content, place, 34), 10);
    EkByte at = place;
    EkByte end = place + MIN(bytes, FOLDER_MOST);
    while (at < end) {
        guint8 held[256];
        EkSpan entry = ek_content_some(content, at, sizeof held);
        guint8 length = ek_span_u8(entry, 0);
        /* Entries do not cross sectors. */
        if (length == 0) {
            at = (at / SECTOR + 1) * SECTOR;
            continue;
        }
        entry = ek_span_part(entry, 0, length);
        memcpy(held, entry.data, entry.length);
        gboolean is_folder = (ek_span_u8(entry, 25) & 2) != 0;
        if (length < 34 || entry.length < length ||
            (!is_folder && !is_named_rightly(content, (EkSpan){held, entry.length}, block)))
            return FALSE;
        at += length;
    }
    return TRUE;
}

/* Each folder of the path table begins with an entry for itself. */
static gboolean has_folders(EkContent *content, EkByte table, guint32 bytes, EkByte block)
{
    EkByte at = table;
    for (guint i = 0; i < FOLDERS_MOST && at < table + bytes; i++) {
        EkSpan entry = ek_content_some(content, at, 8);
        guint8 name = ek_span_u8(entry, 0);
        EkByte place = ek_span_le32(entry, 2) * block;
        if (name == 0)
            return FALSE;
        EkSpan folder = ek_content_some(content, place, 34);
        if (ek_span_le32(folder, 2) * block != place || ek_span_u8(folder, 32) != 1 ||
            ek_span_u8(folder, 33) != 0 || !has_files(content, place, block))
            return FALSE;
        at += 8 + (EkByte)name + (name & 1);
    }
    return TRUE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, AREA, SECTOR);
    EkByte block = ek_span_le16(head, 128);
    EkByte end = ek_span_le32(head, 80) * block;
    guint32 bytes = ek_span_le32(head, 132);
    EkByte table = ek_span_le32(head, 140) * block;
    EkSpan date = ek_span_part(head, 813, 14);
    if ((block != 512 && block != 1024 && block != SECTOR) || end < AREA + SECTOR ||
        ek_span_be32(head, 84) != ek_span_le32(head, 80) || bytes == 0)
        return;
    followed->expected = end;
    ek_followed_words(followed, ek_span_part(head, 40, 32));
    ek_followed_date_digits(followed, date, TRUE);
    if (end > ek_content_bytes(content) || !has_folders(content, table, bytes, block)) {
        ek_followed_break(followed, AREA + SECTOR, MIN(end, ek_content_bytes(content)), AREA,
                          "its folders and files are not where its tables say");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES,
                    "all folders of its path table, and that files begin as they are named");
}

const EkCarveType ek_carve_iso = {
    .name = "iso",
    .ending = "iso",
    .kind = EK_KIND_ARCHIVE,
    .checks = "its descriptor, its folders, how its files begin; always doubtful",
    .names = "its label and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .before = AREA,
    .follow = follow,
};
