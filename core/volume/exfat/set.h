/* SPDX-License-Identifier: MIT */
/* Sets of entries of an exFAT folder: a file, its stream and its name, with a sum over all of them,
 * as in Microsoft's "exFAT file system specification". Only for this folder. */
#ifndef EK_VOLUME_EXFAT_SET_H
#define EK_VOLUME_EXFAT_SET_H

#include "volume/exfat/exfat.h"
#include "volume/headers.h"

#define EK_EXFAT_IN_USE 0x80u /* of an entry's type: cleared when its file is deleted */
#define EK_EXFAT_STREAM 0xc0u
#define EK_EXFAT_NAME 0xc1u
#define EK_EXFAT_SET_MOST 19u /* entries: a file, its stream, seventeen of a name */
#define EK_EXFAT_SET_LEAST 3u

/* What a set says of its file's content. */
typedef struct {
    gboolean is_deleted;
    gboolean is_folder;
    gboolean is_sound; /* its sum is right: of a deleted one that of what it was */
    gboolean one_piece;
    guint16 attributes;
    guint32 cluster;
    guint name_units;
    EkByte bytes;
    EkByte valid; /* bytes that were ever written */
} EkExfatSet;

/* Decodes the set at the beginning of `span`, which is all there or cut short. FALSE when none
 * begins there. */
gboolean ek_exfat_set_read(EkSpan span, EkExfatSet *set);

/* How many bytes the set takes that begins with this entry; 0: none does. */
gsize ek_exfat_set_bytes(EkSpan span);

/* How a file ends where its set says: something before, and zeros from its end to that of the
 * sector. EK_UNREAD where that tells nothing. `heap`: where cluster 2 begins. */
EkPresence ek_exfat_look_at_end(EkReader *reader, const EkExfatSet *set, EkByte heap,
                                guint32 cluster_bytes);

#endif
