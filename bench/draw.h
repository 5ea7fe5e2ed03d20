/* SPDX-License-Identifier: MIT */
/* Drive models drawn from a seed over the ranges in bench/models/RANGES. */
#ifndef EK_BENCH_DRAW_H
#define EK_BENCH_DRAW_H

#include "device/model.h"

typedef enum {
    KIND_SINGLES_100,
    KIND_SINGLES_1000,
    KIND_SINGLES_MANY,
    KIND_SCRATCH,
    KIND_TRACKS,
    KIND_SLOW,
    KIND_HEAD,
    KIND_DEAR,
    KIND_SHORT_LIFE,
    KINDS
} Kind;

typedef struct {
    Kind kind;
    EkModel *model;
    EkByte bytes;
    GString *text;    /* what it is, in words */
    double target[4]; /* ratio at 99, 99.9, 100 % and the end; 0: none */
} Drawn;

const char *kind_name(Kind kind);

/* The `number`th draw of a seed. The caller frees model and text. */
void draw_model(Drawn *drawn, guint32 seed, guint number);

#endif
