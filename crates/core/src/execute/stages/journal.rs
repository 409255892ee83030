//! Writing the states of entries into the journal before anything changes, since an undo needs them.

use crate::execute::writer::ErrorContext as _;
use std::collections::BTreeSet;
use std::io;
use std::os::fd::{AsFd, OwnedFd};

use utter_echo_drives::before::look_here;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::running::Flush;
use utter_echo_model::state::{AttributesBefore, State};
use utter_echo_model::verb::{Side, Verb};
use utter_echo_os::{Entry, Kind};

use crate::execute::stages::run::PartRun;
use crate::execute::stages::site::OnDrive;
use crate::execute::writer::{SetAsideWriter, StepError, StepResult};
use crate::policy::Step;

/// Records every folder with steps, and every entry whose attributes change. Steps that could not be recorded are
/// not done.
pub(super) fn note_all(run: &PartRun<'_>) {
    let Some(aside) = run.site.root_drive().writer.aside else { return };
    let journal = PartJournal { run, aside };
    let part = run.site.part;
    let mut folders = vec![false; part.folders.len()];
    for (at, folder) in part.folders.iter().enumerate() {
        folders[at] |= !folder.steps.is_empty();
        for from in folder.steps.iter().filter_map(Step::renamed_from) {
            folders[part.name(from).folder as usize] = true;
        }
    }
    let adjusts_root = part.root.is_some_and(|step| step.verb == Verb::Adjust);
    folders.iter_mut().take(1).for_each(|top| *top |= adjusts_root);
    let first: Vec<usize> = (0..folders.len()).filter(|at| folders[*at]).collect();
    run.site.context.pool.each(first, |at| journal.note_folder(at));
    let roots = aside.note_roots(run.site.pair.source.as_fd(), run.root);
    let noted = roots.and_then(|()| journal.note_sources()).and_then(|()| aside.open_gate());
    // In this order: a copy without a record could not be told from the only copy.
    let kept = || journal.keep_elsewhere().during(Operation::SetAside);
    let keeps = aside.aside.keeps_displaced();
    if let Err(error) = noted.and_then(|()| if keeps { kept() } else { Ok(()) }) {
        run.ledger.set_all(part.all_ids(), StepOutcome::Failed);
        run.ledger.report(run.site.root_drive(), &TreePath::default(), error);
    }
}

/// The journal of one part.
struct PartJournal<'r, 'a> {
    run: &'r PartRun<'a>,
    aside: &'r SetAsideWriter<'r>,
}

impl PartJournal<'_, '_> {
    /// Records the folders of the source that are changed or removed.
    fn note_sources(&self) -> StepResult {
        let part = self.run.site.part;
        let mut paths: BTreeSet<TreePath> = BTreeSet::new();
        for (at, folder) in part.folders.iter().enumerate() {
            let path = part.source_path(at);
            let goes = folder.source_removals.iter().filter(|step| step.kind() == Kind::Folder);
            paths.extend(goes.map(|step| path.join(folder.name_in_source(step))));
            if !folder.source_removals.is_empty() || folder.steps.iter().any(Step::is_taken_over) {
                paths.insert(path);
            }
        }
        paths.extend(part.root_source_removal.map(|_| TreePath::default()));
        paths.iter().try_for_each(|path| self.aside.note_here(path, self.look_here(path)))
    }

    fn look_here(&self, path: &TreePath) -> io::Result<AttributesBefore> {
        let (site, system) = (self.run.site, self.run.system());
        let folder = system.open_folder(site.pair.source.as_fd(), path.as_bytes())?;
        let caller = &site.root_drive().writer.capabilities.caller;
        let mut was = look_here(system, caller, folder.as_fd())?;
        if let Some(interrupted) = self.run.terms.interrupted {
            let mut now = system.stat(Entry::Open(folder.as_fd()))?;
            interrupted.correct(path, &mut now);
            was.state = State::from(&now);
        }
        Ok(was)
    }

    /// Copies entries that are set aside on another drive, and flushes them, before anything changes.
    fn keep_elsewhere(&self) -> io::Result<()> {
        let (site, aside) = (self.run.site, self.aside.aside);
        let drive = self.run.system().stat(Entry::Open(aside.folder.as_fd()))?.identity.drive;
        let is_copied = |at: &usize| {
            site.drive_of(*at).mounted.identity.drive != drive
                && site.part.folders[*at].steps.iter().any(Step::displaces)
        };
        let folders: Vec<usize> = (0..site.part.folders.len()).filter(is_copied).collect();
        if folders.is_empty() {
            return Ok(());
        }
        site.context.pool.each(folders, |at| self.keep_of_folder(at));
        if site.context.running.flush == Flush::None { Ok(()) } else { aside.flush() }
    }

    fn keep_of_folder(&self, at: usize) {
        let (run, part) = (self.run, self.run.site.part);
        // A folder that cannot be entered is reported when its turn comes.
        let Ok(place) = run.enter(at) else { return };
        let on = run.site.drive_of(at);
        let displacing = part.steps_of(at, Side::Destination).filter(|(_, step)| step.displaces());
        for (id, step) in displacing {
            if run.must_end() || run.ledger.was_tried(id) {
                continue;
            }
            let name = part.folders[at].name(step);
            if let Err(error) = on.writer.keep_elsewhere(&place, name, &step.into()) {
                run.ledger.conclude(id, Err(error));
            }
        }
    }

    fn note_folder(&self, at: usize) {
        let (run, part) = (self.run, self.run.site.part);
        let on = run.site.drive_of(at);
        let path = part.folder_path(at);
        let handle = match self.note_folder_itself(on, at, &path) {
            Ok(handle) => handle,
            Err(error) => {
                let steps = part.steps_of(at, Side::Destination).map(|(id, _)| id);
                run.ledger.set_all(steps, StepOutcome::Failed);
                return run.ledger.report(on, &path, error);
            }
        };
        for (id, step) in part.steps_of(at, Side::Destination) {
            let name = part.folders[at].name(step);
            let here = handle.as_ref().map(|handle| Entry::Named(handle.as_fd(), name));
            let noted = match here.filter(|_| is_noted_here(step)) {
                Some(here) => {
                    unless_gone(self.aside.note_before(&on.writer, &path.join(name), here))
                }
                None => self.note_renamed(on, step),
            };
            if let Err(error) = noted {
                run.ledger.conclude(id, Err(error));
            }
        }
    }

    /// A folder that is still to be made has nothing to record except renames into it.
    fn note_folder_itself(
        &self,
        on: &OnDrive<'_>,
        at: usize,
        path: &TreePath,
    ) -> Result<Option<OwnedFd>, StepError> {
        let run = self.run;
        let is_there = at == 0 || run.site.part.folders[at].head.known.destination.is_some();
        if !is_there {
            return Ok(None);
        }
        let handle = match run.system().open_folder(run.root, path.as_bytes()) {
            Err(error) if !self.aside.aside.keeps_displaced() => {
                return self.aside.or_lose(Err(error)).map(|()| None);
            }
            other => other.during(Operation::SetAside)?,
        };
        self.aside.note_before(&on.writer, path, Entry::Open(handle.as_fd()))?;
        Ok(Some(handle))
    }

    /// An entry that is renamed and adjusted is recorded under its old name.
    fn note_renamed(&self, on: &OnDrive<'_>, step: &Step) -> StepResult {
        let (run, part) = (self.run, self.run.site.part);
        let adjusts = !step.attributes.is_empty() && !is_noted_here(step);
        let Some(from) = step.renamed_from().filter(|_| adjusts) else {
            return Ok(());
        };
        let above = part.folder_path(part.name(from).folder as usize);
        let above = run.system().open_folder(run.root, above.as_bytes());
        let above = above.during(Operation::SetAside)?;
        let entry = Entry::Named(above.as_fd(), &part.name(from).name);
        unless_gone(self.aside.note_before(&on.writer, &part.path_of(from), entry))
    }
}

/// True if a step changes an existing entry in its place.
fn is_noted_here(step: &Step) -> bool {
    let is_taken_away = step.verb == Verb::Remove || step.takes_a_folders_place();
    let is_folder = step.destination.is_some_and(|there| there.kind == Kind::Folder);
    step.verb == Verb::Adjust || is_taken_away && is_folder
}

/// A missing entry is reported when its turn comes.
fn unless_gone(noted: StepResult) -> StepResult {
    match noted {
        Err(StepError(_, cause)) if cause.is_absence() => Ok(()),
        other => other,
    }
}
