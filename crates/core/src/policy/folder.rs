//! Decides about a folder of which everything is known.

use std::collections::HashMap;

use crate::compare::{self, Below, Change, Difference, Obstacle, Presence, Seen, Station, What};
use crate::drives::DriveId;
use crate::os::Kind;
use crate::problem::{Cause, Operation, Problem};

use super::draft::{Alone, Draft, Drafted, LinkedName};
use super::may::Word;
use super::step::{Reason, Step, Verb};
use super::Policy;

/// What is decided about one difference.
#[derive(Debug)]
enum Decision {
    Step(Step),
    /// Nothing is to be done, and nothing of it is in the destination.
    Nothing,
    /// What the destination has stays.
    Stays,
    /// It stays since an option forbids its step.
    Held(Word),
    /// It stays, and that is a fault.
    Problem(Cause),
    /// The drive holds no such entry, so nothing is to be done.
    NotHeld(Kind),
}

impl Station for Draft<'_> {
    fn folder(&mut self, mut folder: compare::Folder) -> Below {
        let for_what_it_holds = folder.for_what_it_holds;
        if folder.is_plain() {
            let stays = folder.holds;
            return Below { stays, for_what_it_holds, ..Below::default() };
        }
        let mut tally = Tally { firm: folder.holds, ..Tally::default() };
        let drive = folder.drive();
        let below: HashMap<usize, Below> =
            folder.below.iter().filter_map(|(own, below)| Some(((*own)?, *below))).collect();
        let (path, is_root) = (std::mem::take(&mut folder.path), folder.is_root);
        let differences = std::mem::take(&mut folder.differences);
        let linked = std::mem::take(&mut folder.linked);
        let mut drafted = Drafted::new(folder);
        let mut slots: HashMap<usize, usize> = HashMap::new();
        for (at, difference) in differences.iter().enumerate() {
            let child = below.get(&at);
            tally.removes |= child.is_some_and(|child| child.removes);
            match self.policy.decide(difference, child, drive) {
                Decision::Step(step) => {
                    tally.removes |= step.verb == Verb::Remove;
                    slots.insert(at, drafted.steps.len());
                    drafted.steps.push(Some(Step { name: difference.name, ..step }));
                }
                Decision::Nothing => {}
                Decision::Stays => tally.firm = true,
                Decision::Held(word) => {
                    tally.held = true;
                    match word {
                        Word::Newer => self.decided.spared_newer += 1,
                        Word::Held | Word::Yes => self.decided.held_back += 1,
                    }
                    self.spare_what_would_give_way(difference, child);
                }
                Decision::NotHeld(kind) => self.decided.not_held.push((drive, kind)),
                Decision::Problem(cause) => {
                    tally.firm = true;
                    let path = path.join(drafted.names.get(difference.name));
                    self.decided.problems.push(Problem { path, operation: Operation::Write, cause });
                }
            }
        }
        drafted.linked = linked
            .into_iter()
            .map(|facts| {
                let alone = match facts.difference {
                    None => Alone::Right,
                    Some(at) => slots.get(&at).map_or(Alone::Stays, |slot| Alone::Planned(*slot)),
                };
                LinkedName { facts, alone }
            })
            .collect();
        drafted.steps.shrink_to_fit();
        let number = (is_root || !drafted.is_empty()).then_some(self.folders.len());
        if number.is_some() {
            self.folders.push(drafted);
        }
        Below {
            number,
            stays: tally.firm || tally.held,
            only_held: tally.held && !tally.firm,
            removes: tally.removes,
            for_what_it_holds,
        }
    }
}

/// What is left in the destination's folder, and why.
#[derive(Default)]
struct Tally {
    firm: bool,
    held: bool,
    removes: bool,
}

impl Draft<'_> {
    /// What a folder holds that may not give way to something else stays with it.
    fn spare_what_would_give_way(&mut self, difference: &Difference, child: Option<&Below>) {
        if difference.what == What::Kind
            && let Some(number) = child.and_then(|child| child.number)
            && self.folders[number].presence == Presence::Destination
        {
            self.folders[number].spared = true;
        }
    }
}

impl Policy<'_> {
    fn decide(
        &self,
        difference: &Difference,
        child: Option<&Below>,
        drive: DriveId,
    ) -> Decision {
        let Difference { source, destination, what, obstacle, .. } = difference;
        let sides = (source.state(), destination.state());
        let step = |verb, reason| Step::new(verb, reason, sides);
        let compares = self.task.only_compares();
        match (what, obstacle.as_deref()) {
            (What::Nothing, _) => Decision::Nothing,
            (What::Extra, _) => self.removal(step(Verb::Remove, Reason::Extra), child, drive),
            (What::Leftover, _) => self.removal(step(Verb::Remove, Reason::Leftover), child, drive),
            (What::LeftOut, _) => self.removal(step(Verb::Remove, Reason::Unselected), child, drive),
            (What::New, Some(Obstacle::Kind)) => self.not_held(sides.0.map(|source| source.kind)),
            // Left out, it is not there: what was there before is no longer the source's.
            (What::Kind, Some(Obstacle::Kind)) => {
                let extra = Step::new(Verb::Remove, Reason::Extra, (None, sides.1));
                match self.removal(extra, child, drive) {
                    Decision::Stays => self.not_held(sides.0.map(|source| source.kind)),
                    other => other,
                }
            }
            (_, Some(obstacle)) => Decision::Problem(cause_of(obstacle)),
            (What::New, None) if *destination == Seen::LeftOut && !compares => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            (What::New, None) => self.if_granted(step(Verb::Add, Reason::New), drive),
            (What::Kind, None) => self.exchange(step(Verb::Replace, Reason::Kind), child, drive),
            (What::Content(change), None) => {
                self.if_granted(step(Verb::Replace, reason_of(*change)), drive)
            }
            (What::Aspects(aspects), None) => {
                let step = Step { aspects: *aspects, ..step(Verb::Adjust, Reason::Aspects) };
                self.if_granted(step, drive)
            }
        }
    }

    fn if_granted(&self, step: Step, drive: DriveId) -> Decision {
        match self.may(&step, drive) {
            Word::Yes => Decision::Step(step),
            word => Decision::Held(word),
        }
    }

    fn not_held(&self, kind: Option<Kind>) -> Decision {
        match kind {
            _ if self.strictly => Decision::Problem(Cause::KindNotHeld),
            Some(kind) => Decision::NotHeld(kind),
            None => Decision::Nothing,
        }
    }

    /// The removal of what only the destination has; a folder goes only with all it holds.
    fn removal(&self, step: Step, child: Option<&Below>, drive: DriveId) -> Decision {
        let clears = step.reason == Reason::Leftover;
        if !self.task.removes() && !self.task.only_compares() && !clears {
            return Decision::Stays;
        }
        if step.kind() == Kind::Folder {
            let Some(child) = child else { return Decision::Stays };
            let is_extra = step.reason == Reason::Extra;
            let is_no_ones =
                is_extra && child.for_what_it_holds && !child.removes && !child.only_held;
            if child.stays && !child.only_held || is_no_ones {
                return Decision::Stays;
            }
            if child.only_held {
                return Decision::Held(Word::Held);
            }
        }
        self.if_granted(step, drive)
    }

    /// One kind in the place of another; a folder gives way only when nothing in it stays.
    fn exchange(&self, step: Step, child: Option<&Below>, drive: DriveId) -> Decision {
        let granted = self.if_granted(step, drive);
        if !step.takes_a_folders_place() || self.task.only_compares() {
            return granted;
        }
        let stays = child.is_none_or(|child| child.stays);
        let only_held = child.is_some_and(|child| child.only_held);
        match granted {
            Decision::Step(_) if only_held => Decision::Held(Word::Held),
            Decision::Step(_) if stays && self.task.removes() => {
                Decision::Problem(Cause::LeftOutInTheWay)
            }
            Decision::Step(_) if stays => Decision::Problem(Cause::FolderInTheWay),
            granted => granted,
        }
    }
}

fn reason_of(change: Change) -> Reason {
    match change {
        Change::SizeTime => Reason::SizeTime,
        Change::Bytes(offset) => Reason::Content { offset },
        Change::Reference => Reason::Reference,
    }
}

fn cause_of(obstacle: &Obstacle) -> Cause {
    match obstacle {
        Obstacle::Kind => Cause::KindNotHeld,
        Obstacle::Name(objection) => Cause::NameNotHeld(*objection),
        Obstacle::SameName(first) => Cause::SameNameThere(first.clone()),
        Obstacle::Size(longest) => Cause::TooLarge(*longest),
        Obstacle::Reference => Cause::ReferenceNotHeld,
        Obstacle::Mount => Cause::MountInTheWay,
    }
}
