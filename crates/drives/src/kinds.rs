//! What is known of file systems by the kernel's numbers: whether inode numbers last and sizes are exact, and which
//! entries are their own.

use std::os::fd::BorrowedFd;

use utter_echo_model::identity::InodeNumbers;
use utter_echo_os::{Stat, System};

/// Numbers of file systems, from the kernel's `linux/magic.h` and its drivers: ext2 to ext4, FAT, exFAT, NTFS, and
/// drivers in user space.
const EXT: u64 = 0xef53;

const FAT: u64 = 0x4d44;

const EXFAT: u64 = 0x2011_bab0;

const OF_WINDOWS: [u64; 4] = [FAT, EXFAT, 0x5346_544e, IN_USER_SPACE];

const IN_USER_SPACE: u64 = 0x6573_5546;

/// File systems that may give an entry a new inode number at every look: those in user space, network shares, FAT
/// and exFAT.
const RESTLESS: [u64; 6] = [IN_USER_SPACE, 0xfe53_4d42, 0xff53_4d42, 0x0102_1997, FAT, EXFAT];

/// File systems in memory, whose cache is all there is.
const IN_MEMORY: [u64; 2] = [TMPFS, 0x8584_58f6];

const TMPFS: u64 = 0x0102_1994;

/// File systems whose sizes are always right: ext, XFS, btrfs, F2FS and those in memory.
const EXACT: [u64; 5] = [EXT, 0x5846_5342, 0x9123_683e, 0xf2f5_2010, TMPFS];

/// True if the sizes of files are always right on the drive of a folder.
pub fn has_exact_sizes(system: &dyn System, folder: BorrowedFd<'_>) -> bool {
    system.kind_of_drive(folder).is_ok_and(|kind| EXACT.contains(&kind))
}

/// True if the drive of a file or folder is memory.
pub fn is_in_memory(system: &dyn System, entry: BorrowedFd<'_>) -> bool {
    system.kind_of_drive(entry).is_ok_and(|kind| IN_MEMORY.contains(&kind))
}

/// Whether the inode numbers of the drive of a folder last.
pub fn numbers(system: &dyn System, folder: BorrowedFd<'_>) -> InodeNumbers {
    match system.kind_of_drive(folder) {
        Ok(kind) if RESTLESS.contains(&kind) => InodeNumbers::Volatile,
        _ => InodeNumbers::Stable,
    }
}

/// Names in the topmost folder of a drive that belong to the file system and not to the tree: where ext keeps what
/// a check found, and what Windows keeps on its drives.
pub fn own_places(
    system: &dyn System,
    folder: BorrowedFd<'_>,
    stat: &Stat,
) -> &'static [&'static [u8]] {
    if !stat.mounted {
        return &[];
    }
    match system.kind_of_drive(folder) {
        Ok(EXT) => &[b"lost+found"],
        Ok(kind) if OF_WINDOWS.contains(&kind) => &[b"System Volume Information"],
        _ => &[],
    }
}
