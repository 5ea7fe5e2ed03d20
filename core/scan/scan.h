/* SPDX-License-Identifier: MIT */
/* One pass over a reader with any number of visitors. Workers look at chunks; the thread that
 * called takes what they gathered in order of position, so that nothing depends on how many workers
 * there are. All visitors' signatures are compiled into one matcher, so that a further visitor
 * costs next to nothing where nothing of its stands. */
#ifndef EK_SCAN_SCAN_H
#define EK_SCAN_SCAN_H

#include "image/reader.h"
#include "scan/matcher.h"

/* What a visitor is shown of a step at least, from its beginning on; less at the end of the reader
 * only. */
#define EK_SCAN_SHOWN 4096u

/* Who looks on. Functions but `look` are called from the thread that scans, in order of position.
 */
typedef struct {
    void *data;
    /* What one chunk gathers: for `look` to fill, for `commit` to take, freed with `discard`. */
    void *(*begin)(void *data, EkRange chunk);
    /* Looks at the step of EK_STEP bytes that `span` begins with, which stands at `at`, was read
     * whole, and has signatures of these ids in it. Called from a worker, in order of position
     * within a chunk. */
    void (*look)(void *data, void *gathered, const EkMatches *matches, EkSpan span, EkByte at);
    /* Is given all bytes, before `look` is given what begins in them; those that were not read are
     * zeros. Called from a worker, in order of position within a chunk. NULL: it is not. */
    void (*glance)(void *data, void *gathered, EkSpan span, EkByte at);
    /* Everything up to the end of `chunk` was looked at. FALSE ends the scan with this error. */
    gboolean (*commit)(void *data, void *gathered, EkRange chunk, GError **error);
    void (*discard)(void *gathered);
    /* Enters its signatures into the matcher, with ids from `first` on; returns the first id that
     * it did not use. `look` is given them counted from 0. */
    guint (*enter)(void *data, EkMatcher *matcher, guint first);
} EkScanVisitor;

/* A moment of a running scan, in bytes. */
typedef struct {
    EkByte done;
    EkByte total;
    EkByte position;
} EkScanProgress;

typedef struct EkScan EkScan;

/* `threads` 0: as many as there are processors. `cancel` is atomic: not 0 when the work shall end.
 * Reader and `cancel` must live as long. The caller frees. */
EkScan *ek_scan_new(EkReader *reader, guint threads, const gint *cancel);
void ek_scan_free(EkScan *scan);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkScan, ek_scan_free)

/* How many it uses. */
guint ek_scan_threads(const EkScan *scan);

/* Adds a visitor (copied; at most EK_SCAN_VISITORS). Chunks are committed to visitors in the order
 * they were added. */
#define EK_SCAN_VISITORS 4u
void ek_scan_add(EkScan *scan, const EkScanVisitor *visitor);

/* How much a worker takes at once, in bytes: whole MiB, 16 unless said. */
void ek_scan_set_chunk(EkScan *scan, EkByte bytes);

/* Shows the visitors every step of the ranges (EkRange, sorted, apart, each within a good region).
 * Holes of the reader are passed over. FALSE with EK_ERROR_CANCELLED when it was asked to end; what
 * was committed stays valid. */
gboolean ek_scan_run(EkScan *scan, const GArray *ranges, GError **error);

/* May be called from any thread while it runs. */
EkScanProgress ek_scan_progress(EkScan *scan);

#endif
