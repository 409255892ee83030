//! Writing single entries on one drive: making, placing and removing them, and setting them aside.

use std::io::{self};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::write_back::WriteBackLimit;
use utter_echo_files::hidden_names::HiddenNames;
use utter_echo_model::attribute::Attribute;
use utter_echo_model::observe::Observer;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::{Flush, Running};
use utter_echo_model::state::StatesBefore;
use utter_echo_os::System;
use utter_echo_workers::pool::WorkerPool;
use utter_echo_workers::rate_limit::RateLimit;

use crate::journal::SetAsideRun;
use crate::policy::Part;

/// The set-aside folder of one part, and a writer for copies there.
pub(crate) struct SetAsideWriter<'a> {
    pub(crate) aside: &'a SetAsideRun<'a>,
    /// The writer for the drive of the set-aside folder, which may be another.
    pub(crate) writer: Writer<'a>,
    /// The index of the part.
    pub(crate) part: usize,
    /// The path of the part's root in the folder of the run.
    pub(crate) prefix: &'a TreePath,
}

/// The shared context of all writers.
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

    /// Fails once the run must end.
    pub(crate) fn go_on(&self) -> io::Result<()> {
        if self.must_end() { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) }
    }
}

/// The writer for one drive.
pub(crate) struct Writer<'a> {
    pub(crate) context: &'a WriteContext<'a>,
    /// The capabilities for the drive.
    pub(crate) capabilities: &'a Capabilities,
    /// The former states of entries, if a run is undone.
    pub(crate) memory: Option<&'a StatesBefore>,
    /// Entries come back from a set-aside folder.
    pub(crate) brings_back: bool,
    /// The journal and, if they are kept, displaced entries.
    pub(crate) aside: Option<&'a SetAsideWriter<'a>>,
    /// The limit on unflushed data, if there is one.
    pub(crate) backlog: Option<WriteBackLimit>,
    /// There is a dirty marker, so that single files need no flush.
    pub(crate) marked: AtomicBool,
    /// False once sharing content with the source's drive, or copying from it within the kernel, turned out to be
    /// unsupported.
    pub(crate) shares_content: AtomicBool,
    pub(crate) copies_in_kernel: AtomicBool,
    /// Whether the drive supports unnamed files; known after the first attempt.
    pub(crate) makes_nameless: OnceLock<bool>,
}

impl<'a> Writer<'a> {
    pub(crate) fn new(context: &'a WriteContext<'a>, capabilities: &'a Capabilities) -> Self {
        Self {
            context,
            capabilities,
            memory: None,
            brings_back: false,
            aside: None,
            backlog: None,
            marked: AtomicBool::new(false),
            shares_content: AtomicBool::new(true),
            copies_in_kernel: AtomicBool::new(true),
            makes_nameless: OnceLock::new(),
        }
    }

    /// With what an undo knows and where it takes entries from.
    pub(crate) fn of_part(self, part: &'a Part) -> Self {
        Self { memory: part.memory.as_ref(), brings_back: part.brings_back, ..self }
    }

    /// With a set-aside folder.
    pub(crate) fn setting_aside(self, aside: Option<&'a SetAsideWriter<'a>>) -> Self {
        Self { aside, ..self }
    }

    /// With a limit on unflushed data.
    pub(crate) fn waiting_for_drive(self) -> Self {
        let waits = self.context.running.flush != Flush::None;
        Self { backlog: waits.then(WriteBackLimit::default), ..self }
    }

    /// Counts a changed entry.
    pub(crate) fn changed_entry(&self) {
        if let Some(backlog) = &self.backlog {
            backlog.hand_entry(|| self.context.must_end());
        }
    }

    pub(crate) fn system(&self) -> &'a dyn System {
        self.context.system
    }

    /// Where displaced entries are kept, if they are.
    pub(crate) fn keeps_displaced(&self) -> Option<&'a SetAsideWriter<'a>> {
        self.aside.filter(|aside| aside.aside.keeps_displaced())
    }

    pub(crate) fn carries(&self, attribute: Attribute) -> bool {
        self.capabilities.carry.has(attribute)
    }
}
