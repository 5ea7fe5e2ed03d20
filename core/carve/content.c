/* SPDX-License-Identifier: MIT */
/* The bytes of a file through a guess of where they lie. */
#include "carve/content.h"

#include <string.h>

#define WINDOW (256u << 10)
#define BEHIND_GATE 65536u /* bytes given out behind the gate before it is asked */
#define AHEAD_LEAST 4096u  /* read at once where reading jumps */
#define PIECES_MOST 4096u
#define KEPT_MOST 96u
#define STRIDE 32768u
#define STRIDE_LEAST 2048u /* while something is tried */
#define KEPT_APART 2048u

typedef struct {
    EkByte offset;
    guint8 state[EK_CONTENT_KEPT];
} Kept;

typedef struct {
    void *data; /* NULL: nothing is set aside */
    GDestroyNotify destroy;
    void (*forget)(void *data, EkByte offset);
} Aside;

#define DEPTH_MOST 3u

struct EkContent {
    EkReader *reader;
    const gint *cancel;
    GArray *pieces;  /* EkRange */
    GArray *offsets; /* EkByte: where each begins in the file */
    EkByte bytes;
    EkByte limit;
    guint8 *window;
    const guint8 *shown; /* the window, or bytes that are near */
    EkByte at;           /* of what is shown */
    gsize held;
    EkSpan near;
    EkByte near_place; /* on the drive */
    EkByte next;       /* behind what was asked for last */
    gsize ahead;       /* read at once: more and more while reading goes on */
    gboolean is_holed; /* what is shown has a hole */
    EkByte hole;
    guint64 work;
    EkByte gate_place;
    gboolean (*may_pass)(void *data);
    void *gate_data;
    gboolean is_passed;
    gsize behind; /* bytes read behind the gate before it was asked */
    gboolean is_shut;
    gint reached; /* KiB, at most what this type holds; atomic */
    guint8 *head; /* the first bytes of it; NULL: they are not held */
    gsize head_bytes;
    Kept kept[KEPT_MOST]; /* a ring */
    guint kept_count;
    guint kept_next;
    EkByte rights[2]; /* where it was right: taken for it, and the last */
    guint keeps;
    EkByte laid_from; /* what is kept behind it is of other pieces */
    gboolean is_fixed;
    Aside asides[EK_ASIDES];
    gboolean remembers;
    guint depth; /* a part of a part of ... */
    gconstpointer types;
};

EkContent *ek_content_new(EkReader *reader)
{
    EkContent *content = g_new0(EkContent, 1);
    content->reader = reader;
    content->pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    content->offsets = g_array_new(FALSE, FALSE, sizeof(EkByte));
    content->window = g_malloc(WINDOW);
    content->shown = content->window;
    content->hole = G_MAXUINT64;
    return content;
}

void ek_content_watch(EkContent *content, const gint *cancel)
{
    content->cancel = cancel;
}

void ek_content_free(EkContent *content)
{
    for (guint i = 0; i < EK_ASIDES; i++)
        if (content->asides[i].data != NULL)
            content->asides[i].destroy(content->asides[i].data);
    g_array_unref(content->pieces);
    g_array_unref(content->offsets);
    g_free(content->window);
    g_free(content->head);
    g_free(content);
}

static void forget_from(EkContent *content, EkByte offset)
{
    for (guint i = 0; i < EK_ASIDES; i++)
        if (content->asides[i].data != NULL)
            content->asides[i].forget(content->asides[i].data, offset);
}

static void begin(EkContent *content)
{
    forget_from(content, 0);
    g_array_set_size(content->pieces, 0);
    g_array_set_size(content->offsets, 0);
    content->bytes = 0;
    content->limit = G_MAXUINT64;
    content->held = 0;
    g_atomic_int_set(&content->reached, 0);
    content->next = 0;
    content->ahead = AHEAD_LEAST;
    content->hole = G_MAXUINT64;
    content->head_bytes = 0;
    content->keeps = content->kept_count = 0;
    content->laid_from = G_MAXUINT64;
    content->is_fixed = FALSE;
    content->is_passed = content->may_pass == NULL;
    content->behind = 0;
    content->is_shut = FALSE;
}

/* All at once: where joining tries, there are many of them, many times. */
static void add_pieces(EkContent *content, const EkRange *pieces, guint count)
{
    guint first = content->pieces->len;
    if (count == 0)
        return;
    g_array_append_vals(content->pieces, pieces, count);
    g_array_set_size(content->offsets, first + count);
    EkByte *offsets = (EkByte *)(gpointer)content->offsets->data + first;
    for (guint i = 0; i < count; i++) {
        offsets[i] = content->bytes;
        content->bytes += pieces[i].bytes;
    }
}

void ek_content_lay(EkContent *content, const EkRange *pieces, guint count)
{
    begin(content);
    add_pieces(content, pieces, count);
}

/* The first of ranges in order that does not end before a byte. */
static guint first_from(const GArray *ranges, EkByte first)
{
    guint low = 0;
    guint high = ranges->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (ek_range_end(g_array_index(ranges, EkRange, middle)) <= first)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

void ek_content_lay_from(EkContent *content, const GArray *ground, EkByte first)
{
    begin(content);
    for (guint i = first_from(ground, first); i < ground->len; i++) {
        EkRange piece = g_array_index(ground, EkRange, i);
        EkByte from = MAX(piece.first, first);
        if (from < ek_range_end(piece) && content->pieces->len < PIECES_MOST)
            add_pieces(content, &(EkRange){from, ek_range_end(piece) - from}, 1);
    }
}

void ek_content_cut(EkContent *content, EkByte bytes)
{
    content->limit = bytes;
}

EkByte ek_content_bytes(const EkContent *content)
{
    return MIN(content->bytes, content->limit);
}

/* The piece that holds a byte of the file. */
static guint piece_of(const EkContent *content, EkByte offset)
{
    guint low = 0;
    guint high = content->pieces->len;
    while (high - low > 1) {
        guint middle = (low + high) / 2;
        if (g_array_index(content->offsets, EkByte, middle) <= offset)
            low = middle;
        else
            high = middle;
    }
    return low;
}

EkByte ek_content_place(const EkContent *content, EkByte offset)
{
    if (offset >= content->bytes)
        return G_MAXUINT64;
    guint piece = piece_of(content, offset);
    return g_array_index(content->pieces, EkRange, piece).first + offset -
           g_array_index(content->offsets, EkByte, piece);
}

EkByte ek_content_together(const EkContent *content, EkByte offset)
{
    if (offset >= content->bytes)
        return 0;
    guint piece = piece_of(content, offset);
    return g_array_index(content->offsets, EkByte, piece) +
           g_array_index(content->pieces, EkRange, piece).bytes - offset;
}

/* Calls for each part of a range of the file that lies in one piece. */
typedef void (*PartCall)(EkContent *content, EkByte offset, EkRange place, void *data);

static void each_part(EkContent *content, EkByte offset, EkByte bytes, PartCall call, void *data)
{
    for (guint i = piece_of(content, offset); bytes > 0 && i < content->pieces->len; i++) {
        EkRange piece = g_array_index(content->pieces, EkRange, i);
        EkByte inside = offset - g_array_index(content->offsets, EkByte, i);
        EkByte here = MIN(bytes, piece.bytes - inside);
        call(content, offset, (EkRange){piece.first + inside, here}, data);
        offset += here;
        bytes -= here;
    }
}

static void read_part(EkContent *content, EkByte offset, EkRange place, void *data)
{
    guint8 *to = (guint8 *)data + (offset - content->at);
    if (!ek_reader_read(content->reader, place.first, to, (gsize)place.bytes, NULL, NULL))
        memset(to, 0, (gsize)place.bytes);
    content->work += place.bytes;
}

static void note_hole(EkContent *content, EkByte offset, EkRange place, void *data)
{
    EkRange hole;
    gboolean bad = FALSE;
    (void)data;
    if (offset < content->hole &&
        ek_reader_next_hole(content->reader, place.first, ek_range_end(place), &hole, &bad))
        content->hole = MIN(content->hole, offset + (hole.first - place.first));
}

gboolean ek_content_has_hole(EkContent *content, EkByte offset, EkByte bytes)
{
    EkByte before = content->hole;
    content->hole = G_MAXUINT64;
    if (offset < content->bytes)
        each_part(content, offset, MIN(bytes, content->bytes - offset), note_hole, NULL);
    gboolean has = content->hole != G_MAXUINT64;
    content->hole = MIN(before, content->hole);
    return has;
}

void ek_content_set_near(EkContent *content, EkByte place, EkSpan bytes)
{
    content->near = bytes;
    content->near_place = place;
    content->held = 0;
}

/* So many bytes are near, and nothing need be read. */
static gboolean show_near(EkContent *content, EkByte offset, gsize length)
{
    guint i = piece_of(content, offset);
    if (content->near.length == 0 || i >= content->pieces->len)
        return FALSE;
    EkRange piece = g_array_index(content->pieces, EkRange, i);
    EkByte inside = offset - g_array_index(content->offsets, EkByte, i);
    EkByte place = piece.first + inside;
    if (place < content->near_place || place - content->near_place > content->near.length)
        return FALSE;
    EkSpan near = ek_span_part(content->near, (gsize)(place - content->near_place), WINDOW);
    EkByte there = MIN(MIN(near.length, piece.bytes - inside), content->bytes - offset);
    if (there < length)
        return FALSE;
    content->shown = near.data;
    content->held = (gsize)there;
    return TRUE;
}

/* Reads on where reading goes on, and little where it jumps. */
static void fill(EkContent *content, EkByte offset, gsize length)
{
    gboolean goes_on = offset == content->next || (offset >= content->at && content->held > 0 &&
                                                   offset <= content->at + content->held);
    g_atomic_int_set(&content->reached, (gint)MIN(offset >> 10, G_MAXINT));
    if (!show_near(content, offset, length)) {
        content->ahead = goes_on ? MIN(content->ahead * 2, WINDOW) : AHEAD_LEAST;
        content->at = offset;
        content->held = (gsize)MIN(MAX(length, content->ahead), content->bytes - offset);
        content->shown = content->window;
        each_part(content, offset, content->held, read_part, content->window);
    }
    content->at = offset;
    EkByte before = content->hole;
    content->is_holed = ek_content_has_hole(content, offset, content->held);
    content->hole = before;
}

void ek_content_set_gate(EkContent *content, EkByte place, gboolean (*may_pass)(void *data),
                         void *data)
{
    content->gate_place = place;
    content->may_pass = may_pass;
    content->gate_data = data;
    content->is_passed = may_pass == NULL;
}

gboolean ek_content_is_shut(const EkContent *content)
{
    return content->is_shut;
}

static gboolean passes_gate(EkContent *content, EkByte offset, gsize length)
{
    if (!content->is_passed && ek_content_place(content, offset) >= content->gate_place &&
        (content->behind += length) > BEHIND_GATE) {
        content->is_passed = TRUE;
        content->is_shut = !content->may_pass(content->gate_data);
    }
    return !content->is_shut;
}

EkSpan ek_content_some(EkContent *content, EkByte offset, gsize length)
{
    EkByte end = ek_content_bytes(content);
    if (length == 0 || offset >= end || !passes_gate(content, offset, length) ||
        (content->cancel != NULL && g_atomic_int_get(content->cancel) != 0))
        return (EkSpan){content->window, 0};
    length = (gsize)MIN(MIN(length, EK_CONTENT_SHOWN), end - offset);
    if (offset + length <= content->head_bytes)
        return (EkSpan){content->head + offset, length};
    if (offset < content->at || offset + length > content->at + content->held)
        fill(content, offset, length);
    content->next = offset + length;
    if (content->is_holed)
        ek_content_has_hole(content, offset, length);
    return (EkSpan){content->shown + (offset - content->at), length};
}

void ek_content_hold_head(EkContent *content)
{
    EkSpan span = ek_content_some(content, 0, EK_CONTENT_SHOWN);
    /* A hole is noted where it is read. */
    if (ek_content_has_hole(content, 0, span.length))
        return;
    if (content->head == NULL)
        content->head = g_malloc(EK_CONTENT_SHOWN);
    memcpy(content->head, span.data, span.length);
    content->head_bytes = span.length;
}

gsize ek_content_stride(const EkContent *content)
{
    return content->is_fixed ? STRIDE_LEAST : STRIDE;
}

EkSpan ek_content_at(EkContent *content, EkByte offset, gsize length)
{
    EkByte end = ek_content_bytes(content);
    if (offset > end || length > end - offset || length > EK_CONTENT_SHOWN)
        return (EkSpan){content->window, 0};
    return ek_content_some(content, offset, length);
}

/* --- going on -------------------------------------------------------------------------------- */

static const Kept *newest(const EkContent *content)
{
    return content->kept_count > 0
               ? &content->kept[(content->kept_next + KEPT_MOST - 1) % KEPT_MOST]
               : NULL;
}

void ek_content_keep(EkContent *content, EkByte offset, const void *state, gsize size,
                     gboolean firm)
{
    if (content->is_fixed || size > EK_CONTENT_KEPT)
        return;
    content->rights[0] = firm ? offset : content->rights[1];
    content->rights[1] = offset;
    content->keeps = firm ? 2 : MIN(content->keeps + 1, 2);
    const Kept *last = newest(content);
    if (last != NULL && offset >= last->offset && offset < last->offset + KEPT_APART)
        return;
    Kept *kept = &content->kept[content->kept_next];
    kept->offset = offset;
    memcpy(kept->state, state, size);
    content->kept_next = (content->kept_next + 1) % KEPT_MOST;
    content->kept_count = MIN(content->kept_count + 1, KEPT_MOST);
}

gboolean ek_content_kept(const EkContent *content, void *state, gsize size)
{
    EkByte most =
        content->laid_from != G_MAXUINT64 ? content->laid_from : ek_content_kept_at(content);
    for (guint i = 1; i <= content->kept_count && size <= EK_CONTENT_KEPT; i++) {
        const Kept *kept = &content->kept[(content->kept_next + KEPT_MOST - i) % KEPT_MOST];
        if (kept->offset <= most) {
            memcpy(state, kept->state, size);
            return TRUE;
        }
    }
    return FALSE;
}

EkByte ek_content_kept_at(const EkContent *content)
{
    return content->keeps < 2 ? 0 : content->rights[0];
}

void ek_content_forget(EkContent *content)
{
    content->keeps = content->kept_count = 0;
}

void ek_content_set_fixed(EkContent *content, gboolean is_fixed)
{
    content->is_fixed = is_fixed;
}

gboolean ek_content_is_fixed(const EkContent *content)
{
    return content->is_fixed;
}

void ek_content_set_aside(EkContent *content, EkAside kind, void *aside, GDestroyNotify destroy,
                          void (*forget)(void *aside, EkByte offset))
{
    content->asides[kind] = (Aside){aside, destroy, forget};
}

void *ek_content_aside(const EkContent *content, EkAside kind)
{
    return content->asides[kind].data;
}

void ek_content_remember(EkContent *content)
{
    content->remembers = TRUE;
}

gboolean ek_content_remembers(const EkContent *content)
{
    return content->remembers;
}

void ek_content_relay(EkContent *content, EkByte offset, const EkRange *pieces, guint count)
{
    forget_from(content, offset);
    while (newest(content) != NULL && newest(content)->offset > offset) {
        content->kept_next = (content->kept_next + KEPT_MOST - 1) % KEPT_MOST;
        content->kept_count--;
    }
    content->laid_from = offset;
    content->head_bytes = (gsize)MIN(content->head_bytes, offset);
    guint left = content->pieces->len;
    while (left > 0 && g_array_index(content->offsets, EkByte, left - 1) >= offset)
        left--;
    g_array_set_size(content->pieces, left);
    g_array_set_size(content->offsets, left);
    if (content->pieces->len > 0) {
        guint last = content->pieces->len - 1;
        EkRange *piece = &g_array_index(content->pieces, EkRange, last);
        EkByte begins = g_array_index(content->offsets, EkByte, last);
        piece->bytes = MIN(piece->bytes, offset - begins);
        content->bytes = begins + piece->bytes;
    } else {
        content->bytes = 0;
    }
    add_pieces(content, pieces, count);
    if (content->at + content->held > offset)
        content->held = 0;
    content->ahead = AHEAD_LEAST;
    content->limit = G_MAXUINT64;
    content->hole = G_MAXUINT64;
}

EkByte ek_content_hole(const EkContent *content)
{
    return content->hole;
}

guint64 ek_content_work(const EkContent *content)
{
    return content->work;
}

EkByte ek_content_reached(const EkContent *content)
{
    return (EkByte)g_atomic_int_get(&content->reached) << 10;
}

void ek_content_places(const EkContent *content, EkByte bytes, GArray *places)
{
    for (guint i = 0; i < content->pieces->len; i++) {
        EkRange piece = g_array_index(content->pieces, EkRange, i);
        EkByte offset = g_array_index(content->offsets, EkByte, i);
        if (offset >= bytes)
            break;
        piece.bytes = MIN(piece.bytes, bytes - offset);
        EkRange *last = places->len > 0 ? &g_array_index(places, EkRange, places->len - 1) : NULL;
        if (last != NULL && ek_range_end(*last) == piece.first)
            last->bytes += piece.bytes;
        else
            g_array_append_val(places, piece);
    }
}

GArray *ek_pieces_from(const GArray *pieces, EkByte offset)
{
    GArray *rest = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < pieces->len; i++) {
        EkRange piece = g_array_index(pieces, EkRange, i);
        EkByte skip = MIN(piece.bytes, offset);
        offset -= skip;
        piece = (EkRange){piece.first + skip, piece.bytes - skip};
        if (piece.bytes > 0)
            g_array_append_val(rest, piece);
    }
    return rest;
}

GArray *ek_content_pieces(const EkContent *content, EkByte offset, EkByte bytes)
{
    g_autoptr(GArray) pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(content, offset + bytes, pieces);
    return ek_pieces_from(pieces, offset);
}

EkContent *ek_content_part(const EkContent *content, EkByte offset, EkByte bytes)
{
    if (content->depth == DEPTH_MOST)
        return NULL;
    g_autoptr(GArray) pieces = ek_content_pieces(content, offset, bytes);
    EkContent *part = ek_content_new(content->reader);
    part->cancel = content->cancel;
    part->near = content->near;
    part->near_place = content->near_place;
    part->remembers = content->remembers;
    part->depth = content->depth + 1;
    part->types = content->types;
    ek_content_lay(part, (const EkRange *)(gconstpointer)pieces->data, pieces->len);
    return part;
}

void ek_content_set_types(EkContent *content, gconstpointer types)
{
    content->types = types;
}

gconstpointer ek_content_types(const EkContent *content)
{
    return content->types;
}

void ek_content_charge(EkContent *content, guint64 work)
{
    content->work += work;
}

gsize ek_content_before(const EkContent *content, guint8 *bytes, gsize most)
{
    EkByte first = ek_content_place(content, 0);
    gsize length = first == G_MAXUINT64 ? 0 : (gsize)MIN(first, most);
    return length > 0 && ek_reader_read(content->reader, first - length, bytes, length, NULL, NULL)
               ? length
               : 0;
}
