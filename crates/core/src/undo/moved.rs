//! Where a move put its entries: for moving them back.

use std::io::ErrorKind;
use std::os::fd::AsFd as _;
use std::path::Path;

use utter_echo_drives::before::look_here;
use utter_echo_drives::mounted;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, System};
use utter_echo_select::{FolderNeeds, RestoreSet, Selection};

use crate::journal::{self, PastPart};
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
        self.left().map(|(past, part)| self.back(past, part)).collect()
    }

    /// The parts that may have something left. A root that the run created is removed with its last entry.
    fn left(&self) -> impl Iterator<Item = (&PastPart, &Part)> {
        let parts = self.parts.iter().zip(&self.plan.parts);
        let parts = parts.filter(|(_, part)| part.has_steps());
        parts.filter(|(past, part)| !part.makes_root() || !self.is_missing(past))
    }

    fn is_missing(&self, past: &PastPart) -> bool {
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

    /// A source that no longer lies on its drive and would be filled now.
    pub(crate) fn other_origin<'p>(&self, pairs: &'p [Pair]) -> Option<&'p Pair> {
        let mut both = self.left().zip(pairs);
        let other = both.find(|((past, _), pair)| {
            let real = self.system.real_path(pair.destination.anchor.as_fd()).unwrap_or_default();
            let now = mounted::uuid_of(self.system, &real);
            let was = past.moved.origin.as_ref().and_then(|origin| origin.drive.clone());
            was.zip(now).is_some_and(|(was, now)| was != now)
        });
        other.map(|(_, pair)| pair)
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

    /// What to move back of each part.
    pub(crate) fn selections_back(&self, pairs: &[Pair]) -> Vec<Selection> {
        let parts = self.left().zip(pairs);
        parts.map(|((past, part), pair)| selection_back(self.system, (part, past, pair))).collect()
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

/// True for an entry that replaced another.
fn is_of_the_run(
    system: &dyn System,
    pair: &Pair,
    (past, step): (&PastPart, &Step),
    path: &[u8],
) -> bool {
    let path_there = TreePath::from(path);
    let (above, name) = path_there.split_last();
    let above = system.open_folder(pair.source.as_fd(), above);
    let now = above.and_then(|above| system.stat(Entry::Named(above.as_fd(), name)));
    let Ok(now) = now else { return false };
    match past.after.get(path) {
        Some(left) => left.state.still(&now),
        // What came back from another drive has another inode and is otherwise equal.
        None => step.destination.is_none_or(|was| !was.looks_like(&now)),
    }
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

fn selection_back(system: &dyn System, (part, past, pair): (&Part, &PastPart, &Pair)) -> Selection {
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
        let there = |step: &Step| above.join(folder.head.names.get(step.name)).as_bytes().to_vec();
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
                _ if step.takes_a_folder_over() => {
                    chosen.add(path(step), RestoreExtent::WithContents);
                }
                // What it displaced may be back already and look the same: then it stays, too.
                Verb::Replace if !is_of_the_run(system, pair, (past, step), &there(step)) => {
                    chosen.add_kept(path(step));
                }
                Verb::Add | Verb::Replace | Verb::Rename => {
                    chosen.add(path(step), RestoreExtent::Itself);
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
        folder.source_removals.iter().filter(goes).for_each(|step| chosen.add_kept(path(step)));
    }
    Selection::of_chosen(chosen)
}
