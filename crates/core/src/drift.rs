//! What of a plan no longer is what it saw, found before its first step.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use crate::os::{Entry, Stat, System};
use crate::pair::Pair;
use crate::plan::{Part, Reason, State, Verb};
use crate::problem::{Cause, Operation, Problem};
use crate::reach::Reach;

/// A problem for each step whose source or destination drifted.
pub(crate) fn find(system: &dyn System, pair: &Pair, reach: &Reach, part: &Part) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (at, folder) in part.folders.iter().enumerate() {
        let path = part.folder_path(at);
        let open = |root: BorrowedFd<'_>| system.open_folder(root, path.as_bytes()).ok();
        let source = open(pair.source.as_fd());
        let anchor = pair.destination.exists().then_some(&pair.destination.anchor);
        let destination = anchor.and_then(|anchor| open(anchor.as_fd()));
        for step in &folder.steps {
            let name = folder.names.get(step.name);
            let source_name = pair.single.as_ref().map_or(name, |single| &single.source);
            let look = |folder: &Option<OwnedFd>, name: &[u8]| state(system, folder.as_ref(), name);
            let now = match (step.verb, step.reason) {
                // Whatever an interrupted run left goes.
                (Verb::Remove, Reason::Leftover) => Ok(None),
                (Verb::Remove, _) => look(&source, source_name)
                    .map(|now| now.filter(|now| reach.has_appeared(now.kind, step.kind()))),
                // Known from the record, and there is no entry to look at.
                _ if part.remembers(path.join(name).as_bytes()) => Ok(None),
                _ => look(&source, source_name),
            };
            let seen = step.source.filter(|_| !part.remembers(path.join(name).as_bytes()));
            let drifted = drifted((seen, now), (step.destination, look(&destination, name)));
            problems.extend(drifted.map(|(operation, cause)| Problem {
                path: pair.prefix.join(path.join(name).as_bytes()),
                operation,
                cause,
            }));
        }
    }
    problems
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

type Side = (Option<State>, io::Result<Option<Stat>>);

/// What each side was seen as, and what it is now.
fn drifted(source: Side, destination: Side) -> Option<(Operation, Cause)> {
    let same = |seen: Option<State>, now: Option<Stat>| match (seen, now) {
        (Some(seen), Some(now)) => seen.still(&now),
        (None, None) => true,
        _ => false,
    };
    // Of what is removed the source has nothing to say, unless it has it by now.
    match source.1 {
        Ok(now) if same(source.0, now) => {}
        Ok(_) => return Some((Operation::LookAtSource, Cause::Drift("the source"))),
        Err(error) => return Some((Operation::LookAtSource, error.into())),
    }
    match destination.1 {
        Ok(now) if same(destination.0, now) => None,
        Ok(_) => Some((Operation::LookAtDestination, Cause::Drift("the destination"))),
        Err(error) => Some((Operation::LookAtDestination, error.into())),
    }
}
