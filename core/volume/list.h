/* SPDX-License-Identifier: MIT */
/* The list of all file systems and containers: a line each, and all that a new one needs besides
 * its folder. Headers, the array, fuzzers and their coverage are made from it. In this order what
 * is found is asked. For whoever defines EK_FORMAT. */
#ifdef EK_FORMAT
EK_FORMAT(ntfs)
EK_FORMAT(fat)
EK_FORMAT(exfat)
EK_FORMAT(ext)
EK_FORMAT(hfsplus)
EK_FORMAT(apfs)
EK_FORMAT(xfs)
EK_FORMAT(btrfs)
EK_FORMAT(f2fs)
EK_FORMAT(udf)
EK_FORMAT(iso9660)
EK_FORMAT(refs)
EK_FORMAT(swap)
EK_FORMAT(luks)
EK_FORMAT(lvm)
EK_FORMAT(raid)
EK_FORMAT(bitlocker)
EK_FORMAT(ldm)
#endif
