//! Steps whose files could not be read: what is well comes first, so that a drive which is failing gives what it
//! can before it is asked for more than that.

use parking_lot::{Mutex, MutexGuard};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::policy::StepId;

/// Which of a part's steps come once more.
#[derive(Debug, Default)]
pub(super) struct PutOff {
    steps: Mutex<BTreeSet<StepId>>,
    /// All that is well was tried.
    is_over: AtomicBool,
}

impl PutOff {
    fn steps(&self) -> MutexGuard<'_, BTreeSet<StepId>> {
        self.steps.lock()
    }

    /// True as long as a step can come later.
    pub(super) fn is_open(&self) -> bool {
        !self.is_over.load(Ordering::Relaxed)
    }

    pub(super) fn add(&self, step: StepId) {
        self.steps().insert(step);
    }

    pub(super) fn has(&self, step: StepId) -> bool {
        self.steps().contains(&step)
    }

    /// Whatever was put off is due now, and nothing is any more.
    pub(super) fn end(&self) -> BTreeSet<StepId> {
        self.is_over.store(true, Ordering::Relaxed);
        std::mem::take(&mut *self.steps())
    }
}
