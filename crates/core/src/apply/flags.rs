//! Inode flags: set last, since two of them keep everything else from being changed, and lifted
//! where an entry that has them must change or go.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use crate::aspect::Aspect;
use crate::os::{Entry, Flags, Kind};
use crate::plan::{Step, Verb};
use crate::problem::Operation;
use crate::reach;

use super::attributes::Model;
use super::{Done, During, PartRun, Place, StepOutcome, Trouble};

/// An entry that was made: what is still to be done once it has its name.
#[derive(Debug, Default)]
pub(super) struct Made {
    /// Open, if it is a file.
    pub(super) handle: Option<OwnedFd>,
    /// Its flags, if some of them would keep it from getting its name.
    pub(super) flags: Option<Flags>,
}

impl PartRun<'_> {
    /// Lifts what keeps an open entry from being changed; returns all flags it had.
    pub(super) fn unlock(&self, entry: BorrowedFd<'_>) -> io::Result<Option<Flags>> {
        let had = reach::flags(self.shared.system, entry)?;
        if let Some(had) = had.filter(|had| !had.and(Flags::LOCKS).is_empty()) {
            self.shared.system.set_flags(entry, had.without(Flags::LOCKS))?;
        }
        Ok(had)
    }

    /// Does `work` on a named entry of the destination, with what keeps it from being changed
    /// lifted, and set again if the work fails or the entry `lives` on elsewhere.
    pub(super) fn unlocked<T>(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        (kind, shown): (Kind, Flags),
        lives: bool,
        work: impl FnOnce() -> Result<T, Trouble>,
    ) -> Result<T, Trouble> {
        if shown.and(Flags::LOCKS).is_empty() {
            return work();
        }
        let handle = self.open_named(folder, name, kind).during(Operation::Write)?;
        let had = self.unlock(handle.as_fd()).during(Operation::Write)?;
        let result = work();
        match (&result, had) {
            (Err(_), Some(had)) => {
                // The first trouble is the one to tell.
                let _ = self.shared.system.set_flags(handle.as_fd(), had);
            }
            (Ok(_), Some(had)) if lives => {
                let locked = self.shared.system.set_flags(handle.as_fd(), had);
                locked.during(Operation::SetAttributes)?;
            }
            _ => {}
        }
        result
    }

    pub(super) fn open_named(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        kind: Kind,
    ) -> io::Result<OwnedFd> {
        match kind {
            Kind::Folder => self.shared.system.open_folder(folder, name),
            _ => self.shared.system.open_file(folder, name),
        }
    }

    /// Gives a new file its flags, but for those that would keep it from getting its name: these
    /// are returned, with all others.
    pub(super) fn dress_with_flags(
        &self,
        place: &Place<'_>,
        name: &[u8],
        step: &Step,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
    ) -> Result<Option<Flags>, Trouble> {
        if self.reach.drive.flags.is_empty() {
            return Ok(None);
        }
        let system = self.shared.system;
        let wanted = if self.carries(Aspect::Flags) {
            let source = reach::flags(system, source).during(Operation::Read)?;
            source.map(|flags| self.reach.flags_to_carry(flags))
        } else if step.replaces_its_kind() {
            let old = system.open_file(place.destination.as_fd(), name);
            let old = old.and_then(|old| reach::flags(system, old.as_fd()));
            old.during(Operation::LookAtDestination)?
        } else {
            None
        };
        let Some(wanted) = wanted else { return Ok(None) };
        let born = if place.flags.is_empty() {
            Flags::default()
        } else {
            reach::flags(system, made).during(Operation::SetAttributes)?.unwrap_or_default()
        };
        let now = wanted.without(Flags::LOCKS);
        if now != born {
            system.set_flags(made, now).during(Operation::SetAttributes)?;
        }
        Ok((wanted != now).then_some(wanted))
    }

    /// Sets what had to wait until the entry had its name.
    pub(super) fn lock(&self, made: &Made) -> Done {
        match made {
            Made { handle: Some(handle), flags: Some(flags) } => self
                .shared
                .system
                .set_flags(handle.as_fd(), *flags)
                .during(Operation::SetAttributes),
            _ => Ok(()),
        }
    }

    /// Does `work` on the attributes of a file or folder that is there, between lifting its flags
    /// and setting those it should have.
    pub(super) fn between_flags(
        &self,
        step: &Step,
        source: Model<'_>,
        entry: Entry<'_>,
        work: impl FnOnce() -> Done,
    ) -> Done {
        let concerned = step.aspects.has(Aspect::Flags) || step.verb != Verb::Adjust;
        let carries = self.carries(Aspect::Flags) && concerned;
        let locked = step.destination.is_some_and(|d| !d.flags().and(Flags::LOCKS).is_empty());
        if !matches!(step.kind(), Kind::File | Kind::Folder) || !(carries || locked) {
            return work();
        }
        let system = self.shared.system;
        let mut held = None;
        let opened = self.handle(entry, step.kind(), &mut held).during(Operation::SetAttributes)?;
        let Some(had) = reach::flags(system, opened).during(Operation::SetAttributes)? else {
            return work();
        };
        let wanted = if carries { self.flags_of(source, step.kind())? } else { None };
        let wanted = wanted.map_or(had, |flags| self.reach.flags_to_carry(flags));
        // Those that lock come last. All others come first: a run that is killed in between is known
        // by the times, which come after them, while flags show to nobody who does not look closely.
        let open = wanted.without(Flags::LOCKS);
        if open != had {
            system.set_flags(opened, open).during(Operation::SetAttributes)?;
        }
        if let Err(trouble) = work() {
            let _ = system.set_flags(opened, had);
            return Err(trouble);
        }
        if wanted == open {
            return Ok(());
        }
        system.set_flags(opened, wanted).during(Operation::SetAttributes)
    }

    /// What may not be opened keeps its flags to itself.
    fn flags_of(&self, model: Model<'_>, kind: Kind) -> Result<Option<Flags>, Trouble> {
        let source = match model {
            Model::Entry(source) => source,
            Model::Before(before) => return Ok(before.flags),
        };
        let mut held = None;
        match self.handle(source, kind, &mut held) {
            Ok(source) => reach::flags(self.shared.system, source).during(Operation::Read),
            Err(e) if e.kind() == io::ErrorKind::PermissionDenied => Ok(None),
            Err(e) => Err(e).during(Operation::Read),
        }
    }

    /// The handle of a file or folder, if need be a new one, which `held` then keeps.
    fn handle<'h>(
        &self,
        entry: Entry<'h>,
        kind: Kind,
        held: &'h mut Option<OwnedFd>,
    ) -> io::Result<BorrowedFd<'h>> {
        let opened = match entry {
            Entry::Open(handle) => return Ok(handle),
            Entry::Named(folder, name) => self.open_named(folder, name, kind)?,
            Entry::Pinned(handle) => self.shared.system.open_folder(handle, b"")?,
        };
        let opened: &'h OwnedFd = held.insert(opened);
        Ok(opened.as_fd())
    }

    /// True if a folder of the plan has got the source's flags in this run.
    pub(super) fn carries_flags_of(&self, at: usize) -> bool {
        let (step, number) = if at == 0 {
            (self.part.root.as_ref(), self.part.first)
        } else {
            let above = &self.part.folders[self.part.folders[at].parent as usize];
            let own = self.own_step(at);
            (own.map(|own| &above.steps[own]), above.first + own.unwrap_or(0))
        };
        let sets = |step: &Step| step.verb != Verb::Adjust || step.aspects.has(Aspect::Flags);
        self.carries(Aspect::Flags)
            && step.is_some_and(sets)
            && self.outcome_of(number) == StepOutcome::Done
    }
}
