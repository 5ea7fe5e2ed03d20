/* SPDX-License-Identifier: MIT */
/* The bytes of a file that is known by its content alone, through a guess of where they lie: pieces
 * of ground one behind the other. A type follows its structure through this, and sees positions in
 * the file only. */
#ifndef EK_CARVE_CONTENT_H
#define EK_CARVE_CONTENT_H

#include "image/reader.h"

/* What is given out at once at most, in bytes. */
#define EK_CONTENT_SHOWN 65536u

typedef struct EkContent EkContent;

/* For one thread. `reader` must live as long. The caller frees. */
EkContent *ek_content_new(EkReader *reader);
void ek_content_free(EkContent *content);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkContent, ek_content_free)

/* Nothing more is given out once *cancel (atomic) is not 0: whoever follows comes to an end. */
void ek_content_watch(EkContent *content, const gint *cancel);

/* Before more than a little behind the byte `place` of the drive is given out, `may_pass` is asked,
 * once for each laying: when it says no, nothing more is given out. */
void ek_content_set_gate(EkContent *content, EkByte place, gboolean (*may_pass)(void *data),
                         void *data);

/* Did it say no? */
gboolean ek_content_is_shut(const EkContent *content);

/* What lies on the drive from its byte `place` on, as its reader gave it out: it is not read again.
 * Must live until other bytes, or none, are set, and what was given out holds as long. */
void ek_content_set_near(EkContent *content, EkByte place, EkSpan bytes);

/* From now on it is what lies in these pieces (EkRange), one behind the other; they are copied.
 * What was seen before is forgotten. */
void ek_content_lay(EkContent *content, const EkRange *pieces, guint count);

/* The same, of ground (EkRange, in order, apart) from the byte `first` on. */
void ek_content_lay_from(EkContent *content, const GArray *ground, EkByte first);

/* Nothing behind this byte of it is given out. */
void ek_content_cut(EkContent *content, EkByte bytes);

/* Bytes that there are at most. */
EkByte ek_content_bytes(const EkContent *content);

/* `length` bytes (at most EK_CONTENT_SHOWN) at `offset`; an empty span where it has not so many.
 * Holds until the next call. What was not read from the drive is zeros, and noted. */
EkSpan ek_content_at(EkContent *content, EkByte offset, gsize length);

/* As many as there are, up to `length`. */
EkSpan ek_content_some(EkContent *content, EkByte offset, gsize length);

/* How many bytes to ask for at once where reading goes on: few while something is tried. */
gsize ek_content_stride(const EkContent *content);

/* The first bytes of it are read once and stay at hand, until others are laid there. */
void ek_content_hold_head(EkContent *content);

/* The first byte that was given out and not read from the drive; G_MAXUINT64: none. */
EkByte ek_content_hole(const EkContent *content);

/* Is any of these bytes not read from the drive? Notes it, without reading them. */
gboolean ek_content_has_hole(EkContent *content, EkByte offset, EkByte bytes);

/* --- going on -------------------------------------------------------------------------------- */

/* A type that can go on in the middle keeps from time to time what it needs for that: at `offset`
 * this was known. What is kept is taken for right only when something was kept behind it, unless it
 * is `firm`. The last ones are held, a few KiB apart. */
#define EK_CONTENT_KEPT 128u /* bytes of `state` at most */
void ek_content_keep(EkContent *content, EkByte offset, const void *state, gsize size,
                     gboolean firm);

/* What was kept last before the place from which other pieces lie, or, where none do, is taken for
 * right; FALSE: nothing, it is followed from its beginning. */
gboolean ek_content_kept(const EkContent *content, void *state, gsize size);

/* Up to where it is taken for right; 0: nowhere. */
EkByte ek_content_kept_at(const EkContent *content);

/* Other pieces from `offset` on: what is kept behind it is forgotten. */
void ek_content_relay(EkContent *content, EkByte offset, const EkRange *pieces, guint count);

/* Nothing is kept, or what is kept stays as it is, from now on. */
void ek_content_forget(EkContent *content);
void ek_content_set_fixed(EkContent *content, gboolean is_fixed);
gboolean ek_content_is_fixed(const EkContent *content);

/* What each that unpacks it keeps with it, which is freed with it. Where other pieces come from
 * `offset` on, `forget` is told. */
typedef enum { EK_ASIDE_DEFLATE, EK_ASIDE_LZMA, EK_ASIDE_PART, EK_ASIDE_TEXT, EK_ASIDES } EkAside;
void ek_content_set_aside(EkContent *content, EkAside kind, void *aside, GDestroyNotify destroy,
                          void (*forget)(void *aside, EkByte offset));

/* NULL: nothing is set aside. */
void *ek_content_aside(const EkContent *content, EkAside kind);

/* From now on what is unpacked of it is remembered from time to time, so that a try with other
 * ground behind it goes on from there. */
void ek_content_remember(EkContent *content);
gboolean ek_content_remembers(const EkContent *content);

/* Bytes that were read for it since it was made: the work. */
guint64 ek_content_work(const EkContent *content);

/* How far it was read, in bytes of the file, roughly. From any thread. */
EkByte ek_content_reached(const EkContent *content);

/* Appends where its first `bytes` lie (EkRange). */
void ek_content_places(const EkContent *content, EkByte bytes, GArray *places);

/* Where these bytes of it lie (EkRange). The caller unrefs. */
GArray *ek_content_pieces(const EkContent *content, EkByte offset, EkByte bytes);

/* What is left of pieces (EkRange) behind their first `offset` bytes. The caller unrefs. */
GArray *ek_pieces_from(const GArray *pieces, EkByte offset);

/* A part of it as a content of its own: what a file holds is followed in it. It does not change
 * with the whole. NULL where such parts lie too deep in each other. The caller frees. */
EkContent *ek_content_part(const EkContent *content, EkByte offset, EkByte bytes);

/* The types that its parts may be of (a list of const EkCarveType *, NULL last), which a part takes
 * over; NULL: none is asked. Must live as long. */
void ek_content_set_types(EkContent *content, gconstpointer types);
gconstpointer ek_content_types(const EkContent *content);

/* What was read through a part is its own work too. */
void ek_content_charge(EkContent *content, guint64 work);

/* What lies on the drive right before its first byte, up to `most` bytes. Returns how many; 0 where
 * they were not read. */
gsize ek_content_before(const EkContent *content, guint8 *bytes, gsize most);

/* Where a byte of it lies; G_MAXUINT64 behind its end. */
EkByte ek_content_place(const EkContent *content, EkByte offset);

/* How many bytes from `offset` on lie in one piece, one behind the other. */
EkByte ek_content_together(const EkContent *content, EkByte offset);

#endif
