//! Kinds of file systems, by the kernel's numbers: whose inode numbers last, whose sizes are exact, what each keeps for itself.

use std::os::fd::BorrowedFd;

use utter_echo_model::identity::InodeNumbers;
use utter_echo_os::{Stat, System};

/// Numbers of file systems, as the kernel's `linux/magic.h` and its drivers have them: ext2 to ext4,
/// FAT, exFAT, NTFS, and what is driven in user space.
const EXT: u64 = 0xef53;

const FAT: u64 = 0x4d44;

const EXFAT: u64 = 0x2011_bab0;

const OF_WINDOWS: [u64; 4] = [FAT, EXFAT, 0x5346_544e, IN_USER_SPACE];

const IN_USER_SPACE: u64 = 0x6573_5546;

/// Those whose drivers may number an entry anew at every look, or whenever it is read from the drive again:
/// driven in user space, shares, FAT and exFAT.
const RESTLESS: [u64; 6] = [IN_USER_SPACE, 0xfe53_4d42, 0xff53_4d42, 0x0102_1997, FAT, EXFAT];

/// Those that lie in memory: what is read from the cache is what they hold.
const IN_MEMORY: [u64; 2] = [TMPFS, 0x8584_58f6];

const TMPFS: u64 = 0x0102_1994;

/// Those whose files end where their size says: ext, XFS, btrfs, F2FS and what lies in memory.
const EXACT: [u64; 5] = [EXT, 0x5846_5342, 0x9123_683e, 0xf2f5_2010, TMPFS];

/// True if nothing can lie beyond the size of a file on the drive that holds a folder.
pub fn has_exact_sizes(system: &dyn System, folder: BorrowedFd<'_>) -> bool {
    system.kind_of_drive(folder).is_ok_and(|kind| EXACT.contains(&kind))
}

/// True if the drive that holds a file or folder is memory itself.
pub fn is_in_memory(system: &dyn System, entry: BorrowedFd<'_>) -> bool {
    system.kind_of_drive(entry).is_ok_and(|kind| IN_MEMORY.contains(&kind))
}

/// Whether the numbers of the drive that holds a folder last.
pub fn numbers(system: &dyn System, folder: BorrowedFd<'_>) -> InodeNumbers {
    match system.kind_of_drive(folder) {
        Ok(kind) if RESTLESS.contains(&kind) => InodeNumbers::Volatile,
        _ => InodeNumbers::Stable,
    }
}

/// Names in the topmost folder of a drive that belong to the drive and not to the tree: where ext keeps
/// what a check has found, and what Windows keeps on drives of its kinds.
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
