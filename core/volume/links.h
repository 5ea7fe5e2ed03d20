/* SPDX-License-Identifier: MIT */
/* Tables of links: what follows each cluster of a chain, in up to two copies. FAT12, FAT16, FAT32
 * and exFAT keep one. Where the copies differ, each sector is judged by what stands in it, and each
 * chain by the length that it should have. */
#ifndef EK_VOLUME_LINKS_H
#define EK_VOLUME_LINKS_H

#include "image/reader.h"
#include "volume/clusterbitmap.h"

#define EK_LINK_COPIES 2u

/* What stands in the table for a cluster. */
typedef enum { EK_LINK_NEXT, EK_LINK_FREE, EK_LINK_END, EK_LINK_BAD, EK_LINK_UNKNOWN } EkLink;

typedef struct {
    guint bits;                   /* of an entry: 12, 16, 28 (of 32) or 32 */
    guint32 clusters;             /* their numbers are 2 to clusters + 1 */
    guint32 sector_size;          /* bytes */
    guint copies;                 /* 1 or 2; the first is the one that systems use */
    EkByte first[EK_LINK_COPIES]; /* of each copy, in the image */
    EkByte bytes;                 /* of one copy */
} EkLinkPlaces;

typedef struct {
    EkReader *reader;
    EkLinkPlaces places;
    guint sector_log;  /* of the size of a sector, which is a power of two */
    gsize window_most; /* bytes, whole sectors */
    EkByte window_at;  /* from the start of a copy */
    gsize window_bytes;
    guint8 *windows[EK_LINK_COPIES];
    guint8 *marks;                 /* of each sector of the window: LINK_… in links.c */
    gboolean differs;              /* the copies do, in what was looked at so far */
    gboolean read_noise;           /* the last link stands among noise */
    guint64 votes[EK_LINK_COPIES]; /* chains that only this copy has in the right length */
} EkLinkTable;

/* `window_most` bytes of each copy are read at a time. Takes nothing over but a copy of `places`.
 */
void ek_links_init(EkLinkTable *table, EkReader *reader, const EkLinkPlaces *places,
                   gsize window_most);
void ek_links_clear(EkLinkTable *table);

/* Which copy a link is read from: one of them, or the one that is judged to be better. What stands
 * among noise is not known then. */
#define EK_LINK_JUDGED (-1)

/* The link of a cluster; EK_LINK_BAD where it is none that can be. *next is set for EK_LINK_NEXT.
 */
EkLink ek_links_of(EkLinkTable *table, int copy, guint32 cluster, guint32 *next);

/* A chain, followed for so many clusters. */
typedef struct {
    int copy;          /* that it is best followed in */
    guint64 clusters;  /* in a row, each one once; at least 1 */
    EkLink end;        /* what stands behind the last one: EK_LINK_NEXT when it goes on */
    gboolean circles;  /* it comes back to itself there */
    gboolean is_noise; /* some of it stands among noise: nothing is proved by it */
} EkChain;

/* Follows the chain that begins at `first`, which exists, for at most `wanted` clusters, in the
 * copy in which it ends just there, or else where it is longest. Counts the votes of copies. */
EkChain ek_links_follow(EkLinkTable *table, guint32 first, guint64 wanted);

/* Does the chain end where it should? */
static inline gboolean ek_chain_fits(const EkChain *chain, guint64 wanted)
{
    return chain->clusters == wanted && chain->end == EK_LINK_END;
}

/* How a chain is walked. */
typedef struct {
    int copy;           /* that it is followed in */
    guint64 most;       /* clusters; fewer than wanted where it comes back to itself */
    gboolean may_guess; /* where the table leads nowhere, the next cluster is taken for the next */
} EkLinkWay;

/* As the table says, to the end. */
#define EK_LINK_WAY_SAID                                                                           \
    {                                                                                              \
        EK_LINK_JUDGED, G_MAXUINT64, FALSE                                                         \
    }

/* Finds how the chain of a file is best walked that begins at `first`, which exists. `wanted`: the
 * clusters to be placed; `all`: as many as it should have, at least as many. *is_proved: it ends
 * just there. Takes the steps it costs from *steps; FALSE when these are too few. */
gboolean ek_links_find_way(EkLinkTable *table, guint32 first, guint64 wanted, guint64 all,
                           guint64 *steps, EkLinkWay *way, gboolean *is_proved);

/* The cluster behind `cluster` on a way; 0: there is none. What files or folders have taken is
 * never guessed. *link gets what the table says. */
guint32 ek_links_step(EkLinkTable *table, const EkLinkWay *way, const EkClusterBitmap *files,
                      const EkClusterBitmap *folders, guint32 cluster, EkLink *link);

/* How much speaks for the beginning of a copy to be a table of links: above 0 what follows itself
 * or ends, below 0 what leads nowhere. Looks at 4 096 bytes. */
int ek_links_weigh(EkLinkTable *table, int copy);

/* Receives a piece of a copy that is worse than what is in `wanted`: whole sectors, at most 1 MiB.
 */
typedef void (*EkLinkRepair)(void *data, guint copy, EkByte at, const guint8 *wanted, gsize length);

/* Hands on what makes the copies right: the first one where the other is better, the other one
 * where it is damaged. `table` must have been used to follow the chains of all files before: then
 * one copy may be better as a whole. At most `most` bytes. */
void ek_links_repair(EkLinkTable *table, EkByte most, EkLinkRepair sink, void *data);

/* Counts the free clusters; *next is the first of them behind the last one in use. FALSE when some
 * of the table was not read, or is noise. */
gboolean ek_links_count_free(EkLinkTable *table, guint32 *free, guint32 *next);

#endif
