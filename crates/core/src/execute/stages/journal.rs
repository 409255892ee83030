//! Writing down what is about to change, before anything does: what is set aside can only be brought back
//! as it was if that is known.

use crate::execute::writer::ErrorContext as _;
use std::collections::BTreeSet;
use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_drives::before::look_here;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::running::Flush;
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind};

use crate::execute::stages::run::{OnDrive, PartRun, name_of};
use crate::execute::writer::{SetAsideWriter, StepError, StepResult};
use crate::policy::Step;

impl PartRun<'_> {
    /// Notes every folder that something happens in, and every entry whose attributes change. A deed
    /// that could not be noted is not done.
    pub(super) fn note_all(&self, root: BorrowedFd<'_>) {
        let Some(aside) = self.drives[0].writer.aside else { return };
        let mut folders = vec![false; self.part.folders.len()];
        for (at, folder) in self.part.folders.iter().enumerate() {
            folders[at] |= !folder.steps.is_empty();
            for from in folder.steps.iter().filter_map(Step::renamed_from) {
                folders[self.part.name(from).folder as usize] = true;
            }
        }
        let adjusts_root = self.part.root.is_some_and(|step| step.verb == Verb::Adjust);
        folders.iter_mut().take(1).for_each(|top| *top |= adjusts_root);
        let first: Vec<usize> = (0..folders.len()).filter(|at| folders[*at]).collect();
        self.context.pool.each(first, |at| self.note_folder(root, aside, at));
        let noted = self.note_sources(aside).and_then(|()| aside.open_gate());
        // In this order: copies without notes could not be told from the last of their kind.
        let kept = || self.keep_elsewhere(root, aside).during(Operation::SetAside);
        let keeps = aside.aside.keeps_displaced();
        if let Err(error) = noted.and_then(|()| if keeps { kept() } else { Ok(()) }) {
            self.numbers().for_each(|number| self.ledger.set(number, StepOutcome::Failed));
            self.report(&self.drives[0], &TreePath::default(), error);
        }
    }

    /// What folders of the source are like from which something goes, and those that go themselves.
    fn note_sources(&self, aside: &SetAsideWriter<'_>) -> StepResult {
        let mut paths: BTreeSet<TreePath> = BTreeSet::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.source_path(at);
            let goes = folder.vacates.iter().filter(|step| step.kind() == Kind::Folder);
            paths.extend(goes.map(|step| path.join(folder.name_of_source(step))));
            if !folder.vacates.is_empty() || folder.steps.iter().any(Step::is_taken_over) {
                paths.insert(path);
            }
        }
        paths.extend(self.part.root_vacate.map(|_| TreePath::default()));
        paths.iter().try_for_each(|path| aside.note_here(path, self.look_here(path)))
    }

    fn look_here(&self, path: &TreePath) -> io::Result<AttributesBefore> {
        let system = self.system();
        let folder = system.open_folder(self.pair.source.as_fd(), path.as_bytes())?;
        let caller = &self.drives[0].writer.capabilities.caller;
        let mut was = look_here(system, caller, folder.as_fd())?;
        if let Some(interrupted) = self.terms.interrupted {
            let mut now = system.stat(Entry::Open(folder.as_fd()))?;
            interrupted.correct(path, &mut now);
            was.state = State::from(&now);
        }
        Ok(was)
    }

    /// What is set aside on another drive is on that drive, under the name that it is looked for by, before
    /// the first deed.
    fn keep_elsewhere(&self, root: BorrowedFd<'_>, aside: &SetAsideWriter<'_>) -> io::Result<()> {
        let drive = self.system().stat(Entry::Open(aside.aside.folder.as_fd()))?.identity.drive;
        let copied = |at: &usize| {
            self.drive_of(*at).mounted.identity.drive != drive
                && self.part.folders[*at].steps.iter().any(Step::displaces)
        };
        let work: Vec<usize> = (0..self.part.folders.len()).filter(copied).collect();
        if work.is_empty() {
            return Ok(());
        }
        self.context.pool.each(work, |at| self.keep_of_folder(root, at));
        if self.context.running.flush == Flush::None { Ok(()) } else { aside.aside.flush() }
    }

    fn keep_of_folder(&self, root: BorrowedFd<'_>, at: usize) {
        let (folder, on) = (&self.part.folders[at], self.drive_of(at));
        // What cannot be entered is told when its turn comes.
        let Ok(place) = self.enter(root, at) else { return };
        for (i, step) in folder.steps.iter().enumerate().filter(|(_, step)| step.displaces()) {
            if self.context.must_end() || self.was_tried(folder, i) {
                continue;
            }
            let name = name_of(folder, step);
            if let Err(error) = on.writer.keep_elsewhere(&place, name, &step.into()) {
                self.conclude(on, folder.first + i, &place.path.join(name), Err(error));
            }
        }
    }

    fn note_folder(&self, root: BorrowedFd<'_>, aside: &SetAsideWriter<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let on = self.drive_of(at);
        let path = self.part.folder_path(at);
        // One that is still to be made has nothing to tell, and only renames lead into it.
        let is_there = at == 0 || folder.head.known.destination.is_some();
        let opened = is_there.then(|| {
            let handle = self.system().open_folder(root, path.as_bytes());
            let handle = match handle {
                Err(error) if !aside.aside.keeps_displaced() => {
                    return aside.or_lose(Err(error)).map(|()| None);
                }
                other => other.during(Operation::SetAside)?,
            };
            aside.note_before(&on.writer, &path, Entry::Open(handle.as_fd()))?;
            Ok(Some(handle))
        });
        let handle = match opened.transpose() {
            Ok(handle) => handle.flatten(),
            Err(error) => {
                (folder.first..folder.first + folder.steps.len())
                    .for_each(|number| self.ledger.set(number, StepOutcome::Failed));
                return self.report(on, &path, error);
            }
        };
        for (i, step) in folder.steps.iter().enumerate() {
            let name = name_of(folder, step);
            let here = handle.as_ref().map(|handle| Entry::Named(handle.as_fd(), name));
            let path = path.join(name);
            let noted = match here.filter(|_| is_noted_here(step)) {
                Some(here) => unless_gone(aside.note_before(&on.writer, &path, here)),
                None => self.note_renamed(root, aside, on, step),
            };
            if let Err(error) = noted {
                self.conclude(on, folder.first + i, &path, Err(error));
            }
        }
    }

    /// What a step renames and adjusts is noted where it comes from.
    fn note_renamed(
        &self,
        root: BorrowedFd<'_>,
        aside: &SetAsideWriter<'_>,
        on: &OnDrive<'_>,
        step: &Step,
    ) -> StepResult {
        let adjusts = !step.aspects.is_empty() && !is_noted_here(step);
        let Some(from) = step.renamed_from().filter(|_| adjusts) else {
            return Ok(());
        };
        let above = self.part.folder_path(self.part.name(from).folder as usize);
        let above =
            self.system().open_folder(root, above.as_bytes()).during(Operation::SetAside)?;
        let entry = Entry::Named(above.as_fd(), &self.part.name(from).name);
        unless_gone(aside.note_before(&on.writer, &self.part.path_of(from), entry))
    }
}

/// What a step changes is in its place already.
fn is_noted_here(step: &Step) -> bool {
    let is_taken_away = step.verb == Verb::Remove || step.takes_a_folders_place();
    let is_folder = step.destination.is_some_and(|there| there.kind == Kind::Folder);
    step.verb == Verb::Adjust || is_taken_away && is_folder
}

/// What is gone meanwhile is found out again when its turn comes, and told then.
fn unless_gone(noted: StepResult) -> StepResult {
    match noted {
        Err(StepError(_, cause)) if cause.is_absence() => Ok(()),
        other => other,
    }
}
