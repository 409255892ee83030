//! Taking away what interrupted runs left, and folders with all they hold.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Flags, Kind, System};

use crate::listing::Listing;
use crate::{attributes, dirty_marker, hidden_names};

/// Removes what an interrupted run left under temporary names in a folder that stays. The marker of what it left
/// unfinished stays, too: only a run that looks at everything may clear it. So do names that `keeps` knows.
pub fn clear_leftovers(
    system: &dyn System,
    folder: BorrowedFd<'_>,
    keeps: &dyn Fn(&[u8]) -> bool,
) -> io::Result<()> {
    let marker = dirty_marker::name();
    clear(system, folder, &|name| name == marker || keeps(name))
}

/// The same in a folder that is to go.
pub fn clear_all_leftovers(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<()> {
    clear(system, folder, &|_| false)
}

/// True if there is nothing in a folder but what interrupted runs left.
pub fn holds_nothing_else(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<bool> {
    // A handle is read once, and the one given may still be.
    let folder = system.open_folder(folder, b"")?;
    let listing = Listing::read(system, folder.as_fd())?;
    let mut names = (0..listing.count()).filter_map(|at| listing.get(at));
    Ok(names.all(|(name, _)| hidden_names::is_hidden_name(name)))
}

/// Everything below a folder but folders.
pub fn entries_below(system: &dyn System, top: BorrowedFd<'_>) -> io::Result<Vec<TreePath>> {
    let mut found = Vec::new();
    let mut todo = vec![TreePath::default()];
    while let Some(path) = todo.pop() {
        let folder = system.open_folder(top, path.as_bytes())?;
        let listing = Listing::read(system, folder.as_fd())?;
        for (name, _) in (0..listing.count()).filter_map(|at| listing.get(at)) {
            let is_folder = system.stat(Entry::Named(folder.as_fd(), name))?.kind == Kind::Folder;
            let to = if is_folder { &mut todo } else { &mut found };
            to.push(path.join(name));
        }
    }
    Ok(found)
}

fn clear(
    system: &dyn System,
    folder: BorrowedFd<'_>,
    keeps: &dyn Fn(&[u8]) -> bool,
) -> io::Result<()> {
    let listing = Listing::read(system, folder)?;
    for (name, _) in (0..listing.count()).filter_map(|at| listing.get(at)) {
        let stat = system.stat(Entry::Named(folder, name))?;
        match stat.kind {
            _ if keeps(name) || !hidden_names::is_leftover(name, &stat) => {}
            Kind::Folder => remove_below(system, folder, name.into())?,
            _ => system.remove_file(folder, name)?,
        }
    }
    Ok(())
}

/// Removes a folder with all it holds. The way down is kept as names and not as handles, of which
/// there are fewer than levels that a tree can have.
pub fn remove_below(system: &dyn System, above: BorrowedFd<'_>, top: TreePath) -> io::Result<()> {
    let mut todo = vec![(top, false)];
    while let Some((path, emptied)) = todo.pop() {
        if emptied {
            let (parent, name) = path.split_last();
            let parent = system.open_folder(above, parent)?;
            system.remove_folder(parent.as_fd(), name)?;
            continue;
        }
        let folder = system.open_folder(above, path.as_bytes())?;
        unlock(system, folder.as_fd())?;
        let listing = Listing::read(system, folder.as_fd())?;
        let names = (0..listing.count()).filter_map(|at| listing.get(at));
        todo.push((path.clone(), true));
        for (name, _) in names {
            let stat = system.stat(Entry::Named(folder.as_fd(), name))?;
            if stat.kind == Kind::Folder {
                todo.push((path.join(name), false));
                continue;
            }
            if !stat.flags.and(Flags::LOCKS).is_empty() {
                unlock(system, system.open_file(folder.as_fd(), name)?.as_fd())?;
            }
            system.remove_file(folder.as_fd(), name)?;
        }
    }
    Ok(())
}

/// Lifts what keeps an entry, or those in a folder, from being removed.
fn unlock(system: &dyn System, entry: BorrowedFd<'_>) -> io::Result<()> {
    let stat = system.stat(Entry::Open(entry))?;
    if stat.kind == Kind::Folder && stat.mode & 0o700 != 0o700 {
        system.set_mode(Entry::Open(entry), stat.mode | 0o700)?;
    }
    match attributes::flags(system, entry) {
        Some(flags) if !flags.and(Flags::LOCKS).is_empty() => {
            system.set_flags(entry, flags.without(Flags::LOCKS))
        }
        _ => Ok(()),
    }
}
