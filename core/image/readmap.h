/* SPDX-License-Identifier: MIT */
/* The read map: what is known of each sector of the source. Every sector is in exactly one stretch.
 * Positions are in sectors of the source. Not safe for use by several threads at once, except for
 * the functions that take it const. */
#ifndef EK_IMAGE_READMAP_H
#define EK_IMAGE_READMAP_H

#include "base/units.h"
#include "device/device.h"

/* The numbers are stored: never renumber. */
typedef enum {
    EK_STATE_UNTOUCHED = 0,
    EK_STATE_GOOD = 1,
    EK_STATE_SET_ASIDE = 2, /* skipped for now */
    EK_STATE_BAD = 3        /* read alone, failed */
} EkState;

#define EK_STATES 4
#define EK_STATE_BIT(state) (1u << (state))
#define EK_STATES_UNREAD                                                                           \
    (EK_STATE_BIT(EK_STATE_UNTOUCHED) | EK_STATE_BIT(EK_STATE_SET_ASIDE) |                         \
     EK_STATE_BIT(EK_STATE_BAD))

/* "untouched", "good", "set_aside", "bad": as in JSON. */
const char *ek_state_name(EkState state);

typedef struct {
    EkState state;
    EkReason reason;
    guint32 attempts; /* failed ones */
    guint32 event;    /* in which this became so; 0 for untouched */
} EkMark;

/* A mark in one number, as it is stored: bits 0 to 3 the state, 4 to 7 the reason, 8 to 31 the
 * attempts, 32 to 63 the event. */
guint64 ek_mark_pack(EkMark mark);
/* FALSE when the number is no mark. */
gboolean ek_mark_unpack(guint64 packed, EkMark *mark);

typedef struct {
    EkSector first;
    EkSector count;
    EkMark mark;
} EkStretch;

typedef struct EkReadMap EkReadMap;

/* All `sectors` (at least 1) untouched. */
EkReadMap *ek_read_map_new(EkSector sectors);
EkReadMap *ek_read_map_copy(const EkReadMap *map);
void ek_read_map_free(EkReadMap *map);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkReadMap, ek_read_map_free)

EkSector ek_read_map_sectors(const EkReadMap *map);

/* Sets the sectors [first, first + count), cut to the map. */
void ek_read_map_set(EkReadMap *map, EkSector first, EkSector count, EkMark mark);

/* For a map that is being loaded: from `first` on, up to the end, this holds. `first` is past all
 * boundaries so far, or 0 in a new map. Does not count as a change. */
void ek_read_map_append(EkReadMap *map, EkSector first, EkMark mark);

/* The whole stretch that `sector` (inside the map) is in. */
EkStretch ek_read_map_at(const EkReadMap *map, EkSector sector);

/* Hands over every stretch from `from` on (the first one cut to begin there), until the sink says
 * FALSE. The map must not change meanwhile. */
typedef gboolean (*EkStretchSink)(void *data, const EkStretch *stretch);
void ek_read_map_each(const EkReadMap *map, EkSector from, EkStretchSink sink, void *data);

/* The first stretch that reaches to or past `from` and is in one of `states` (EK_STATE_BIT); it is
 * cut to begin at `from`. FALSE when there is none. */
gboolean ek_read_map_next(const EkReadMap *map, EkSector from, guint states, EkStretch *stretch);

/* Sectors, and stretches, in one state. Stretches are counted as runs of equal marks. */
EkSector ek_read_map_total(const EkReadMap *map, EkState state);
EkSector ek_read_map_stretches(const EkReadMap *map, EkState state);

/* How many sectors of [first, first + count) are in each state. */
void ek_read_map_tally(const EkReadMap *map, EkSector first, EkSector count,
                       EkSector tally[EK_STATES]);

/* One place where stored boundaries are to be replaced: those from `from` to `to`, both included,
 * go, and the ones in `stretches` (whose `count` means nothing) come. */
typedef struct {
    EkSector from;
    EkSector to;
    EkStretch *stretches;
    gsize count;
} EkMapChange;

/* What changed since the last call: EkMapChange*, in order of position, the caller unrefs. After it
 * nothing counts as changed. */
GPtrArray *ek_read_map_take_changes(EkReadMap *map);

#endif
