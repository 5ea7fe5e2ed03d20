/* SPDX-License-Identifier: MIT */
/* How well the scheduler does on drive models, in device time: bench/capture [--draws N] [--seed S]
 * [--kind NAME] [MODEL…]. For each model the time at which 50, 90, 99, 99.9 and 100 % of the
 * readable sectors are in, and the end, beside the yardsticks. With --draws so many models are
 * drawn from the seed over the ranges in bench/models/RANGES, and the worst of each kind is
 * printed. */
#include "draw.h"
#include "yardstick.h"

#include "capture/scheduler.h"
#include "device/simulated.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#define LONG_WAIT_S 600
#define MOST_BYTES (4u << 20) /* in one read, as core/capture/capture.c has it */
/* With more bad sectors than this a trial ends once 99.9 % are in: the rest is one failure after
 * another, in their millions. */
#define MOST_BAD 4000000u

typedef struct {
    Yardstick yardstick;
    EkReadMap *map;
    EkDevice *device;
    EkSector good;     /* readable sectors */
    EkSector bad_good; /* sectors read twice */
    double marks[MARKS];
    guint64 failed;
    guint64 failed_at_99;
    gboolean died;
    gboolean cut; /* ended early */
    double died_at;
    EkSector wrong; /* sectors in the wrong state at the end */
} Trial;

static void set(void *data, EkSector first, EkSector count, EkState state, EkReason reason,
                guint32 attempts)
{
    Trial *trial = data;
    if (state == EK_STATE_GOOD) {
        EkSector tally[EK_STATES];
        ek_read_map_tally(trial->map, first, count, tally);
        trial->bad_good += tally[EK_STATE_GOOD];
    }
    ek_read_map_set(trial->map, first, count, (EkMark){state, reason, attempts, 1});
}

/* Readable sectors in [first, first + count). */
static EkSector readable_in(const Trial *trial, EkSector first, EkSector count)
{
    const GArray *pieces = trial->yardstick.pieces;
    guint low = 0;
    guint high = pieces->len;
    while (high - low > 1) {
        guint middle = low + (high - low) / 2;
        if (g_array_index(pieces, Piece, middle).first <= first)
            low = middle;
        else
            high = middle;
    }
    EkSector sum = 0;
    for (guint i = low; i < pieces->len; i++) {
        const Piece *piece = &g_array_index(pieces, Piece, i);
        if (piece->first >= first + count)
            break;
        EkSector from = MAX(piece->first, first);
        EkSector to = MIN(piece->first + piece->count, first + count);
        if (piece_is_readable(piece) && to > from)
            sum += to - from;
    }
    return sum;
}

static void note(Trial *trial, EkSector more, double began, double took)
{
    for (int i = 0; i < MARKS - 1; i++) {
        double wanted = mark_shares[i] * (double)trial->yardstick.readable;
        double had = (double)trial->good;
        if (had >= wanted || had + (double)more < wanted)
            continue;
        trial->marks[i] = began + took * (wanted - had) / (double)more;
        if (i == 2)
            trial->failed_at_99 = trial->failed;
    }
    trial->good += more;
}

static double now(Trial *trial)
{
    return (double)ek_device_clock(trial->device) / 1e9;
}

/* FALSE when the drive does not come back. */
static gboolean wait_for_it(Trial *trial)
{
    for (int s = 0; s < LONG_WAIT_S && !ek_device_is_back(trial->device); s++)
        ek_device_wait(trial->device, 1000000000);
    return ek_device_is_back(trial->device);
}

static void image(Trial *trial)
{
    const EkDeviceInfo *info = ek_device_info(trial->device);
    guint32 unit = info->physical_sector_size / info->sector_size;
    guint32 command = info->max_transfer / info->sector_size;
    EkSchedulerParts parts = {
        .map = trial->map,
        .sectors = info->sectors,
        .sector_size = info->sector_size,
        .unit = unit,
        .command = command,
        .most = command * MAX(1, MOST_BYTES / info->max_transfer),
        .patience = 6,
        .data = trial,
        .set = set,
    };
    g_autoptr(EkScheduler) scheduler = ek_scheduler_new(&parts);
    g_autofree guint8 *buffer = g_malloc((gsize)parts.most * info->sector_size);
    const char *trace = getenv("TRACE");
    EkRead read;
    while (ek_scheduler_next(scheduler, &read)) {
        double began = now(trial);
        EkReadOutcome outcome =
            ek_device_read_in_blocks(trial->device, read.first, read.count, read.block, buffer);
        double took = now(trial) - began;
        if (outcome.good > 0)
            note(trial, readable_in(trial, read.first, outcome.good), began, took);
        trial->failed += outcome.reason != EK_REASON_NONE;
        if (trace != NULL && (trace[0] == 'a' || outcome.reason != EK_REASON_NONE))
            fprintf(stderr, "%10.3f %-7s %12" G_GUINT64_FORMAT " +%-7u good %-7u %s\n", began,
                    ek_round_name(read.round), read.first, read.count, outcome.good,
                    ek_reason_name(outcome.reason));
        if (outcome.gone) {
            trial->died_at = now(trial);
            trial->died = !wait_for_it(trial);
            if (trial->died)
                return;
        }
        ek_scheduler_observe(scheduler, &read, &outcome, took);
        trial->cut = trial->yardstick.bad > MOST_BAD && trial->marks[3] > 0;
        if (trial->cut)
            return;
    }
    trial->marks[MARKS - 1] = now(trial);
}

/* Sectors that are not as they should be at the end. */
static EkSector count_wrong(const Trial *trial)
{
    EkSector wrong = 0;
    const GArray *pieces = trial->yardstick.pieces;
    for (guint i = 0; i < pieces->len; i++) {
        const Piece *piece = &g_array_index(pieces, Piece, i);
        EkSector tally[EK_STATES];
        ek_read_map_tally(trial->map, piece->first, piece->count, tally);
        if (piece_is_readable(piece))
            wrong += piece->count - tally[EK_STATE_GOOD];
        else if (piece_is_bad(piece))
            wrong += piece->count - tally[EK_STATE_BAD];
        else
            wrong += tally[EK_STATE_UNTOUCHED] + tally[EK_STATE_SET_ASIDE];
    }
    return wrong;
}

static void run(Trial *trial, EkModel *model, EkByte bytes)
{
    *trial = (Trial){0};
    trial->device = ek_simulated_new(model, "model", NULL, bytes);
    EkSector sectors = ek_device_info(trial->device)->sectors;
    yardstick_measure(&trial->yardstick, model, sectors);
    trial->map = ek_read_map_new(sectors);
    image(trial);
    trial->wrong = trial->died || trial->cut ? 0 : count_wrong(trial);
}

static void clear(Trial *trial)
{
    yardstick_clear(&trial->yardstick);
    ek_read_map_free(trial->map);
    ek_device_close(trial->device);
}

/* A region that is bad throughout may cost one failed command a 64 MiB. */
static double allowed_inside(const Yardstick *yardstick)
{
    return (double)yardstick->inside * yardstick->model->sector_size / 67108864.0;
}

static void print_row(const char *name, const double marks[MARKS])
{
    printf("  %-10s", name);
    for (int i = 0; i < MARKS; i++)
        printf(" %13.1f", marks[i]);
    printf("\n");
}

static void print_trial(const char *name, const Trial *trial)
{
    const Yardstick *yardstick = &trial->yardstick;
    printf("%s: %.1f GiB, %" G_GUINT64_FORMAT " bad sectors in %" G_GUINT64_FORMAT " runs\n", name,
           (double)yardstick->sectors * yardstick->model->sector_size / 1073741824.0,
           yardstick->bad, yardstick->runs);
    if (trial->died) {
        EkSector ideal = yardstick_ideal_by(yardstick, (double)yardstick->model->lifetime / 1e9 -
                                                           5 * yardstick->failure);
        printf("  it died; saved %.3f of what ideal saves five failures earlier\n",
               (double)trial->good / (double)MAX(ideal, 1));
        return;
    }
    printf("  %-10s %13s %13s %13s %13s %13s %13s\n", "seconds at", "50 %", "90 %", "99 %",
           "99.9 %", "100 %", "end");
    print_row("this", trial->marks);
    print_row("ideal", yardstick->ideal);
    print_row("reference", yardstick->reference);
    print_row("plain", yardstick->plain);
    printf("  failed commands %" G_GUINT64_FORMAT " (%" G_GUINT64_FORMAT
           " at 99 %%: %.2f a run and 64 MiB of long runs); read twice %" G_GUINT64_FORMAT
           "; wrong at the end %" G_GUINT64_FORMAT "\n",
           trial->failed, trial->failed_at_99,
           (double)trial->failed_at_99 /
               ((double)yardstick->runs + allowed_inside(yardstick) + 1e-9),
           trial->bad_good, trial->wrong);
}

/* --- drawn models --- */

/* What is weighed: time at 99, 99.9, 100 % and the end; time beside plain; failed commands at 99 %.
 */
#define WEIGHED 6
#define AGAINST_PLAIN 4
#define HARM 5

typedef struct {
    double ratio[WEIGHED]; /* to the target; over 1 misses it */
    double value[WEIGHED];
    guint seed[WEIGHED];
    guint count;
    guint missed;
} Worst;

/* The worst ratio to plain: never over 1 up to 99.9 %, nor over 1.12 at 100 % and the end. */
static double against_plain(const Trial *trial)
{
    double worst = 0;
    for (int i = 0; i < MARKS; i++) {
        double ratio = trial->marks[i] / trial->yardstick.plain[i];
        worst = MAX(worst, i < MARKS - 2 ? ratio : ratio / 1.12);
    }
    return worst;
}

/* Failed commands for each bad run at 99 %, less those that long runs allow. */
static double damage_at_99(const Trial *trial)
{
    const Yardstick *y = &trial->yardstick;
    return MAX((double)trial->failed_at_99 - allowed_inside(y), 0) / MAX((double)y->runs, 1);
}

static void weigh(Worst *worst, const Drawn *drawn, const Trial *trial, guint number)
{
    const Yardstick *y = &trial->yardstick;
    double value[WEIGHED] = {0};
    double target[WEIGHED] = {0};
    memcpy(target, drawn->target, sizeof drawn->target);
    if (drawn->kind != KIND_SHORT_LIFE) {
        target[AGAINST_PLAIN] = 1;
        target[HARM] = 1.5;
        value[AGAINST_PLAIN] = against_plain(trial);
        value[HARM] = damage_at_99(trial);
    }
    if (drawn->kind == KIND_SHORT_LIFE) {
        EkSector ideal = yardstick_ideal_by(y, (double)y->model->lifetime / 1e9 - 5 * y->failure);
        for (int i = 0; i < 4; i++)
            value[i] = (double)ideal / (double)MAX(trial->good, 1);
    } else if (drawn->kind == KIND_HEAD) {
        /* Times ideal, after so many failures are taken off. */
        value[0] = (trial->marks[2] - 25 * y->failure) / y->ideal[2];
        value[1] = (trial->marks[3] - 50 * y->failure) / y->ideal[3];
        value[2] = 0;
        value[3] = trial->marks[5] / y->reference[5];
    } else {
        value[0] = trial->marks[2] / y->reference[2];
        value[1] = trial->marks[3] / y->reference[3];
        value[2] = trial->marks[4] / y->reference[4];
        value[3] = trial->marks[5] / y->reference[5];
        if (drawn->kind == KIND_TRACKS)
            value[2] = (trial->marks[4] - y->ideal[4]) / ((double)y->runs * y->failure);
    }
    gboolean missed = trial->wrong > 0 || trial->bad_good > 0;
    for (int i = 0; i < WEIGHED; i++) {
        double ratio = target[i] > 0 ? value[i] / target[i] : 0;
        missed |= ratio > 1;
        if (ratio > worst->ratio[i]) {
            worst->ratio[i] = ratio;
            worst->value[i] = value[i];
            worst->seed[i] = number;
        }
    }
    worst->count++;
    worst->missed += missed ? 1 : 0;
    if (missed && getenv("VERBOSE") != NULL) {
        printf("draw %u %s: %.3f %.3f %.3f %.3f plain %.3f harm %.2f %s\n", number,
               kind_name(drawn->kind), value[0], value[1], value[2], value[3], value[AGAINST_PLAIN],
               value[HARM], drawn->text->str);
        print_trial("  ", trial);
    }
}

static void draw_many(guint32 seed, guint from, guint count, const char *only)
{
    Worst worst[KINDS] = {0};
    for (guint i = from; i < from + count; i++) {
        Drawn drawn;
        Trial trial;
        draw_model(&drawn, seed, i);
        if (only != NULL && strcmp(only, kind_name(drawn.kind)) != 0) {
            ek_model_free(drawn.model);
            g_string_free(drawn.text, TRUE);
            continue;
        }
        gint64 began = g_get_monotonic_time();
        run(&trial, drawn.model, drawn.bytes);
        if (getenv("PROGRESS") != NULL)
            fprintf(stderr, "%u %s %s %.1f s\n", i, kind_name(drawn.kind), drawn.text->str,
                    (double)(g_get_monotonic_time() - began) / 1e6);
        weigh(&worst[drawn.kind], &drawn, &trial, i);
        if (count == 1)
            print_trial(drawn.text->str, &trial);
        clear(&trial);
        g_string_free(drawn.text, TRUE);
    }
    printf("worst of each kind, seed %u (draw in brackets); * misses its target\n", seed);
    printf("%-16s %6s %6s", "kind", "drawn", "missed");
    static const char *const heads[WEIGHED] = {"99 %", "99.9 %",  "100 %",
                                               "end",  "/ plain", "failed/run"};
    for (int i = 0; i < WEIGHED; i++)
        printf(" %15s", heads[i]);
    printf("\n");
    for (int kind = 0; kind < KINDS; kind++) {
        if (worst[kind].count == 0)
            continue;
        printf("%-16s %6u %6u", kind_name((Kind)kind), worst[kind].count, worst[kind].missed);
        for (int i = 0; i < WEIGHED; i++) {
            g_autofree char *draw = g_strdup_printf("[%u]", worst[kind].seed[i]);
            printf(" %8.3f%c%6s", worst[kind].value[i], worst[kind].ratio[i] > 1 ? '*' : ' ', draw);
        }
        printf("\n");
    }
}

static gboolean run_file(const char *path)
{
    g_autoptr(GError) error = NULL;
    EkModel *model = ek_model_read(path, &error);
    struct stat st;
    if (model == NULL || stat(model->backing, &st) != 0) {
        fprintf(stderr, "%s: %s\n", path, error != NULL ? error->message : "no backing");
        return FALSE;
    }
    Trial trial;
    run(&trial, model, (EkByte)st.st_size);
    print_trial(path, &trial);
    gboolean fine = trial.wrong == 0 && trial.bad_good == 0;
    clear(&trial);
    return fine;
}

int main(int argc, char **argv)
{
    gint draws = 0;
    gint seed = 1;
    gint from = 0;
    g_autofree char *kind = NULL;
    g_auto(GStrv) files = NULL;
    const GOptionEntry entries[] = {
        {"draws", 0, 0, G_OPTION_ARG_INT, &draws, "how many models to draw", "N"},
        {"seed", 0, 0, G_OPTION_ARG_INT, &seed, "what they are drawn from", "S"},
        {"from", 0, 0, G_OPTION_ARG_INT, &from, "the first to run", "N"},
        {"kind", 0, 0, G_OPTION_ARG_STRING, &kind, "only this kind of damage", "NAME"},
        {G_OPTION_REMAINING, 0, 0, G_OPTION_ARG_FILENAME_ARRAY, &files, NULL, "MODEL"},
        G_OPTION_ENTRY_NULL,
    };
    g_autoptr(GOptionContext) context = g_option_context_new(NULL);
    g_autoptr(GError) error = NULL;
    g_option_context_add_main_entries(context, entries, NULL);
    if (!g_option_context_parse(context, &argc, &argv, &error)) {
        fprintf(stderr, "%s\n", error->message);
        return 2;
    }
    gboolean fine = TRUE;
    for (gsize i = 0; files != NULL && files[i] != NULL; i++)
        fine = run_file(files[i]) && fine;
    if (draws > 0)
        draw_many((guint32)seed, (guint)from, (guint)draws, kind);
    return fine ? 0 : 1;
}
