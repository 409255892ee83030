//! How a run reports what it is doing while it does it.

use crate::problem::Problem;

/// Hears about a run as it goes on, and may ask it to stop. Called from any worker, so an
/// implementation must be quick and must not call back into the run.
pub trait Observer: Sync {
    /// So many more entries, of both sides together, were scanned.
    fn scanned(&self, _entries: u64) {}
    /// So many bytes, of both sides together, are about to be compared: while planning, where that is known at
    /// all, or once they were written.
    fn comparing(&self, _bytes: u64) {}
    /// So many more bytes, of both sides together, were compared.
    fn compared(&self, _bytes: u64) {}
    /// A step on this path began; paths are relative to the destination.
    fn started(&self, _path: &[u8]) {}
    /// So many more bytes of content are on the destination's drive; where nothing is flushed, they were
    /// handed to the system.
    fn wrote(&self, _bytes: u64) {}
    /// This came of the step with this number. A later stage may still find that it failed.
    fn concluded(&self, _step: usize, _outcome: StepOutcome) {}
    /// A problem was met; it is among those of the outcome, too.
    fn met(&self, _problem: &Problem) {}
    /// All steps are through; the destination's drive is being flushed.
    fn flushing(&self) {}
    /// True once the run should stop at the next safe point.
    fn stop_requested(&self) -> bool {
        false
    }
}

/// Hears nothing and never asks to stop.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoObserver;

impl Observer for NoObserver {}

/// What became of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum StepOutcome {
    /// The run ended before it came up.
    NotReached,
    /// The destination is as the step wants it.
    Done,
    /// It is not, for the reason that a problem gives.
    Failed,
    /// The entry was no longer what the plan saw, so it was left alone.
    Stale,
}
