//! Assembling a plan from the results of each pair.

use utter_echo_drives::map::DriveMap;
use utter_echo_model::note::{Note, WhyRootStays};
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::Verb;

use crate::compare::Compared;
use crate::plan::steps::Plan;
use crate::policy::{Decisions, Part, Step};
use crate::sides::Pair;

impl Plan {
    /// Adds the results of one pair, with paths relative to the destination as named.
    pub(crate) fn take_in(
        &mut self,
        (pair, map): (&Pair, &DriveMap),
        compared: Compared,
        decided: Decisions,
    ) {
        for (drive, kind) in decided.not_held {
            map.get(drive).capabilities.leave_out(kind);
        }
        count_not_carried(map, &decided.part);
        self.note_drives(map);
        if decided.second_files > 0 {
            self.notes.push(Note::SecondFiles(decided.second_files));
        }
        let makes_some = decided.part.has_steps();
        self.parts.push(decided.part);
        self.prefixes.push(pair.prefix.clone());
        self.drives.push(map.all().iter().skip(1).map(|drive| drive.path.clone()).collect());
        self.left_behind.push(compared.left_behind);
        let mut problems: Vec<Problem> =
            compared.problems.into_iter().chain(decided.problems).collect();
        problems.sort_by(|a, b| a.path.cmp(&b.path));
        let placed = |p: Problem| Problem { path: pair.prefix.join(p.path.as_bytes()), ..p };
        self.problems.extend(problems.into_iter().map(placed));
        self.notes.extend(compared.notes.into_iter().map(|note| note.below(&pair.prefix)));
        self.notes.extend(missing_folders(pair).filter(|_| makes_some));
        let totals = &mut self.totals;
        totals.source.merge(&compared.source);
        totals.newest = totals.newest.max(compared.newest);
        totals.destination.merge(&compared.destination);
        totals.unchanged.merge(compared.unchanged);
        totals.unchanged.merge(decided.unchanged);
        totals.left_newer += decided.left_newer;
        totals.held_back += decided.held_back;
        totals.sampled.merge(compared.sampled);
    }

    /// Adds what undoes one part of a run. What its drives cannot hold was never there.
    pub(crate) fn add_undone(
        &mut self,
        part: Part,
        pair: &Pair,
        problems: impl IntoIterator<Item = Problem>,
    ) {
        for step in part.all_steps() {
            let comes_back = step.source.filter(|_| step.verb != Verb::Adjust);
            if let Some(state) = comes_back {
                self.totals.source.count(state.kind, state.bytes());
            }
            if let Some(state) = step.destination {
                self.totals.destination.count(state.kind, state.bytes());
            }
        }
        self.parts.push(part);
        self.prefixes.push(pair.prefix.clone());
        self.problems.extend(problems);
    }

    /// Adds notes on the drives below a destination.
    pub(crate) fn note_drives(&mut self, map: &DriveMap) {
        for new in map.all().iter().flat_map(|drive| drive.capabilities.notes()) {
            self.note(new);
        }
    }

    /// Adds a note. Notes on unsupported attributes of several drives are merged.
    fn note(&mut self, new: Note) {
        if let Note::NotHeld(new) = &new {
            let known = self.notes.iter_mut().find_map(|note| match note {
                Note::NotHeld(known) => Some(known),
                _ => None,
            });
            if let Some(known) = known {
                known.merge(new);
                return;
            }
        }
        if !self.notes.contains(&new) {
            self.notes.push(new);
        }
    }

    /// Numbers the steps of all parts. With `strictly`, attributes that cannot be carried are problems instead of
    /// notes.
    pub(crate) fn close(&mut self, strictly: bool) {
        self.notes.dedup();
        if strictly {
            let missed: Vec<String> = self.notes.iter().filter_map(Note::not_carried).collect();
            self.problems.extend(missed.into_iter().map(|missed| Problem {
                path: TreePath::default(),
                operation: Operation::Carry,
                cause: Cause::NotCarried(missed),
            }));
        }
        let leaves_none = self.totals.held_back == 0 && self.totals.left_newer == 0;
        self.settles &= leaves_none && self.problems.iter().all(|it| it.cause.is_conflict());
        self.number();
    }
}

/// Counts the attributes of new entries that cannot be carried.
fn count_not_carried(map: &DriveMap, part: &Part) {
    let makes = |verb| matches!(verb, Verb::Add | Verb::Replace);
    for folder in &part.folders {
        let drive = map.get(folder.head.known.drive);
        let made = folder.steps.iter().filter(|step| makes(step.verb));
        made.filter_map(|step| step.source.as_ref())
            .for_each(|source| drive.capabilities.count_not_carried(source));
    }
}

/// A note if the root of a source stays although everything in it is removed.
pub(crate) fn root_stays(pair: &Pair, part: &Part, why: WhyRootStays) -> Option<Note> {
    let top = part.folders.first()?;
    let goes = |step: &Step| step.verb == Verb::RemoveSource || step.is_taken_over();
    let is_emptied = !top.source_stays && part.all_steps().any(goes);
    is_emptied.then(|| Note::RootStays(pair.source_shown.clone(), why))
}

fn missing_folders(pair: &Pair) -> Option<Note> {
    // The last one is the root folder itself, which has a step, unless the source is a single entry.
    let expected = usize::from(pair.single.is_none());
    (pair.destination.missing.len() > expected)
        .then(|| Note::MissingFolders(pair.destination_shown.clone()))
}
