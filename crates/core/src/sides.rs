//! From paths as a user types them to open roots.

use std::collections::{HashMap, HashSet};
use std::ffi::{OsStr, OsString};
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Component, Path, PathBuf};

use crate::abilities::Names;
use crate::drives::{self, DriveMap};
use crate::os::{Entry, Identity, Kind, Mount, Stat, System};
use crate::path::TreePath;
use crate::policy::Part;
use crate::request::{Places, Task};

/// Why a run cannot even begin to look at the two sides.
#[derive(Debug, thiserror::Error)]
pub enum CallError {
    /// The source is not there.
    #[error("source '{0}' does not exist\n  check the spelling, and that its drive is mounted")]
    NoSource(String),
    /// The destination is not there, for a task that needs it.
    #[error(
        "destination '{0}' does not exist, so there is nothing to compare with\n  check the spelling, and that its drive is mounted"
    )]
    NoDestination(String),
    /// The destination of a run that is to be undone is not there.
    #[error(
        "'{0}', which that run changed, is not there\n  check that its drive is mounted; if it was removed, 'utter undo --discard RUN' frees what the run kept"
    )]
    Gone(String),
    /// Something in a path cannot be reached.
    #[error("'{path}' cannot be opened: {}", lower(cause))]
    Closed {
        /// As given.
        path: String,
        /// The system's word.
        cause: io::Error,
    },
    /// A mirror of something that is not a folder.
    #[error(
        "mirror needs a folder as its source, and '{0}' is not one\n  use copy for a single file"
    )]
    NotAFolder(String),
    /// A file where a folder must go.
    #[error(
        "destination '{0}' is not a folder, and a folder must go there\n  name another destination or move that file away"
    )]
    FileInTheWay(String),
    /// A link that leads nowhere, or one that would be followed unasked.
    #[error(
        "destination '{0}' is a symbolic link that does not lead to a folder\n  name the folder itself"
    )]
    LinkInTheWay(String),
    /// `..` behind a folder that does not exist.
    #[error("destination '{0}' goes up from a folder that does not exist\n  write it without '..'")]
    UpFromNowhere(String),
    /// Two sources of one name.
    #[error(
        "sources '{0}' and '{1}' would both become '{2}' in the destination\n  take them one at a time to different places"
    )]
    SameName(String, String, String),
    /// A folder that is to be moved twice.
    #[error("sources '{0}' and '{1}' are the same folder\n  name it once")]
    SameSource(String, String),
    /// What is to be moved lies in something else that is.
    #[error(
        "source '{1}' lies in '{0}', which is moved with all it holds\n  name only one of them"
    )]
    WithinSource(String, String),
    /// A source whose own name cannot be told, like the root of the system.
    #[error(
        "source '{0}' has no name of its own to put inside the destination\n  leave --inside out"
    )]
    NoName(String),
    /// The system would not say who is asking.
    #[error(
        "cannot find out what this process may do: {}\n  /proc must be mounted, and readable: mount -t proc proc /proc",
        lower(.0)
    )]
    Caller(io::Error),
}

fn lower(error: &io::Error) -> String {
    crate::problem::Cause::from(io::Error::new(error.kind(), error.to_string())).to_string()
}

/// One source and what it becomes.
#[derive(Debug)]
pub(crate) struct Pair {
    pub(crate) source: OwnedFd,
    pub(crate) source_stat: Stat,
    pub(crate) destination: Place,
    /// Set where a single entry of the source folder is meant and not the folder.
    pub(crate) single: Option<Single>,
    /// Where the pair's root stands below the destination as the user named it.
    pub(crate) prefix: TreePath,
    /// For messages.
    pub(crate) source_shown: String,
    pub(crate) destination_shown: String,
    pub(crate) destination_path: PathBuf,
}

/// The names of a single entry on both sides.
#[derive(Debug)]
pub(crate) struct Single {
    pub(crate) source: Vec<u8>,
    pub(crate) destination: Vec<u8>,
}

/// A folder that may have to be made first.
#[derive(Debug)]
pub(crate) struct Place {
    /// The deepest folder of the path that exists.
    pub(crate) anchor: OwnedFd,
    pub(crate) anchor_stat: Stat,
    /// The folders below it that do not, the highest first.
    pub(crate) missing: Vec<Vec<u8>>,
}

impl Place {
    pub(crate) fn exists(&self) -> bool {
        self.missing.is_empty()
    }
}

/// What a source path leads to.
enum Found {
    Folder(OwnedFd),
    Single { folder: OwnedFd, name: Vec<u8> },
}

/// Opens both sides of every pair. A folder's *contents* become the destination's contents; with
/// `inside`, or with several sources, each source goes inside under its own name. A single entry
/// goes into a destination folder that exists, or that a slash at the end says is one, else the
/// destination is its new name.
pub(crate) fn open(
    system: &dyn System,
    task: Task,
    places: &Places,
) -> Result<Vec<Pair>, CallError> {
    let inside = places.inside || places.sources.len() > 1;
    let mut pairs: Vec<Pair> = Vec::new();
    for source in &places.sources {
        let pair = open_one(system, task, source, &places.destination, inside)?;
        let name = |pair: &Pair| match &pair.single {
            Some(single) => single.destination.clone(),
            None => pair.prefix.as_bytes().to_vec(),
        };
        let new = name(&pair);
        if let Some(other) = pairs.iter().find(|other| name(other) == new) {
            let shown = String::from_utf8_lossy(&new).into_owned();
            return Err(CallError::SameName(other.source_shown.clone(), pair.source_shown, shown));
        }
        pairs.push(pair);
    }
    if task.vacates() && pairs.len() > 1 {
        refuse_twice(system, &pairs)?;
    }
    Ok(pairs)
}

/// What goes from one source cannot go from another as well.
fn refuse_twice(system: &dyn System, pairs: &[Pair]) -> Result<(), CallError> {
    let mut roots: HashMap<Identity, &Pair> = HashMap::new();
    for pair in pairs.iter().filter(|pair| pair.single.is_none()) {
        if let Some(other) = roots.insert(pair.source_stat.identity, pair) {
            let (one, two) = (other.source_shown.clone(), pair.source_shown.clone());
            return Err(CallError::SameSource(one, two));
        }
    }
    for pair in pairs {
        let closed = |error| closed(Path::new(&pair.source_shown), error);
        let mut above = folders_above(system, &pair.source).map_err(closed)?;
        above.extend(pair.single.is_some().then_some(pair.source_stat.identity));
        if let Some(other) = above.iter().find_map(|folder| roots.get(folder)) {
            let (outer, inner) = (other.source_shown.clone(), pair.source_shown.clone());
            return Err(CallError::WithinSource(outer, inner));
        }
    }
    Ok(())
}

fn open_one(
    system: &dyn System,
    task: Task,
    source: &Path,
    destination: &Path,
    inside: bool,
) -> Result<Pair, CallError> {
    let pair = match find_source(system, source)? {
        Found::Folder(handle) => {
            let name = if inside { own_name(source)? } else { Vec::new() };
            let mut path = destination.to_path_buf();
            if inside {
                path.push(OsStr::from_bytes(&name));
                refuse_link(system, &path)?;
            }
            let place = find_place(system, &path)?;
            pair_of(system, (source, handle), (path, place), None, &name)?
        }
        Found::Single { .. } if task.needs_a_folder() => {
            return Err(CallError::NotAFolder(shown(source)));
        }
        Found::Single { folder, name } => {
            let is_folder = || destination.as_os_str().as_bytes().ends_with(b"/");
            let (path, new_name) = if inside || is_folder() || system.open_root(destination).is_ok()
            {
                (destination.to_path_buf(), name.clone())
            } else {
                split(destination).ok_or_else(|| CallError::FileInTheWay(shown(destination)))?
            };
            let place = find_place(system, &path)?;
            let single = Single { source: name, destination: new_name };
            pair_of(system, (source, folder), (path, place), Some(single), b"")?
        }
    };
    if task.needs_a_destination() && !pair.destination.exists() {
        return Err(CallError::NoDestination(pair.destination_shown));
    }
    Ok(pair)
}

fn pair_of(
    system: &dyn System,
    (source, handle): (&Path, OwnedFd),
    (path, destination): (PathBuf, Place),
    single: Option<Single>,
    prefix: &[u8],
) -> Result<Pair, CallError> {
    let source_stat = system.stat(Entry::Pinned(handle.as_fd())).map_err(|e| closed(source, e))?;
    Ok(Pair {
        source: handle,
        source_stat,
        destination,
        single,
        prefix: prefix.into(),
        source_shown: shown(source),
        destination_shown: shown(&path),
        destination_path: path,
    })
}

/// A link to a folder stands for the folder; any other entry is meant itself.
fn find_source(system: &dyn System, source: &Path) -> Result<Found, CallError> {
    let error = match system.open_root(source) {
        Ok(handle) => return Ok(Found::Folder(handle)),
        Err(error) => error,
    };
    let single = split(source).and_then(|(parent, name)| {
        let folder = system.open_root(&parent).ok()?;
        let stat = system.stat(Entry::Named(folder.as_fd(), &name)).ok()?;
        (stat.kind != Kind::Folder).then_some(Found::Single { folder, name })
    });
    match (single, error.kind()) {
        (Some(single), _) => Ok(single),
        (None, ErrorKind::NotFound) => Err(CallError::NoSource(shown(source))),
        (None, _) => Err(closed(source, error)),
    }
}

/// Opens the deepest folder of `path` that exists and tells what is missing below it.
pub(crate) fn find_place(system: &dyn System, path: &Path) -> Result<Place, CallError> {
    let mut missing = Vec::new();
    let mut at = if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_path_buf() };
    loop {
        match system.open_root(&at) {
            Ok(anchor) => {
                let anchor_stat =
                    system.stat(Entry::Pinned(anchor.as_fd())).map_err(|e| closed(&at, e))?;
                missing.reverse();
                return Ok(Place { anchor, anchor_stat, missing });
            }
            Err(e) if e.kind() == ErrorKind::NotFound => {
                refuse_link(system, &at)?;
                let up = || CallError::UpFromNowhere(shown(path));
                let (parent, name) = split(&at).ok_or_else(up)?;
                missing.push(name);
                at = parent;
            }
            Err(e) if e.kind() == ErrorKind::NotADirectory => {
                // The file is the last of the path, or something above that.
                let folder = |path: &&Path| {
                    system.open_root(path).is_err_and(|e| e.kind() == ErrorKind::NotADirectory)
                };
                let highest = at.ancestors().take_while(folder).last();
                return Err(CallError::FileInTheWay(shown(highest.unwrap_or(&at))));
            }
            Err(e) => return Err(closed(&at, e)),
        }
    }
}

/// A name that nobody typed is not followed: somebody else may have made it a link.
fn refuse_link(system: &dyn System, path: &Path) -> Result<(), CallError> {
    let Some((parent, name)) = split(path) else {
        return Ok(());
    };
    let Ok(folder) = system.open_root(&parent) else {
        return Ok(());
    };
    match system.stat(Entry::Named(folder.as_fd(), &name)) {
        Ok(stat) if stat.kind == Kind::Symlink => Err(CallError::LinkInTheWay(shown(path))),
        _ => Ok(()),
    }
}

/// Parent and last name; `None` for a path that ends in `..` or is a root.
fn split(path: &Path) -> Option<(PathBuf, Vec<u8>)> {
    let name = path.file_name()?.as_bytes().to_vec();
    let parent = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some((parent.to_path_buf(), name))
}

/// The name a source goes inside the destination under.
fn own_name(source: &Path) -> Result<Vec<u8>, CallError> {
    let nameless = || CallError::NoName(shown(source));
    if let Some(Component::Normal(name)) = source.components().next_back() {
        return Ok(name.as_bytes().to_vec());
    }
    let real = std::fs::canonicalize(source).map_err(|e| closed(source, e))?;
    Ok(real.file_name().ok_or_else(nameless)?.as_bytes().to_vec())
}

/// The folder above a root, and the root's name in it, by its real path.
pub(crate) fn parent_of_root(
    system: &dyn System,
    root: &OwnedFd,
) -> io::Result<(OwnedFd, Vec<u8>)> {
    let (above, name) = split(&real_path(root)?).ok_or(ErrorKind::NotFound)?;
    Ok((system.open_root(&above)?, name))
}

/// True if one root lies inside the other or both are one folder, as far as the folders above
/// them tell. What mounts hide is found by [`overlap_by_mounts`], and while scanning.
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

/// Where a folder lies: on which file system, and where in that.
struct Region {
    drive: u64,
    path: PathBuf,
}

impl Region {
    /// Of a folder by its real path.
    fn of(mounts: &[Mount], real: &Path) -> Option<Self> {
        let mount = drives::mount_holding(mounts, real)?;
        let path = mount.part.join(real.strip_prefix(&mount.point).ok()?);
        Some(Self { drive: mount.drive, path })
    }

    /// True if one lies within the other. Some drives take several spellings for one name, and some
    /// drivers number each spelling as if it were another folder, so no number tells.
    fn meets(&self, other: &Self, names: &Names) -> bool {
        let (one, other_path) = (self.folded(names), other.folded(names));
        let within = one.starts_with(&other_path) || other_path.starts_with(&one);
        self.drive == other.drive && within
    }

    fn folded(&self, names: &Names) -> PathBuf {
        OsString::from_vec(names.fold(self.path.as_os_str().as_bytes())).into()
    }
}

/// The path, relative to the destination, of a place in which the two sides are one, by mounts of the
/// same folder in both, or of one side's folder in the other. Besides the drives that were found,
/// whatever is mounted by now where a part has something to change counts as well. `None` also where
/// the system does not tell what is mounted.
pub(crate) fn overlap_by_mounts(
    system: &dyn System,
    pair: &Pair,
    drives: &DriveMap,
    part: Option<&Part>,
    same_drive: bool,
) -> Option<TreePath> {
    if pair.single.is_some() {
        return None;
    }
    let mounts = system.mounts().ok()?;
    let source = real_path(&pair.source).ok()?;
    let mut destination = real_path(&pair.destination.anchor).ok()?;
    destination.extend(pair.destination.missing.iter().map(|name| OsStr::from_bytes(name)));
    let is_below = |mount: &&Mount| mount.point != source && mount.point.starts_with(&source);
    let below = mounts.iter().filter(|mount| !same_drive && is_below(mount));
    let below = below.map(|mount| Region { drive: mount.drive, path: mount.part.clone() });
    let here: Vec<Region> = Region::of(&mounts, &source).into_iter().chain(below).collect();
    let meets = |path: &TreePath, names: &Names| {
        let there = Region::of(&mounts, &destination.join(OsStr::from_bytes(path.as_bytes())));
        there.is_some_and(|there| here.iter().any(|here| here.meets(&there, names)))
    };
    let below = mounts.iter().filter_map(|mount| mount.point.strip_prefix(&destination).ok());
    let below: HashSet<&[u8]> = below.map(|path| path.as_os_str().as_bytes()).collect();
    let changed = part.filter(|_| !below.is_empty()).into_iter();
    let changed = changed.flat_map(|part| (0..part.folders.len()).map(|at| part.folder_path(at)));
    let mut changed = changed.filter(|path| below.contains(path.as_bytes()));
    let found = drives.all();
    let found = found.iter().find(|drive| meets(&drive.path, &drive.reach.drive.names));
    found
        .map(|drive| drive.path.clone())
        .or_else(|| changed.find(|path| meets(path, &Names::default())))
}

/// True if a place lies within a root of a pair, in whatever spelling the destination's drive takes for
/// one.
pub(crate) fn is_within(
    system: &dyn System,
    place: &Place,
    pair: &Pair,
    names: &Names,
) -> io::Result<bool> {
    let mounts = system.mounts()?;
    let region = |folder: &OwnedFd, missing: &[Vec<u8>]| {
        let mut path = real_path(folder)?;
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

pub(crate) fn real_path(folder: &OwnedFd) -> io::Result<PathBuf> {
    use std::os::fd::AsRawFd;
    std::fs::read_link(format!("/proc/self/fd/{}", folder.as_raw_fd()))
}

pub(crate) fn folders_above(system: &dyn System, folder: &OwnedFd) -> io::Result<Vec<Identity>> {
    let real = real_path(folder)?;
    let above = real.ancestors().skip(1);
    above
        .map(|path| Ok(system.stat(Entry::Pinned(system.open_root(path)?.as_fd()))?.identity))
        .collect()
}

fn closed(path: &Path, cause: io::Error) -> CallError {
    CallError::Closed { path: shown(path), cause }
}

fn shown(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
