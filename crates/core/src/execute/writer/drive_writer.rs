//! One entry on one drive. A [`Writer`] makes it, dresses it, places it and takes it away; what
//! is set aside and what comes back go through the same hands.

use std::io::{self};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::write_back::WriteBackLimit;
use utter_echo_files::hidden_names::HiddenNames;
use utter_echo_model::aspect::Aspect;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::{Flush, Running};
use utter_echo_model::state::StatesBefore;
use utter_echo_os::System;
use utter_echo_workers::pool::WorkerPool;
use utter_echo_workers::rate_limit::RateLimit;

use crate::journal::SetAsideRun;

/// Where one part of a run sets aside, and the means to copy something there.
pub(crate) struct SetAsideWriter<'a> {
    pub(crate) aside: &'a SetAsideRun<'a>,
    /// Writes on the drive where things are set aside, which may be another.
    pub(crate) writer: Writer<'a>,
    /// Which part of the plan.
    pub(crate) part: usize,
    /// Where the part's root stands in the folder of the run.
    pub(crate) prefix: &'a TreePath,
}

/// What the writers of all drives share.
pub(crate) struct WriteContext<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) running: Running,
    pub(crate) pool: WorkerPool,
    pub(crate) temporaries: HiddenNames,
    /// Set once no further step can succeed.
    pub(crate) over: AtomicBool,
    pub(crate) bytes_written: AtomicU64,
    pub(crate) pace: Option<RateLimit>,
}

impl<'a> WriteContext<'a> {
    pub(crate) fn new(
        system: &'a dyn System,
        observer: &'a dyn Observer,
        running: Running,
    ) -> Self {
        Self {
            system,
            observer,
            running,
            pool: WorkerPool::new(running.workers),
            temporaries: HiddenNames::default(),
            over: AtomicBool::new(false),
            bytes_written: AtomicU64::new(0),
            pace: running.rate.map(RateLimit::new),
        }
    }

    pub(crate) fn must_end(&self) -> bool {
        self.over.load(Ordering::Relaxed) || self.observer.stop_requested()
    }

    /// Fails once the run is to end.
    pub(crate) fn go_on(&self) -> io::Result<()> {
        if self.must_end() { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) }
    }
}

/// Writes on one drive.
pub(crate) struct Writer<'a> {
    pub(crate) context: &'a WriteContext<'a>,
    /// What can be carried to the drive.
    pub(crate) capabilities: &'a Capabilities,
    /// What entries were like before, if a run is taken back.
    pub(crate) memory: Option<&'a StatesBefore>,
    /// Where the run keeps its notes and, if it is not lost, what it displaces.
    pub(crate) aside: Option<&'a SetAsideWriter<'a>>,
    /// What the drive does not hold yet, where that is waited for.
    pub(crate) backlog: Option<WriteBackLimit>,
    /// A marker says that not all is on the drive yet, so not each file has to be flushed by itself.
    pub(crate) marked: AtomicBool,
    /// False once the drive turned out not to share content with the source's, or not to copy from it
    /// within the kernel.
    pub(crate) shares_content: AtomicBool,
    pub(crate) copies_in_kernel: AtomicBool,
    /// Known once the first file was to be added.
    pub(crate) makes_nameless: OnceLock<bool>,
}

impl<'a> Writer<'a> {
    pub(crate) fn new(context: &'a WriteContext<'a>, capabilities: &'a Capabilities) -> Self {
        Self {
            context,
            capabilities,
            memory: None,
            aside: None,
            backlog: None,
            marked: AtomicBool::new(false),
            shares_content: AtomicBool::new(true),
            copies_in_kernel: AtomicBool::new(true),
            makes_nameless: OnceLock::new(),
        }
    }

    /// To take a run back, or not.
    pub(crate) fn remembering(self, memory: Option<&'a StatesBefore>) -> Self {
        Self { memory, ..self }
    }

    /// With a place for what is displaced.
    pub(crate) fn setting_aside(self, aside: Option<&'a SetAsideWriter<'a>>) -> Self {
        Self { aside, ..self }
    }

    /// Waiting for the drive once it has much before it.
    pub(crate) fn waiting_for_drive(self) -> Self {
        let waits = self.context.running.flush != Flush::None;
        Self { backlog: waits.then(WriteBackLimit::default), ..self }
    }

    /// An entry was changed.
    pub(crate) fn changed_entry(&self) {
        if let Some(backlog) = &self.backlog {
            backlog.hand_entry(|| self.context.must_end());
        }
    }

    pub(crate) fn system(&self) -> &'a dyn System {
        self.context.system
    }

    /// Where what is displaced goes, if it is not lost.
    pub(crate) fn keeps_displaced(&self) -> Option<&'a SetAsideWriter<'a>> {
        self.aside.filter(|aside| aside.aside.keeps_displaced())
    }

    pub(crate) fn carries(&self, aspect: Aspect) -> bool {
        self.capabilities.carry.has(aspect)
    }
}
