//! A run from beginning to end: the stations in their order.

use std::fmt;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::{Mutex, OnceLock, PoisonError};

use crate::abilities::{Abilities, Ability};
use crate::apply::{self, Ending, Outcome};
use crate::aside::{Aside, Recorded, Shelf};
use crate::compare::{self, Compared, Comparison, Halt};
use crate::drift;
use crate::guard::{self, Refusal};
use crate::mark;
use crate::observe::Observer;
use crate::os::{Caller, System, Time};
use crate::pair::{self, CallError, Pair};
use crate::path::TreePath;
use crate::plan::{Note, Part, Plan, Verb};
use crate::problem::{Cause, Operation, Problem};
use crate::reach::Reach;
use crate::request::Request;

/// Both sides opened, ready to be planned and, after that, changed.
pub struct Session<'a> {
    system: &'a dyn System,
    request: &'a Request,
    caller: Caller,
    pairs: Vec<Pair>,
    /// Found once a run, by planning: until then it is not sure that the two sides may be touched
    /// at all.
    reaches: OnceLock<Vec<Reach>>,
    /// Where things are set aside, if they are.
    shelf: Option<Shelf>,
    /// Of the destinations, once the guards let a plan pass.
    locks: Mutex<Vec<OwnedFd>>,
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Session").field("request", self.request).finish_non_exhaustive()
    }
}

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A guard that needs no plan to refuse.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The source folder itself cannot be listed, so nothing is known of it.
    #[error("source '{path}' cannot be listed: {cause}; nothing was touched")]
    SourceClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// The destination folder itself cannot be looked into.
    #[error("destination '{path}' cannot be read: {cause}; nothing was touched")]
    DestinationClosed {
        /// As the user named it.
        path: String,
        /// Why.
        cause: Cause,
    },
    /// A saved plan saw other places than are there now.
    #[error(
        "the destination folder was there when the plan was made and is not now, or the reverse; nothing was touched\n  make the plan anew with --save-plan"
    )]
    Unfit,
    /// The observer asked to stop.
    #[error("stopped while comparing; nothing was touched")]
    Stopped,
}

impl<'a> Session<'a> {
    /// Opens both sides without changing them.
    ///
    /// A source folder's *contents* become the destination's contents; with
    /// [`inside`](crate::request::Places::inside), or with several sources, each source goes inside
    /// the destination under its own name. A single entry goes into a destination folder that
    /// exists; otherwise the destination is its new name. A trailing slash means nothing.
    pub fn open(system: &'a dyn System, request: &'a Request) -> Result<Self, CallError> {
        let pairs = pair::open(system, request.task, &request.places)?;
        Self::new(system, request, pairs)
    }

    /// Opens what a recorded run set aside, and the destination it was displaced from, without
    /// changing them. The request is for [`Task::Undo`](crate::request::Task::Undo); of its places
    /// only the record's count.
    pub fn open_to_undo(
        system: &'a dyn System,
        request: &'a Request,
        run: &Recorded,
    ) -> Result<Self, CallError> {
        Self::new(system, request, run.pairs(system)?)
    }

    fn new(
        system: &'a dyn System,
        request: &'a Request,
        pairs: Vec<Pair>,
    ) -> Result<Self, CallError> {
        let caller = system.caller().map_err(CallError::Caller)?;
        let set_aside = request.safety.set_aside.as_ref();
        let shelf = set_aside.map(|set_aside| Shelf::open(system, set_aside)).transpose()?;
        Ok(Self {
            shelf,
            system,
            request,
            caller,
            pairs,
            reaches: OnceLock::new(),
            locks: Mutex::default(),
        })
    }

    /// Scans and compares both sides and writes down every step. Changes nothing, but that what the
    /// destination's drive can hold is tried out: see [`Abilities::try_out`].
    pub fn plan(&self, observer: &dyn Observer) -> Result<Plan, PlanError> {
        let mut plan = Plan::default();
        self.pairs.iter().try_for_each(|pair| self.refuse_overlap(pair))?;
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        for (pair, reach) in self.pairs.iter().zip(reaches) {
            let compared = compare::compare(&Comparison {
                system: self.system,
                observer,
                task: self.request.task,
                changed: &self.request.changed,
                selection: &self.request.selection,
                reach,
                pair,
                interrupted: self.interrupted(pair)?,
                sampled: Mutex::default(),
                strictly: self.request.strictly,
                now: Time::now(),
                running: self.request.running,
            });
            take_in(&mut plan, pair, compared.map_err(|halt| halted(halt, pair))?);
            reach.notes().into_iter().for_each(|new| note(&mut plan.notes, new));
            plan.notes.extend(missing_folders(pair));
        }
        plan.notes
            .extend(self.request.selection.idle_patterns().into_iter().map(Note::IdlePattern));
        plan.decided = self.request.selection.decided();
        plan.notes.dedup();
        if self.request.strictly {
            let missed: Vec<String> = plan.notes.iter().filter_map(Note::not_carried).collect();
            plan.problems.extend(missed.into_iter().map(|missed| Problem {
                path: TreePath::default(),
                operation: Operation::Carry,
                cause: Cause::NotCarried(missed),
            }));
        }
        plan.number();
        Ok(plan)
    }

    /// Takes a plan that was made before, for the same places. It holds only as far as both sides
    /// still are what it saw: see [`Session::overtaken`].
    pub fn adopt(&self, mut plan: Plan) -> Result<Plan, PlanError> {
        self.pairs.iter().try_for_each(|pair| self.refuse_overlap(pair))?;
        plan.prefixes = self.pairs.iter().map(|pair| pair.prefix.clone()).collect();
        let fits = |(pair, part): (&Pair, &Part)| {
            let adds_root = part.root.is_some_and(|step| step.verb == Verb::Add);
            pair.single.is_some() || adds_root != pair.destination.exists()
        };
        if plan.parts.len() != self.pairs.len() || !self.pairs.iter().zip(&plan.parts).all(fits) {
            return Err(PlanError::Unfit);
        }
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        for reach in reaches {
            reach.notes().into_iter().for_each(|new| note(&mut plan.notes, new));
        }
        Ok(plan)
    }

    /// The plan that takes a recorded run back, as far as that was not done yet. What overtaken since
    /// is among its steps: see [`Session::overtaken`].
    pub fn plan_to_undo(&self, run: &Recorded) -> Result<Plan, PlanError> {
        self.pairs.iter().try_for_each(|pair| self.refuse_shelf(pair))?;
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        let mut plan = Plan::default();
        for (at, (pair, reach)) in self.pairs.iter().zip(reaches).enumerate() {
            let (part, problems) = run.reversed(self.system, at, pair, reach);
            plan.parts.push(part);
            plan.prefixes.push(pair.prefix.clone());
            plan.problems.extend(problems);
        }
        plan.number();
        Ok(plan)
    }

    /// The steps of a plan whose source or destination is no longer what the plan saw, as problems.
    /// Carrying it out would refuse each of them, and do the rest.
    pub fn overtaken(&self, plan: &Plan) -> Vec<Problem> {
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        let parts = self.pairs.iter().zip(reaches).zip(&plan.parts);
        let find = |((pair, reach), part)| drift::find(self.system, pair, reach, part);
        parts.flat_map(find).collect()
    }

    /// Checks a plan against the guards that are not waived.
    pub fn guard(&self, plan: &Plan) -> Result<(), Refusal> {
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        let holds_holes = reaches.iter().all(|reach| reach.drive.holds(Ability::Holes));
        let locks = guard::check(
            self.system,
            self.request,
            &self.pairs,
            self.shelf.as_ref(),
            holds_holes,
            plan,
        )?;
        *self.locks.lock().unwrap_or_else(PoisonError::into_inner) = locks;
        Ok(())
    }

    /// Carries a plan out, step by step. Never fails as a whole: what could not be done is told by
    /// the outcome.
    pub fn apply(&self, plan: &Plan, observer: &dyn Observer) -> Outcome {
        let reaches = self.reaches.get_or_init(|| self.find_reaches());
        let apply = |aside: Option<&Aside<'_>>| {
            let running = self.request.running;
            let terms = apply::Terms { system: self.system, observer, running, aside };
            apply::apply(&terms, &self.pairs, reaches, plan)
        };
        let (Some(shelf), Some(set_aside)) = (&self.shelf, &self.request.safety.set_aside) else {
            return apply(None);
        };
        if plan.is_empty() {
            return apply(None);
        }
        let what = (plan, &*self.pairs);
        let request = (self.request, set_aside);
        match Aside::begin(self.system, &self.caller, shelf, request, what) {
            Err(error) => Outcome::without_shelf(plan, &set_aside.folder, error),
            Ok(aside) => {
                let mut outcome = apply(Some(&aside));
                if matches!(outcome.ending, Ending::Complete) {
                    outcome.problems.extend(shelf.prune(self.system, set_aside));
                }
                outcome
            }
        }
    }

    /// Each drive is tried out once.
    fn find_reaches(&self) -> Vec<Reach> {
        let mut tried: Vec<(u64, Abilities)> = Vec::new();
        let slack = u64::try_from(self.request.changed.time_slack.as_nanos()).unwrap_or(u64::MAX);
        let reach = |pair: &Pair| {
            let drive = pair.destination.anchor_stat.identity.drive;
            let known = tried.iter().find(|(known, _)| *known == drive);
            let abilities = if let Some((_, abilities)) = known {
                abilities.clone()
            } else {
                let anchor = pair.destination.anchor.as_fd();
                let abilities = Abilities::try_out(self.system, &self.caller, anchor);
                tried.push((drive, abilities.clone()));
                abilities
            };
            Reach::new(self.request.carry, abilities, &self.caller, slack)
        };
        self.pairs.iter().map(reach).collect()
    }

    fn interrupted(&self, pair: &Pair) -> Result<Option<mark::Left>, PlanError> {
        if !pair.destination.exists() {
            return Ok(None);
        }
        mark::left(self.system, pair.destination.anchor.as_fd()).map_err(|error| {
            PlanError::DestinationClosed {
                path: pair.destination_shown.clone(),
                cause: error.into(),
            }
        })
    }

    /// What is set aside must not become part of a side.
    fn refuse_shelf(&self, pair: &Pair) -> Result<(), PlanError> {
        if let Some(shelf) = &self.shelf
            && shelf.is_in_the_way(self.system, pair).unwrap_or(true)
        {
            let (source, destination) = (&pair.source_shown, &pair.destination_shown);
            return Err(PlanError::Refused(Refusal::SetAsideWithin {
                folder: shelf.shown(),
                source_path: source.clone(),
                destination_path: destination.clone(),
            }));
        }
        Ok(())
    }

    fn refuse_overlap(&self, pair: &Pair) -> Result<(), PlanError> {
        self.refuse_shelf(pair)?;
        match pair::overlap(self.system, pair) {
            Ok(false) => Ok(()),
            Ok(true) => Err(halted(Halt::Overlap(TreePath::default()), pair)),
            Err(error) => Err(PlanError::SourceClosed {
                path: pair.source_shown.clone(),
                cause: error.into(),
            }),
        }
    }
}

fn halted(halt: Halt, pair: &Pair) -> PlanError {
    match halt {
        Halt::Stopped => PlanError::Stopped,
        Halt::SourceClosed(cause) => {
            PlanError::SourceClosed { path: pair.source_shown.clone(), cause }
        }
        Halt::Overlap(at) => {
            let at = String::from_utf8_lossy(at.as_bytes()).into_owned();
            PlanError::Refused(Refusal::Overlap {
                source_path: pair.source_shown.clone(),
                destination_path: pair.destination_shown.clone(),
                at: (!at.is_empty() && pair.single.is_none()).then_some(at),
            })
        }
    }
}

/// Adds what was found for one pair, with its paths made relative to the destination as named.
fn take_in(plan: &mut Plan, pair: &Pair, compared: Compared) {
    let Compared {
        part,
        problems,
        notes,
        source,
        destination,
        unchanged,
        spared_newer,
        held_back,
        sampled,
    } = compared;
    plan.parts.push(part);
    plan.prefixes.push(pair.prefix.clone());
    plan.problems.extend(
        problems
            .into_iter()
            .map(|problem| Problem { path: pair.prefix.join(problem.path.as_bytes()), ..problem }),
    );
    plan.notes.extend(notes.into_iter().map(|note| match note {
        Note::Mount(path) => Note::Mount(pair.prefix.join(path.as_bytes())),
        Note::MountLeftOut(path) => Note::MountLeftOut(pair.prefix.join(path.as_bytes())),
        other => other,
    }));
    plan.totals.source.merge(&source);
    plan.totals.destination.merge(&destination);
    plan.totals.unchanged.entries += unchanged.entries;
    plan.totals.unchanged.bytes += unchanged.bytes;
    plan.totals.spared_newer += spared_newer;
    plan.totals.held_back += held_back;
    plan.totals.sampled.entries += sampled.entries;
    plan.totals.sampled.bytes += sampled.bytes;
}

/// Adds a note; what the drives of several pairs cannot hold becomes one.
fn note(notes: &mut Vec<Note>, new: Note) {
    if let Note::NotHeld(new) = &new {
        let known = notes.iter_mut().find_map(|note| match note {
            Note::NotHeld(known) => Some(known),
            _ => None,
        });
        if let Some(known) = known {
            known.merge(new);
            return;
        }
    }
    if !notes.contains(&new) {
        notes.push(new);
    }
}

fn missing_folders(pair: &Pair) -> Option<Note> {
    // The last one is the root folder itself, which is a step, unless a single entry goes there.
    let expected = usize::from(pair.single.is_none());
    (pair.destination.missing.len() > expected)
        .then(|| Note::MissingFolders(pair.destination_shown.clone()))
}
