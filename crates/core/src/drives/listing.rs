//! The drives that are mounted, and what each can hold.

use std::collections::HashMap;
use std::ffi::OsString;
use std::io;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStringExt;
use std::path::{Path, PathBuf};

use crate::abilities::Abilities;
use crate::os::{Entry, Mount, Space, System};
use crate::problem::Cause;

/// A mounted drive.
#[derive(Clone, Debug)]
pub struct Drive {
    /// Where it is mounted.
    pub mounted_at: PathBuf,
    /// The device, or what stands for one.
    pub device: PathBuf,
    /// Kind of file system: as the drive itself says, else as the system calls it.
    pub kind: String,
    /// The name somebody gave it; `None` if it has none or that cannot be found out.
    pub label: Option<String>,
    /// What identifies it, in the usual form for its kind; `None` if that cannot be found out.
    pub uuid: Option<String>,
    /// Room on it.
    pub space: Space,
    /// It may be written to.
    pub writable: bool,
    /// What it can hold; `None` where that could not be tried out.
    pub abilities: Option<Abilities>,
}

/// A folder that was asked about and cannot be opened.
#[derive(Debug, thiserror::Error)]
#[error("'{}' cannot be opened: {}", .path.display(), Cause::from(io::Error::new(.cause.kind(), .cause.to_string())))]
pub struct NoFolder {
    /// As given.
    pub path: PathBuf,
    /// The system's word.
    pub cause: io::Error,
}

/// The numbers of the drives that hold these folders.
pub fn holding(system: &dyn System, folders: &[PathBuf]) -> Result<Vec<u64>, NoFolder> {
    let mounts = system.mounts().unwrap_or_default();
    let drive = |path: &PathBuf| {
        let closed = |cause| NoFolder { path: path.clone(), cause };
        let root = system.open_root(path).map_err(closed)?;
        let real = path.canonicalize().map_err(closed)?;
        let stat = system.stat(Entry::Pinned(root.as_fd())).map_err(closed)?;
        // A part of a drive may have a number of its own, which is not that of the mount.
        let mount = mount_holding(&mounts, &real);
        Ok(mount.map_or(stat.identity.drive, |mount| mount.drive))
    };
    folders.iter().map(drive).collect()
}

/// The mount that a folder lies on, by its real path. Of several in one place the last is the one that
/// shows.
pub(crate) fn mount_holding<'m>(mounts: &'m [Mount], real: &Path) -> Option<&'m Mount> {
    let around = mounts.iter().filter(|mount| real.starts_with(&mount.point));
    around.max_by_key(|mount| mount.point.components().count())
}

/// Lists the mounted drives that hold files, each once, by where they are mounted; all, or `only`
/// those with these numbers. What each can hold is tried out where it may be written to; nothing of
/// that stays.
pub fn list(system: &dyn System, only: Option<&[u64]>) -> io::Result<Vec<Drive>> {
    let caller = system.caller()?;
    let mut drives = Vec::new();
    for mount in mounted_once(system)? {
        if only.is_some_and(|only| !only.contains(&mount.drive)) {
            continue;
        }
        let Ok(folder) = system.open_root(&mount.point) else { continue };
        let folder = folder.as_fd();
        // What the kernel makes up has no room at all.
        let Some(space) = system.space(folder).ok().filter(|space| space.total > 0) else {
            continue;
        };
        let abilities = mount.writable.then(|| Abilities::try_out(system, &caller, folder));
        let written = identify(system, &mount.device);
        drives.push(Drive {
            kind: written.kind.map_or(mount.kind, ToOwned::to_owned),
            label: written.label.filter(|label| !label.is_empty()),
            uuid: written.uuid,
            mounted_at: mount.point,
            device: mount.device,
            space,
            writable: mount.writable,
            abilities: abilities.filter(|abilities| abilities.tried),
        });
    }
    drives.sort_by(|a, b| a.mounted_at.cmp(&b.mounted_at));
    Ok(drives)
}

/// Each drive once, where the whole of it is mounted if that is anywhere.
fn mounted_once(system: &dyn System) -> io::Result<impl Iterator<Item = Mount>> {
    let is_whole = |mount: &Mount| mount.part == Path::new("/");
    let mut mounts: HashMap<u64, Mount> = HashMap::new();
    for mount in system.mounts()? {
        let known = mounts.get(&mount.drive);
        let better = known.is_none_or(|known| {
            (is_whole(&mount), known.point.as_os_str().len())
                > (is_whole(known), mount.point.as_os_str().len())
        });
        if better {
            mounts.insert(mount.drive, mount);
        }
    }
    Ok(mounts.into_values())
}

/// A mounted drive that has a name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Called {
    /// Where it is mounted.
    pub mounted_at: PathBuf,
    /// The name somebody gave it.
    pub label: Option<String>,
    /// What identifies it, in the usual form for its kind.
    pub uuid: Option<String>,
}

/// The mounted drives that have a label or a UUID, as far as that can be found out, each once. Changes nothing.
pub fn called(system: &dyn System) -> io::Result<Vec<Called>> {
    let named = mounted_once(system)?.filter_map(|mount| {
        let Written { label, uuid, .. } = identify(system, &mount.device);
        let label = label.filter(|label| !label.is_empty());
        let has_name = label.is_some() || uuid.is_some();
        has_name.then_some(Called { mounted_at: mount.point, label, uuid })
    });
    let mut named: Vec<Called> = named.collect();
    named.sort();
    Ok(named)
}

/// The drives that hold these paths, or will hold them once they are made, and what those are called, as far as
/// that can be found out. Changes nothing.
pub fn beneath(system: &dyn System, paths: &[PathBuf]) -> Vec<Option<Called>> {
    let mounts = system.mounts().unwrap_or_default();
    let mut known: HashMap<&Path, Called> = HashMap::new();
    let called = |path: &PathBuf| {
        let path = std::path::absolute(path).ok()?;
        let real = path.ancestors().find_map(|above| above.canonicalize().ok())?;
        let mount = mount_holding(&mounts, &real)?;
        let identify = || {
            let Written { label, uuid, .. } = identify(system, &mount.device);
            let label = label.filter(|label| !label.is_empty());
            Called { mounted_at: mount.point.clone(), label, uuid }
        };
        Some(known.entry(&mount.point).or_insert_with(identify).clone())
    };
    paths.iter().map(called).collect()
}

/// The room on the drive that holds a path, or will hold it once it is made.
pub fn room(system: &dyn System, path: &Path) -> io::Result<Space> {
    let path = std::path::absolute(path)?;
    let folder = path.ancestors().find(|above| above.is_dir()).ok_or(io::ErrorKind::NotFound)?;
    system.space(system.open_root(folder)?.as_fd())
}

/// The labels and UUIDs of the mounted drives, as far as they can be found out. Changes nothing.
pub fn names(system: &dyn System) -> io::Result<Vec<String>> {
    let drives = called(system)?.into_iter();
    let mut names: Vec<String> =
        drives.flat_map(|drive| drive.label.into_iter().chain(drive.uuid)).collect();
    names.sort();
    names.dedup();
    Ok(names)
}

/// True if the drive that holds a folder, by its real path, has this label or UUID; else what it is
/// called, as far as it can be found out.
pub(crate) fn is_called(system: &dyn System, real: &Path, name: &str) -> Result<(), Vec<String>> {
    let mounts = system.mounts().unwrap_or_default();
    let mut names = Vec::new();
    if let Some(mount) = mount_holding(&mounts, real) {
        let Written { label, uuid, .. } = identify(system, &mount.device);
        names.extend(label.into_iter().chain(uuid).filter(|name| !name.is_empty()));
    }
    if names.iter().any(|known| known.eq_ignore_ascii_case(name)) { Ok(()) } else { Err(names) }
}

/// What identifies the drive that holds a folder, by its real path, as far as it can be found out.
pub(crate) fn uuid_of(system: &dyn System, real: &Path) -> Option<String> {
    let mounts = system.mounts().ok()?;
    let mount = mount_holding(&mounts, real)?;
    identify(system, &mount.device).uuid
}

/// A drive as it was when a run began, to know it again if it goes and comes back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Known {
    point: PathBuf,
    kind: String,
    writable: bool,
    uuid: Option<String>,
}

impl Known {
    /// The drive that holds `path`, or will hold it once it is made.
    pub fn holding(system: &dyn System, path: &Path) -> io::Result<Self> {
        let path = std::path::absolute(path)?;
        let real = path.ancestors().find_map(|above| above.canonicalize().ok());
        let real = real.ok_or(io::ErrorKind::NotFound)?;
        let mounts = system.mounts()?;
        let mount = mount_holding(&mounts, &real).ok_or(io::ErrorKind::NotFound)?;
        Ok(Self::mounted(system, mount))
    }

    fn mounted(system: &dyn System, mount: &Mount) -> Self {
        let uuid = identify(system, &mount.device).uuid;
        let (point, kind) = (mount.point.clone(), mount.kind.clone());
        Self { point, kind, writable: mount.writable, uuid }
    }

    /// True if the same drive is mounted there again, or still, and works.
    pub fn is_there(&self, system: &dyn System) -> bool {
        let Ok(mounts) = system.mounts() else { return false };
        let Some(mount) = mounts.into_iter().rfind(|mount| mount.point == self.point) else {
            return false;
        };
        let works = || {
            let root = system.open_root(&self.point)?;
            // What was mounted when the list was read may be gone, and what it was mounted on works, too.
            if !system.stat(Entry::Pinned(root.as_fd()))?.mounted {
                return Err(io::ErrorKind::NotFound.into());
            }
            system.flush_drive(system.open_folder(root.as_fd(), b"")?.as_fd())
        };
        Self::mounted(system, &mount) == *self && works().is_ok()
    }
}

/// What a drive says of itself.
#[derive(Debug, Default, PartialEq, Eq)]
struct Written {
    kind: Option<&'static str>,
    label: Option<String>,
    uuid: Option<String>,
}

/// Up to the end of the last of the blocks that are read below.
const HEAD: usize = 0x10000 + 0x1000;

/// Asks the system's device manager, then reads the drive's own first blocks, as far as the caller
/// may.
fn identify(system: &dyn System, device: &Path) -> Written {
    let read = |offset, length| system.read_device(device, offset, length).unwrap_or_default();
    let head = read(0, HEAD);
    let mut written = read_head(&head).unwrap_or_default();
    let further = label_place(&head);
    written.label = written.label.or_else(|| further.and_then(|(at, find)| find(&read(at, 4096))));
    written.label = written.label.or_else(|| linked_as("/dev/disk/by-label", device));
    written.uuid = written.uuid.or_else(|| linked_as("/dev/disk/by-uuid", device));
    written
}

/// The name of the link in a folder of the device manager that leads to a device.
fn linked_as(folder: &str, device: &Path) -> Option<String> {
    let device = device.canonicalize().ok()?;
    let links = std::fs::read_dir(folder).ok()?.flatten();
    let link =
        links.into_iter().find(|link| link.path().canonicalize().is_ok_and(|to| to == device))?;
    Some(spelled_out(&link.file_name().to_string_lossy()))
}

/// In the names of such links, whatever a path should not hold stands as `\xNN`.
fn spelled_out(name: &str) -> String {
    let mut parts = name.split("\\x");
    let mut bytes = parts.next().unwrap_or_default().as_bytes().to_vec();
    for part in parts {
        match part.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(byte) => bytes.extend([&[byte], &part.as_bytes()[2..]].concat()),
            None => bytes.extend([b"\\x", part.as_bytes()].concat()),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Reads the first blocks of the kinds that are met most. Offsets are those of the kernel's own
/// headers: `fs/ext4/ext4.h`, `fs/xfs/libxfs/xfs_format.h`, `include/uapi/linux/btrfs_tree.h`,
/// `include/uapi/linux/msdos_fs.h`, and of the published descriptions of exFAT and NTFS.
fn read_head(head: &[u8]) -> Option<Written> {
    let at = |from: usize, length: usize| head.get(from..from + length);
    let is = |from: usize, magic: &[u8]| at(from, magic.len()) == Some(magic);
    let found = |kind, label: Option<&[u8]>, uuid| {
        Some(Written { kind: Some(kind), label: label.map(text), uuid })
    };
    if is(0x438, b"\x53\xef") {
        // Without a journal's extents it may be one of its elders; the system calls all of them so.
        return found("ext4", at(0x478, 16), at(0x468, 16).map(uuid));
    }
    if is(0, b"XFSB") {
        return found("xfs", at(108, 12), at(32, 16).map(uuid));
    }
    if is(0x10040, b"_BHRfS_M") {
        return found("btrfs", at(0x1_012b, 256), at(0x10020, 16).map(uuid));
    }
    if is(3, b"EXFAT   ") {
        return found("exFAT", None, at(100, 4).map(short_serial));
    }
    if is(3, b"NTFS    ") {
        return found("NTFS", None, at(72, 8).map(serial));
    }
    if is(82, b"FAT32   ") {
        return found("FAT", at(71, 11), at(67, 4).map(short_serial));
    }
    if is(54, b"FAT1") {
        return found("FAT", at(43, 11), at(39, 4).map(short_serial));
    }
    None
}

/// Finds a label in a block.
type FindLabel = fn(&[u8]) -> Option<String>;

/// Where kinds that keep their label elsewhere have it, and how it is found there.
fn label_place(head: &[u8]) -> Option<(u64, FindLabel)> {
    let number = |at: usize, length: usize| {
        let bytes = head.get(at..at + length)?;
        Some(bytes.iter().rev().fold(0_u64, |number, b| number << 8 | u64::from(*b)))
    };
    let cluster = |first: u64, size: u64, at: u64| first.checked_add(size.checked_mul(at)?);
    match head.get(3..11)? {
        b"EXFAT   " => {
            // The first cluster of the topmost folder; clusters are counted from 2.
            let sector = 1_u64.checked_shl(u32::try_from(number(108, 1)?).ok()?)?;
            let size = sector.checked_shl(u32::try_from(number(109, 1)?).ok()?)?;
            let heap = number(88, 4)?.checked_mul(sector)?;
            Some((cluster(heap, size, number(96, 4)?.checked_sub(2)?)?, exfat_label))
        }
        b"NTFS    " => {
            // The fourth record of the table of files.
            let size = number(11, 2)?.checked_mul(number(13, 1)?)?;
            let record = match number(64, 1)? {
                small @ 0xe0..=0xff => 1_u64.checked_shl(u32::try_from(256 - small).ok()?)?,
                clusters => clusters.checked_mul(size)?,
            };
            Some((cluster(number(48, 8)?.checked_mul(size)?, record, 3)?, ntfs_label))
        }
        _ => None,
    }
}

/// Entries of 32 bytes; that of the label is of type 0x83, with its length in the second byte.
fn exfat_label(folder: &[u8]) -> Option<String> {
    let entry = folder.chunks_exact(32).take_while(|e| e[0] != 0).find(|e| e[0] == 0x83)?;
    utf16(entry.get(2..2 + 2 * usize::from(entry[1]))?)
}

/// Attributes one after the other, each with its type and length in front; 0x60 is the label.
fn ntfs_label(record: &[u8]) -> Option<String> {
    let short =
        |at: usize| Some(usize::from(u16::from_le_bytes(record.get(at..at + 2)?.try_into().ok()?)));
    let long = |at: usize| {
        usize::try_from(u32::from_le_bytes(record.get(at..at + 4)?.try_into().ok()?)).ok()
    };
    let mut at = short(20)?;
    while long(at)? != 0x60 {
        let length = long(at + 4).filter(|length| *length > 0)?;
        at = at.checked_add(length)?;
    }
    let start = at.checked_add(short(at + 20)?)?;
    utf16(record.get(start..start.checked_add(long(at + 16)?)?)?)
}

fn utf16(bytes: &[u8]) -> Option<String> {
    let units: Vec<u16> = bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    String::from_utf16(&units).ok()
}

/// Up to the first NUL, without the spaces that fill it up.
fn text(bytes: &[u8]) -> String {
    let bytes: Vec<u8> = bytes.iter().copied().take_while(|b| *b != 0).collect();
    let text = OsString::from_vec(bytes).to_string_lossy().trim_end().to_owned();
    if text == "NO NAME" { String::new() } else { text }
}

fn uuid(bytes: &[u8]) -> String {
    let digits = bytes.iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>().concat();
    let parts = [0..8, 8..12, 12..16, 16..20, 20..32];
    parts.map(|part| digits.get(part).unwrap_or_default().to_owned()).join("-")
}

fn short_serial(bytes: &[u8]) -> String {
    let digits = serial(bytes);
    let (first, second) = digits.split_at(digits.len() / 2);
    format!("{first}-{second}")
}

/// Stored with the lowest byte first.
fn serial(bytes: &[u8]) -> String {
    bytes.iter().rev().map(|b| format!("{b:02X}")).collect::<Vec<_>>().concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_tells_its_name_and_its_number() {
        let mut ext4 = vec![0; HEAD];
        ext4[0x438..0x43a].copy_from_slice(b"\x53\xef");
        ext4[0x468..0x478].copy_from_slice(&[0xab; 16]);
        ext4[0x478..0x47e].copy_from_slice(b"keeper");
        let written = read_head(&ext4).unwrap();
        assert_eq!(written.label.as_deref(), Some("keeper"));
        assert_eq!(written.uuid.as_deref(), Some("abababab-abab-abab-abab-abababababab"));
        let mut fat = vec![0; 512];
        fat[82..90].copy_from_slice(b"FAT32   ");
        fat[67..71].copy_from_slice(&[0x78, 0x56, 0x34, 0x12]);
        fat[71..82].copy_from_slice(b"NO NAME    ");
        let written = read_head(&fat).unwrap();
        assert_eq!(
            (written.label.as_deref(), written.uuid.as_deref()),
            (Some(""), Some("1234-5678"))
        );
        let mut folder = vec![0; 64];
        folder[0] = 0x81;
        folder[32..42].copy_from_slice(b"\x83\x04t\0i\0d\0e\0");
        assert_eq!(exfat_label(&folder).as_deref(), Some("tide"));
        let mut record = vec![0; 128];
        (record[20], record[40], record[44]) = (40, 0x10, 24);
        (record[64], record[68], record[80], record[84]) = (0x60, 40, 4, 24);
        record[88..92].copy_from_slice(b"f\0g\0");
        assert_eq!(ntfs_label(&record).as_deref(), Some("fg"));
        assert_eq!(spelled_out("harbour\\x20stick\\xc3\\xa9\\xz"), "harbour stick\u{e9}\\xz");
        assert!(label_place(&ext4).is_none() && ntfs_label(&[]).is_none());
        assert_eq!(read_head(b""), None);
        assert_eq!(read_head(&vec![0; HEAD]), None);
    }
}
