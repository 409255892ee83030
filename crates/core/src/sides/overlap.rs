//! Whether two places lie within each other, also by mounts.

use std::collections::HashSet;
use std::ffi::{OsStr, OsString};
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};

use utter_echo_drives::map::DriveMap;
use utter_echo_drives::mounted;
use utter_echo_model::names::NameRules;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Identity, Mount, System};

use crate::sides::pair::{Pair, RootPath, split};

/// The folder above a root, and the root's name in it, by its real path.
pub(crate) fn parent_of_root(
    system: &dyn System,
    root: &OwnedFd,
) -> io::Result<(OwnedFd, Vec<u8>)> {
    let (above, name) = split(&system.real_path(root.as_fd())?).ok_or(ErrorKind::NotFound)?;
    Ok((system.open_root(&above)?, name))
}

/// True if one root lies inside the other or both are one folder, judged by the folders above them.
/// [`overlap_by_mounts`] and the scan find overlaps by mounts.
pub(crate) fn overlap(system: &dyn System, pair: &Pair) -> io::Result<bool> {
    let destination = &pair.destination;
    if pair.single.is_some() {
        return Ok(false);
    }
    let (s, d) = (pair.source_stat.identity, destination.anchor_stat.identity);
    if destination.exists() && folders_above(system, &pair.source)?.contains(&d) {
        return Ok(true);
    }
    Ok(s == d || folders_above(system, &destination.anchor)?.contains(&s))
}

/// The file system of a folder, and its path in that.
struct Region {
    drive: u64,
    path: PathBuf,
}

impl Region {
    /// For a folder by its real path.
    fn of(mounts: &[Mount], real: &Path) -> Option<Self> {
        let mount = mounted::mount_holding(mounts, real)?;
        let path = mount.part.join(real.strip_prefix(&mount.point).ok()?);
        Some(Self { drive: mount.drive, path })
    }

    /// True if one lies within the other. Some drives take several spellings for one name, and their drivers may
    /// number each spelling as another folder, so that inode numbers do not help.
    fn meets(&self, other: &Self, names: &NameRules) -> bool {
        let (one, other_path) = (self.folded(names), other.folded(names));
        let within = one.starts_with(&other_path) || other_path.starts_with(&one);
        self.drive == other.drive && within
    }

    fn folded(&self, names: &NameRules) -> PathBuf {
        OsString::from_vec(names.fold(self.path.as_os_str().as_bytes())).into()
    }
}

/// The path, relative to the destination, where the two sides overlap by mounts: of the same folder in both, or of
/// one side's folder in the other. Besides the known drives, anything mounted at a folder that is `changed` counts
/// as well. `None` also if the system does not list its mounts.
pub(crate) fn overlap_by_mounts(
    system: &dyn System,
    pair: &Pair,
    drives: &DriveMap,
    same_drive: bool,
    changed: impl Iterator<Item = TreePath>,
) -> Option<TreePath> {
    if pair.single.is_some() {
        return None;
    }
    let mounts = system.mounts().ok()?;
    let source = system.real_path(pair.source.as_fd()).ok()?;
    let mut destination = system.real_path(pair.destination.anchor.as_fd()).ok()?;
    destination.extend(pair.destination.missing.iter().map(|name| OsStr::from_bytes(name)));
    let is_below = |mount: &&Mount| mount.point != source && mount.point.starts_with(&source);
    let below = mounts.iter().filter(|mount| !same_drive && is_below(mount));
    let below = below.map(|mount| Region { drive: mount.drive, path: mount.part.clone() });
    let here: Vec<Region> = Region::of(&mounts, &source).into_iter().chain(below).collect();
    let meets = |path: &TreePath, names: &NameRules| {
        let there = Region::of(&mounts, &destination.join(OsStr::from_bytes(path.as_bytes())));
        there.is_some_and(|there| here.iter().any(|here| here.meets(&there, names)))
    };
    let below = mounts.iter().filter_map(|mount| mount.point.strip_prefix(&destination).ok());
    let below: HashSet<&[u8]> = below.map(|path| path.as_os_str().as_bytes()).collect();
    let changed = (!below.is_empty()).then_some(changed).into_iter().flatten();
    let mut changed = changed.filter(|path| below.contains(path.as_bytes()));
    let found = drives.all();
    let found = found.iter().find(|drive| meets(&drive.path, &drive.capabilities.drive.names));
    found
        .map(|drive| drive.path.clone())
        .or_else(|| changed.find(|path| meets(path, &NameRules::default())))
}

/// True if a place lies within a root of a pair, in any spelling that the destination's drive takes for the same.
pub(crate) fn is_within(
    system: &dyn System,
    place: &RootPath,
    pair: &Pair,
    names: &NameRules,
) -> io::Result<bool> {
    let mounts = system.mounts()?;
    let region = |folder: &OwnedFd, missing: &[Vec<u8>]| {
        let mut path = system.real_path(folder.as_fd())?;
        path.extend(missing.iter().map(|name| OsStr::from_bytes(name)));
        io::Result::Ok(Region::of(&mounts, &path))
    };
    let inner = region(&place.anchor, &place.missing)?;
    let destination = &pair.destination;
    let roots = [region(&pair.source, &[])?, region(&destination.anchor, &destination.missing)?];
    Ok(inner.is_some_and(|inner| {
        roots.iter().flatten().any(|root| {
            root.drive == inner.drive && inner.folded(names).starts_with(root.folded(names))
        })
    }))
}

pub(crate) fn folders_above(system: &dyn System, folder: &OwnedFd) -> io::Result<Vec<Identity>> {
    let above = open_folders_above(system, folder)?;
    above.iter().map(|above| Ok(system.stat(Entry::Pinned(above.as_fd()))?.identity)).collect()
}

/// The folders above a folder, the nearest first, across mounts and up to the root of the system.
pub(crate) fn open_folders_above(
    system: &dyn System,
    folder: &OwnedFd,
) -> io::Result<Vec<OwnedFd>> {
    let real = system.real_path(folder.as_fd())?;
    real.ancestors().skip(1).map(|path| system.open_root(path)).collect()
}
