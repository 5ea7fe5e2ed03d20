/* SPDX-License-Identifier: MIT */
/* What the search by content knows of a type of file: one const struct a type, in one file of
 * carve/types/, and one line in carve/types.c (docs/how-to-add-a-type.md). */
#ifndef EK_CARVE_TYPE_H
#define EK_CARVE_TYPE_H

#include "base/signature.h"
#include "carve/content.h"
#include "carve/samples.h"
#include "kind/kind.h"
#include "volume/file.h"

typedef enum {
    EK_FOLLOW_NOTHING, /* it is none of this type, or too little of one */
    EK_FOLLOW_ENDED,   /* its structure was followed to its end */
    EK_FOLLOW_BROKE    /* it begins right, and at some byte it is right no more */
} EkFollowEnd;

/* What speaks for it that all bytes up to its end are its own. */
typedef enum {
    EK_PROOF_LENGTH, /* it says its length, and nothing in it can be checked */
    EK_PROOF_TABLES, /* it says where everything in it is, to its end, and it is there; in more than
                      * a block a foreign one would not be noticed */
    EK_PROOF_DECODED, /* each part was decoded: what is foreign would hardly decode */
    EK_PROOF_FULL     /* each part was checked by a sum */
} EkProof;

/* What blocks look like. */
typedef enum {
    EK_TEXTURE_ANY,    /* of anything */
    EK_TEXTURE_PACKED, /* nearly all values of a byte are in each, and none is text or a filler */
    EK_TEXTURE_CODED,  /* the like, where what is flat repeats itself: none is a filler, or all
                          letters */
    EK_TEXTURE_TEXT    /* letters and marks, which packed data and fillers have not for long */
} EkTexture;

#define EK_FOLLOW_ENDING 8u
#define EK_FOLLOW_WORDS 192u

/* The part of a file in which it breaks, in bytes; 0 bytes: it is not known. */
typedef struct {
    EkByte first;
    EkByte bytes;
    enum { EK_PART_PLAIN, EK_PART_SUMMED, EK_PART_SUM_BEHIND, EK_PART_ADDED } check;
    /* EK_PART_SUMMED: its CRC-32 (IEEE 802.3). SUM_BEHIND: that follows it, big-endian. ADDED: the
     * sum of its words of four bytes, big-endian, the last one filled up with zeros */
    guint32 sum;
} EkBroken;

#define EK_CARVE_BEFORE 8192u
#define EK_CARVE_GLANCE 4096u

/* Something that must stand at a byte of the file behind the place where it breaks, and can be told
 * apart: where it stands on the drive, that part of the file lies. */
typedef struct EkLandmark EkLandmark;
struct EkLandmark {
    EkByte at;    /* byte of the file, or of the one that it is an entry of */
    gsize shown;  /* bytes that must be seen of it, EK_LANDMARK_GLANCE to EK_LANDMARK_SHOWN */
    guint64 told; /* what stands() knows of it from the part that was followed */
    guint64 sum;
    /* Can it stand here? Asked with EK_LANDMARK_GLANCE bytes first, and then with all `shown`.
     * Pure. NULL: nothing is known that must stand somewhere. */
    gboolean (*stands)(const EkLandmark *landmark, EkSpan span);
    /* Or: what must come next begins with a mark and a number of its own, wherever that is: where
     * does it first begin in these bytes, at or behind *at, with EK_LANDMARK_GLANCE of it there?
     * Pure. `told` and `sum` as above. NULL: nothing is known of that. */
    gboolean (*finds)(const EkLandmark *landmark, EkSpan span, gsize *at);
};
#define EK_LANDMARK_GLANCE 16u
#define EK_LANDMARK_SHOWN 266240u /* two blocks of 128 KiB, and what is behind them */

/* How following went. What is not known stays as it was: zero. */
typedef struct {
    EkFollowEnd end;
    EkProof proof;
    EkByte length;        /* ended: of the file. Broke: the first byte that is no more right */
    EkByte sure;          /* up to here it surely belongs to it */
    EkByte expected;      /* the length that it says; 0: it does not */
    gboolean is_tail;     /* its beginning is missing: what begins in it as its type is of it */
    gboolean is_doubtful; /* it may be part of another one of its type: nothing tells */
    gboolean may_end;     /* broke: or it ends there, which nothing tells; `proof` is that of all
                           * before */
    gboolean has_next;    /* ended: another one begins right behind it, which may be part of it */
    gboolean is_wrong;    /* ended: all is where it says, but some of it is not right (`broken`) */
    gboolean is_unproved; /* ended: a checksum that many leave wrong is wrong */
    gboolean tells_late;  /* broke: nothing in it tells soon whether it goes on somewhere */
    EkTexture texture;    /* of its whole blocks from `texture_from` on, but for the first one */
    EkByte texture_from;
    EkBroken broken;               /* broke: where it did so */
    EkLandmark landmark;           /* broke: what must stand behind that */
    const char *why;               /* what was checked, or what broke; constant */
    char ending[EK_FOLLOW_ENDING]; /* of its name, where it is not the type's first one */
    EkTimestamp date;              /* its own */
    char words[EK_FOLLOW_WORDS];   /* its own title, artist, camera; UTF-8; "": none */
} EkFollowed;

typedef struct {
    const char *name;   /* in the table of kinds (kind/kind.h), or a family's own: "jpeg" */
    const char *ending; /* of its files: "jpg" */
    EkKind kind;
    const char *checks; /* what is checked, for people: "Huffman data decoded to the end" */
    const char *names;  /* what its own name is taken from; NULL: nothing in it */
    const EkSignature *signatures;
    guint signature_count;
    EkByte before; /* bytes of it before the step with its signature */
    /* Is it one, by its first bytes (at least EK_SCAN_SHOWN, fewer at the end of the ground)? Pure.
     * NULL: the signature is enough. */
    gboolean (*begin)(EkSpan span);
    /* Is it the rest of one, by up to EK_CARVE_BEFORE bytes that lie right before it? Then it is
     * doubtful. Pure. NULL: nothing tells. */
    gboolean (*is_rest)(EkSpan before);
    /* Follows it from its first byte. Reads what it needs, and bounds its own work by what it
     * reads: a loop over a structure ends. */
    void (*follow)(EkContent *content, EkFollowed *followed);
    /* How its sound or its dots lie in it, by its first 4096 bytes, where these are plain samples.
     * FALSE: they are not. Pure. NULL: it has none. */
    gboolean (*samples)(EkSpan head, EkSamples *samples);
    gboolean joins; /* what breaks may go on elsewhere: following tells soon when it does not */
    /* May this block, of up to EK_CARVE_GLANCE bytes, lie in the middle of one? Many are asked that
     * are of something else. Pure. NULL: any may. */
    gboolean (*may_lie_in)(EkSpan block);
    gboolean
        by_landmark;   /* nothing in it tells soon: its pieces are found by their landmarks alone */
    gboolean is_solid; /* no other file begins in it on a block: where one does, it is in pieces */
    gboolean is_disk;  /* what begins in it is listed too: it may lie between its pieces */
    gboolean repeats;  /* parts of it begin as all of it does: many beginnings are no crowd */
    gboolean is_plain; /* much that is none looks like it: in what others may claim it is none */
    gboolean is_checked; /* `sure` is where the last sum was right */
} EkCarveType;

#endif
