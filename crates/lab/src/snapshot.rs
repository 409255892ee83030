//! A tree as it is, read without any code of the core.

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;
use std::hash::{DefaultHasher, Hasher};
use std::io::Read;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};
use std::path::Path;

use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, openat, readlinkat, statat};

/// All facts about one entry, except inode numbers: hard links show by the first name of their group.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Facts {
    /// `st_mode`, type and permission bits together.
    pub mode: u32,
    /// Owner and group.
    pub owner: (u32, u32),
    /// Length in bytes; 0 for folders.
    pub size: u64,
    /// Modification time.
    pub modified: (i64, i64),
    /// Device number.
    pub device: u64,
    /// Digest of the content, or the link's text.
    pub content: Vec<u8>,
    /// Extended attributes, access control lists among them.
    pub xattrs: BTreeMap<Vec<u8>, Vec<u8>>,
    /// Carried inode flags of files and folders.
    pub flags: u32,
    /// Bytes that a file takes on its drive.
    pub allocated: Allocated,
    /// First name, in tree order, of the entry this is one of several names of.
    pub same_as: Option<Vec<u8>>,
}

/// Entries by path relative to the root; the root has the empty path.
pub type Snapshot = BTreeMap<Vec<u8>, Facts>;

/// Reads the tree at `root`, of any depth.
///
/// # Panics
/// If anything cannot be read.
pub fn snapshot(root: &Path) -> Snapshot {
    let folder = rustix::fs::open(root, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty())
        .expect("the root opens");
    let mut reader = Reader { entries: Snapshot::new(), firsts: HashMap::new() };
    let stat = rustix::fs::fstat(&folder).expect("the root has a stat");
    let facts = reader.facts(folder.as_fd(), b".", b"", &stat);
    reader.entries.insert(Vec::new(), facts);
    reader.folder(folder.as_fd(), b"");
    reader.entries
}

struct Reader {
    entries: Snapshot,
    /// First path of each entry with several names.
    firsts: HashMap<(u64, u64), Vec<u8>>,
}

impl Reader {
    fn folder(&mut self, folder: BorrowedFd<'_>, path: &[u8]) {
        let entries = Dir::read_from(folder).expect("the folder can be listed");
        let mut names: Vec<Vec<u8>> = entries
            .map(|entry| entry.expect("the listing goes on").file_name().to_bytes().to_vec())
            .filter(|name| name != b"." && name != b"..")
            .collect();
        names.sort();
        for name in names {
            let below = if path.is_empty() { name.clone() } else { [path, b"/", &name].concat() };
            let stat =
                statat(folder, &name[..], AtFlags::SYMLINK_NOFOLLOW).expect("an entry has a stat");
            let facts = self.facts(folder, &name, &below, &stat);
            self.entries.insert(below.clone(), facts);
            if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
                let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW;
                let handle =
                    openat(folder, &name[..], flags, Mode::empty()).expect("a folder opens");
                self.folder(handle.as_fd(), &below);
            }
        }
    }

    fn facts(
        &mut self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        path: &[u8],
        stat: &rustix::fs::Stat,
    ) -> Facts {
        let kind = FileType::from_raw_mode(stat.st_mode);
        let content = match kind {
            FileType::RegularFile => digest(folder, name),
            FileType::Symlink => {
                readlinkat(folder, name, Vec::new()).expect("a link can be read").into_bytes()
            }
            _ => Vec::new(),
        };
        let several = kind != FileType::Directory && stat.st_nlink > 1;
        let own = (stat.st_dev, stat.st_ino);
        let same_as =
            several.then(|| self.firsts.entry(own).or_insert_with(|| path.to_vec()).clone());
        Facts {
            mode: stat.st_mode,
            owner: (stat.st_uid, stat.st_gid),
            size: if kind == FileType::Directory { 0 } else { stat.st_size.cast_unsigned() },
            modified: (stat.st_mtime, stat.st_mtime_nsec.cast_signed()),
            device: stat.st_rdev,
            content,
            xattrs: xattrs(folder, name),
            flags: if matches!(kind, FileType::RegularFile | FileType::Directory) {
                flags(folder, name)
            } else {
                0
            },
            allocated: Allocated(stat.st_blocks.cast_unsigned() * 512),
            same_as,
        }
    }
}

/// A number that does not count when entries are compared.
#[derive(Clone, Copy, Debug)]
pub struct Allocated(pub u64);

impl PartialEq for Allocated {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for Allocated {}

fn flags(folder: BorrowedFd<'_>, name: &[u8]) -> u32 {
    let how = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK;
    let opened = openat(folder, name, how, Mode::empty()).expect("a file or folder opens");
    rustix::fs::ioctl_getflags(&opened).map_or(0, |flags| flags.bits() & crate::gardener::CARRIED)
}

fn digest(folder: BorrowedFd<'_>, name: &[u8]) -> Vec<u8> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW;
    let mut file =
        std::fs::File::from(openat(folder, name, flags, Mode::empty()).expect("a file opens"));
    let mut hasher = DefaultHasher::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match file.read(&mut buffer).expect("a file can be read") {
            0 => return hasher.finish().to_be_bytes().to_vec(),
            length => hasher.write(&buffer[..length]),
        }
    }
}

fn xattrs(folder: BorrowedFd<'_>, name: &[u8]) -> BTreeMap<Vec<u8>, Vec<u8>> {
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;
    let path = Path::new("/proc/self/fd")
        .join(folder.as_raw_fd().to_string())
        .join(OsStr::from_bytes(name));
    let names = xattr::list(&path).into_iter().flatten();
    let pairs = names.map(|name| {
        let value = xattr::get(&path, &name).ok().flatten().unwrap_or_default();
        (name.as_bytes().to_vec(), value)
    });
    pairs.collect()
}

/// The differences of two trees, one in a line; empty if they are equal.
pub fn differences(left: &Snapshot, right: &Snapshot) -> String {
    let mut text = String::new();
    let all: std::collections::BTreeSet<_> = left.keys().chain(right.keys()).collect();
    for path in all {
        let (a, b) = (left.get(path), right.get(path));
        if a != b {
            let _ = writeln!(
                text,
                "{:?}\n  left:  {a:?}\n  right: {b:?}",
                String::from_utf8_lossy(path)
            );
        }
    }
    text
}
