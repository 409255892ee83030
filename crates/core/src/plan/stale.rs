//! Finding stale steps before the first step of a plan.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use rustix::io::Errno;
use utter_echo_drives::map::DriveMap;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{State, is_number};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Stat, System};

use crate::policy::{NameId, Part, PlannedFolder, Step};
use crate::sides::Pair;

/// A problem for each step whose source or destination is stale.
pub(crate) fn find(
    system: &dyn System,
    pair: &Pair,
    drives: &DriveMap,
    part: &Part,
) -> Vec<Problem> {
    let search = StaleSearch { system, pair, drives, part };
    (0..part.folders.len()).flat_map(|at| search.folder(at)).collect()
}

/// The check of one part.
struct StaleSearch<'p> {
    system: &'p dyn System,
    pair: &'p Pair,
    drives: &'p DriveMap,
    part: &'p Part,
}

/// One of its folders, as it is now.
struct FolderNow<'p> {
    folder: &'p PlannedFolder,
    path: TreePath,
    source: Option<OwnedFd>,
    destination: Option<OwnedFd>,
}

impl StaleSearch<'_> {
    fn folder(&self, at: usize) -> Vec<Problem> {
        let (part, pair) = (self.part, self.pair);
        let open = |root: BorrowedFd<'_>, path: &TreePath| {
            self.system.open_folder(root, path.as_bytes()).ok()
        };
        let (folder, path) = (&part.folders[at], part.folder_path(at));
        let anchor = pair.destination.exists().then_some(&pair.destination.anchor);
        let now = FolderNow {
            folder,
            source: open(pair.source.as_fd(), &part.source_path(at)),
            destination: anchor.and_then(|anchor| open(anchor.as_fd(), &path)),
            path,
        };
        let problem = |path: &TreePath, (operation, cause)| {
            let path = pair.prefix.join(path.as_bytes());
            Problem { path, operation, cause }
        };
        let of_step = |step: &Step, stale: Option<(Operation, Cause)>| {
            stale.map(|stale| problem(&now.path.join(folder.name(step)), stale))
        };
        // Arriving entries are checked by their step in the destination.
        let arrived = folder.source_removals.iter().filter(|step| step.reason == Reason::Arrived);
        let mut problems: Vec<Problem> =
            arrived.filter_map(|step| of_step(step, self.arrived(&now, step))).collect();
        if !folder.steps.is_empty() && self.is_another(&now) {
            problems.push(problem(&now.path, stale_destination()));
            return problems;
        }
        problems
            .extend(folder.steps.iter().filter_map(|step| of_step(step, self.step(&now, step))));
        problems
    }

    /// True if a folder of the destination is not the one of the plan.
    fn is_another(&self, FolderNow { folder, destination, .. }: &FolderNow<'_>) -> bool {
        let drive = self.drives.get(folder.head.known.drive).identity.drive;
        let known = folder.head.known.destination;
        let stat = |there: &OwnedFd| self.system.stat(Entry::Open(there.as_fd())).ok();
        destination.as_ref().and_then(stat).is_some_and(|now| {
            now.identity.drive != drive || known.is_some_and(|known| !is_number(known, &now))
        })
    }

    fn here(&self, now: &FolderNow<'_>, step: &Step) -> io::Result<Option<Stat>> {
        let single = self.pair.single.as_ref().map(|single| &*single.source);
        let name = single.unwrap_or_else(|| now.folder.name_in_source(step));
        state(self.system, now.source.as_ref(), name)
    }

    fn there(&self, now: &FolderNow<'_>, step: &Step) -> io::Result<Option<Stat>> {
        state(self.system, now.destination.as_ref(), now.folder.name(step))
    }

    fn arrived(&self, now: &FolderNow<'_>, step: &Step) -> Option<(Operation, Cause)> {
        let source = (step.source, self.here(now, step));
        stale_since(source, (step.destination, self.there(now, step)))
    }

    fn step(&self, now: &FolderNow<'_>, step: &Step) -> Option<(Operation, Cause)> {
        // Known from the journal, without an entry to check.
        let is_remembered = || {
            let path = now.path.join(now.folder.name(step));
            self.part.remembers(path.as_bytes())
        };
        let seen = step.source.filter(|_| !is_remembered());
        let source = match (step.verb, step.reason) {
            // Leftovers of interrupted runs are removed in any state.
            (Verb::Remove, Reason::Leftover | Reason::Unselected) => Ok(None),
            (Verb::Remove, _) => {
                let drive = self.drives.get(now.folder.head.known.drive);
                let appeared = |now: &Stat| drive.capabilities.has_appeared(now.kind, step.kind());
                self.here(now, step).map(|now| now.filter(appeared))
            }
            _ if is_remembered() => Ok(None),
            _ => self.here(now, step),
        };
        let taken = self.there(now, step);
        let there = match step.renamed_from() {
            // Its new name is free, and the entry is where the plan saw it.
            Some(from) if matches!(taken, Ok(None)) => (step.destination, self.renamed(from)),
            Some(_) => (step.destination, Ok(None)),
            None => (step.destination, taken),
        };
        stale_since((seen, source), there)
    }

    /// The present state of an entry to rename.
    fn renamed(&self, from: NameId) -> io::Result<Option<Stat>> {
        let was = self.part.name(from);
        let path = self.part.folder_path(was.folder as usize);
        let anchor = self.pair.destination.anchor.as_fd();
        let folder = self.system.open_folder(anchor, path.as_bytes()).ok();
        state(self.system, folder.as_ref(), &was.name)
    }
}

fn stale_destination() -> (Operation, Cause) {
    (Operation::LookAtDestination, Cause::Stale("the destination"))
}

/// The folder at a path; `None` if it or a folder above it is missing or is not a folder.
pub(crate) fn folder(
    system: &dyn System,
    root: &OwnedFd,
    path: &TreePath,
) -> io::Result<Option<OwnedFd>> {
    let absent = [Errno::NOENT, Errno::NOTDIR, Errno::LOOP].map(Errno::raw_os_error);
    match system.open_folder(root.as_fd(), path.as_bytes()) {
        Err(e) if e.raw_os_error().is_some_and(|error| absent.contains(&error)) => Ok(None),
        other => other.map(Some),
    }
}

/// The present entry; `None` also if its folder does not exist.
pub(crate) fn state(
    system: &dyn System,
    folder: Option<&OwnedFd>,
    name: &[u8],
) -> io::Result<Option<Stat>> {
    let Some(folder) = folder else { return Ok(None) };
    match system.stat(Entry::Named(folder.as_fd(), name)) {
        Err(e) if e.kind() == ErrorKind::NotFound => Ok(None),
        other => other.map(Some),
    }
}

type SeenAndNow = (Option<State>, io::Result<Option<Stat>>);

/// The planned and the present state of each side.
fn stale_since(source: SeenAndNow, destination: SeenAndNow) -> Option<(Operation, Cause)> {
    let same = |seen: Option<State>, now: Option<Stat>| match (seen, now) {
        (Some(seen), Some(now)) => seen.still(&now),
        (None, None) => true,
        _ => false,
    };
    // For a removal the source does not matter, unless it has the entry by now.
    match source.1 {
        Ok(now) if same(source.0, now) => {}
        Ok(_) => return Some((Operation::LookAtSource, Cause::Stale("the source"))),
        Err(error) => return Some((Operation::LookAtSource, error.into())),
    }
    match destination.1 {
        Ok(now) if same(destination.0, now) => None,
        Ok(_) => Some(stale_destination()),
        Err(error) => Some((Operation::LookAtDestination, error.into())),
    }
}
