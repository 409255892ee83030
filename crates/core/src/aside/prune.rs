//! Removing what was set aside long enough ago.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::Path;

use crate::mark;
use crate::os::{Entry, Flags, Kind, System};
use crate::path::TreePath;
use crate::problem::{Operation, Problem};
use crate::request::{Keep, SetAside};
use crate::temporary;
use crate::tree::Listing;

use super::RECORD;

/// Removes the runs that need not be kept. Whatever else lies there is none of our business.
pub(super) fn prune(system: &dyn System, path: &Path, set_aside: &SetAside) -> Vec<Problem> {
    let Some(keep) = &set_aside.keep else { return Vec::new() };
    let problem = |name: &str, cause: io::Error| Problem {
        path: path.join(name).as_os_str().as_encoded_bytes().into(),
        operation: Operation::Prune,
        cause: cause.into(),
    };
    let open = || system.open_folder(system.open_root(path)?.as_fd(), b"");
    let found = open().and_then(|folder| Ok((runs_in(system, folder.as_fd())?, folder)));
    let (runs, folder) = match found {
        Ok(found) => found,
        Err(error) => return vec![problem("", error)],
    };
    let old = match keep {
        Keep::Newest(count) => runs.len().saturating_sub(*count),
        Keep::Since(oldest) => runs.partition_point(|run| run < oldest),
    };
    let remove = |run: &String| {
        let folder = folder.as_fd();
        // One that is going on, being undone, or our own: whatever the clock says, it is in use.
        let own = system.open_folder(folder, run.as_bytes());
        let lock = own.map(|own| system.lock(own.as_fd()));
        if matches!(lock, Ok(Ok(None))) {
            return None;
        }
        remove_run(system, folder, run).err().map(|e| problem(run, e))
    };
    runs[..old].iter().filter_map(remove).collect()
}

/// The runs that set something aside in a folder, the oldest first: what has both a name of the
/// right form and a record beside it.
pub(super) fn runs_in(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Vec<String>> {
    let mut runs = Vec::new();
    system.list(folder, &mut |name, _| {
        let name = std::str::from_utf8(name).ok().and_then(|name| name.strip_suffix(RECORD));
        runs.extend(name.filter(|name| is_run(name)).map(str::to_owned));
        Ok(())
    })?;
    runs.sort();
    Ok(runs)
}

/// `2026-11-23T14-05-09Z`, and maybe `-2` after that.
fn is_run(name: &str) -> bool {
    const FORM: &[u8] = b"0000-00-00T00-00-00Z";
    let Some((time, count)) = name.split_at_checked(FORM.len()) else { return false };
    let fits =
        |(byte, form): (u8, &u8)| if *form == b'0' { byte.is_ascii_digit() } else { byte == *form };
    let counted = count.is_empty()
        || count
            .strip_prefix('-')
            .is_some_and(|c| !c.is_empty() && c.bytes().all(|b| b.is_ascii_digit()));
    time.bytes().zip(FORM).all(fits) && counted
}

/// Removes what a run set aside, and then its record: a record without a folder tells what is left
/// to be done.
pub(super) fn remove_run(system: &dyn System, above: BorrowedFd<'_>, run: &str) -> io::Result<()> {
    match remove_below(system, above, TreePath::from(run.as_bytes())) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
        _ => {}
    }
    system.remove_file(above, format!("{run}{RECORD}").as_bytes())
}

/// Removes what an interrupted run left under temporary names in a folder that stays. The mark of what
/// it left in doubt stays too: only a run that looks at everything can lift it.
pub(crate) fn clear_leftovers(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<()> {
    clear(system, folder, &mark::name())
}

/// The same in a folder that is to go.
pub(crate) fn clear_all_leftovers(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<()> {
    clear(system, folder, b"")
}

fn clear(system: &dyn System, folder: BorrowedFd<'_>, spared: &[u8]) -> io::Result<()> {
    let listing = Listing::read(system, folder)?;
    for (name, _) in (0..listing.len()).filter_map(|at| listing.get(at)) {
        let stat = system.stat(Entry::Named(folder, name))?;
        match stat.kind {
            _ if name == spared || !temporary::is_leftover(name, &stat) => {}
            Kind::Folder => remove_below(system, folder, name.into())?,
            _ => system.remove_file(folder, name)?,
        }
    }
    Ok(())
}

/// Removes a folder with all it holds. The way down is kept as names and not as handles, of which
/// there are fewer than levels that a tree can have.
fn remove_below(system: &dyn System, above: BorrowedFd<'_>, top: TreePath) -> io::Result<()> {
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
        let names = (0..listing.len()).filter_map(|at| listing.get(at));
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
    match crate::reach::flags(system, entry) {
        Some(flags) if !flags.and(Flags::LOCKS).is_empty() => {
            system.set_flags(entry, flags.without(Flags::LOCKS))
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_has_the_form_of_a_run_is_one() {
        for run in ["2026-11-23T14-05-09Z", "2026-11-23T14-05-09Z-2", "0001-01-01T00-00-00Z-13"] {
            assert!(is_run(run), "{run}");
        }
        for other in
            ["", "logbooks", "2026-11-23", "2026-11-23T14-05-09Z-", "2026-11-23T14-05-09Zz"]
        {
            assert!(!is_run(other), "{other}");
        }
    }
}
