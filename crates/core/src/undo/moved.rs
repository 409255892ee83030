//! Where a move put its entries: for moving them back.

use std::io::ErrorKind;
use std::os::fd::AsFd as _;
use std::path::Path;

use utter_echo_os::Entry;

use crate::journal::{PastPart, RootIdentity};
use crate::policy::Part;
use crate::request::Task;
use crate::sides::{self, CallError, Pair, SingleEntry};
use crate::undo::past_run::PastRun;

impl PastRun<'_> {
    /// True for a move: its entries are moved back before the rest is undone.
    pub fn is_move(&self) -> bool {
        self.purpose.task == Task::Move
    }

    /// The parts with source and destination exchanged.
    pub(crate) fn pairs_back(&self) -> Result<Vec<Pair>, CallError> {
        let gone = self.parts.iter().find(|past| self.is_gone_since(past));
        if let Some(past) = gone {
            return Err(CallError::Gone(past.root.to_string_lossy().into_owned()));
        }
        self.left().map(|(past, part)| self.back(past, part)).collect()
    }

    /// The root was there, and no undo has taken it away.
    pub(super) fn is_gone_since(&self, past: &PastPart) -> bool {
        let is_near = |known: &RootIdentity| {
            // Otherwise its drive is not there, which the plan finds.
            sides::find_place(self.system, &past.root)
                .is_ok_and(|place| known.is_at(self.system, &place))
        };
        // It may have been moved back by other means.
        let is_back = past.home(self.system).is_there();
        !self.is_begun()
            && !is_back
            && self.is_missing(past)
            && past.known.as_ref().is_some_and(is_near)
    }

    /// The parts that may have something left. A root that the run created is removed with its last entry.
    pub(crate) fn left(&self) -> impl Iterator<Item = (&PastPart, &Part)> {
        let parts = self.parts.iter().zip(&self.plan.parts);
        let parts = parts.filter(|(_, part)| part.has_steps());
        parts.filter(|(past, part)| !part.makes_root() || !self.is_missing(past))
    }

    pub(super) fn is_missing(&self, past: &PastPart) -> bool {
        let root = self.system.open_root(&past.root);
        root.is_err_and(|error| error.kind() == ErrorKind::NotFound)
    }

    /// True if nothing is left of what the run created, nor of the folders that it created for it.
    pub fn is_gone(&self) -> bool {
        self.parts.iter().all(|past| self.is_missing(past))
    }

    fn back(&self, past: &PastPart, part: &Part) -> Result<Pair, CallError> {
        let system = self.system;
        let shown = |path: &Path| path.to_string_lossy().into_owned();
        let unknown = || CallError::NoSource(shown(&self.path));
        let origin = past.moved.origin.clone().ok_or_else(unknown)?;
        let to = origin.folder.path();
        let source = system.open_root(&past.root);
        let source = source.map_err(|_| CallError::Gone(shown(&past.root)))?;
        let closed = |cause| CallError::Closed { path: shown(&past.root), cause };
        let source_stat = system.stat(Entry::Pinned(source.as_fd())).map_err(closed)?;
        let destination = sides::find_place(system, &to)?;
        let single = origin
            .single
            .map(|old| SingleEntry { source: only_name(part), destination: old.into_vec() });
        Ok(Pair {
            source,
            source_stat,
            destination,
            single,
            prefix: (&*past.prefix).into(),
            source_shown: shown(&past.root),
            destination_shown: shown(&to),
            destination_path: to,
        })
    }
}

/// The name of a single entry in the destination.
fn only_name(part: &Part) -> Vec<u8> {
    let top = part.folders.first();
    let name = top.and_then(|top| {
        let step = top.steps.first().or(top.source_removals.first())?;
        Some(top.head.names.get(step.name).to_vec())
    });
    name.unwrap_or_default()
}
