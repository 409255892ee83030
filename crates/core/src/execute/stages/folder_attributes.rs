//! Attributes of folders, when all that happens in them is done.

use crate::execute::writer::ErrorContext as _;
use std::collections::HashSet;
use std::io::ErrorKind;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::Ordering;

use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::Operation;
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, Time};

use crate::execute::stages::run::{PartRun, name_of};
use crate::execute::stages::steps::StepSite;
use crate::execute::writer::{EntryOperation, StepResult, Writer};
use crate::policy::Step;

impl PartRun<'_> {
    /// Gives every folder that was made, changed or written into its attributes, the deepest
    /// first: once a folder is closed to the caller nothing below it can be reached.
    pub(super) fn finish_folders(&self, root: BorrowedFd<'_>) {
        self.close_again(root);
        let left: HashSet<u32> = self.part.renamed_away().map(|was| was.folder).collect();
        self.deepest_first(|at| {
            self.finish_below(root, at);
            let lost_some = u32::try_from(at).is_ok_and(|at| left.contains(&at));
            self.restore_times(root, at, lost_some);
        });
        if let Some(step) = self.part.root.as_ref().filter(|_| !self.takes_root_over()) {
            let result = self.finish_root(root, step);
            self.conclude(&self.drives[0], self.part.first, &TreePath::default(), result);
        }
        self.lock_again(root);
    }

    fn finish_root(&self, root: BorrowedFd<'_>, step: &Step) -> StepResult {
        let (top, entry) = (TreePath::default(), Entry::Open(root));
        let writer = &self.drives[0].writer;
        let source = writer.model(&top, || Ok(Entry::Pinned(self.pair.source.as_fd())))?;
        let keeps_times = writer.capabilities.keeps_top_times(self.pair.destination.exists());
        writer.dress_folder(&step.into(), source, entry, keeps_times)?;
        writer.aside.map_or(Ok(()), |aside| aside.note_after(writer, &top, entry))
    }

    /// The folder steps among those of one folder.
    fn finish_below(&self, root: BorrowedFd<'_>, at: usize) {
        let folder = &self.part.folders[at];
        let on = self.drive_of(at);
        let wanted = |i: &usize| {
            let step = &folder.steps[*i];
            let changes = !matches!(step.verb, Verb::Rename | Verb::Remove);
            step.kind() == Kind::Folder && changes && !self.was_tried(folder, *i)
        };
        let mut todo = (0..folder.steps.len()).filter(wanted).peekable();
        if todo.peek().is_none() {
            return;
        }
        let place = match self.enter(root, at) {
            Ok(place) => place,
            // It may never have been made.
            Err(_) if self.context.must_end() || on.closed.load(Ordering::Relaxed) => return,
            Err(error) => {
                // One problem names the folder; what is in it shares its fate.
                todo.for_each(|i| self.ledger.set(folder.first + i, StepOutcome::Failed));
                self.report(on, &self.part.folder_path(at), error);
                return;
            }
        };
        for i in todo {
            let step = &folder.steps[i];
            let name = name_of(folder, step);
            // After a stop only what was already made is finished, so that it is whole.
            if self.context.must_end() && step.verb == Verb::Adjust {
                continue;
            }
            let finished = on.writer.finish_folder(&place, name, &EntryOperation::from(step));
            let at_name = StepSite { on, place: &place, name };
            let result = finished.and_then(|()| self.note_after(&at_name, step));
            if self.context.must_end() && result.is_err() {
                continue;
            }
            self.conclude(on, folder.first + i, &place.path.join(name), result);
        }
    }

    /// A folder in which something happened, and that has no step of its own, has the times it had.
    fn restore_times(&self, root: BorrowedFd<'_>, at: usize, lost_some: bool) {
        let folder = &self.part.folders[at];
        let happened = (0..folder.steps.len())
            .any(|i| folder.steps[i].verb != Verb::Adjust && self.was_tried(folder, i));
        // What an earlier try to take a run back did in it is not known.
        let was_tried_before = self.part.memory.is_some() && !self.part.declined;
        let is_due = happened || lost_some || was_tried_before;
        let Some(before) = folder.head.before.filter(|_| is_due) else { return };
        let writer = &self.drive_of(at).writer;
        let has_own = self.part.own_step(at).is_some();
        if has_own
            || at == 0 && !writer.capabilities.keeps_top_times(self.pair.destination.exists())
        {
            return;
        }
        let path = self.part.folder_path(at);
        let restored = self.restore(root, &path, &before, writer);
        if let Err(error) = restored {
            self.report(self.drive_of(at), &path, error);
        }
    }

    fn restore(
        &self,
        root: BorrowedFd<'_>,
        path: &TreePath,
        before: &State,
        writer: &Writer<'_>,
    ) -> StepResult {
        let to = match self.system().open_folder(root, path.as_bytes()) {
            // It is gone with what an interrupted run left in it.
            Err(e) if e.kind() == ErrorKind::NotFound && self.takes_back() => return Ok(()),
            other => other.during(Operation::SetAttributes)?,
        };
        let entry = Entry::Open(to.as_fd());
        writer.restore_time(entry, before, || self.accessed_before(path))
    }

    /// The access time that a folder is to have, where a run that is taken back knows it.
    fn accessed_before(&self, path: &TreePath) -> Option<Time> {
        let memory = self.part.memory.as_ref()?;
        memory.get(path.as_bytes()).map(|before| before.accessed)
    }
}
