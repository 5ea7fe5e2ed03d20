/* SPDX-License-Identifier: MIT */
/* The list of commands, in the order of the work. */
#include "cli.h"

#define MANY 1000000u

const EkCommand ek_commands[] = {
    {"drives", "[sim:PATH…]", "List drives and the programs that use them.",
     "Uses information from the kernel and udev only. No drive is read, because every read can "
     "be the last one of a failing drive. --look reads the first and the last sector of each "
     "drive.",
     "ektypon drives", 0, MANY, ek_command_drives},
    {"new", "CASE SOURCE | CASE --adopt FILE", "Create a case for a drive.",
     "SOURCE is a block device, a file, an NBD URI (nbd://HOST/EXPORT "
     "or nbd+unix:///EXPORT?socket=PATH), or sim:PATH for a simulated drive. It is opened "
     "read-only, and exclusively where the system allows. CASE is a new folder. It stores "
     "everything about the job, and the image unless --image sets another place. With --adopt an "
     "existing image is used instead of a SOURCE.",
     "ektypon new bench-17 /dev/sdb", 1, 2, ek_command_new},
    {"image", "CASE", "Image the drive, or resume imaging.",
     "Rounds: skim (large reads, skips problem areas), narrow (finds the edges of problem "
     "areas), single (sector by sector). Imaging stops with a time estimate before single, if "
     "that round would take more than 15 minutes; --all-rounds continues without asking, --again "
     "N retries bad sectors. For a dying drive, --want reads the most important data first (run "
     "hunt before): file-system metadata, then chosen files. Data is flushed to disk before the "
     "map marks it good: Ctrl-C, a crash or a power failure loses at most a few seconds. Run the "
     "same command again to resume. --hunt searches for volumes while imaging and reports them as "
     "they are found.",
     "ektypon image bench-17", 1, 1, ek_command_image},
    {"map", "CASE", "Show which sectors were read.", NULL, "ektypon map bench-17", 1, 1,
     ek_command_map},
    {"hunt", "CASE", "Search every sector of the image for volumes and partition tables.",
     "Searches everything read since the last hunt for partition tables (MBR, GPT, Apple) and "
     "their copies, and for volumes by any copy of their headers: NTFS, FAT12/16/32, exFAT, "
     "ext2/3/4, HFS+, APFS, XFS, Btrfs, F2FS, UDF, ISO 9660, ReFS, Linux swap; LUKS, LVM2, Linux "
     "RAID, BitLocker, Windows dynamic disks. Every header found is verified against the data it "
     "points to.",
     "ektypon hunt bench-17", 1, 1, ek_command_hunt},
    {"volumes", "CASE [NUMBER]", "List the volumes found; with NUMBER, show the evidence for one.",
     NULL, "ektypon volumes bench-17 2", 1, 2, ek_command_volumes},
    {"ls", "CASE VOLUME[:PATH]", "List a folder of a volume (no rebuild needed).",
     "VOLUME is a volume number, PATH a folder or file on it, or @NUMBER. Reads NTFS, FAT, "
     "exFAT, ext2/3/4 and HFS+. The first use builds a file index of the volume, which is saved "
     "in the case. Condition: whole; holed (some bytes could not be read); overwritten (part of "
     "its space is used by another file now); unplaced (location of some data unknown); doubtful "
     "(its location is a guess). Files that no folder leads to are listed in \"no folder/\".",
     "ektypon ls bench-17 2:\"Field recordings\"", 2, 2, ek_command_ls},
    {"tree", "CASE VOLUME[:PATH]", "Show the folder tree of a volume with sizes.",
     "Each folder shows the total size and number of files below it.",
     "ektypon tree bench-17 1 --depth 2", 2, 2, ek_command_tree},
    {"find", "CASE [VOLUME[:PATH]…]", "Find files by name, kind, size, date or condition.",
     "Searches all readable volumes, or only those named. A file must match all filters. Deleted "
     "files are included and marked; --not-deleted excludes them. --condition holed finds the "
     "files affected by bad sectors.",
     "ektypon find bench-17 --kind documents --condition holed", 1, MANY, ek_command_find},
    {"peek", "CASE VOLUME:PATH", "Preview a file, or the pictures and films of a folder.",
     "Checked by content: pictures, films and recordings are decoded, archives and office files "
     "unpacked, text is tested for its encoding, all in a sandboxed helper process. Of office "
     "files and PDFs the words are shown. Pictures and the first frames of films are drawn in the "
     "terminal; use --plain elsewhere. With --sheet PATH is a folder: its pictures and films side "
     "by side.",
     "ektypon peek bench-17 2:\"Germination photos/Tray 01.jpg\"", 2, 2, ek_command_peek},
    {"index", "CASE VOLUME",
     "Build the file index of a volume (other commands do this when needed).",
     "Ctrl-C is safe: the index resumes where it stopped. The index is rebuilt when imaging or "
     "hunting changes the data it is based on.",
     "ektypon index bench-17 1", 2, 2, ek_command_index},
    {"extract", "CASE VOLUME[:PATH]… --to DIR", "Extract files and folders from volumes.",
     "Writes only below DIR, which must not be on the drive being recovered. Files are read in "
     "disk order. Each volume gets a folder: \"3 Catalogue\"; deleted files (with --deleted) go "
     "to \"3 Catalogue - deleted\", files without a parent folder to \"3 Catalogue - no folder\". "
     "Missing bytes are filled with zeros. The options of find choose the files. Every file is "
     "listed in DIR/extracted.csv, with the name it was given where DIR cannot hold its own. Run "
     "the same command again to resume. Exit status 3 if any file is incomplete.",
     "ektypon extract bench-17 2 --to /mnt/safe/transfer", 1, MANY, ek_command_extract},
    {"mount", "CASE DIR", "Show the files of the case as folders, for any program to read.",
     "Each volume gets a folder in DIR: \"3 Catalogue\", deleted files \"3 Catalogue - deleted\", "
     "files without a parent folder \"3 Catalogue - no folder\", files found by content "
     "\"carved\". "
     "Everything is read-only and read from the image when a program asks for it: nothing is "
     "extracted. Reading missing bytes gives an I/O error. Each file has its condition in the "
     "attribute user.ektypon.condition, its SHA-256 in user.ektypon.sha256 or its missing ranges "
     "in user.ektypon.holes (getfattr -d). Runs until Ctrl-C or umount; nothing stays mounted, "
     "even if the program is killed.",
     "ektypon mount bench-17 /mnt/client", 2, 2, ek_command_mount},
    {"carve", "CASE | --types", "Search for files by content: what no folder leads to any more.",
     "Looks for the beginnings of known file types in the sectors that no healthy file occupies, "
     "and "
     "follows each file to its end by its own structure, across fragments where possible. What is "
     "found "
     "is browsed like a volume, as \"carved\": ektypon tree CASE carved. State: whole (followed to "
     "its end, all checks passed); cut (begins right, ends early); doubtful (its content cannot "
     "be verified). Ctrl-C keeps everything; run the same command again to resume.",
     "ektypon carve bench-17 --kind pictures,video", 0, 1, ek_command_carve},
    {"plan", "CASE", "Propose a partition table and boot-sector repairs, byte by byte.",
     "Only the case is written to. The plan uses the best-supported set of volumes that do "
     "not overlap, plus what survives of old partition tables. The plan is then tested: every "
     "volume is opened with the edits in place and its files are counted. Volumes that were left "
     "out are listed, with the option that includes them.",
     "ektypon plan bench-17", 1, 1, ek_command_plan},
    {"clone", "CASE TARGET…", "Write the image with the plan applied to TARGET, and verify it.",
     "TARGET is a new file or a device. Several are written at once, reading the image once; each "
     "is "
     "verified by itself, and one that fails does not stop the others. --as-imaged writes the "
     "image "
     "without the plan.",
     "ektypon clone bench-17 /mnt/safe/clone.raw", 2, MANY, ek_command_clone},
    {"apply", "CASE TARGET", "Write only the plan's edits to TARGET.",
     "An edit is written only if TARGET still contains the expected old bytes. Either all edits "
     "are written or none. The old bytes are saved in the case (see undo). TARGET may be a clone, "
     "or the image of the case itself.",
     "ektypon apply bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_apply},
    {"undo", "CASE TARGET", "Restore the bytes replaced by the last apply or clone.", NULL,
     "ektypon undo bench-17 /mnt/safe/clone.raw", 2, 2, ek_command_undo},
    {"serve", "CASE", "Serve the drive to other programs over NBD.",
     "The drive as repaired (with the edits of the plan in place; nothing is written) or as it was "
     "read, and each volume by itself as volume-N: the kernel, virtual machines and the file "
     "systems' own checkers can work on it. Read-only; with --scratch clients can write, so that a "
     "checker can repair: all its writes are discarded at the end. Reading missing bytes gives an "
     "I/O error. Needs nbdkit. Runs until Ctrl-C.",
     "ektypon serve bench-17 --as repaired --at /tmp/bench-17.sock", 1, 1, ek_command_serve},
    {"status", "CASE", "Show the state of the case and the next step.", NULL,
     "ektypon status bench-17", 1, 1, ek_command_status},
    {"note", "CASE", "Show or set the client, reference and note of the report.",
     "The client, your reference and a note are kept in the case and appear in every report. An "
     "empty text removes one.",
     "ektypon note bench-17 --client \"Harrow Fen Seed Library\" --reference 2026-0117", 1, 1,
     ek_command_note},
    {"report", "CASE", "Write a report to hand over, as one HTML page and as PDF.",
     "The page needs no other file and no network, and prints well: whether all files are "
     "complete, "
     "the drive and its volumes as pictures, the recoverable files by volume, kind and folder, the "
     "incomplete files with their missing parts, the plan, the steps. --for sets how deep it goes: "
     "client "
     "(results only), bench (also the read map, folders, plan and steps), record (also the "
     "evidence "
     "and every edit). Folders of this computer do not appear in it.",
     "ektypon report bench-17 --for client --to report.html", 1, 1, ek_command_report},
    {"set", "CASE --image FILE", "Set the new location of a moved image.",
     "The file is compared with the data that was read before, and is refused if it is another "
     "one. For a drive under another name or adapter: ektypon image CASE --source.",
     "ektypon set bench-17 --image /mnt/store/bench-17.raw", 1, 1, ek_command_set},
    {"log", "CASE", "Show the history of the case.", NULL, "ektypon log bench-17", 1, 1,
     ek_command_log},
    {"help", "[COMMAND]", "Show the help of a command.", NULL, "ektypon help image", 0, MANY,
     ek_command_help},
    {.name = NULL},
};
