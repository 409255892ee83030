//! Answers that are given when they are due.

use std::sync::mpsc::{self, Sender};
use std::time::{Duration, Instant};

type Answer = Box<dyn FnOnce() + Send>;

/// A thread that gives answers when they are due, in the order in which they come.
#[derive(Debug)]
pub(crate) struct Late(Sender<(Instant, Answer)>);

impl Late {
    pub(crate) fn new() -> Self {
        let (sender, receiver) = mpsc::channel::<(Instant, Answer)>();
        std::thread::spawn(move || {
            // Otherwise the system delays each of them by 50 microseconds.
            let _ = rustix::thread::set_current_timer_slack(std::num::NonZeroU64::new(1));
            while let Ok((due, answer)) = receiver.recv() {
                std::thread::sleep(due.saturating_duration_since(Instant::now()));
                answer();
            }
        });
        Self(sender)
    }

    pub(crate) fn at(&self, due: Instant, answer: impl FnOnce() + Send + 'static) {
        // Once the thread has ended there is nobody left to answer.
        let _ = self.0.send((due, Box::new(answer)));
    }

    pub(crate) fn after(&self, wait: Duration, answer: impl FnOnce() + Send + 'static) {
        self.at(Instant::now() + wait, answer);
    }
}
