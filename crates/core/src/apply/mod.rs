//! Station: carrying out a plan.
//!
//! Folders are made first, then everything else is written, then removed what is extra; last come
//! entries that take a folder's place, hard links that waited for one of those, and the folders'
//! own attributes from the bottom up, since everything above changed their times.

mod aside;
mod attributes;
mod content;
mod enter;
mod fill;
mod flags;
mod folders;
mod outcome;
mod pace;
mod place;
mod recheck;
mod removal;
mod rename;

use std::collections::HashSet;
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicBool, AtomicU8, AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use crate::aside::Aside;
use crate::aspect::Aspect;
use crate::mark;
use crate::observe::Observer;
use crate::os::{Entry, Kind, System, is_unsupported};
use crate::pair::{Pair, Single};
use crate::path::TreePath;
use crate::patience::Patience;
use crate::plan::{Count, Folder, Part, Plan, Step, Verb};
use crate::pool;
use crate::problem::{Cause, Operation, Problem};
use crate::reach::Reach;
use crate::request::{Flush, Running};
use crate::temporary::Temporaries;

pub use outcome::{Ending, Outcome, StepOutcome};

use aside::Shelf;
use enter::{Opened, Place};
use pace::Pace;

/// On what terms a plan is carried out.
pub(crate) struct Terms<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) running: Running,
    /// Where what is displaced goes, if it is not lost.
    pub(crate) aside: Option<&'a Aside<'a>>,
}

/// Carries out every part of a plan and flushes the drive.
pub(crate) fn apply(terms: &Terms<'_>, pairs: &[Pair], reaches: &[Reach], plan: &Plan) -> Outcome {
    let count = usize::try_from(plan.totals.steps()).unwrap_or(usize::MAX);
    let shared = Shared::new(terms, terms.observer, count);
    // What is copied aside is no step, and no part of the bytes that were announced.
    let (quiet, nothing) = (Quiet(terms.observer), Part::default());
    let shared_aside = Shared::new(terms, &quiet, 0);
    for (at, part) in plan.parts.iter().enumerate() {
        let run = |shared, reach, part| PartRun {
            shared,
            pair: &pairs[at],
            single: None,
            reach,
            part,
            at,
            prefix: &plan.prefixes[at],
            opened: Mutex::default(),
            noted: Mutex::default(),
            losing: HashSet::new(),
            marked: AtomicBool::new(false),
            linking: Mutex::default(),
            shelf: None,
        };
        let shelf = terms
            .aside
            .map(|aside| Shelf { aside, run: run(&shared_aside, &aside.reach, &nothing) });
        PartRun {
            single: pairs[at].single.as_ref(),
            losing: part.renamed_from().map(|leader| leader.folder as usize).collect(),
            shelf: shelf.as_ref(),
            ..run(&shared, &reaches[at], part)
        }
        .go();
    }
    if let Some(aside) = terms.aside.filter(|_| terms.running.flush != Flush::None)
        && let Err(error) = aside.flush()
    {
        let path = aside.path.as_os_str().as_encoded_bytes().into();
        shared.report(Problem { path, operation: Operation::Flush, cause: error.into() });
    }
    Outcome { set_aside: terms.aside.map(|aside| aside.path.clone()), ..shared.outcome(plan) }
}

/// Passes nothing on but the wish to stop.
struct Quiet<'a>(&'a dyn Observer);

impl Observer for Quiet<'_> {
    fn stop_requested(&self) -> bool {
        self.0.stop_requested()
    }
}

/// What all workers and all parts share.
struct Shared<'a> {
    system: &'a dyn System,
    observer: &'a dyn Observer,
    running: Running,
    pace: Option<Pace>,
    patience: Patience,
    temporaries: Temporaries,
    outcomes: Vec<AtomicU8>,
    problems: Mutex<Vec<Problem>>,
    /// What ended the run early.
    ended: Mutex<Option<Cause>>,
    over: AtomicBool,
    bytes_written: AtomicU64,
    /// False once the drives turned out not to share content or not to copy within the kernel.
    shares_content: AtomicBool,
    copies_in_kernel: AtomicBool,
    /// Known once the first file was to be added.
    makes_nameless: OnceLock<bool>,
}

impl<'a> Shared<'a> {
    fn new(terms: &Terms<'a>, observer: &'a dyn Observer, steps: usize) -> Self {
        Self {
            system: terms.system,
            observer,
            running: terms.running,
            pace: terms.running.rate.map(Pace::new),
            patience: Patience::new(terms.running.retries),
            temporaries: Temporaries::new(),
            outcomes: std::iter::repeat_with(|| AtomicU8::new(0)).take(steps).collect(),
            problems: Mutex::default(),
            ended: Mutex::default(),
            over: AtomicBool::new(false),
            bytes_written: AtomicU64::new(0),
            shares_content: AtomicBool::new(true),
            copies_in_kernel: AtomicBool::new(true),
            makes_nameless: OnceLock::new(),
        }
    }

    fn report(&self, problem: Problem) {
        self.problems.lock().unwrap_or_else(PoisonError::into_inner).push(problem);
    }

    fn outcome(self, plan: &Plan) -> Outcome {
        let steps: Vec<StepOutcome> = self.outcomes.iter().map(read_outcome).collect();
        let mut done = [Count::default(); 5];
        let all = plan.parts.iter().flat_map(Part::all_steps);
        for (step, outcome) in all.zip(&steps) {
            if *outcome == StepOutcome::Done {
                done[step.verb as usize].add(step.bytes());
            }
        }
        let mut problems = self.problems.into_inner().unwrap_or_else(PoisonError::into_inner);
        problems.sort_by(|a, b| a.path.cmp(&b.path));
        let ended = self.ended.into_inner().unwrap_or_else(PoisonError::into_inner);
        let all_came_up = !steps.contains(&StepOutcome::NotReached);
        let ending = match ended {
            Some(cause) => Ending::Early(cause),
            None if !all_came_up => Ending::Stopped,
            None => Ending::Complete,
        };
        let bytes_written = self.bytes_written.into_inner();
        Outcome { steps, problems, done, bytes_written, ending, set_aside: None }
    }

    fn must_end(&self) -> bool {
        self.over.load(Ordering::Relaxed) || self.observer.stop_requested()
    }
}

fn read_outcome(outcome: &AtomicU8) -> StepOutcome {
    match outcome.load(Ordering::Relaxed) {
        1 => StepOutcome::Done,
        2 => StepOutcome::Failed,
        3 => StepOutcome::Overtaken,
        _ => StepOutcome::NotReached,
    }
}

/// What went wrong with a step, and in doing what.
#[derive(Debug)]
struct Trouble(Operation, Cause);

type Done = Result<(), Trouble>;

/// Names the operation that an error belongs to.
trait During<T> {
    fn during(self, operation: Operation) -> Result<T, Trouble>;
}

impl<T, E: Into<Cause>> During<T> for Result<T, E> {
    fn during(self, operation: Operation) -> Result<T, Trouble> {
        self.map_err(|error| Trouble(operation, error.into()))
    }
}

/// One part while it is carried out.
struct PartRun<'a> {
    shared: &'a Shared<'a>,
    pair: &'a Pair,
    /// Names of a single entry, where they differ on the two sides.
    single: Option<&'a Single>,
    reach: &'a Reach,
    part: &'a Part,
    /// Which part of the plan this is.
    at: usize,
    prefix: &'a TreePath,
    /// Folders that were closed to the caller and are open for the time of the changes.
    opened: Mutex<Vec<Opened>>,
    /// A mark tells that not all is on the drive yet.
    marked: AtomicBool,
    /// Held while names are given to a file that is locked.
    linking: Mutex<()>,
    /// Folders of which the record tells what they were like.
    noted: Mutex<HashSet<usize>>,
    /// Folders from which something is renamed away.
    losing: HashSet<usize>,
    /// Where what is displaced goes, if it is not lost.
    shelf: Option<&'a Shelf<'a>>,
}

impl PartRun<'_> {
    fn go(&self) {
        let Some(root) = self.make_root() else { return };
        let root = root.as_fd();
        // One that was there the guard has locked.
        let is_new = !self.pair.destination.exists();
        let _lock = is_new.then(|| self.shared.system.lock(root));
        self.leave_mark(root);
        self.fill(root);
        let renames = |step: &Step| step.verb == Verb::Rename;
        self.each_folder(renames, |run, at, steps| {
            run.work_on(root, at, steps, &renames, &|place, step| run.rename(root, place, step));
        });
        self.link_names(root, false);
        self.remove(root);
        let late = |step: &Step| step.is_late() && step.link().is_none();
        self.each_folder(late, |run, at, steps| {
            run.work_on(root, at, steps, &late, &|place, step| run.write(place, step));
        });
        self.link_names(root, true);
        self.close_again(root);
        self.finish_folders(root);
        self.lock_again(root);
        let system = self.shared.system;
        let has_steps = self.part.all_steps().next().is_some();
        let flushes = self.shared.running.flush != Flush::None;
        if flushes && (has_steps || mark::may_be_left(system, root)) {
            self.shared.observer.flushing();
            let flushed = system.flush_drive(root).and_then(|()| mark::lift(system, root));
            if let Err(error) = flushed {
                self.report(&TreePath::default(), Trouble(Operation::Flush, error.into()));
            }
        }
        if self.shared.running.recheck {
            self.recheck(root);
        }
    }

    /// Only what is flushed at the end needs it: see [`mark`].
    fn leave_mark(&self, root: BorrowedFd<'_>) {
        let writes = self.part.all_steps().next().is_some();
        if self.shared.running.flush == Flush::End
            && writes
            && mark::leave(self.shared.system, root)
        {
            self.marked.store(true, Ordering::Relaxed);
        }
    }

    /// Names of hard links whose first name is written. What waits for a folder to be emptied
    /// comes with a second call, which leaves none out.
    fn link_names(&self, root: BorrowedFd<'_>, late: bool) {
        let ready = |step: &Step| {
            let leader = step.link().map(|id| &self.part.leaders[id.0 as usize]);
            leader.is_some_and(|leader| late || !step.is_late() && self.leader_is_done(leader))
        };
        self.each_folder(ready, |run, at, steps| {
            run.work_on(root, at, steps, &ready, &|place, step| run.link(root, place, step));
        });
    }

    /// Calls `work` for every folder that holds a step that is wanted, from several workers.
    fn each_folder(
        &self,
        wanted: impl Fn(&Step) -> bool,
        work: impl Fn(&Self, usize, Range<usize>) + Sync,
    ) {
        let folders = self.part.folders.iter().enumerate();
        let with_wanted = folders.filter(|(_, folder)| folder.steps.iter().any(&wanted));
        let all = with_wanted.map(|(at, folder)| (at, 0..folder.steps.len())).collect();
        pool::run(self.shared.running.workers, all, |(at, steps), _| work(self, at, steps));
    }

    /// Does `work` on those of some steps of a folder that are wanted and were not tried yet.
    fn work_on(
        &self,
        root: BorrowedFd<'_>,
        at: usize,
        steps: Range<usize>,
        wanted: &dyn Fn(&Step) -> bool,
        work: &dyn Fn(&Place<'_>, &Step) -> Done,
    ) {
        let folder = &self.part.folders[at];
        let is_due = |i: &usize| wanted(&folder.steps[*i]) && !self.was_tried(folder, *i);
        let mut due = steps.filter(is_due).peekable();
        if due.peek().is_none() || self.shared.must_end() {
            return;
        }
        match self.enter_to_change(root, at) {
            Ok(place) => due.for_each(|i| self.try_step(&place, i, |step| work(&place, step))),
            Err(trouble) => {
                // One problem names the folder; its steps share its fate.
                due.for_each(|i| self.set_outcome(folder.first + i, StepOutcome::Failed));
                self.report(&self.part.folder_path(at), trouble);
            }
        }
    }

    fn tell_start(&self, path: &TreePath) {
        self.shared.observer.started(self.prefix.join(path.as_bytes()).as_bytes());
    }

    fn try_step(&self, place: &Place<'_>, at: usize, work: impl Fn(&Step) -> Done) {
        if self.shared.must_end() {
            return;
        }
        let step = &place.folder.steps[at];
        let path = place.path.join(place.folder.names.get(step.name));
        self.tell_start(&path);
        let result = self.try_hard(|| work(step)).and_then(|()| {
            let name = place.folder.names.get(step.name);
            self.note_after(step, &path, Entry::Named(place.destination.as_fd(), name))
        });
        self.conclude(place.folder.first + at, &path, result);
    }

    fn try_hard<T>(&self, work: impl Fn() -> Result<T, Trouble>) -> Result<T, Trouble> {
        self.shared.patience.try_hard(self.shared.observer, |trouble: &Trouble| &trouble.1, work)
    }

    /// Writes down what became of a step.
    fn conclude(&self, number: usize, path: &TreePath, result: Done) {
        let trouble = match result {
            Ok(()) => {
                self.set_outcome(number, StepOutcome::Done);
                self.shared.observer.finished();
                return;
            }
            Err(trouble) => trouble,
        };
        if self.shared.observer.stop_requested() && was_interrupted(&trouble.1) {
            return;
        }
        if self.is_lost_with_its_drive(&trouble.1) {
            return;
        }
        let overtaken = trouble.1.is_overtaken();
        self.set_outcome(
            number,
            if overtaken { StepOutcome::Overtaken } else { StepOutcome::Failed },
        );
        self.report(path, trouble);
        self.shared.observer.finished();
    }

    fn report(&self, path: &TreePath, Trouble(operation, cause): Trouble) {
        if self.is_lost_with_its_drive(&cause) {
            return;
        }
        let cause = match cause {
            cause if cause.is_input_output() && self.has_lost_a_drive() => Cause::DriveLost,
            cause => cause,
        };
        if cause.ends_the_run() && !self.shared.over.swap(true, Ordering::Relaxed) {
            *self.shared.ended.lock().unwrap_or_else(PoisonError::into_inner) = cause.copied();
        }
        let path = self.prefix.join(path.as_bytes());
        self.shared.report(Problem { path, operation, cause });
    }

    /// True for what follows from the loss of a drive that was told already.
    fn is_lost_with_its_drive(&self, cause: &Cause) -> bool {
        let ended = self.shared.ended.lock().unwrap_or_else(PoisonError::into_inner);
        (cause.is_gone() || cause.is_input_output()) && ended.as_ref().is_some_and(Cause::is_gone)
    }

    /// True if one of the two drives fails whatever is asked of it. Of a fault in one place a drive
    /// tells once, and is well the second time.
    fn has_lost_a_drive(&self) -> bool {
        let system = self.shared.system;
        let fails = |folder: BorrowedFd<'_>| {
            let flush = || system.flush_drive(system.open_folder(folder, b"")?.as_fd());
            match (flush(), flush()) {
                (_, Err(again)) => !is_unsupported(&again),
                (Err(error), Ok(())) => {
                    // The flush at the end will not be told of it any more.
                    let (path, operation) = (self.prefix.clone(), Operation::Flush);
                    self.shared.report(Problem { path, operation, cause: error.into() });
                    false
                }
                (Ok(()), Ok(())) => false,
            }
        };
        fails(self.pair.destination.anchor.as_fd()) || fails(self.pair.source.as_fd())
    }

    fn set_outcome(&self, number: usize, outcome: StepOutcome) {
        self.shared.outcomes[number].store(outcome as u8, Ordering::Relaxed);
    }

    fn outcome_of(&self, number: usize) -> StepOutcome {
        read_outcome(&self.shared.outcomes[number])
    }

    fn was_tried(&self, folder: &Folder, at: usize) -> bool {
        self.outcome_of(folder.first + at) != StepOutcome::NotReached
    }

    /// Fails once the run is to end.
    fn go_on(&self) -> io::Result<()> {
        if self.shared.must_end() { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) }
    }

    fn carries(&self, aspect: Aspect) -> bool {
        self.reach.carry.has(aspect)
    }
}

/// A step that makes or changes an entry other than a folder.
fn writes(step: &Step) -> bool {
    !matches!(step.verb, Verb::Rename | Verb::Remove) && step.kind() != Kind::Folder
}

impl Step {
    /// What it replaces is of the same kind, and so has attributes that may be kept.
    fn replaces_its_kind(&self) -> bool {
        self.verb == Verb::Replace
            && self.source.map(|s| s.kind) == self.destination.map(|d| d.kind)
    }

    /// It takes the place of a folder, which must be empty by then.
    fn is_late(&self) -> bool {
        let source_is_folder = self.source.is_some_and(|s| s.kind == Kind::Folder);
        let onto_folder = self.destination.is_some_and(|d| d.kind == Kind::Folder);
        self.verb == Verb::Replace && onto_folder && !source_is_folder
    }
}

fn was_interrupted(cause: &Cause) -> bool {
    matches!(cause, Cause::System(e) if e.kind() == io::ErrorKind::Interrupted)
}
