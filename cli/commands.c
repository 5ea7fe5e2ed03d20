/* SPDX-License-Identifier: MIT */
/* The list of commands, in the order of the work. */
#include "cli.h"

#define MANY 1000000u

const EkCommand ek_commands[] = {
    {"drives", "[sim:PATH …]", "List drives and what is using them.",
     "Asks the kernel and udev only: nothing is read from any drive, since with a failing one "
     "every\n"
     "read can be the last. --look reads the first and the last sector of each drive.",
     "ektypon drives", 0, MANY, ek_command_drives},
    {"new", "CASE SOURCE | CASE --adopt FILE", "Create a case for a drive.",
     "SOURCE is a block device, a file, an NBD URI (nbd://HOST/EXPORT or\n"
     "nbd+unix:///EXPORT?socket=PATH), or sim:PATH for a simulated drive. It is opened "
     "read-only,\n"
     "and exclusively where the system allows. CASE is a folder that is made; it holds all that "
     "is\n"
     "known about the job, and the image unless --image puts that elsewhere. With --adopt the "
     "image\n"
     "is there already, and there is no SOURCE.",
     "ektypon new bench-17 /dev/sdb", 1, 2, ek_command_new},
    {"image", "CASE", "Image the drive, or resume imaging.",
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
    {"map", "CASE", "Show which sectors were read.", NULL, "ektypon map bench-17", 1, 1,
     ek_command_map},
    {"hunt", "CASE", "Search every sector of the image for volumes and partition tables.",
     "Searches everything read since the last hunt for partition tables (MBR, GPT, Apple) and "
     "their\ncopies, and for volumes by any copy of their headers: NTFS, FAT12/16/32, exFAT, "
     "ext2/3/4, HFS+,\nAPFS, XFS, Btrfs, F2FS, UDF, ISO 9660, ReFS, Linux swap; LUKS, LVM2, Linux "
     "RAID, BitLocker,\nWindows dynamic disks. Every header found is verified against the data it "
     "points to.",
     "ektypon hunt bench-17", 1, 1, ek_command_hunt},
    {"volumes", "CASE [NUMBER]", "List the volumes found; with NUMBER, show the evidence for one.",
     NULL, "ektypon volumes bench-17 2", 1, 2, ek_command_volumes},
    {"ls", "CASE VOLUME[:PATH]", "List a folder of a volume (no rebuild needed).",
     "VOLUME is its number, PATH a folder or file in it, or @NUMBER. Reads NTFS, FAT, exFAT, "
     "ext2/3/4\n"
     "and HFS+. The first time an inventory of the volume is taken; the case keeps it. Condition:\n"
     "whole, holed (bytes bad or unread), overwritten (some of its space belongs to another file\n"
     "now), unplaced (where some of it lies is not known). What lost its folder is in orphans/.",
     "ektypon ls bench-17 2:\"Field recordings\"", 2, 2, ek_command_ls},
    {"tree", "CASE VOLUME[:PATH]", "Show the folder tree of a volume with sizes.",
     "Each with the size and number of files in it and below, so that folders that hold something\n"
     "stand out.",
     "ektypon tree bench-17 1 --depth 2", 2, 2, ek_command_tree},
    {"find", "CASE [VOLUME[:PATH] …]", "Finds files by name, kind, size, date, condition.",
     "Searches all readable volumes, or only those named. A file must match all filters.\nDeleted "
     "files are included and marked; --not-deleted excludes them. --condition holed\nfinds the "
     "files affected by bad sectors.",
     "ektypon find bench-17 --kind documents --condition holed", 1, MANY, ek_command_find},
    {"peek", "CASE VOLUME:PATH", "Preview a file: type, location, condition, and whether it opens.",
     "By its content: pictures are decoded, archives and office files unpacked, text is checked "
     "for\n"
     "its encoding, all in a helper program that can do nothing else. In a terminal a picture is\n"
     "drawn, in any other place with --plain.",
     "ektypon peek bench-17 2:\"Germination photos/Tray 01.jpg\"", 2, 2, ek_command_peek},
    {"index", "CASE VOLUME",
     "Build the file index of a volume (other commands do this when needed).",
     "Ctrl-C keeps what can be gone on from. The inventory stays in the case until hunting or\n"
     "imaging changes what it stands on.",
     "ektypon index bench-17 1", 2, 2, ek_command_index},
    {"extract", "CASE VOLUME[:PATH] … --to DIR", "Extract files and folders from volumes.",
     "Writes below DIR only, which must not be on the drive that is being recovered, in the order\n"
     "of place on the drive. Each volume gets a folder: \"3 Catalogue\"; deleted files (with\n"
     "--deleted) go to \"3 Catalogue - deleted\", files that lost their folder to\n"
     "\"3 Catalogue - no folder\". Unread bytes are filled with zeros. The options of find choose\n"
     "the files. Every file is listed in DIR/extracted.csv, with the name it was given where DIR\n"
     "cannot hold its own. After an interruption the same command continues. Exit status 3 when a\n"
     "file is incomplete.",
     "ektypon extract bench-17 2 --to /mnt/safe/transfer", 1, MANY, ek_command_extract},
    {"plan", "CASE", "Propose a partition table and boot-sector repairs, byte by byte.",
     "Nothing is written but the case. Of the volumes that were found the set with the most\n"
     "evidence is taken in which none lies on another's ground; what is left of old tables says\n"
     "the rest. The plan is laid over the image, every volume opened through it and its files\n"
     "counted. What was left out, and how to have it instead, is told.",
     "ektypon plan bench-17", 1, 1, ek_command_plan},
    {"clone", "CASE TARGET", "Write the image with the plan applied to TARGET, and verify it.",
     "TARGET is a new file or a device. --as-imaged writes the image without the plan.",
     "ektypon clone bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_clone},
    {"apply", "CASE TARGET", "Write only the plan's edits to TARGET.",
     "Each edit only where TARGET holds the bytes it had before; all of them or none. What was "
     "there\n"
     "is kept in the case: see undo. TARGET may be a clone, or the image of the case itself.",
     "ektypon apply bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_apply},
    {"undo", "CASE TARGET", "Restore the bytes replaced by the last apply or clone.", NULL,
     "ektypon undo bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_undo},
    {"status", "CASE", "Show the state of the case and the next step.", NULL,
     "ektypon status bench-17", 1, 1, ek_command_status},
    {"set", "CASE --image FILE", "Tells the case where its image is now.",
     "The image is the one that was moved, or it is refused: its data is compared with what was\n"
     "read. The drive under another name, or through another adapter: ektypon image CASE --source.",
     "ektypon set bench-17 --image /mnt/store/bench-17.raw", 1, 1, ek_command_set},
    {"log", "CASE", "Show the history of the case.", NULL, "ektypon log bench-17", 1, 1,
     ek_command_log},
    {"help", "[COMMAND]", "Explains a command.", NULL, "ektypon help image", 0, 1, ek_command_help},
    {.name = NULL},
};
