//! What was seen of a name on both sides, turned into a step, a problem, a folder to visit, or nothing.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;

use crate::aspect::Aspect;
use crate::os::{Entry, Kind, Stat, Time};
use crate::plan::{Note, Reason, State, Step, Verb};
use crate::problem::{Cause, Operation};
use crate::request::{By, Changed, Task};
use crate::select::Verdict;
use crate::temporary;

use super::links::Linked;
use super::node::{Node, Presence};
use super::walk::{Seen, Visit, Walk, is_border};
use super::{Comparison, Halt, entry, step};

impl Walk<'_> {
    /// Turns what was seen of one name into a step, a problem, a folder to visit, or nothing.
    pub(super) fn weigh(&self, visit: &mut Visit<'_>, seen: &Seen<'_>) {
        self.watch_borders(visit, seen);
        visit.tally(seen);
        visit.note_ahead(seen, self.context.now);
        match (&seen.source, &seen.destination) {
            (None, None) => {
                if seen.hidden {
                    visit.node.keep_all();
                }
            }
            (Some(_), None) if seen.hidden => {
                visit.problem(seen.name, Operation::Write, Cause::LeftOutInTheWay);
                visit.node.keep_all();
            }
            (Some((source, verdict)), None) => self.weigh_new(visit, seen, source, *verdict),
            (Some((source, verdict)), Some((destination, below))) => {
                self.weigh_both(visit, seen, (source, *verdict), (destination, *below));
            }
            (None, Some((destination, verdict))) => {
                self.weigh_extra(visit, seen, destination, *verdict);
            }
        }
    }

    fn weigh_new(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, source: &Stat, verdict: Verdict) {
        if !self.context.reach.carry.has(Aspect::Content) {
            return;
        }
        if !self.context.changed.steps.has(Verb::Add) {
            visit.findings.tallies.held_back += 1;
            return;
        }
        if self.cannot_hold(visit, seen, source) {
            return;
        }
        self.context.reach.foresee(source);
        let add = step(Verb::Add, Reason::New, Some(source), None);
        let slot = visit.node.add(seen.name, add);
        match source.kind {
            Kind::Folder => {
                self.go_below(visit, seen, Presence::Source, Some(slot), verdict, None);
            }
            Kind::File => self.weigh_file(visit, seen, source, None, Some(slot)),
            _ => {}
        }
    }

    fn weigh_both(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        (source, verdict): (&Stat, Verdict),
        (destination, destination_verdict): (&Stat, Verdict),
    ) {
        let planned = match self.compare_entries(visit, seen, source, destination) {
            Ok(planned) => planned,
            Err(cause) => {
                visit.problem(seen.name, Operation::Compare, cause.into());
                visit.node.keep_all();
                return;
            }
        };
        if let Some(step) = &planned
            && self.holds_back(visit, step)
        {
            // What is below a folder that is on both sides is looked at all the same.
            if source.kind == Kind::Folder && destination.kind == Kind::Folder {
                self.go_below(visit, seen, Presence::Both, None, verdict, None);
            } else {
                visit.node.keep_all();
            }
            return;
        }
        let replaced = planned.is_some_and(|step| step.verb == Verb::Replace);
        if replaced && self.cannot_hold(visit, seen, source) {
            // Left out, it is not there: what was there before is no longer the source's.
            if source.kind != destination.kind && !self.context.reach.can_hold(source.kind) {
                self.weigh_extra(visit, seen, destination, destination_verdict);
            } else {
                visit.node.keep_all();
            }
            return;
        }
        if replaced {
            self.context.reach.foresee(source);
        }
        let slot = planned.map(|step| visit.node.add(seen.name, step));
        match (source.kind, destination.kind) {
            (Kind::Folder, Kind::Folder) => {
                self.go_below(visit, seen, Presence::Both, slot, verdict, None);
            }
            (Kind::Folder, _) if replaced => {
                self.go_below(visit, seen, Presence::Source, slot, verdict, None);
            }
            (_, Kind::Folder) if replaced => {
                self.go_below(visit, seen, Presence::Destination, slot, destination_verdict, None);
            }
            _ => {}
        }
        if source.kind == Kind::File {
            self.weigh_file(visit, seen, source, Some(destination), slot);
        } else if planned.is_none() && source.kind != Kind::Folder {
            visit.findings.tallies.unchanged.add(0);
        }
    }

    /// True if a step must not be taken, for its kind or since what it would replace is newer.
    fn holds_back(&self, visit: &mut Visit<'_>, step: &Step) -> bool {
        let Comparison { reach, .. } = self.context;
        let Changed { steps, spare_newer, .. } = self.context.changed;
        let tallies = &mut visit.findings.tallies;
        let newer = |step: &Step| match (step.source, step.destination) {
            (Some(source), Some(there)) => {
                let (source, there) = (source.modified(), there.modified());
                there > source && !reach.same_time(source, there)
            }
            _ => false,
        };
        let onto_folder = step.destination.is_some_and(|there| there.kind == Kind::Folder);
        if *spare_newer && step.verb == Verb::Replace && !onto_folder && newer(step) {
            tallies.spared_newer += 1;
            return true;
        }
        let empties = step.verb == Verb::Replace && onto_folder;
        let empties = empties && self.context.task != Task::Verify;
        let held = !steps.has(step.verb) || empties && !steps.has(Verb::Remove);
        tallies.held_back += u64::from(held);
        held
    }

    /// True if the destination's drive has no way of holding this entry. That is a problem, unless
    /// it is of a kind that is left out there.
    fn cannot_hold(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, source: &Stat) -> bool {
        let Comparison { reach, strictly, .. } = self.context;
        if !reach.can_hold(source.kind) {
            reach.leave_out(source.kind);
            if *strictly {
                visit.problem(seen.name, Operation::Write, Cause::KindNotHeld);
            }
            return true;
        }
        let cause = if let Some(objection) = reach.drive.names.objection(seen.name) {
            Cause::NameNotHeld(objection)
        } else if let Some(longest) = reach.drive.largest_file.filter(|_| source.kind == Kind::File)
            && source.size > longest
        {
            Cause::TooLarge(longest)
        } else {
            return false;
        };
        visit.problem(seen.name, Operation::Write, cause);
        true
    }

    fn weigh_extra(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, stat: &Stat, verdict: Verdict) {
        let leftover = temporary::is_leftover(seen.name, stat).then_some(Reason::Leftover);
        let dropped = seen.dropped.then_some(Reason::Unselected);
        let goes = visit.node.goes.or(leftover).or(dropped);
        let leftover = goes == Some(Reason::Leftover);
        if self.context.task == Task::Copy && !leftover {
            visit.node.keep_all();
            return;
        }
        if !self.context.changed.steps.has(Verb::Remove) && !leftover {
            visit.findings.tallies.held_back += 1;
            visit.node.keep_all();
            return;
        }
        let reason = goes.unwrap_or(Reason::Extra);
        let slot = visit.node.add(seen.name, step(Verb::Remove, reason, None, Some(stat)));
        if stat.kind == Kind::Folder {
            self.go_below(visit, seen, Presence::Destination, Some(slot), verdict, goes);
        } else {
            visit.node.note_removal();
        }
    }

    fn go_below(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        presence: Presence,
        slot: Option<usize>,
        verdict: Verdict,
        goes: Option<Reason>,
    ) {
        let (all_below, conditional) = match verdict {
            Verdict::Take { all_below } => (all_below, false),
            Verdict::IfNeeded { all_below } => (all_below, true),
            Verdict::Leave => return,
        };
        let stat = match presence {
            Presence::Destination => seen.destination,
            _ => seen.source,
        };
        let Some((stat, _)) = stat else { return };
        let below = Node::below(visit.node, seen.name, presence, &stat, all_below);
        let spare = match (presence, seen.destination) {
            (Presence::Both, Some((stat, _))) if conditional && self.drops(visit.node) => {
                Some(State::from(&stat))
            }
            _ => None,
        };
        let below = below.owning(slot, conditional).going(goes, spare);
        visit.below.push(Arc::new(below));
    }

    /// Notices other drives mounted in the source, and one side within the other.
    fn watch_borders(&self, visit: &mut Visit<'_>, seen: &Seen<'_>) {
        let pair = self.context.pair;
        let is_folder =
            |side: &Option<(Stat, Verdict)>| side.filter(|(stat, _)| stat.kind == Kind::Folder);
        if let Some((stat, _)) = is_folder(&seen.source) {
            if stat.identity == pair.destination.anchor_stat.identity && pair.single.is_none() {
                visit.findings.halt = Some(Halt::Overlap(visit.listed.path.join(seen.name)));
            }
            if is_border(visit.node, &stat) {
                visit.findings.notes.push(Note::Mount(visit.listed.path.join(seen.name)));
            }
        }
        let identity = |side: &Option<(Stat, Verdict)>| side.map(|(stat, _)| stat.identity);
        let same_file =
            pair.single.is_some() && identity(&seen.source) == identity(&seen.destination);
        let source_within = identity(&seen.destination) == Some(pair.source_stat.identity);
        if seen.destination.is_some() && (same_file || source_within) {
            visit.findings.halt = Some(Halt::Overlap(visit.listed.path.join(seen.name)));
        }
    }

    fn compare_entries(
        &self,
        visit: &Visit<'_>,
        seen: &Seen<'_>,
        source: &Stat,
        destination: &Stat,
    ) -> io::Result<Option<Step>> {
        let (Some(from), Some(to)) = (&visit.listed.source, &visit.listed.destination) else {
            return Ok(None);
        };
        let sides = entry::Sides {
            source: (reached(seen.open.0.as_ref(), from, seen.source_name), source),
            destination: (reached(seen.open.1.as_ref(), to, seen.name), destination),
        };
        entry::compare(self.context, &sides)
    }

    /// A file with more than one name is remembered; its step is settled when all names are known.
    fn weigh_file(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        source: &Stat,
        destination: Option<&Stat>,
        slot: Option<usize>,
    ) {
        let destination = destination.filter(|d| d.kind == Kind::File);
        let several = source.links > 1 || destination.is_some_and(|d| d.links > 1);
        let several = several && self.context.changed.by != By::Presence;
        if several && self.context.reach.carry.has(Aspect::Content) {
            visit.findings.linked.push(Linked {
                node: Arc::clone(visit.node),
                name: seen.name.into(),
                source: *source,
                destination: destination.copied(),
                slot,
                grouped: self.context.reach.carry.has(Aspect::Hardlinks),
            });
            visit.node.must_stay();
        } else if slot.is_none() {
            visit.findings.tallies.unchanged.add(source.size);
        }
    }
}

/// By its handle, if it is open, else by its name.
fn reached<'a>(open: Option<&'a OwnedFd>, folder: &'a OwnedFd, name: &'a [u8]) -> Entry<'a> {
    open.map_or(Entry::Named(folder.as_fd(), name), |open| Entry::Open(open.as_fd()))
}

impl Visit<'_> {
    /// A file of the destination alone, or another than the source's, that was changed in the
    /// future: two clocks do not agree.
    fn note_ahead(&mut self, seen: &Seen<'_>, now: Time) {
        let Some((there, _)) = &seen.destination else { return };
        let same = seen.source.is_some_and(|(source, _)| source.modified == there.modified);
        if there.kind == Kind::File && there.modified > now && !same {
            let (count, newest) = self.findings.tallies.ahead;
            self.findings.tallies.ahead = (count + 1, newest.max(there.modified));
        }
    }

    /// Counts what is surely taken; a folder that may not be needed is counted when that is known.
    fn tally(&mut self, seen: &Seen<'_>) {
        let tallies = &mut self.findings.tallies;
        let sides = [
            (&seen.source, &mut tallies.source, &mut self.taken.0),
            (&seen.destination, &mut tallies.destination, &mut self.taken.1),
        ];
        for (side, tally, taken) in sides {
            if let Some((stat, verdict)) = side
                && !matches!(verdict, Verdict::IfNeeded { .. })
            {
                tally.count(stat.kind, stat.size);
                *taken = true;
            }
        }
    }
}
