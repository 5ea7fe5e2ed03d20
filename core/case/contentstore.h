/* SPDX-License-Identifier: MIT */
/* The catalogue of contents in the case: contents.db. What a search by content found, and where it
 * has searched. */
#ifndef EK_CASE_CONTENTSTORE_H
#define EK_CASE_CONTENTSTORE_H

#include "carve/carve.h"
#include "case/case.h"

typedef struct EkContentStore EkContentStore;

/* For one thread. Where there is none yet one is made if `writable`; else EK_ERROR_ABSENT. */
EkContentStore *ek_contentstore_open(EkCase *self, gboolean writable, GError **error);
void ek_contentstore_close(EkContentStore *store);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkContentStore, ek_contentstore_close)

/* --- searching ------------------------------------------------------------------------------- */

/* What was searched for these types (a word for the set of them): EkRange, in order, apart. The
 * caller unrefs. */
GArray *ek_contentstore_searched(EkContentStore *store, const char *types, GError **error);

/* Adds a file that was found; `place` says where, for people. Nothing when one of its type that
 * begins there is known. It is kept with the next ek_contentstore_put_searched. */
gboolean ek_contentstore_add(EkContentStore *store, const EkFound *found, const char *place,
                             GError **error);

/* This range was searched, and `crowded` beginnings in it are not listed. Written from time to
 * time, with what was found up to there, and by ek_contentstore_flush. */
gboolean ek_contentstore_put_searched(EkContentStore *store, const char *types, EkRange range,
                                      guint64 crowded, GError **error);
gboolean ek_contentstore_flush(EkContentStore *store, GError **error);

/* Calls `hold` with the ground that each file holds which is known. */
typedef void (*EkContentHold)(void *data, EkRange range);
gboolean ek_contentstore_each_held(EkContentStore *store, EkContentHold hold, void *data,
                                   GError **error);

/* A block of numbers that was seen; kept as files are. And all of them, in order of place. */
gboolean ek_contentstore_add_list(EkContentStore *store, EkListed listed, GError **error);
typedef void (*EkContentList)(void *data, EkListed listed);
gboolean ek_contentstore_each_list(EkContentStore *store, EkContentList take, void *data,
                                   GError **error);

/* Where files begin (EkByte, in order). The caller unrefs. */
GArray *ek_contentstore_firsts(EkContentStore *store, GError **error);

/* Calls `take` with each file that hides what begins in it (ek_found_hides), in order of place. */
typedef void (*EkContentLoose)(void *data, EkRange range, const char *type, EkHides hides);
gboolean ek_contentstore_each_loose(EkContentStore *store, EkContentLoose take, void *data,
                                    GError **error);

/* The next file behind the number in *cut (0: the first) that ends early and was not tried to be
 * joined on this basis (a word that changes when more is known); `only_listed`: that is not whole,
 * and was not tried where blocks of numbers say that it goes on. FALSE: none, or *error. */
typedef struct {
    guint64 number;
    const EkCarveType *type;
    EkByte first;
    EkByte bytes;
    gboolean only_listed; /* as asked for */
} EkContentCut;
gboolean ek_contentstore_next_cut(EkContentStore *store, const char *basis, gboolean only_listed,
                                  EkContentCut *cut, GError **error);

/* How many there are, with those that were tried on this basis. */
guint64 ek_contentstore_count_cut(EkContentStore *store, const char *basis);

/* It was tried. `joined`: what it came to, NULL: no more than it was. What lies in the pieces that
 * it got, and held no ground, goes. */
gboolean ek_contentstore_put_joined(EkContentStore *store, const EkContentCut *cut,
                                    const char *basis, const EkFound *joined, GError **error);

/* Files that end early end before the next one that was proved. */
gboolean ek_contentstore_trim(EkContentStore *store, GError **error);

/* The words that name this one. */
gboolean ek_contentstore_set_words(EkContentStore *store, guint64 number, const char *words,
                                   GError **error);

/* This one is the same as a file that a volume has: it is not listed any more, and holds its
 * ground. Or: all are listed again. */
gboolean ek_contentstore_set_copy(EkContentStore *store, guint64 number, GError **error);
gboolean ek_contentstore_clear_copies(EkContentStore *store, GError **error);

/* --- asking ---------------------------------------------------------------------------------- */

guint64 ek_contentstore_count_copies(EkContentStore *store);

/* What is not listed of what was searched for these types, as it lies in crowds. */
guint64 ek_contentstore_count_crowded(EkContentStore *store, const char *types);

/* Where its bytes lie (EkRange), in their order. The caller unrefs. */
GArray *ek_contentstore_pieces(EkContentStore *store, guint64 number, GError **error);

/* A file of the catalogue. What it is given is its own only during the call. */
typedef struct {
    guint64 number;
    const char *type;
    EkContentState state;
    const char *why;
    const char *place;
    const char *ending;
    const char *words;
    EkTimestamp date;
    EkByte first;
    EkByte bytes;
} EkContentEntry;

typedef gboolean (*EkContentEntrySink)(void *data, const EkContentEntry *entry);

/* Hands on all of them in order of number, but for copies. */
gboolean ek_contentstore_each(EkContentStore *store, EkContentEntrySink sink, void *data,
                              GError **error);

/* One of them; FALSE with EK_ERROR_ABSENT. */
gboolean ek_contentstore_get(EkContentStore *store, guint64 number, EkContentEntrySink sink,
                             void *data, GError **error);

/* A word that changes whenever the catalogue does. The caller frees. */
char *ek_contentstore_basis(EkContentStore *store, GError **error);

/* Hands the catalogue on as files in folders: where it was found, its state, its kind. */
#define EK_CONTENTS_ROOT ((guint64)1 << 40)
gboolean ek_contentstore_walk(EkContentStore *store, guint32 sector_size, const EkFileSink *sink,
                              GError **error);

#endif
