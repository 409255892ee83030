//! What of a plan no longer is what it saw, found before its first step.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_drives::map::DriveMap;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{State, is_number};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Stat, System};

use crate::policy::{Part, Step};
use crate::sides::Pair;

/// A problem for each step whose source or destination is stale.
pub(crate) fn find(
    system: &dyn System,
    pair: &Pair,
    drives: &DriveMap,
    part: &Part,
) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (at, folder) in part.folders.iter().enumerate() {
        let path = part.folder_path(at);
        let open =
            |root: BorrowedFd<'_>, path: &TreePath| system.open_folder(root, path.as_bytes()).ok();
        let source = open(pair.source.as_fd(), &part.source_path(at));
        let anchor = pair.destination.exists().then_some(&pair.destination.anchor);
        let destination = anchor.and_then(|anchor| open(anchor.as_fd(), &path));
        let drive = drives.get(folder.head.known.drive);
        let is_other = |there: &OwnedFd| {
            let stat = system.stat(Entry::Open(there.as_fd()));
            stat.is_ok_and(|stat| {
                let other_drive = stat.identity.drive != drive.identity.drive;
                other_drive
                    || folder.head.known.destination.is_some_and(|known| !is_number(known, &stat))
            })
        };
        let source_name = |step: &Step| {
            pair.single.as_ref().map_or(folder.name_in_source(step), |single| &single.source)
        };
        // What arrives is looked at as a step of the destination.
        let arrived = folder.vacates.iter().filter(|step| step.reason == Reason::Arrived);
        problems.extend(arrived.filter_map(|step| {
            let name = folder.name(step);
            let now = (step.source, state(system, source.as_ref(), source_name(step)));
            let there = (step.destination, state(system, destination.as_ref(), name));
            let (operation, cause) = stale_since(now, there)?;
            let path = pair.prefix.join(path.join(name).as_bytes());
            Some(Problem { path, operation, cause })
        }));
        if destination.as_ref().is_some_and(is_other) && !folder.steps.is_empty() {
            let (operation, cause) = told("the destination");
            let path = pair.prefix.join(path.as_bytes());
            problems.push(Problem { path, operation, cause });
            continue;
        }
        for step in &folder.steps {
            let name = folder.name(step);
            let look = |folder: &Option<OwnedFd>, name: &[u8]| state(system, folder.as_ref(), name);
            let now = match (step.verb, step.reason) {
                // Whatever an interrupted run left goes.
                (Verb::Remove, Reason::Leftover | Reason::Unselected) => Ok(None),
                (Verb::Remove, _) => look(&source, source_name(step)).map(|now| {
                    now.filter(|now| drive.capabilities.has_appeared(now.kind, step.kind()))
                }),
                // Known from the record, and there is no entry to look at.
                _ if part.remembers(path.join(name).as_bytes()) => Ok(None),
                _ => look(&source, source_name(step)),
            };
            let seen = step.source.filter(|_| !part.remembers(path.join(name).as_bytes()));
            let there = if step.renamed_from().is_some() {
                // Its new name is free, and it lies where the plan saw it.
                moved(system, pair, part, step, look(&destination, name))
            } else {
                (step.destination, look(&destination, name))
            };
            let stale = stale_since((seen, now), there);
            problems.extend(stale.map(|(operation, cause)| Problem {
                path: pair.prefix.join(path.join(name).as_bytes()),
                operation,
                cause,
            }));
        }
    }
    problems
}

/// What is to be renamed, as it was seen and as it is; nothing that is, if its new name is taken.
fn moved(
    system: &dyn System,
    pair: &Pair,
    part: &Part,
    step: &Step,
    taken: io::Result<Option<Stat>>,
) -> SeenAndNow {
    let was = step.renamed_from().map(|id| part.name(id));
    let (Some(was), Ok(None)) = (was, taken) else { return (step.destination, Ok(None)) };
    let path = part.folder_path(was.folder as usize);
    let folder = system.open_folder(pair.destination.anchor.as_fd(), path.as_bytes()).ok();
    (step.destination, state(system, folder.as_ref(), &was.name))
}

fn told(side: &'static str) -> (Operation, Cause) {
    (Operation::LookAtDestination, Cause::Stale(side))
}

/// What is there now; nothing, where there is not even the folder.
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

/// What each side was seen as, and what it is now.
fn stale_since(source: SeenAndNow, destination: SeenAndNow) -> Option<(Operation, Cause)> {
    let same = |seen: Option<State>, now: Option<Stat>| match (seen, now) {
        (Some(seen), Some(now)) => seen.still(&now),
        (None, None) => true,
        _ => false,
    };
    // Of what is removed the source has nothing to say, unless it has it by now.
    match source.1 {
        Ok(now) if same(source.0, now) => {}
        Ok(_) => return Some((Operation::LookAtSource, Cause::Stale("the source"))),
        Err(error) => return Some((Operation::LookAtSource, error.into())),
    }
    match destination.1 {
        Ok(now) if same(destination.0, now) => None,
        Ok(_) => Some(told("the destination")),
        Err(error) => Some((Operation::LookAtDestination, error.into())),
    }
}
