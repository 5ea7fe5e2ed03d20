/* SPDX-License-Identifier: MIT */
/* The list of commands, in the order of the work. */
#include "cli.h"

#define MANY 1000000u

const EkCommand ek_commands[] = {
    {"drives", "[sim:PATH …]", "Lists the drives of this machine, and what keeps them in use.",
     "Asks the kernel and udev only: nothing is read from any drive, since with a failing one "
     "every\n"
     "read can be the last. --look reads the first and the last sector of each drive.",
     "ektypon drives", 0, MANY, ek_command_drives},
    {"new", "CASE SOURCE | CASE --adopt FILE", "Opens a case for a drive.",
     "SOURCE is a block device, a file, an NBD URI (nbd://HOST/EXPORT or\n"
     "nbd+unix:///EXPORT?socket=PATH), or sim:PATH for a simulated drive. It is opened "
     "read-only,\n"
     "and exclusively where the system allows. CASE is a folder that is made; it holds all that "
     "is\n"
     "known about the job, and the image unless --image puts that elsewhere. With --adopt the "
     "image\n"
     "is there already, and there is no SOURCE.",
     "ektypon new bench-17 /dev/sdb", 1, 2, ek_command_new},
    {"image", "CASE", "Images the drive, or goes on where it stopped.",
     "First the easy ground in large reads (skim), then where trouble begins and ends (narrow). "
     "What\n"
     "is left then, unless it takes under 15 minutes, is put before you with an estimate: "
     "--all-rounds\n"
     "tries it sector by sector (single), --again N once more. On a drive that is dying --want "
     "says what\n"
     "to read first, by what hunting has found: structures, then VOLUME:PATH. What was read is on "
     "stable storage "
     "before the map says good; Ctrl-C, a crash or a\n"
     "power cut costs the last few seconds. Start the same command again to go on. With --hunt "
     "volumes\n"
     "are searched for in what is read, and named as they turn up.",
     "ektypon image bench-17", 1, 1, ek_command_image},
    {"map", "CASE", "Shows what was read and what was not.", NULL, "ektypon map bench-17", 1, 1,
     ek_command_map},
    {"hunt", "CASE", "Searches the image for volumes and partition tables, at every sector.",
     "Looks at what was read since the last hunt: for partition tables (MBR, GPT, Apple) and "
     "their\n"
     "copies, and for volumes by any copy of their headers: NTFS, FAT12/16/32, exFAT, ext2/3/4, "
     "HFS+,\n"
     "APFS, XFS, Btrfs, F2FS, UDF, ISO 9660, ReFS, Linux swap; LUKS, LVM2, Linux RAID, BitLocker,\n"
     "Windows dynamic disks. What a header claims is measured before it counts.",
     "ektypon hunt bench-17", 1, 1, ek_command_hunt},
    {"volumes", "CASE [NUMBER]", "Shows the volumes that were found; with NUMBER the evidence.",
     NULL, "ektypon volumes bench-17 2", 1, 2, ek_command_volumes},
    {"ls", "CASE VOLUME[:PATH]", "Lists a folder of a volume, before anything is rebuilt.",
     "VOLUME is its number, PATH a folder or file in it, or @NUMBER. Reads NTFS, FAT, exFAT, "
     "ext2/3/4\n"
     "and HFS+. The first time an inventory of the volume is taken; the case keeps it. Condition:\n"
     "whole, holed (bytes bad or unread), overwritten (some of its space belongs to another file\n"
     "now), unplaced (where some of it lies is not known). What lost its folder is in orphans/.",
     "ektypon ls bench-17 2:\"Field recordings\"", 2, 2, ek_command_ls},
    {"tree", "CASE VOLUME[:PATH]", "Shows the folders of a volume with all that is in them.",
     "Each with the size and number of files in it and below, so that folders that hold something\n"
     "stand out.",
     "ektypon tree bench-17 1 --depth 2", 2, 2, ek_command_tree},
    {"find", "CASE [VOLUME[:PATH] …]", "Finds files by name, kind, size, date, condition.",
     "In all volumes whose files can be read, or in what is named. All that is asked for must "
     "hold.\n"
     "Deleted ones are found too, and marked so; --not-deleted leaves them out. --condition holed\n"
     "finds what the bad sectors hit.",
     "ektypon find bench-17 --kind documents --condition holed", 1, MANY, ek_command_find},
    {"peek", "CASE VOLUME:PATH", "Looks into a file: what it is, where it lies, whether it opens.",
     "By its content: pictures are decoded, archives and office files unpacked, text is checked "
     "for\n"
     "its encoding, all in a helper program that can do nothing else. In a terminal a picture is\n"
     "drawn, in any other place with --plain.",
     "ektypon peek bench-17 2:\"Germination photos/Tray 01.jpg\"", 2, 2, ek_command_peek},
    {"index", "CASE VOLUME", "Takes the inventory of a volume, which other commands do as well.",
     "Ctrl-C keeps what can be gone on from. The inventory stays in the case until hunting or\n"
     "imaging changes what it stands on.",
     "ektypon index bench-17 1", 2, 2, ek_command_index},
    {"extract", "CASE VOLUME[:PATH] … --to DIR", "Copies files and folders out of a volume.",
     "Writes below DIR only, which must not be on the drive that is being recovered, in the order\n"
     "of place on the drive. Each volume gets a folder: \"3 Catalogue\"; deleted files (with\n"
     "--deleted) go to \"3 Catalogue - deleted\", files that lost their folder to\n"
     "\"3 Catalogue - no folder\". Unread bytes are filled with zeros. The options of find choose\n"
     "the files. Every file is listed in DIR/extracted.csv, with the name it was given where DIR\n"
     "cannot hold its own. After an interruption the same command continues. Exit status 3 when a\n"
     "file is incomplete.",
     "ektypon extract bench-17 2 --to /mnt/safe/transfer", 1, MANY, ek_command_extract},
    {"plan", "CASE", "Proposes a partition table and repairs, and shows every byte of them.",
     "Nothing is written but the case. Of the volumes that were found the set with the most\n"
     "evidence is taken in which none lies on another's ground; what is left of old tables says\n"
     "the rest. The plan is laid over the image, every volume opened through it and its files\n"
     "counted. What was left out, and how to have it instead, is told.",
     "ektypon plan bench-17", 1, 1, ek_command_plan},
    {"clone", "CASE TARGET", "Writes the image, with the plan laid over it, and reads it back.",
     "TARGET is a file that does not exist, or a device. --as-imaged leaves the plan out.",
     "ektypon clone bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_clone},
    {"apply", "CASE TARGET", "Writes the plan's edits, and nothing else, to TARGET.",
     "Each edit only where TARGET holds the bytes it had before; all of them or none. What was "
     "there\n"
     "is kept in the case: see undo. TARGET may be a clone, or the image of the case itself.",
     "ektypon apply bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_apply},
    {"undo", "CASE TARGET", "Puts back what the last apply replaced there.", NULL,
     "ektypon undo bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_undo},
    {"status", "CASE", "Says where the case stands, and the next sensible command.", NULL,
     "ektypon status bench-17", 1, 1, ek_command_status},
    {"set", "CASE --image FILE", "Tells the case where its image is now.",
     "The image is the one that was moved, or it is refused: its data is compared with what was\n"
     "read. The drive under another name, or through another adapter: ektypon image CASE --source.",
     "ektypon set bench-17 --image /mnt/store/bench-17.raw", 1, 1, ek_command_set},
    {"log", "CASE", "Shows everything that was done in the case.", NULL, "ektypon log bench-17", 1,
     1, ek_command_log},
    {"help", "[COMMAND]", "Explains a command.", NULL, "ektypon help image", 0, 1, ek_command_help},
    {.name = NULL},
};
