//! Which entries of a move go back: those that it put in place and that are still there.

use std::os::fd::AsFd as _;

use utter_echo_drives::before::look_here;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::AttributesBefore;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, System};
use utter_echo_select::{FolderNeeds, RestoreExtent, RestoreSet, Selection};

use crate::journal::PastPart;
use crate::policy::{Part, Step};
use crate::sides::Pair;
use crate::undo::original_source::OriginalSource;
use crate::undo::past_run::PastRun;

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

/// What goes back of one part.
pub(super) struct BackSelection<'a> {
    run: &'a PastRun<'a>,
    past: &'a PastPart,
    part: &'a Part,
    pair: &'a Pair,
    home: OriginalSource<'a>,
    chosen: RestoreSet,
    left_alone: Vec<LeftAlone>,
}

impl<'a> BackSelection<'a> {
    pub(super) fn of(
        run: &'a PastRun<'a>,
        (past, part): (&'a PastPart, &'a Part),
        pair: &'a Pair,
    ) -> Self {
        let (home, chosen) = (past.home(run.system), RestoreSet::default());
        let mut back = Self { run, past, part, pair, home, chosen, left_alone: Vec::new() };
        if !back.is_everything() {
            back.choose_folders();
            back.home.find_groups((part, past, pair), &mut back.chosen);
            for at in 0..part.folders.len() {
                back.set_old_names(at);
                back.choose_steps(at);
                back.choose_kept(at);
            }
        }
        back
    }

    /// What was left out is added to `left_alone`.
    pub(super) fn finish(self, left_alone: &mut Vec<LeftAlone>) -> Selection {
        if self.is_everything() {
            return Selection::everything();
        }
        left_alone.extend(self.left_alone);
        Selection::of_chosen(self.chosen)
    }

    /// The root itself was renamed, with all that is in it by now.
    fn is_everything(&self) -> bool {
        self.part.root.is_some_and(|step| step.is_taken_over())
    }

    fn choose_folders(&mut self) {
        if self.part.root.is_none_or(|step| step.verb != Verb::Add) {
            self.chosen.keep_root();
        }
        let differ = self.part.paths_that_differ();
        for (path, was) in &self.past.moved.here {
            let is_old = is_untouched(self.run.system, self.pair, path, was);
            // The caller names it by its path in the destination.
            let needs = if is_old { FolderNeeds::Time } else { FolderNeeds::All };
            self.chosen.needs(path_there(&differ, path), needs);
        }
    }

    /// The path by which the comparison knows an entry: a single one by its original name.
    fn path(&self, at: usize, step: &Step) -> Vec<u8> {
        let single = self.pair.single.as_ref().map(|single| &*single.destination);
        let name = single.unwrap_or(self.part.folders[at].name(step));
        self.part.folder_path(at).join(name).as_bytes().to_vec()
    }

    fn path_there(&self, at: usize, step: &Step) -> TreePath {
        self.part.folder_path(at).join(self.part.folders[at].name(step))
    }

    fn path_here(&self, at: usize, step: &Step) -> TreePath {
        self.part.source_path(at).join(self.part.folders[at].name_in_source(step))
    }

    fn leave_alone(&mut self, at: usize, step: &Step, is_gone: bool) {
        let path = self.pair.prefix.join(self.path_there(at, step).as_bytes());
        self.left_alone.push(LeftAlone { path, is_gone });
    }

    fn set_old_names(&mut self, at: usize) {
        let folder = &self.part.folders[at];
        if let Some(name) = &folder.head.source_name {
            let above = self.part.folder_path(at).as_bytes().to_vec();
            self.chosen.set_old_name(above, name.to_vec());
        }
        // Both names of a single entry are known.
        let has_other = |step: &&Step| {
            self.pair.single.is_none() && folder.other_name_in_source(step).is_some()
        };
        for step in folder.steps.iter().chain(&folder.source_removals).filter(has_other) {
            self.chosen.set_old_name(self.path(at, step), folder.name_in_source(step).to_vec());
        }
    }

    fn choose_steps(&mut self, at: usize) {
        for step in &self.part.folders[at].steps {
            let own = self.path_here(at, step);
            match step.verb {
                // It is removed where it was created. A folder may still lack attributes, so it takes part.
                Verb::Add | Verb::Replace
                    if step.kind() != Kind::Folder && self.home.still_has(&own, step) => {}
                Verb::Add | Verb::Replace | Verb::Rename => self.choose(at, step, &own),
                // What was in the destination already was only removed from the source.
                Verb::Adjust | Verb::Remove | Verb::RemoveSource => {}
            }
        }
    }

    /// An entry that the run put in place.
    fn choose(&mut self, at: usize, step: &Step, own: &TreePath) {
        let path = self.path(at, step);
        let extent = if step.takes_a_folder_over() {
            RestoreExtent::WithContents
        } else {
            RestoreExtent::Itself
        };
        match self.placed(at, step) {
            // What it displaced may be back already.
            PlacedEntry::Other if step.verb == Verb::Replace && self.home.has(own) => {
                self.chosen.add_kept(path);
            }
            PlacedEntry::Other => self.leave_alone(at, step, false),
            PlacedEntry::Same => self.chosen.add(path, extent),
            PlacedEntry::Gone => {
                // A killed move may have it in its exit folder, from where it comes back.
                self.chosen.add(path, extent);
                if !self.home.has(own) {
                    self.leave_alone(at, step, true);
                }
            }
        }
    }

    /// Entries of the destination that the source had, too, and that were only removed there.
    fn choose_kept(&mut self, at: usize) {
        let folder = &self.part.folders[at];
        let is_kept = |step: &&Step| {
            let own = folder.find(folder.name(step)).map(|slot| folder.steps[slot].verb);
            !matches!(own, Some(Verb::Add | Verb::Replace))
        };
        for step in folder.source_removals.iter().filter(is_kept) {
            let placed = self.placed(at, step);
            if placed != PlacedEntry::Same && !self.home.has(&self.path_here(at, step)) {
                self.leave_alone(at, step, placed == PlacedEntry::Gone);
                if placed == PlacedEntry::Other {
                    continue;
                }
            }
            self.chosen.add_kept(self.path(at, step));
        }
    }

    fn placed(&self, at: usize, step: &Step) -> PlacedEntry {
        let path = self.path_there(at, step);
        let (above, name) = path.split_last();
        let system = self.run.system;
        let above = system.open_folder(self.pair.source.as_fd(), above);
        let now = above.and_then(|above| system.stat(Entry::Named(above.as_fd(), name)));
        let Ok(now) = now else { return PlacedEntry::Gone };
        let is_same = match self.past.left_at(path.as_bytes()) {
            Some(left) => {
                left.state.still(&now) && !left.has_other_attributes(&now, self.run.was_begun())
            }
            // The run was killed before it could record it. A rename keeps the inode.
            None => step.source.is_none_or(|was| {
                was.kind == now.kind && (!step.is_taken_over() || was.still(&now))
            }),
        };
        if is_same { PlacedEntry::Same } else { PlacedEntry::Other }
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
pub(super) fn path_there(differ: &[(TreePath, TreePath)], path: &[u8]) -> Vec<u8> {
    let found = differ.iter().rev().find_map(|(here, there)| {
        let rest = path.strip_prefix(here.as_bytes())?;
        let is_within = rest.is_empty() || rest[0] == b'/';
        is_within.then(|| [there.as_bytes(), rest].concat())
    });
    found.unwrap_or_else(|| path.to_vec())
}
