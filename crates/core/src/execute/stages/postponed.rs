//! Postponing steps whose files could not be read, so that a failing drive yields its readable files first.

use parking_lot::{Mutex, MutexGuard};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::policy::StepId;

/// The postponed steps of a part.
#[derive(Debug, Default)]
pub(super) struct Postponed {
    steps: Mutex<BTreeSet<StepId>>,
    /// All other steps were tried.
    is_over: AtomicBool,
}

impl Postponed {
    fn steps(&self) -> MutexGuard<'_, BTreeSet<StepId>> {
        self.steps.lock()
    }

    /// True while steps can be postponed.
    pub(super) fn is_open(&self) -> bool {
        !self.is_over.load(Ordering::Relaxed)
    }

    pub(super) fn add(&self, step: StepId) {
        self.steps().insert(step);
    }

    pub(super) fn has(&self, step: StepId) -> bool {
        self.steps().contains(&step)
    }

    /// Returns the postponed steps. From now on none is postponed.
    pub(super) fn end(&self) -> BTreeSet<StepId> {
        self.is_over.store(true, Ordering::Relaxed);
        std::mem::take(&mut *self.steps())
    }
}
