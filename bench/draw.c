/* SPDX-License-Identifier: MIT */
/* Drive models drawn from a seed over the ranges in bench/models/RANGES. */
#include "draw.h"

#include <math.h>

#define MS 1000000.0
#define GIB 1073741824.0
#define MIB 1048576.0

static const struct {
    const char *name;
    double target[4];
} kinds[KINDS] = {
    [KIND_SINGLES_100] = {"singles-100", {1.1, 1.15, 1.35, 1.1}},
    [KIND_SINGLES_1000] = {"singles-1000", {1.2, 1.25, 2.0, 1.15}},
    [KIND_SINGLES_MANY] = {"singles-many", {1.25, 1.3, 2.2, 1.15}},
    [KIND_SCRATCH] = {"scratch", {1.03, 1.03, 1.25, 1.05}},
    [KIND_TRACKS] = {"tracks", {1.5, 3, 6, 1.1}}, /* at 100 %: failures a run beyond ideal */
    [KIND_SLOW] = {"slow", {1.03, 1.03, 1.03, 1.05}},
    [KIND_HEAD] = {"head", {1.1, 1.3, 0, 1.1}}, /* of ideal, less 25 and 50 failures */
    [KIND_DEAR] = {"dear", {1.35, 1.5, 1.6, 1.2}},
    [KIND_SHORT_LIFE] = {"short-life", {1 / 0.97, 0, 0, 0}},
};

const char *kind_name(Kind kind)
{
    return kinds[kind].name;
}

static double between(GRand *random, double low, double high)
{
    return exp(g_rand_double_range(random, log(low), log(high)));
}

static EkSector sector_below(GRand *random, EkSector sectors)
{
    return (EkSector)(g_rand_double(random) * (double)sectors);
}

static EkFault *add_fault(EkModel *model, EkFaultKind kind, EkSector first, EkSector count)
{
    EkFault *fault = g_new0(EkFault, 1);
    fault->kind = kind;
    fault->first = first;
    fault->count = MAX(count, 1);
    fault->rate = 2;
    fault->chance = 1;
    g_ptr_array_add(model->faults, fault);
    return fault;
}

static void add_singles(EkModel *model, GRand *random, EkSector from, EkSector sectors, guint count)
{
    for (guint i = 0; i < count; i++)
        add_fault(model, EK_FAULT_UNREADABLE, from + sector_below(random, sectors), 1);
}

static void add_tracks(Drawn *drawn, GRand *random, EkSector sectors)
{
    EkSector track = (EkSector)between(random, 1000, 4000);
    EkSector count = (EkSector)((double)track * g_rand_double_range(random, 0.05, 0.4));
    EkSector tracks = (EkSector)between(random, 20, 3000);
    EkSector first = sector_below(random, sectors - track * (tracks + 8));
    EkFault *fault = add_fault(drawn->model, EK_FAULT_UNREADABLE, first, count);
    fault->repeat_every = track;
    fault->until = first + track * tracks;
    g_string_append_printf(drawn->text, "%g tracks of %g, %g bad", (double)tracks, (double)track,
                           (double)count);
}

static void add_head(Drawn *drawn, GRand *random, EkSector sectors)
{
    guint heads = (guint)g_rand_int_range(random, 2, 17);
    EkSector stripe = (EkSector)(between(random, 1, 32) * MIB / 512);
    guint zones = (guint)g_rand_int_range(random, 1, 4);
    EkSector at = sector_below(random, stripe * heads);
    for (guint zone = 0; zone < zones; zone++) {
        EkSector end = sectors / zones * (zone + 1);
        EkFault *fault = add_fault(drawn->model, EK_FAULT_UNREADABLE, at, stripe);
        fault->repeat_every = stripe * heads;
        fault->drift = g_rand_int_range(random, 0, 2) * g_rand_int_range(random, -8, 9);
        fault->until = end - 1;
        at = end + sector_below(random, stripe * heads);
        stripe = (EkSector)((double)stripe * 0.9);
    }
    g_string_append_printf(drawn->text, "%u heads, stripe %.1f MiB, %u zones", heads,
                           (double)stripe * 512 / MIB, zones);
}

static void add_damage(Drawn *drawn, GRand *random, EkSector sectors)
{
    EkModel *model = drawn->model;
    GString *text = drawn->text;
    guint count = 0;
    EkSector length = 0;
    switch (drawn->kind) {
    case KIND_SINGLES_100: count = (guint)between(random, 1, 100); break;
    case KIND_SINGLES_1000: count = (guint)between(random, 100, 1000); break;
    case KIND_SINGLES_MANY: count = (guint)between(random, 1000, 100000); break;
    case KIND_DEAR:
        count = (guint)between(random, 1, 1000);
        model->command_time = (gint64)(between(random, 50, 1500) * MS);
        model->error_time = (gint64)(between(random, 0.1, 5) * MS);
        break;
    case KIND_SCRATCH:
        length = (EkSector)between(random, 1000, 1000000);
        add_fault(model, EK_FAULT_UNREADABLE, sector_below(random, sectors - length), length);
        g_string_append_printf(text, "%g sectors", (double)length);
        break;
    case KIND_SLOW:
        length = (EkSector)((double)sectors * between(random, 0.001, 0.1));
        add_fault(model, EK_FAULT_SLOW, sector_below(random, sectors - length), length)->rate =
            between(random, 0.5, 8);
        g_string_append_printf(text, "%g sectors slow", (double)length);
        break;
    case KIND_TRACKS: add_tracks(drawn, random, sectors); break;
    case KIND_HEAD: add_head(drawn, random, sectors); break;
    case KIND_SHORT_LIFE:
        model->lifetime = (gint64)((double)sectors * 512 / MIB / 160 * 1e9 *
                                   g_rand_double_range(random, 0.3, 0.7));
        length = sectors / 4;
        if (g_rand_boolean(random))
            add_fault(model, EK_FAULT_UNREADABLE, sector_below(random, sectors - length), length);
        else
            add_singles(model, random, sector_below(random, sectors - length), length,
                        (guint)between(random, 1000, 20000));
        break;
    case KINDS: break;
    }
    add_singles(model, random, 0, sectors, count);
    if (count > 0)
        g_string_append_printf(text, "%u singles", count);
}

void draw_model(Drawn *drawn, guint32 seed, guint number)
{
    guint32 seeds[2] = {seed, number};
    GRand *random = g_rand_new_with_seed_array(seeds, 2);
    GString *text = g_string_new(NULL);
    EkModel *model = ek_model_new();
    *drawn = (Drawn){.kind = (Kind)(number % KINDS), .model = model, .text = text};
    drawn->bytes = (EkByte)(between(random, 16, 24 * 1024) * GIB) / 4096 * 4096;
    EkSector sectors = drawn->bytes / 512;
    model->model = g_strdup("drawn");
    model->sector_size = model->physical_sector_size = 512;
    model->read_rate = 160;
    model->max_transfer = 1u << 20;
    model->command_time = (gint64)(between(random, 0.05, 1) * MS);
    model->seek_time = (gint64)(9 * MS);
    model->error_time = (gint64)(between(random, 1, 5000) * MS);
    model->seed = number;
    for (int i = 0; i < 4; i++)
        drawn->target[i] = kinds[drawn->kind].target[i];
    add_damage(drawn, random, sectors);
    g_string_append_printf(text, ", %.0f GiB, E %.1f ms, c %.2f ms", (double)drawn->bytes / GIB,
                           (double)model->error_time / MS, (double)model->command_time / MS);
    g_rand_free(random);
}
