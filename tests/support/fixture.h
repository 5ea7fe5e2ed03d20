/* SPDX-License-Identifier: MIT */
/* On-disk structures, composed byte by byte from the published formats, and what reads them. */
#ifndef EK_TESTS_FIXTURE_H
#define EK_TESTS_FIXTURE_H

#include "image/imagereader.h"

/* --- an image in memory that is a reader -------------------------------------------------------
 */

typedef struct {
    EkImage *image;
    EkReadMap *map;
    EkReader *reader;
} Bench;

/* Writes the bytes to a file, all good, in sectors of 512. */
void bench_open(Bench *bench, const guint8 *data, gsize length);
void bench_close(Bench *bench);

/* Marks sectors as not good: their bytes become zeros, as in a real image. */
void bench_hole(Bench *bench, EkSector first, EkSector count, EkState state);

/* What is good of it, in order: EkRange; the caller unrefs. */
GArray *bench_good(const Bench *bench);

void write_file(const char *path, const void *data, gsize length);
/* The content; the caller frees. */
guint8 *read_file(const char *path, gsize *length);

/* Bytes that look like nothing in particular and never repeat at a sector's distance. */
void fill_noise(guint8 *data, gsize length, guint32 seed);

/* --- FAT -------------------------------------------------------------------------------------- */

typedef struct {
    guint bits; /* 12, 16, 32 */
    guint32 sector_size;
    guint32 per_cluster;
    guint32 reserved;
    guint32 fats;
    guint32 fat_sectors;
    guint32 root_entries;
    guint32 sectors;
    guint32 hidden;
    guint32 clusters;
    gsize data_start; /* bytes */
    gsize length;
    guint8 *data;
    guint32 next_cluster;
} FatVolume;

/* An empty volume: boot sector, FATs, root folder (FAT32: backup and information sector). */
FatVolume *fat_volume_new(guint bits, guint32 hidden);
void fat_volume_free(FatVolume *fat);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(FatVolume, fat_volume_free)

/* Sets a link in all FATs. */
void fat_set(FatVolume *fat, guint32 cluster, guint32 value);

/* Takes clusters for `length` bytes, each `step` after the one before (1: in order), writes the
 * content, links them. Returns the first; 0 for nothing. */
guint32 fat_store(FatVolume *fat, const guint8 *content, gsize length, guint32 step);

/* Where a folder's entries go: cluster 0 is the root folder. *used counts entries, 32 bytes each.
 */
typedef struct {
    guint32 cluster;
    gsize used;
} FatFolder;

/* Appends an entry with a long name when `name` is not NULL. Returns its place in `data`. */
gsize fat_add(FatVolume *fat, FatFolder *folder, const char *short_name, const char *name,
              guint8 attributes, guint32 cluster, guint32 size);

/* Makes a folder of one cluster with its . and .. entries. */
FatFolder fat_add_folder(FatVolume *fat, FatFolder *parent, const char *short_name,
                         const char *name);

FatFolder fat_root(FatVolume *fat);

/* An entry of a folder. */
guint8 *fat_entry(FatVolume *fat, const FatFolder *folder, gsize index);

/* --- NTFS ------------------------------------------------------------------------------------- */

/* A volume of `sectors` sectors (without the backup boot sector behind them): boot sector, the
 * first four file records, their mirror, backup. The caller frees; *length is in bytes. */
guint8 *ntfs_volume_new(guint32 sectors, guint32 hidden, gsize *length);

/* One whose file table lies in two pieces, which its list of attributes tells of; the second holds
 * record 7, called "late.txt". */
guint8 *ntfs_volume_in_pieces(gsize *length);

#define NTFS_MFT_BYTE (4u * 4096u)

/* --- MBR -------------------------------------------------------------------------------------- */

void mbr_put(guint8 *sector, guint index, guint8 type, guint32 first, guint32 count);

#endif
