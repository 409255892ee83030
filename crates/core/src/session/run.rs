//! A run from beginning to end: the stages in their order.

use parking_lot::Mutex;
use std::collections::HashSet;
use std::fmt;
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::features::Features;
use utter_echo_drives::map::DriveMap;
use utter_echo_files::exit_folder;
use utter_echo_model::identity::DriveId;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::note::Note;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::running::Flush;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Caller, Entry, Identity, Lock, System, Time};
use utter_echo_select::RuleCounts;
use utter_echo_workers::pool::WorkerPool;

use crate::compare::{self, Compared, Comparison, ComparisonTerms, ContentReads, Halt, OwnFolder};
use crate::execute::{self, Ending, Outcome, Terms};
use crate::guard::{self, GuardedRun, PlacesError, PlacesOfRun, Refusal};
use crate::journal::{NotedRun, SetAsideRun};
use crate::plan::{self, Plan};
use crate::policy::{Conflicts, Decisions, Draft, Part, Policy, Step};
use crate::request::{CompareBy, Guard, Keeping, OnConflict, RenamePath, Request, Scope, Task};
use crate::session::error::PlanError;
use crate::sides::{self, CallError, OpenedSides, Pair, SetAsidePlace};
use crate::undo::PastRun;

/// What a session knows and holds of its drives.
pub(crate) struct SessionDrives {
    /// The drives below each destination. They are tried out when the plan is made, since before that the sides may
    /// overlap.
    maps: OnceLock<Vec<DriveMap>>,
    /// The features of drives, by drive number. Each drive is tried out once.
    tried: Mutex<Vec<(u64, Features)>>,
    /// The locks, once the guards have passed.
    locks: Mutex<Vec<Lock>>,
}

/// What earlier runs left.
pub(crate) struct SessionHistory<'a> {
    /// For each pair, what an interrupted move left.
    interrupted: Vec<InterruptedMove>,
    /// Sources that an interrupted move took, so that they are not there any more.
    taken: Vec<String>,
    /// Sources that do not exist.
    missing: Vec<String>,
    /// The run to undo, if any.
    pub(crate) undoes: Option<&'a PastRun<'a>>,
}

/// Both sides of a run, open.
pub struct Session<'a> {
    pub(super) system: &'a dyn System,
    pub(crate) request: &'a Request,
    pub(super) caller: Caller,
    /// The folder that is always left out, if it exists.
    own: Option<OwnFolder>,
    pub(crate) pairs: Vec<Pair>,
    /// The set-aside place, if there is one.
    aside_place: Option<SetAsidePlace>,
    /// Why a move has no undo journal.
    lacks_notes: Option<String>,
    pub(crate) found: SessionDrives,
    pub(crate) history: SessionHistory<'a>,
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Session").field("request", self.request).finish_non_exhaustive()
    }
}

impl<'a> Session<'a> {
    /// Opens both sides without changing them.
    ///
    /// A source folder's *contents* become the destination's contents; with `inside`, or with several sources, each
    /// source goes inside the destination under its own name. A single entry goes into a destination folder that
    /// exists, or whose path ends in a slash; otherwise the destination is its new name. For an existing folder a
    /// trailing slash makes no difference.
    pub fn open(system: &'a dyn System, request: &'a Request) -> Result<Self, CallError> {
        let aside = request.safety.set_aside.as_ref().filter(|_| request.task.removes_sources());
        let aside = aside.and_then(|aside| SetAsidePlace::open(system, aside).ok());
        let taken = OnceLock::new();
        let was_taken = |source: &Path| {
            let before = || aside.as_ref().map(|aside| aside.taken(system, &request.places));
            let taken: &HashSet<PathBuf> = taken.get_or_init(|| before().unwrap_or_default());
            sides::real_path(system, source).is_ok_and(|source| taken.contains(&source))
        };
        let opened = sides::open(system, request.task, &request.places, &was_taken)?;
        let OpenedSides { pairs, taken, missing } = opened;
        let mut session = Self::new(system, request, pairs, None)?;
        session.history.taken = taken;
        session.history.missing = missing;
        Ok(session)
    }

    pub(crate) fn new(
        system: &'a dyn System,
        request: &'a Request,
        mut pairs: Vec<Pair>,
        undoes: Option<&'a PastRun<'a>>,
    ) -> Result<Self, CallError> {
        let caller = system.caller().map_err(CallError::Caller)?;
        let set_aside = request.safety.set_aside.as_ref();
        let aside_place =
            set_aside.map(|set_aside| SetAsidePlace::open(system, set_aside)).transpose();
        let journal_only = set_aside.is_some_and(|set_aside| set_aside.what == Keeping::Journal);
        let (aside_place, lacks_notes) = match aside_place {
            Err(error) if journal_only => (None, Some(error.to_string())),
            Ok(Some(aside_place))
                if journal_only && aside_place.is_in_the_way_of_any(system, &pairs) =>
            {
                (None, Some("the folder for them is part of what is moved".to_owned()))
            }
            other => (other?, None),
        };
        let moves = aside_place.as_ref().filter(|_| request.task.removes_sources());
        let interrupted =
            moves.map_or_else(Vec::new, |aside_place| aside_place.interrupted(system, &pairs));
        for (pair, interrupted) in pairs.iter_mut().zip(&interrupted) {
            interrupted.correct(&TreePath::default(), &mut pair.source_stat);
        }
        Ok(Self {
            aside_place,
            lacks_notes,
            system,
            request,
            own: request.own.as_ref().and_then(|own| own_folder(system, own)),
            caller,
            pairs,
            history: SessionHistory { interrupted, taken: Vec::new(), missing: Vec::new(), undoes },
            found: SessionDrives {
                maps: OnceLock::new(),
                tried: Mutex::default(),
                locks: Mutex::default(),
            },
        })
    }

    /// Scans and compares both sides, and plans every step. Changes nothing, except that the features of the
    /// destination's drive are tried out: see [`Features::try_out`].
    pub fn plan(&self, observer: &dyn Observer) -> Result<Plan, PlanError> {
        let mut plan = Plan { settles: self.looks_at_everything(), ..Plan::default() };
        self.pairs.iter().try_for_each(|pair| self.refuse_overlap(pair))?;
        let counts = RuleCounts::of(&self.request.selection);
        for (pair, map) in self.pairs.iter().zip(self.maps()) {
            let root = self.source_root_removal(pair);
            let (goes, rest) = (root.as_ref().ok(), root.as_ref().err().copied().flatten());
            let (compared, decided) = self
                .decide((pair, map), goes, &counts, observer)
                .map_err(|halt| halted(halt, pair))?;
            self.places().check_mounts(pair, map)?;
            let is_empty = pair.single.is_none()
                && compared.source.entries() <= 1
                && self.request.selection.takes_everything();
            if is_empty && matches!(self.request.task, Task::Copy | Task::Verify) {
                plan.notes.push(Note::EmptySource(pair.source_shown.clone()));
            }
            plan.take_in((pair, map), compared, decided);
            plan.notes
                .extend(rest.and_then(|rest| plan::root_stays(pair, plan.parts.last()?, rest)));
        }
        plan.notes.extend(self.history.taken.iter().cloned().map(Note::TakenBefore));
        plan.problems.extend(self.history.missing.iter().map(|source| Problem {
            path: source.as_bytes().into(),
            operation: Operation::LookAtSource,
            cause: Cause::NoSource,
        }));
        plan.notes.extend(self.lacks_notes.clone().map(Note::NotUndoable));
        plan.notes.extend(self.note_gone_for_good(&plan));
        self.note_nesting(&mut plan);
        plan.notes.extend(counts.idle_patterns().into_iter().map(Note::IdlePattern));
        plan.decided = counts.summaries();
        if self.request.task.removes() && self.request.selection.drops_unselected() {
            // They are removed.
            plan.decided.iter_mut().for_each(|rule| rule.kept = 0);
        }
        plan.close(self.request.changed.strictly);
        Ok(plan)
    }

    /// Compares one pair and decides. `root` is the source's root, if it is to be removed as well.
    fn decide(
        &self,
        (pair, map): (&Pair, &DriveMap),
        root: Option<&State>,
        counts: &RuleCounts<'_>,
        observer: &dyn Observer,
    ) -> Result<(Compared, Decisions), Halt> {
        let selection = &self.request.selection;
        let prefix = &pair.prefix;
        let on_conflict = |path: &TreePath| self.request.on_conflict(&prefix.join(path.as_bytes()));
        let moves = self.request.task.removes_sources();
        let interrupted = self.number_of(pair).and_then(|at| self.history.interrupted.get(at));
        let may_be_ours = |path: &TreePath| {
            interrupted.is_some_and(|interrupted| interrupted.may_have_made(path))
        };
        let keeps_both =
            |path: &TreePath| !may_be_ours(path) && on_conflict(path) == OnConflict::KeepBoth;
        let has_notes = self.aside_place.is_some();
        let conflicts = Conflicts { how: &on_conflict, may_be_ours: &may_be_ours };
        let policy = Policy::of((self.request, has_notes), (map, &conflicts));
        let pool = WorkerPool::new(self.request.running.workers);
        let mut comparison = Comparison {
            system: self.system,
            observer,
            counts: RuleCounts::of(selection),
            pair,
            drives: map,
            capabilities_of: &|folder, drive| self.capabilities_of(folder, drive),
            reads: ContentReads::new(pair.disks(self.system), pool.most()),
            pool,
            terms: ComparisonTerms {
                scope: Scope::of(self.request, selection),
                selection,
                keeps_both: moves.then_some(&keeps_both),
                interrupted: self.times_of(pair),
                own: self.own.as_ref(),
                now: Time::now(),
                running: self.request.running,
            },
        };
        let rename_path =
            root.map_or(RenamePath::Impossible, |_| self.rename_path_of_root(&comparison));
        let draft = || Draft::new(&policy).source_root(root.copied(), rename_path);
        if rename_path == RenamePath::WholeTree {
            let compared =
                compare::compare_roots_alone(&comparison).map_err(Halt::source_closed)?;
            let decided = draft().take_all_over(&compared);
            return Ok((compared, decided));
        }
        compare::compare_in_disk_order(&mut comparison)?;
        comparison.counts = RuleCounts::of(selection);
        let mut drafted = draft();
        let mut compared = compare::compare(&comparison, &mut drafted)?;
        let mut decided = drafted.decide(&compared, &comparison);
        if decided.is_short_sighted {
            // The second walk must not count twice.
            comparison.counts = RuleCounts::of(selection);
            comparison.terms.scope.rename_path = RenamePath::EachEntry;
            let mut drafted = draft();
            compared = compare::compare(&comparison, &mut drafted)?;
            decided = drafted.decide(&compared, &comparison);
        }
        counts.merge(&comparison.counts);
        Ok((compared, decided))
    }

    fn keeps_displaced(&self) -> bool {
        let set_aside = self.request.safety.set_aside.as_ref();
        set_aside.is_some_and(|set_aside| set_aside.what == Keeping::Displaced)
    }

    /// A move with only an undo journal cannot bring back replaced entries.
    fn note_gone_for_good(&self, plan: &Plan) -> Option<Note> {
        let keeps_notes_alone = self.aside_place.is_some() && !self.keeps_displaced();
        let replaced = plan.displaced(Verb::Replace).entries;
        (keeps_notes_alone && replaced > 0).then_some(Note::GoneForGood(replaced))
    }

    fn number_of(&self, pair: &Pair) -> Option<usize> {
        self.pairs.iter().position(|other| std::ptr::eq(other, pair))
    }

    fn times_of(&self, pair: &Pair) -> Option<&InterruptedMove> {
        let at = self.number_of(pair)?;
        self.history.interrupted.get(at).filter(|interrupted| !interrupted.is_empty())
    }

    /// True if a plan of this request reads everything below both roots that shows whether anything is unfinished.
    fn looks_at_everything(&self) -> bool {
        use utter_echo_model::attribute::Attribute::Content;
        let Request { selection, changed, carry, .. } = self.request;
        let by = matches!(changed.by, CompareBy::SizeTime | CompareBy::Content);
        selection.takes_everything() && by && carry.has(Content)
    }

    /// Takes over a saved plan for the same places. Steps whose entries have changed since are stale: see
    /// [`Session::stale`].
    pub fn adopt(&self, mut plan: Plan) -> Result<Plan, PlanError> {
        self.refuse_overlaps()?;
        plan.prefixes = self.pairs.iter().map(|pair| pair.prefix.clone()).collect();
        let fits = |(pair, part): (&Pair, &Part)| {
            let makes = |step: Step| step.verb == Verb::Add || step.is_taken_over();
            let adds_root = part.root.is_some_and(makes);
            let lacks = adds_root || !part.has_steps();
            pair.single.is_some() || if pair.destination.exists() { !adds_root } else { lacks }
        };
        if plan.parts.len() != self.pairs.len() || !self.pairs.iter().zip(&plan.parts).all(fits) {
            return Err(PlanError::Unfit);
        }
        for ((pair, map), paths) in self.pairs.iter().zip(self.maps()).zip(&plan.drives) {
            for path in paths {
                self.find_again(pair, map, path);
            }
        }
        self.maps().iter().for_each(|map| plan.note_drives(map));
        self.note_nesting(&mut plan);
        Ok(plan)
    }

    fn note_nesting(&self, plan: &mut Plan) {
        if self.request.task.removes() {
            let both = self.pairs.iter().zip(&plan.parts);
            let nested =
                both.filter_map(|(pair, part)| guard::find_nested(self.system, pair, part));
            plan.notes.extend(nested.map(Note::Nested));
        }
    }

    /// Adds the drive at a mount point of a saved plan. If another drive is there now, its steps find that out.
    pub(crate) fn find_again(&self, pair: &Pair, map: &DriveMap, path: &TreePath) -> DriveId {
        let anchor = pair.destination.anchor.as_fd();
        let found = self.system.open_folder(anchor, path.as_bytes()).and_then(|folder| {
            let stat = self.system.stat(Entry::Open(folder.as_fd()))?;
            Ok((folder, stat.identity))
        });
        let (capabilities, identity) = if let Ok((folder, identity)) = &found {
            (self.capabilities_of(folder.as_fd(), identity.drive), *identity)
        } else {
            let identity = Identity { drive: u64::MAX, inode: u64::MAX };
            (self.capabilities_of(anchor, pair.destination.anchor_stat.identity.drive), identity)
        };
        map.add(path, identity, || capabilities).id
    }

    /// The stale steps of a plan, as problems. An execution would skip them and do the rest.
    pub fn stale(&self, plan: &Plan) -> Vec<Problem> {
        let parts = self.pairs.iter().zip(self.maps()).zip(&plan.parts);
        parts.flat_map(|((pair, map), part)| plan::find(self.system, pair, map, part)).collect()
    }

    /// Takes the locks of the run, until the session ends, and checks the plan against the guards that are neither
    /// waived nor `answered` for this plan. Returns notes.
    pub fn guard(&self, plan: &Plan, answered: &[Guard]) -> Result<Vec<Note>, Refusal> {
        let refuses = !self.request.safety.waived.contains(&Guard::OtherRun);
        let moves = self.request.task.removes_sources();
        // Locks of an earlier check would be in the way.
        self.found.locks.lock().clear();
        let places = (&*self.pairs, self.aside_place.as_ref());
        let (locks, notes) = guard::take_locks(self.system, places, moves, refuses)?;
        self.check_guards(plan, answered)?;
        *self.found.locks.lock() = locks;
        Ok(notes)
    }

    /// Restores entries from the exit folders of killed moves, in folders that this run may change. Returns true if
    /// there were any; then the plan must be made again. Refused like [`guard`](Self::guard).
    pub fn recover(&self, plan: &Plan) -> Result<bool, Refusal> {
        let moves = self.request.task.removes_sources();
        let may_change = |side: &Side| moves || *side == Side::Destination;
        let exits = self.pairs.iter().zip(&plan.left_behind);
        let exits = exits.flat_map(|(pair, left)| left.exits.iter().map(move |exit| (pair, exit)));
        let exits: Vec<_> = exits.filter(|(_, (side, _))| may_change(side)).collect();
        if exits.is_empty() {
            return Ok(false);
        }
        let refuses = !self.request.safety.waived.contains(&Guard::OtherRun);
        let places = (&*self.pairs, self.aside_place.as_ref());
        let _locks = guard::take_locks(self.system, places, moves, refuses)?;
        let mut is_some_back = false;
        for (pair, (side, path)) in exits {
            let root = match side {
                Side::Source => pair.source.as_fd(),
                Side::Destination => pair.destination.anchor.as_fd(),
            };
            // Entries that cannot be restored are problems of the next plan.
            let folder = self.system.open_folder(root, path.as_bytes());
            let restored = folder.and_then(|it| exit_folder::restore(self.system, it.as_fd()));
            is_some_back |= restored.is_ok();
        }
        Ok(is_some_back)
    }

    /// As [`guard`](Self::guard) without locks, for dry runs.
    pub fn check_guards(&self, plan: &Plan, answered: &[Guard]) -> Result<(), Refusal> {
        // Drives may have been mounted since the plan was made.
        for ((pair, map), part) in self.pairs.iter().zip(self.maps()).zip(&plan.parts) {
            self.places().check_changed(pair, map, part)?;
        }
        let run = GuardedRun {
            system: self.system,
            request: self.request,
            pairs: &self.pairs,
            aside_place: self.aside_place.as_ref().filter(|_| self.keeps_displaced()),
            maps: self.maps(),
        };
        guard::check(&run, plan, answered)
    }

    /// Carries out a plan. Never fails as a whole: the outcome shows what could not be done.
    pub fn execute(&self, plan: &Plan, observer: &dyn Observer) -> Outcome {
        let execute = |aside: Option<&SetAsideRun<'_>>| {
            let mut running = self.request.running;
            // Nothing is removed from a source before its copy is on the drive.
            if self.request.task.removes_sources() && running.flush == Flush::None {
                running.flush = Flush::End;
            }
            let remove_first = self.request.safety.remove_first;
            let may_lose = self.request.safety.waived.contains(&Guard::Loss);
            let system = self.system;
            let interrupted = &*self.history.interrupted;
            let terms =
                Terms { system, observer, running, remove_first, aside, interrupted, may_lose };
            execute::carry_out(&terms, (&self.pairs, self.maps()), plan)
        };
        if let Some(run) = self.history.undoes.filter(|_| !plan.is_empty())
            && let Err(error) = run.begin_undo()
        {
            return Outcome::without_shelf(plan, &run.path, error);
        }
        let (Some(aside_place), Some(set_aside)) =
            (&self.aside_place, &self.request.safety.set_aside)
        else {
            return execute(None);
        };
        if plan.is_empty() {
            return execute(None);
        }
        let noted = NotedRun { request: self.request, plan, pairs: &self.pairs };
        match SetAsideRun::begin(self.system, &self.caller, aside_place, set_aside, &noted) {
            Err(error) if set_aside.what == Keeping::Journal => {
                let mut outcome = execute(None);
                outcome.lost_notes = Some(error);
                outcome
            }
            Err(error) => Outcome::without_shelf(plan, &set_aside.folder, error),
            Ok(aside) => {
                let mut outcome = execute(Some(&aside));
                if matches!(outcome.ending, Ending::Complete) {
                    let pruned = aside_place.prune(self.system, set_aside, &aside.name());
                    outcome.problems.extend(pruned);
                    if outcome.problems.is_empty() && self.request.task.removes_sources() {
                        // If this fails, the next move verifies again what was verified already.
                        let _ = aside_place.end_earlier(self.system, &self.pairs);
                    }
                }
                outcome.lost_notes = aside.into_lost();
                outcome
            }
        }
    }

    /// For each pair the drives below its destination; at first only that of its root.
    pub(crate) fn maps(&self) -> &[DriveMap] {
        self.found.maps.get_or_init(|| {
            let map = |pair: &Pair| {
                let anchor = &pair.destination;
                let identity = anchor.anchor_stat.identity;
                DriveMap::of_root(
                    identity,
                    self.capabilities_of(anchor.anchor.as_fd(), identity.drive),
                )
            };
            self.pairs.iter().map(map).collect()
        })
    }

    /// The capabilities for the drive of a folder, by the drive's number.
    fn capabilities_of(&self, folder: BorrowedFd<'_>, drive: u64) -> Capabilities {
        let slack = u64::try_from(self.request.changed.time_slack.as_nanos()).unwrap_or(u64::MAX);
        let mut tried = self.found.tried.lock();
        let known = tried.iter().find(|(known, _)| *known == drive).map(|(_, found)| found.clone());
        let features = known.unwrap_or_else(|| {
            let features = Features::try_out(self.system, &self.caller, folder);
            tried.push((drive, features.clone()));
            features
        });
        Capabilities::new(self.request.carry, features, &self.caller, slack)
    }

    /// Fails if sides overlap, as every plan does.
    pub fn refuse_overlaps(&self) -> Result<(), PlanError> {
        self.pairs.iter().try_for_each(|pair| self.refuse_overlap(pair))
    }

    fn refuse_overlap(&self, pair: &Pair) -> Result<(), PlanError> {
        self.places().check(pair).map_err(|error| match error {
            PlacesError::Refused(refusal) => refusal.into(),
            PlacesError::Unknown(cause) => {
                PlanError::SourceClosed { path: pair.source_shown.clone(), cause }
            }
        })
    }

    pub(crate) fn places(&self) -> PlacesOfRun<'_> {
        let (system, request) = (self.system, self.request);
        PlacesOfRun { system, request, aside_place: self.aside_place.as_ref() }
    }
}

/// The folder that is always left out, if it exists.
fn own_folder(system: &dyn System, path: &Path) -> Option<OwnFolder> {
    let folder = system.open_root(path).ok()?;
    let identity = system.stat(Entry::Pinned(folder.as_fd())).ok()?.identity;
    Some(OwnFolder { identity, path: system.real_path(folder.as_fd()).ok()? })
}

fn halted(halt: Halt, pair: &Pair) -> PlanError {
    match halt {
        Halt::Stopped => PlanError::Stopped,
        Halt::SourceClosed(cause) => {
            PlanError::SourceClosed { path: pair.source_shown.clone(), cause }
        }
        Halt::Overlap(at) => PlanError::Refused(guard::overlap(&at, pair)),
    }
}
