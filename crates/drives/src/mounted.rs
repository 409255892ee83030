//! Mounted drives and their features.

use std::collections::HashMap;
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use utter_echo_model::problem::Cause;
use utter_echo_os::{Entry, Mount, Space, System};

use crate::features::Features;
use crate::labels::{DriveLabels, identify};

/// A mounted drive.
#[derive(Clone, Debug)]
pub struct Drive {
    /// Where it is mounted.
    pub mounted_at: PathBuf,
    /// The device, or what is shown in its place.
    pub device: PathBuf,
    /// Type of file system, from the drive itself or else from the system.
    pub kind: String,
    /// Its label; `None` if it has none or it cannot be found out.
    pub label: Option<String>,
    /// Its UUID, in the usual form of its file system; `None` if it cannot be found out.
    pub uuid: Option<String>,
    /// Room on it.
    pub space: Space,
    /// It may be written to.
    pub writable: bool,
    /// Its features; `None` if they could not be tried out.
    pub abilities: Option<Features>,
}

/// A folder that cannot be opened.
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
        let real = system.real_path(root.as_fd()).map_err(closed)?;
        let stat = system.stat(Entry::Pinned(root.as_fd())).map_err(closed)?;
        // A subvolume may have another number than its mount.
        let mount = mount_holding(&mounts, &real);
        Ok(mount.map_or(stat.identity.drive, |mount| mount.drive))
    };
    folders.iter().map(drive).collect()
}

/// The mount of a folder, by its real path. Of several mounts in one place the last one is visible.
pub fn mount_holding<'m>(mounts: &'m [Mount], real: &Path) -> Option<&'m Mount> {
    let around = mounts.iter().filter(|mount| real.starts_with(&mount.point));
    around.max_by_key(|mount| mount.point.components().count())
}

/// Lists the mounted drives that hold files, each once, sorted by mount point; all, or `only` those with these
/// numbers. Features are tried out on writable drives, and nothing of that stays.
pub fn list(system: &dyn System, only: Option<&[u64]>) -> io::Result<Vec<Drive>> {
    let caller = system.caller()?;
    let mut drives = Vec::new();
    for mount in mounted_once(system)? {
        if only.is_some_and(|only| !only.contains(&mount.drive)) {
            continue;
        }
        let Ok(folder) = system.open_root(&mount.point) else { continue };
        let folder = folder.as_fd();
        // The kernel's own file systems have no space at all.
        let Some(space) = system.space(folder).ok().filter(|space| space.total > 0) else {
            continue;
        };
        let abilities = mount.writable.then(|| Features::try_out(system, &caller, folder));
        let written = identify(system, &mount.device);
        drives.push(Drive {
            kind: written.kind.map_or(mount.kind, ToOwned::to_owned),
            label: written.label,
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

/// Each drive once, where all of it is mounted if that is the case anywhere.
fn mounted_once(system: &dyn System) -> io::Result<impl Iterator<Item = Mount>> {
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

fn is_whole(mount: &Mount) -> bool {
    mount.part == Path::new("/")
}

/// A mounted drive with its label and UUID.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct NamedDrive {
    /// Where it is mounted.
    pub mounted_at: PathBuf,
    /// Its label.
    pub label: Option<String>,
    /// Its UUID, in the usual form of its file system.
    pub uuid: Option<String>,
    /// All of it is mounted there, and not only a folder or a subvolume.
    pub is_whole: bool,
}

/// The mounted drives with a known label or UUID, each once. Changes nothing.
pub fn named(system: &dyn System) -> io::Result<Vec<NamedDrive>> {
    let named = mounted_once(system)?.filter_map(|mount| {
        let DriveLabels { label, uuid, .. } = identify(system, &mount.device);
        let has_name = label.is_some() || uuid.is_some();
        let is_whole = is_whole(&mount);
        has_name.then_some(NamedDrive { mounted_at: mount.point, label, uuid, is_whole })
    });
    let mut named: Vec<NamedDrive> = named.collect();
    named.sort();
    Ok(named)
}

/// The drives that these paths lie on, or will lie on, with their labels and UUIDs as far as they are known.
/// Changes nothing.
pub fn beneath(system: &dyn System, paths: &[PathBuf]) -> Vec<Option<NamedDrive>> {
    let mounts = system.mounts().unwrap_or_default();
    let mut known: HashMap<&Path, NamedDrive> = HashMap::new();
    let called = |path: &PathBuf| {
        let path = std::path::absolute(path).ok()?;
        let real = real_path_above(system, &path)?;
        let mount = mount_holding(&mounts, &real)?;
        let identify = || {
            let DriveLabels { label, uuid, .. } = identify(system, &mount.device);
            let is_whole = is_whole(mount);
            NamedDrive { mounted_at: mount.point.clone(), label, uuid, is_whole }
        };
        Some(known.entry(&mount.point).or_insert_with(identify).clone())
    };
    paths.iter().map(called).collect()
}

/// The real path of the deepest existing folder on the way to `path`.
fn real_path_above(system: &dyn System, path: &Path) -> Option<PathBuf> {
    let folder = path.ancestors().find_map(|above| system.open_root(above).ok())?;
    system.real_path(folder.as_fd()).ok()
}

/// The space on the drive that a path lies on, or will lie on.
pub fn room(system: &dyn System, path: &Path) -> io::Result<Space> {
    let path = std::path::absolute(path)?;
    let folder = path.ancestors().find_map(|above| system.open_root(above).ok());
    system.space(folder.ok_or(io::ErrorKind::NotFound)?.as_fd())
}

/// The known labels and UUIDs of the mounted drives. Changes nothing.
pub fn names(system: &dyn System) -> io::Result<Vec<String>> {
    let drives = named(system)?.into_iter();
    let mut names: Vec<String> =
        drives.flat_map(|drive| drive.label.into_iter().chain(drive.uuid)).collect();
    names.sort();
    names.dedup();
    Ok(names)
}

/// Fails unless the drive of a folder, by its real path, has this label or UUID; the error lists those that are
/// known.
pub fn is_called(system: &dyn System, real: &Path, name: &str) -> Result<(), Vec<String>> {
    let mounts = system.mounts().unwrap_or_default();
    let mut names = Vec::new();
    if let Some(mount) = mount_holding(&mounts, real) {
        let DriveLabels { label, uuid, .. } = identify(system, &mount.device);
        names.extend(label.into_iter().chain(uuid));
    }
    if names.iter().any(|known| known.eq_ignore_ascii_case(name)) { Ok(()) } else { Err(names) }
}

/// The UUID of the drive of a folder, by its real path, if it is known.
pub fn uuid_of(system: &dyn System, real: &Path) -> Option<String> {
    let mounts = system.mounts().ok()?;
    let mount = mount_holding(&mounts, real)?;
    identify(system, &mount.device).uuid
}

/// A drive at the beginning of a run, to recognise it if it disappears and comes back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RememberedDrive {
    point: PathBuf,
    kind: String,
    writable: bool,
    uuid: Option<String>,
}

impl RememberedDrive {
    /// The drive that `path` lies on, or will lie on.
    pub fn holding(system: &dyn System, path: &Path) -> io::Result<Self> {
        let path = std::path::absolute(path)?;
        let real = real_path_above(system, &path).ok_or(io::ErrorKind::NotFound)?;
        let mounts = system.mounts()?;
        let mount = mount_holding(&mounts, &real).ok_or(io::ErrorKind::NotFound)?;
        Ok(Self::mounted(system, mount))
    }

    fn mounted(system: &dyn System, mount: &Mount) -> Self {
        let uuid = identify(system, &mount.device).uuid;
        let (point, kind) = (mount.point.clone(), mount.kind.clone());
        Self { point, kind, writable: mount.writable, uuid }
    }

    /// True if the same drive is mounted there and works.
    pub fn is_there(&self, system: &dyn System) -> bool {
        let Ok(mounts) = system.mounts() else { return false };
        let Some(mount) = mounts.into_iter().rfind(|mount| mount.point == self.point) else {
            return false;
        };
        let works = || {
            let root = system.open_root(&self.point)?;
            // The drive may be gone since the list was read, and the folder that it was mounted on works, too.
            if !system.stat(Entry::Pinned(root.as_fd()))?.mounted {
                return Err(io::ErrorKind::NotFound.into());
            }
            system.flush_drive(system.open_folder(root.as_fd(), b"")?.as_fd())
        };
        Self::mounted(system, &mount) == *self && works().is_ok()
    }
}
