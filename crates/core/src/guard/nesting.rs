//! The guard against a mirror that goes one folder too high or too low.

use std::ffi::OsStr;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use utter_echo_files::listing::Listing;
use utter_echo_model::note::Nested;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Kind, System};

use crate::policy::Part;
use crate::sides::{Pair, RootPath};

/// The part of the source's names that a folder must hold to look like the source,
const ENOUGH: usize = 8;

/// or all of them, if they are at least this many.
const FEW: usize = 4;

/// The most folders in the destination that are checked.
const FOLDERS: usize = 1000;

/// Finds a folder directly above or below a destination that looks like the source, while the destination itself
/// does not, or much less. Folders that cannot be read are ignored.
pub(crate) fn find(system: &dyn System, pair: &Pair, part: &Part) -> Option<Nested> {
    if pair.single.is_some() || !changes_much(part) {
        return None;
    }
    let folder = look_around(system, pair).ok()??;
    Some(Nested {
        source_path: pair.source_shown.clone(),
        destination_path: pair.destination_shown.clone(),
        folder: folder.to_string_lossy().into_owned(),
    })
}

/// Avoids listing a destination that has the source's names.
fn changes_much(part: &Part) -> bool {
    let Some(top) = part.folders.first() else { return false };
    let count = |verbs: &[Verb]| top.steps.iter().filter(|step| verbs.contains(&step.verb)).count();
    let (new, removed) = (count(&[Verb::Add, Verb::Rename]), count(&[Verb::Remove]));
    // Without steps that add, missing names are not known.
    new + 1 >= FEW || new == 0 && removed > 0
}

fn look_around(system: &dyn System, pair: &Pair) -> io::Result<Option<PathBuf>> {
    let source = list(system, &pair.source)?;
    let in_common = |listed: &Listing| listed.names().filter(|name| source.has(name)).count();
    let looks_like = |listed: &Listing| {
        let common = in_common(listed);
        let most = common >= ENOUGH && common * 4 >= source.count() * 3;
        (most || common >= FEW && common == source.count()).then_some(common)
    };
    let (place, path) = (&pair.destination, &pair.destination_path);
    let mut here = Listing::default();
    if place.exists() {
        here = list(system, &place.anchor)?;
    }
    let common_here = in_common(&here);
    let is_like_source = common_here * 10 > source.count().min(here.count());
    if !is_like_source
        && let Some(above) = above(system, pair)
        && looks_like(&list(system, &above)?).is_some()
    {
        let named = path.parent().filter(|_| path.file_name().is_some());
        let named =
            named.map(|above| if above.as_os_str().is_empty() { Path::new(".") } else { above });
        return Ok(Some(named.map_or_else(|| path.join(".."), Path::to_path_buf)));
    }
    let folders = (0..here.count()).filter_map(|at| here.get(at));
    let folders = folders.filter(|(_, kind)| kind.is_none_or(|kind| kind == Kind::Folder));
    // Beside the folder that is meant, the destination may have a few of the source's names. What would be removed
    // there is in the source, after all.
    let folders = folders.filter(|(name, _)| !is_like_source || !source.has(name));
    let below = folders.take(FOLDERS).filter_map(|(name, _)| {
        let folder = system.open_folder(place.anchor.as_fd(), name).ok()?;
        let common = looks_like(&Listing::read(system, folder.as_fd()).ok()?)?;
        (!is_like_source || common >= 2 * common_here).then_some((common, name))
    });
    Ok(below.max().map(|(_, name)| path.join(OsStr::from_bytes(name))))
}

/// Opens a root for listing.
fn list(system: &dyn System, root: &OwnedFd) -> io::Result<Listing> {
    Listing::read(system, system.open_folder(root.as_fd(), b"")?.as_fd())
}

/// The folder directly above the destination, if it can be opened.
fn above(system: &dyn System, pair: &Pair) -> Option<OwnedFd> {
    let RootPath { anchor, missing, .. } = &pair.destination;
    match &**missing {
        [] => system.open_root(system.real_path(anchor.as_fd()).ok()?.parent()?).ok(),
        [_] => anchor.try_clone().ok(),
        _ => None,
    }
}
