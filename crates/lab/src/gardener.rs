//! Trees grown and changed at random, from a seed.

use std::ffi::OsString;
use std::fs::{self, File};
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::{FileExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use fastrand::Rng;
use rustix::fs::{AtFlags, CWD, FileType, Mode, Timespec, Timestamps};

/// Makes and changes trees; the same seed does the same to the same tree.
#[derive(Debug)]
pub struct Gardener {
    rng: Rng,
    privileged: bool,
}

/// The inode flags that a run carries: sync, immutable, append-only, no-dump, no-atime.
pub(crate) const CARRIED: u32 = 0xf8;

/// Names a tree may hold, harmless ones among them so that names meet again.
const NAMES: [&[u8]; 14] = [
    b"logbook",
    b"lens",
    b"fog",
    b"tide.csv",
    b"shop.txt",
    b"a",
    b"b",
    b"c",
    b".hidden",
    b"two words",
    b"new\nline",
    b"\x1b[31mred",
    b"not-\xff-utf8",
    b"-dash",
];

impl Gardener {
    /// A gardener with this seed. As root it also makes devices and changes owners.
    pub fn new(seed: u64) -> Self {
        Self { rng: Rng::with_seed(seed), privileged: is_root() }
    }

    /// The same, but it makes nothing that needs root.
    pub fn unprivileged(seed: u64) -> Self {
        Self { rng: Rng::with_seed(seed), privileged: false }
    }

    /// Fills the folder `root`, which exists, with about `entries` entries.
    pub fn grow(&mut self, root: &Path, entries: usize) {
        let mut folders = vec![root.to_path_buf()];
        let mut files: Vec<PathBuf> = Vec::new();
        for _ in 0..entries {
            let path = self.rng.choice(&folders).expect("there is a root").join(self.name());
            if path.symlink_metadata().is_err() {
                self.add(&path, &mut folders, &mut files);
            }
        }
        // From the bottom up, since a new entry changes the times of its folder.
        for folder in folders.iter().rev() {
            self.set_new_attributes(folder);
        }
    }

    /// Changes a tree in `count` places: adds, removes, rewrites, adjusts, links and splits.
    pub fn change(&mut self, root: &Path, count: usize) {
        for _ in 0..count {
            let (mut folders, mut files) = survey(root);
            let folder = self.rng.choice(&folders).expect("there is a root").clone();
            let path = folder.join(self.name());
            match self.rng.u8(0..10) {
                0..=2 => {
                    remove(&path);
                    self.add(&path, &mut folders, &mut files);
                }
                3 => remove(&path),
                4 | 5 => {
                    if let Some(file) = self.rng.choice(&files) {
                        let file = file.clone();
                        self.write(&file);
                    }
                }
                6 => {
                    if let Some(file) = self.rng.choice(&files).filter(|file| **file != path) {
                        remove(&path);
                        // The file may have been in a folder that was just removed.
                        let _ = fs::hard_link(file, &path);
                    }
                }
                _ => {
                    let every: Vec<_> = files.iter().chain(&folders).collect();
                    let entry = (*self.rng.choice(&every).expect("there is a root")).clone();
                    self.set_new_attributes(&entry);
                }
            }
        }
    }

    fn name(&mut self) -> OsString {
        let name = NAMES[self.rng.usize(0..NAMES.len())].to_vec();
        OsString::from_vec(if self.rng.u8(0..40) == 0 { vec![b'x'; 255] } else { name })
    }

    fn add(&mut self, path: &Path, folders: &mut Vec<PathBuf>, files: &mut Vec<PathBuf>) {
        match self.rng.u8(0..20) {
            0..=5 => {
                fs::create_dir(path).expect("a folder is made");
                folders.push(path.to_path_buf());
            }
            6 | 7 => {
                let text = self.rng.choice(["lens", "../fog", "nowhere", "/"]).expect("some");
                symlink(text, path).expect("a link is made");
            }
            8 if !files.is_empty() => {
                let from = self.rng.choice(files.iter()).expect("some");
                if fs::hard_link(from, path).is_ok() {
                    files.push(path.to_path_buf());
                }
                return;
            }
            9 => self.make_special(path),
            _ => {
                File::create(path).expect("a file is made");
                self.write(path);
                files.push(path.to_path_buf());
            }
        }
        self.set_new_attributes(path);
    }

    /// Locks some files and folders: immutable, or append-only. Only as root.
    pub fn lock(&mut self, root: &Path) {
        let (folders, files) = survey(root);
        for path in files.iter().chain(&folders[1..]) {
            if self.rng.u8(0..8) == 0 {
                let more = *self.rng.choice(&[0, 0x40, 0x80, 0xc8]).expect("some");
                set_flags(path, more | *self.rng.choice(&[0x10, 0x20, 0x30]).expect("some"));
            }
        }
    }

    /// Unlocks everything, so that it can be changed or removed.
    pub fn unlock(root: &Path) {
        let (folders, files) = survey(root);
        for path in folders.iter().chain(&files) {
            let locked = File::open(path).and_then(|file| Ok(rustix::fs::ioctl_getflags(file)?));
            if let Some(locked) = locked.ok().filter(|flags| flags.bits() & 0x30 != 0) {
                set_flags(path, locked.bits() & CARRIED & !0x30);
            }
        }
    }

    fn make_special(&mut self, path: &Path) {
        let kind = match self.rng.u8(0..4) {
            0 if self.privileged => FileType::CharacterDevice,
            1 if self.privileged => FileType::BlockDevice,
            2 => FileType::Socket,
            _ => FileType::Fifo,
        };
        let device = rustix::fs::makedev(7, self.rng.u32(0..4));
        rustix::fs::mknodat(CWD, path, kind, Mode::from_raw_mode(0o600), device)
            .expect("a special is made");
    }

    fn write(&mut self, path: &Path) {
        let Ok(file) = File::create(path) else { return };
        let length = match self.rng.u8(0..10) {
            0 => 0,
            1 => self.rng.usize(0..700_000),
            _ => self.rng.usize(0..5_000),
        };
        let mut bytes = vec![0; length];
        self.rng.fill(&mut bytes);
        // A hole in front of what is written.
        let hole = if self.rng.u8(0..8) == 0 { self.rng.u64(0..1 << 20) } else { 0 };
        file.write_all_at(&bytes, hole).expect("a file is written");
    }

    /// Attributes of every sort, at random.
    fn set_new_attributes(&mut self, path: &Path) {
        let Ok(meta) = path.symlink_metadata() else {
            return;
        };
        let link = meta.file_type().is_symlink();
        if self.privileged && self.rng.bool() {
            let (uid, gid) = (self.rng.u32(0..3) * 1000, self.rng.u32(0..3) * 1000);
            std::os::unix::fs::lchown(path, Some(uid), Some(gid)).expect("root gives files away");
        }
        if !link {
            self.dress_openly(path, meta.is_dir());
        }
        let secs = self.rng.i64(-1_000_000_000..2_000_000_000);
        let nanos = self.rng.i64(0..1_000_000_000);
        let time = Timespec { tv_sec: secs, tv_nsec: nanos };
        let times = Timestamps { last_access: time, last_modification: time };
        rustix::fs::utimensat(CWD, path, &times, AtFlags::SYMLINK_NOFOLLOW).expect("times are set");
    }

    fn dress_openly(&mut self, path: &Path, folder: bool) {
        let plain = folder || path.is_file();
        if plain && self.rng.u8(0..4) == 0 {
            let value = [self.rng.u8(..), self.rng.u8(..)];
            let name = *self.rng.choice(&["user.keeper", "user.light"]).expect("some");
            if self.rng.bool() {
                // Not every drive has them.
                let _ = xattr::set(path, name, &value);
            } else {
                let _ = xattr::remove(path, name);
            }
        }
        if plain && self.rng.u8(0..6) == 0 {
            set_flags(path, *self.rng.choice(&[0, 0x40, 0x80, 0xc0]).expect("some"));
        }
        let special = if self.privileged { self.rng.u32(0..8) << 9 } else { 0 };
        let owner = if self.privileged { self.rng.u32(0..8) } else { 7 } << 6;
        let mode = special | owner | self.rng.u32(0..64);
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).expect("a mode is set");
        if plain && self.rng.u8(0..6) == 0 {
            let _ = xattr::set(path, "system.posix_acl_access", &access_list(self.rng.u16(0..8)));
        }
        if folder && self.rng.u8(0..8) == 0 {
            let _ = xattr::set(path, "system.posix_acl_default", &access_list(self.rng.u16(0..8)));
        }
    }
}

/// Sets some of the carried inode flags of a file or folder, where its drive has them.
fn set_flags(path: &Path, flags: u32) -> bool {
    let Ok(file) = File::open(path) else { return false };
    let Ok(had) = rustix::fs::ioctl_getflags(&file) else { return false };
    let wanted = had.bits() & !CARRIED | flags;
    rustix::fs::ioctl_setflags(&file, rustix::fs::IFlags::from_bits_retain(wanted)).is_ok()
}

/// An access list in the kernel's form: owner, user 1001, group, mask, others. See `acl(5)` and
/// the kernel's `posix_acl_xattr.h`.
fn access_list(user: u16) -> Vec<u8> {
    const ANYONE: u32 = u32::MAX;
    let entries = [
        (1_u16, 7_u16, ANYONE),
        (2, user, 1001),
        (4, 5, ANYONE),
        (0x10, 7, ANYONE),
        (0x20, 0, ANYONE),
    ];
    let mut list = 2_u32.to_le_bytes().to_vec();
    for (tag, rights, who) in entries {
        list.extend(tag.to_le_bytes());
        list.extend(rights.to_le_bytes());
        list.extend(who.to_le_bytes());
    }
    list
}

fn remove(path: &Path) {
    match path.symlink_metadata() {
        Ok(meta) if meta.is_dir() => fs::remove_dir_all(path).expect("a folder goes"),
        Ok(_) => fs::remove_file(path).expect("a file goes"),
        Err(_) => {}
    }
}

/// All folders, the root first, and all files.
fn survey(root: &Path) -> (Vec<PathBuf>, Vec<PathBuf>) {
    let (mut folders, mut files) = (vec![root.to_path_buf()], Vec::new());
    let mut at = 0;
    while at < folders.len() {
        let mut entries: Vec<_> = fs::read_dir(&folders[at])
            .expect("a folder is listed")
            .map(|e| e.expect("an entry").path())
            .collect();
        // The order of the system differs between runs.
        entries.sort();
        for path in entries {
            let kind = path.symlink_metadata().expect("an entry has a stat").file_type();
            if kind.is_dir() {
                folders.push(path);
            } else if kind.is_file() {
                files.push(path);
            }
        }
        at += 1;
    }
    (folders, files)
}

/// True if the tests may make devices, give files away and mount drives.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}
