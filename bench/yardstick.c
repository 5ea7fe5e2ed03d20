/* SPDX-License-Identifier: MIT */
/* What an imaging can be held against, computed from a drive model's faults. */
#include "yardstick.h"

#include "device/faultlookup.h"

#include <math.h>

#define PLAIN_BYTES 65536u
#define LONG_RUN_BYTES ((EkByte)64u << 20)

const double mark_shares[MARKS - 1] = {0.5, 0.9, 0.99, 0.999, 1.0};

gboolean piece_is_readable(const Piece *piece)
{
    return piece->fault == NULL || piece->fault->kind == EK_FAULT_SLOW;
}

gboolean piece_is_bad(const Piece *piece)
{
    return !piece_is_readable(piece) && piece->fault->kind != EK_FAULT_FLAKY;
}

static gboolean is_slow(const Piece *piece)
{
    return piece->fault != NULL && piece->fault->kind == EK_FAULT_SLOW;
}

static double seconds_of(gint64 nanoseconds)
{
    return (double)nanoseconds / 1e9;
}

static double sector_time(const Yardstick *self, const Piece *piece)
{
    double rate = is_slow(piece) ? piece->fault->rate : self->model->read_rate;
    return self->model->sector_size / (rate * 1048576.0);
}

/* Reading `count` sectors of a piece in the largest commands, without the seek. */
static double reading(const Yardstick *self, const Piece *piece, double count)
{
    double most = self->model->max_transfer / (double)self->model->sector_size;
    return count * sector_time(self, piece) +
           ceil(count / most) * seconds_of(self->model->command_time);
}

static double failing(const Yardstick *self, const EkFault *fault)
{
    const EkModel *model = self->model;
    gint64 cost = fault->kind == EK_FAULT_STUCK ? fault->hang : model->error_time;
    return seconds_of(cost + model->command_time + model->seek_time);
}

static void lay_out(Yardstick *self)
{
    g_autoptr(EkFaultLookup) index = ek_fault_lookup_new(self->model);
    EkSector per = self->model->physical_sector_size / self->model->sector_size;
    self->pieces = g_array_new(FALSE, FALSE, sizeof(Piece));
    for (EkSector at = 0; at < self->sectors;) {
        EkFaultAt region = ek_fault_lookup_at(index, at, self->sectors);
        Piece piece = {at, region.count, region.fault};
        /* A physical sector fails as a whole. */
        if (per > 1 && piece_is_bad(&piece)) {
            EkSector end = MIN((at + region.count + per - 1) / per * per, self->sectors);
            piece.first = at - at % per;
            piece.count = end - piece.first;
            if (self->pieces->len > 0) {
                Piece *before = &g_array_index(self->pieces, Piece, self->pieces->len - 1);
                before->count = MIN(before->count, piece.first - before->first);
            }
        }
        Piece *last = self->pieces->len > 0
                          ? &g_array_index(self->pieces, Piece, self->pieces->len - 1)
                          : NULL;
        at = piece.first + piece.count;
        if (last != NULL && piece_is_bad(last) && piece_is_bad(&piece))
            last->count += piece.count;
        else
            g_array_append_val(self->pieces, piece);
    }
}

static void count(Yardstick *self)
{
    double failures = 0;
    for (guint i = 0; i < self->pieces->len; i++) {
        const Piece *piece = &g_array_index(self->pieces, Piece, i);
        if (piece_is_readable(piece))
            self->readable += piece->count;
        if (!piece_is_bad(piece))
            continue;
        self->bad += piece->count;
        self->runs++;
        if (piece->count * self->model->sector_size >= LONG_RUN_BYTES)
            self->inside += piece->count;
        failures += (double)piece->count * failing(self, piece->fault);
    }
    self->failure =
        self->bad > 0 ? failures / (double)self->bad : seconds_of(self->model->error_time);
}

static void note(double marks[MARKS], const Yardstick *self, EkSector before, EkSector more,
                 double began, double took)
{
    for (int i = 0; i < MARKS - 1; i++) {
        double wanted = mark_shares[i] * (double)self->readable;
        double had = (double)before;
        if (had < wanted && had + (double)more >= wanted)
            marks[i] = began + took * (wanted - had) / (double)more;
    }
}

static double ideal_pass(Yardstick *self, gboolean slow, EkSector *got, double now)
{
    EkSector next = G_MAXUINT64;
    for (guint i = 0; i < self->pieces->len; i++) {
        const Piece *piece = &g_array_index(self->pieces, Piece, i);
        if (!piece_is_readable(piece) || is_slow(piece) != slow)
            continue;
        if (piece->first != next)
            now += seconds_of(self->model->seek_time);
        double took = reading(self, piece, (double)piece->count);
        note(self->ideal, self, *got, piece->count, now, took);
        *got += piece->count;
        now += took;
        next = piece->first + piece->count;
    }
    return now;
}

static gint longest_first(gconstpointer a, gconstpointer b)
{
    const Piece *one = a;
    const Piece *two = b;
    if (is_slow(one) != is_slow(two))
        return is_slow(one) ? 1 : -1;
    return (one->count < two->count) - (one->count > two->count);
}

static void measure_reference(Yardstick *self)
{
    g_autoptr(GArray) good = g_array_new(FALSE, FALSE, sizeof(Piece));
    g_autoptr(GHashTable) ends = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    double all = 0;
    for (guint i = 0; i < self->pieces->len; i++) {
        const Piece *piece = &g_array_index(self->pieces, Piece, i);
        if (piece_is_readable(piece))
            g_array_append_val(good, *piece);
        else if (piece_is_bad(piece))
            g_hash_table_insert(ends, g_memdup2(&piece->first, sizeof piece->first),
                                (gpointer)piece);
        EkSector unit = self->model->physical_sector_size / self->model->sector_size;
        if (piece_is_bad(piece))
            all += failing(self, piece->fault) * (piece->count <= unit ? 1 : 4);
    }
    g_array_sort(good, longest_first);
    double reading_time = 0;
    double failures = 0;
    EkSector got = 0;
    for (guint i = 0; i < good->len; i++) {
        const Piece *piece = &g_array_index(good, Piece, i);
        EkSector end = piece->first + piece->count;
        const Piece *bad = g_hash_table_lookup(ends, &end);
        double cost = bad != NULL ? failing(self, bad->fault) : 0;
        double took = reading(self, piece, (double)piece->count);
        for (int k = 0; k < MARKS - 2; k++) {
            double wanted = mark_shares[k] * (double)self->readable;
            if ((double)got < wanted && (double)(got + piece->count) >= wanted)
                self->reference[k] = reading_time + failures + seconds_of(self->model->seek_time) +
                                     took * (wanted - (double)got) / (double)piece->count;
        }
        got += piece->count;
        reading_time += took + seconds_of(self->model->seek_time);
        failures += cost;
    }
    self->reference[MARKS - 2] = reading_time + all;
    self->reference[MARKS - 1] = self->reference[MARKS - 2];
    EkSector unit = self->model->physical_sector_size / self->model->sector_size;
    self->reference[MARKS - 1] += (double)self->bad / (double)unit * self->failure;
}

/* Plain reads block by block; healthy blocks in a row are counted together. */
static void measure_plain(Yardstick *self)
{
    const EkModel *model = self->model;
    double command = seconds_of(model->command_time);
    double seek = seconds_of(model->seek_time);
    EkSector block = MAX(PLAIN_BYTES / model->sector_size, 1);
    EkSector got = 0;
    double now = seek;
    EkSector done = 0; /* all before it is read */
    for (guint i = 0; i < self->pieces->len; i++) {
        const Piece *piece = &g_array_index(self->pieces, Piece, i);
        EkSector end = piece->first + piece->count;
        if (piece->fault != NULL && piece->fault->kind == EK_FAULT_FLAKY) {
            done = MAX(done, end);
            continue;
        }
        if (piece_is_bad(piece)) {
            /* Blocks it touches fail; what is good in them before it is read singly. */
            EkSector from = MAX(done, piece->first / block * block);
            double touched = ceil((double)(end - from) / (double)block);
            double singles = (double)(piece->first > from ? piece->first - from : 0);
            EkSector unit = model->physical_sector_size / model->sector_size;
            double took = touched * failing(self, piece->fault) + singles * (command + seek / 8);
            note(self->plain, self, got, (EkSector)singles, now, took);
            now += took + (double)piece->count / (double)unit * failing(self, piece->fault);
            got += (EkSector)singles;
            done = end;
            continue;
        }
        EkSector stop = end;
        gboolean before_bad =
            i + 1 < self->pieces->len && piece_is_bad(&g_array_index(self->pieces, Piece, i + 1));
        if (before_bad)
            stop = MAX(MAX(done, piece->first), end / block * block);
        EkSector from = MAX(done, piece->first);
        if (stop <= from)
            continue;
        /* The rest of a block that failed is read singly. */
        EkSector rest = from % block != 0 && from == piece->first && i > 0
                            ? MIN(block - from % block, stop - from)
                            : 0;
        double count_left = (double)(stop - from - rest);
        double took = (double)rest * command + (rest > 0 ? seek : 0) +
                      (double)(stop - from) * sector_time(self, piece) +
                      ceil(count_left / (double)block) * command;
        note(self->plain, self, got, stop - from, now, took);
        now += took;
        got += stop - from;
        done = stop;
    }
    self->plain[MARKS - 1] = now;
    for (int k = 0; k < MARKS - 1; k++)
        if (self->plain[k] == 0)
            self->plain[k] = now;
}

void yardstick_measure(Yardstick *self, const EkModel *model, EkSector sectors)
{
    *self = (Yardstick){.model = model, .sectors = sectors};
    lay_out(self);
    count(self);
    EkSector got = 0;
    double now = ideal_pass(self, FALSE, &got, 0);
    self->ideal[MARKS - 1] = ideal_pass(self, TRUE, &got, now);
    measure_reference(self);
    measure_plain(self);
}

void yardstick_clear(Yardstick *self)
{
    g_array_unref(self->pieces);
}

EkSector yardstick_ideal_by(const Yardstick *self, double seconds)
{
    double got = 0;
    for (int slow = 0; slow < 2; slow++) {
        for (guint i = 0; i < self->pieces->len && seconds > 0; i++) {
            const Piece *piece = &g_array_index(self->pieces, Piece, i);
            if (!piece_is_readable(piece) || is_slow(piece) != slow)
                continue;
            seconds -= seconds_of(self->model->seek_time);
            double took = reading(self, piece, (double)piece->count);
            got += (double)piece->count * CLAMP(seconds / took, 0, 1);
            seconds -= took;
        }
    }
    return (EkSector)got;
}
