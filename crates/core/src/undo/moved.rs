//! Where a move put its entries: for moving them back.

use std::io::ErrorKind;
use std::os::fd::AsFd as _;
use std::path::Path;

use utter_echo_drives::before::look_here;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, System};
use utter_echo_select::{FolderNeeds, RestoreSet, Selection};

use crate::journal::{self, PastPart, RootIdentity};
use crate::policy::{Part, Step};
use crate::request::Task;
use crate::sides::{self, CallError, Pair, SingleEntry};
use crate::undo::past_run::PastRun;
use utter_echo_select::RestoreExtent;

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
    pub(super) fn left(&self) -> impl Iterator<Item = (&PastPart, &Part)> {
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

    /// Modification times of source folders before the move.
    pub(crate) fn times_back(&self) -> Vec<InterruptedMove> {
        let times = |(past, part): (&PastPart, &Part)| {
            let differ = part.paths_that_differ();
            journal::of_source(past, |path| path_there(&differ, path))
        };
        self.left().map(times).collect()
    }

    /// For each part that is a single entry, the former state of its folder.
    pub(crate) fn folders_of_singles(&self) -> impl Iterator<Item = Option<State>> {
        self.left().map(|(past, _)| {
            past.moved.origin.as_ref()?.single.as_ref()?;
            past.moved.here.get(&[][..]).map(|was| was.state)
        })
    }

    /// What to move back of each part. What somebody changed since is left out, and is added to `left_alone`.
    pub(crate) fn selections_back(
        &self,
        pairs: &[Pair],
        left_alone: &mut Vec<LeftAlone>,
    ) -> Vec<Selection> {
        let parts = self.left().zip(pairs);
        parts
            .map(|((past, part), pair)| self.selection_back((part, past, pair), left_alone))
            .collect()
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

/// An entry that cannot be moved back.
#[derive(Debug)]
pub(crate) struct LeftAlone {
    pub(crate) path: TreePath,
    /// Nothing is left of it; otherwise somebody changed it.
    is_gone: bool,
}

impl LeftAlone {
    pub(crate) fn problem(&self) -> Problem {
        let cause = if self.is_gone { Cause::GoneSince } else { Cause::ChangedSince };
        Problem { path: self.path.clone(), operation: Operation::PutBack, cause }
    }
}

/// What is where a run put an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum PlacedEntry {
    /// That entry.
    Same,
    /// Another one, or the same after somebody changed it.
    Other,
    /// Nothing.
    Gone,
}

/// True for a source folder that is unchanged except for its time.
fn is_untouched(system: &dyn System, pair: &Pair, path: &[u8], was: &AttributesBefore) -> bool {
    if !pair.destination.exists() {
        return false;
    }
    let folder = system.open_folder(pair.destination.anchor.as_fd(), path);
    let now = folder.and_then(|folder| {
        let caller = system.caller()?;
        look_here(system, &caller, folder.as_fd())
    });
    let of = |before: &AttributesBefore| {
        let state = before.state;
        (state.kind, state.uid, state.gid, state.mode(), before.flags, before.xattrs.clone())
    };
    now.is_ok_and(|now| of(&now) == of(was))
}

/// The path in the destination of what had this path in the source. `differ` holds the entries that were given
/// another name, the deepest last.
fn path_there(differ: &[(TreePath, TreePath)], path: &[u8]) -> Vec<u8> {
    let found = differ.iter().rev().find_map(|(here, there)| {
        let rest = path.strip_prefix(here.as_bytes())?;
        let is_within = rest.is_empty() || rest[0] == b'/';
        is_within.then(|| [there.as_bytes(), rest].concat())
    });
    found.unwrap_or_else(|| path.to_vec())
}

impl PastRun<'_> {
    fn selection_back(
        &self,
        (part, past, pair): (&Part, &PastPart, &Pair),
        left_alone: &mut Vec<LeftAlone>,
    ) -> Selection {
        let system = self.system;
        if part.root.is_some_and(|step| step.is_taken_over()) {
            return Selection::everything();
        }
        let mut chosen = RestoreSet::default();
        if part.root.is_none_or(|step| step.verb != Verb::Add) {
            chosen.keep_root();
        }
        let differ = part.paths_that_differ();
        for (path, was) in &past.moved.here {
            let is_old = is_untouched(system, pair, path, was);
            // The caller names it by its path in the destination.
            let needs = if is_old { FolderNeeds::Time } else { FolderNeeds::All };
            chosen.needs(path_there(&differ, path), needs);
        }
        let home = past.home(system);
        home.find_groups((part, past, pair), &mut chosen);
        for (at, folder) in part.folders.iter().enumerate() {
            let above = part.folder_path(at);
            // A single entry is identified by its original name.
            let single = pair.single.as_ref().map(|single| &*single.destination);
            let path = |step: &Step| {
                let name = single.unwrap_or(folder.head.names.get(step.name));
                above.join(name).as_bytes().to_vec()
            };
            let there =
                |step: &Step| above.join(folder.head.names.get(step.name)).as_bytes().to_vec();
            let left =
                |step: &Step, is_gone| LeftAlone { path: pair.prefix.join(&there(step)), is_gone };
            if let Some(name) = &folder.head.source_name {
                chosen.set_old_name(above.as_bytes().to_vec(), name.to_vec());
            }
            let renamed = folder.steps.iter().chain(&folder.source_removals);
            // Both names of a single entry are known.
            let has_other =
                |step: &&Step| single.is_none() && folder.other_name_in_source(step).is_some();
            for step in renamed.filter(has_other) {
                chosen.set_old_name(path(step), folder.name_in_source(step).to_vec());
            }
            for step in &folder.steps {
                let own = part.source_path(at).join(folder.name_in_source(step));
                match step.verb {
                    // It is removed where it was created. A folder may still lack attributes, so it takes part.
                    Verb::Add | Verb::Replace
                        if step.kind() != Kind::Folder && home.still_has(&own, step) => {}
                    Verb::Add | Verb::Replace | Verb::Rename => {
                        let extent = if step.takes_a_folder_over() {
                            RestoreExtent::WithContents
                        } else {
                            RestoreExtent::Itself
                        };
                        match self.placed(pair, (past, step), &there(step)) {
                            // What it displaced may be back already.
                            PlacedEntry::Other if step.verb == Verb::Replace && home.has(&own) => {
                                chosen.add_kept(path(step));
                            }
                            PlacedEntry::Other => left_alone.push(left(step, false)),
                            PlacedEntry::Gone if !home.has(&own) => {
                                // A killed move may have it in its exit folder, from where it comes back.
                                chosen.add(path(step), extent);
                                left_alone.push(left(step, true));
                            }
                            PlacedEntry::Same | PlacedEntry::Gone => chosen.add(path(step), extent),
                        }
                    }
                    // What was in the destination already was only removed from the source.
                    Verb::Adjust | Verb::Remove | Verb::RemoveSource => {}
                }
            }
            let goes = |step: &&Step| {
                let name = folder.head.names.get(step.name);
                let own = folder.find(name).map(|slot| folder.steps[slot].verb);
                !matches!(own, Some(Verb::Add | Verb::Replace))
            };
            for step in folder.source_removals.iter().filter(goes) {
                let own = part.source_path(at).join(folder.name_in_source(step));
                match self.placed(pair, (past, step), &there(step)) {
                    PlacedEntry::Other if !home.has(&own) => {
                        left_alone.push(left(step, false));
                        continue;
                    }
                    PlacedEntry::Gone if !home.has(&own) => left_alone.push(left(step, true)),
                    _ => {}
                }
                chosen.add_kept(path(step));
            }
        }
        Selection::of_chosen(chosen)
    }

    fn placed(&self, pair: &Pair, (past, step): (&PastPart, &Step), path: &[u8]) -> PlacedEntry {
        let path_there = TreePath::from(path);
        let (above, name) = path_there.split_last();
        let above = self.system.open_folder(pair.source.as_fd(), above);
        let now = above.and_then(|above| self.system.stat(Entry::Named(above.as_fd(), name)));
        let Ok(now) = now else { return PlacedEntry::Gone };
        let is_same = match past.left_at(path) {
            Some(left) => {
                left.state.still(&now) && !left.has_other_attributes(&now, self.was_begun())
            }
            // The run was killed before it could record it. A rename keeps the inode.
            None => step.source.is_none_or(|was| {
                was.kind == now.kind && (!step.is_taken_over() || was.still(&now))
            }),
        };
        if is_same { PlacedEntry::Same } else { PlacedEntry::Other }
    }
}
