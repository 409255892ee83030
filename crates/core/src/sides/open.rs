//! From paths as a user types them to open roots.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use utter_echo_os::{Entry, Identity, Kind, System};

use crate::request::{Places, Task};
use crate::sides::overlap::folders_above;
use crate::sides::pair::{CallError, Pair, RootPath, SingleEntry, split};

/// What a source path leads to.
enum FoundSource {
    Folder(OwnedFd),
    Single { folder: OwnedFd, name: Vec<u8> },
}

/// The pairs of roots, and the sources that have none, as the user named them.
pub(crate) struct OpenedSides {
    pub(crate) pairs: Vec<Pair>,
    /// Sources that an interrupted run took.
    pub(crate) taken: Vec<String>,
    /// Sources that do not exist.
    pub(crate) missing: Vec<String>,
}

/// Opens both sides of every pair. A folder's *contents* become the destination's contents; with `inside`, or with
/// several sources, each source goes inside under its own name. A single entry goes into a destination folder that
/// exists or whose path ends in a slash; otherwise the destination is its new name. A source that does not exist is
/// left out, unless that is true of all: if it `was_taken` by an earlier run, or if the others are wanted without it.
pub(crate) fn open(
    system: &dyn System,
    task: Task,
    places: &Places,
    was_taken: &dyn Fn(&Path) -> bool,
) -> Result<OpenedSides, CallError> {
    let inside = places.inside || places.sources.len() > 1;
    let mut pairs: Vec<Pair> = Vec::new();
    let (mut taken, mut missing) = (Vec::new(), Vec::new());
    for source in &places.sources {
        let pair = match open_one(system, task, source, places, inside) {
            Err(CallError::NoSource(source_shown)) if was_taken(source) => {
                taken.push(source_shown);
                continue;
            }
            Err(CallError::NoSource(source_shown)) if places.some_may_be_missing => {
                missing.push(source_shown);
                continue;
            }
            other => other?,
        };
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
    if let Some(first) = taken.iter().chain(&missing).next().filter(|_| pairs.is_empty()) {
        return Err(CallError::NoSource(first.clone()));
    }
    if task.removes_sources() && pairs.len() > 1 {
        refuse_twice(system, &pairs)?;
    }
    Ok(OpenedSides { pairs, taken, missing })
}

/// Fails if sources of a move overlap.
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
    places: &Places,
    inside: bool,
) -> Result<Pair, CallError> {
    let destination = &*places.destination;
    let pair = match find_source(system, source)? {
        FoundSource::Folder(handle) => {
            let name = if inside { own_name(system, source)? } else { Vec::new() };
            let mut path = destination.to_path_buf();
            if inside {
                path.push(OsStr::from_bytes(&name));
                refuse_link(system, &path)?;
            }
            let place = find_place(system, &path)?;
            pair_of(
                system,
                OpenSource { path: source, handle, single: None, prefix: name },
                (&path, place),
                places,
            )?
        }
        FoundSource::Single { .. } if task.needs_a_folder() => {
            return Err(CallError::NotAFolder(shown(source)));
        }
        FoundSource::Single { folder, name } => {
            let is_folder = || destination.as_os_str().as_bytes().ends_with(b"/");
            let (path, new_name) = if inside || is_folder() || system.open_root(destination).is_ok()
            {
                (destination.to_path_buf(), name.clone())
            } else {
                split(destination).ok_or_else(|| CallError::FileInTheWay(shown(destination)))?
            };
            let place = find_place(system, &path)?;
            let single = SingleEntry { source: name, destination: new_name };
            let single = Some(single);
            let source = OpenSource { path: source, handle: folder, single, prefix: Vec::new() };
            pair_of(system, source, (&path, place), places)?
        }
    };
    if task.needs_a_destination() && !pair.destination.exists() {
        return Err(CallError::NoDestination(pair.destination_shown));
    }
    Ok(pair)
}

/// An opened source: the folder, or the folder of a single entry.
struct OpenSource<'a> {
    path: &'a Path,
    handle: OwnedFd,
    single: Option<SingleEntry>,
    prefix: Vec<u8>,
}

fn pair_of(
    system: &dyn System,
    source: OpenSource<'_>,
    (path, destination): (&Path, RootPath),
    places: &Places,
) -> Result<Pair, CallError> {
    let OpenSource { path: source, handle, single, prefix } = source;
    let source_stat = system.stat(Entry::Pinned(handle.as_fd())).map_err(|e| closed(source, e))?;
    Ok(Pair {
        source: handle,
        source_stat,
        destination,
        single,
        prefix: prefix.as_slice().into(),
        source_shown: shown(&places.shown(source)),
        destination_shown: shown(&places.shown(path)),
        destination_path: path.to_path_buf(),
    })
}

/// A link to a folder stands for the folder; any other entry stands for itself.
fn find_source(system: &dyn System, source: &Path) -> Result<FoundSource, CallError> {
    let error = match system.open_root(source) {
        Ok(handle) => return Ok(FoundSource::Folder(handle)),
        Err(error) => error,
    };
    let single = split(source).and_then(|(parent, name)| {
        let folder = system.open_root(&parent).ok()?;
        let stat = system.stat(Entry::Named(folder.as_fd(), &name)).ok()?;
        (stat.kind != Kind::Folder).then_some(FoundSource::Single { folder, name })
    });
    match (single, error.kind()) {
        (Some(single), _) => Ok(single),
        (None, ErrorKind::NotFound) => Err(CallError::NoSource(shown(source))),
        (None, _) => Err(closed(source, error)),
    }
}

/// Opens the deepest existing folder of `path`, and returns the missing names below it.
pub(crate) fn find_place(system: &dyn System, path: &Path) -> Result<RootPath, CallError> {
    let mut missing = Vec::new();
    let mut at = if path.as_os_str().is_empty() { PathBuf::from(".") } else { path.to_path_buf() };
    loop {
        match system.open_root(&at) {
            Ok(anchor) => {
                let anchor_stat =
                    system.stat(Entry::Pinned(anchor.as_fd())).map_err(|e| closed(&at, e))?;
                missing.reverse();
                return Ok(RootPath { anchor, anchor_stat, missing });
            }
            Err(e) if e.kind() == ErrorKind::NotFound => {
                refuse_link(system, &at)?;
                let up = || CallError::UpFromNowhere(shown(path));
                let (parent, name) = split(&at).ok_or_else(up)?;
                missing.push(name);
                at = parent;
            }
            Err(e) if e.kind() == ErrorKind::NotADirectory => {
                // The file is the last component of the path, or one above.
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

/// A name that the user did not type is not followed: somebody else may have made it a link.
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

/// The name that a source gets inside the destination.
/// The path of an entry that may be missing, without links above it.
pub(crate) fn real_path(system: &dyn System, path: &Path) -> io::Result<PathBuf> {
    let (above, name) = split(path).ok_or(ErrorKind::InvalidInput)?;
    let above = system.open_root(&above)?;
    Ok(system.real_path(above.as_fd())?.join(OsStr::from_bytes(&name)))
}

fn own_name(system: &dyn System, source: &Path) -> Result<Vec<u8>, CallError> {
    let nameless = || CallError::NoName(shown(source));
    if let Some(Component::Normal(name)) = source.components().next_back() {
        return Ok(name.as_bytes().to_vec());
    }
    let folder = system.open_root(source).map_err(|e| closed(source, e))?;
    let real = system.real_path(folder.as_fd()).map_err(|e| closed(source, e))?;
    Ok(real.file_name().ok_or_else(nameless)?.as_bytes().to_vec())
}

fn closed(path: &Path, cause: io::Error) -> CallError {
    CallError::Closed { path: shown(path), cause }
}

fn shown(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
