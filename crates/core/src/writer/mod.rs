//! Station: one entry on one drive. A [`Writer`] makes it, dresses it, places it and takes it away; what
//! is set aside and what comes back go through the same hands.

mod aside;
mod attributes;
mod content;
mod deed;
mod flags;
mod folder;
mod pace;
mod place;
mod removal;
mod rename;
mod takeover;
mod trouble;

use std::io;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::aspect::Aspect;
use crate::backlog::Backlog;
use crate::observe::Observer;
use crate::os::System;
use crate::pool::Crew;
use crate::reach::Reach;
use crate::request::{Flush, Running};
use crate::sides::Single;
use crate::state::Memory;
use crate::temporary::Temporaries;

pub(crate) use aside::Shelf;
pub(crate) use deed::Deed;
pub(crate) use folder::{Place, WHILE_FILLED};
pub(crate) use trouble::{Done, During, Trouble, was_interrupted};

use pace::Pace;

/// What the writers of all drives share.
pub(crate) struct Means<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) observer: &'a dyn Observer,
    pub(crate) running: Running,
    pub(crate) crew: Crew,
    pub(crate) temporaries: Temporaries,
    /// Set once no further step can succeed.
    pub(crate) over: AtomicBool,
    pub(crate) bytes_written: AtomicU64,
    pace: Option<Pace>,
}

impl<'a> Means<'a> {
    pub(crate) fn new(
        system: &'a dyn System,
        observer: &'a dyn Observer,
        running: Running,
    ) -> Self {
        Self {
            system,
            observer,
            running,
            crew: Crew::new(running.workers),
            temporaries: Temporaries::new(),
            over: AtomicBool::new(false),
            bytes_written: AtomicU64::new(0),
            pace: running.rate.map(Pace::new),
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
    pub(crate) means: &'a Means<'a>,
    /// What can be carried to the drive.
    pub(crate) reach: &'a Reach,
    /// Names of a single entry, where they differ on the two sides.
    single: Option<&'a Single>,
    /// What entries were like before, if a run is taken back.
    pub(crate) memory: Option<&'a Memory>,
    /// Where the run keeps its notes and, if it is not lost, what it displaces.
    pub(crate) shelf: Option<&'a Shelf<'a>>,
    /// What the drive does not hold yet, where that is waited for.
    pub(crate) backlog: Option<Backlog>,
    /// A mark tells that not all is on the drive yet, so not each file has to be flushed by itself.
    pub(crate) marked: AtomicBool,
    /// False once the drive turned out not to share content with the source's, or not to copy from it
    /// within the kernel.
    shares_content: AtomicBool,
    copies_in_kernel: AtomicBool,
    /// Known once the first file was to be added.
    makes_nameless: OnceLock<bool>,
}

impl<'a> Writer<'a> {
    pub(crate) fn new(means: &'a Means<'a>, reach: &'a Reach) -> Self {
        Self {
            means,
            reach,
            single: None,
            memory: None,
            shelf: None,
            backlog: None,
            marked: AtomicBool::new(false),
            shares_content: AtomicBool::new(true),
            copies_in_kernel: AtomicBool::new(true),
            makes_nameless: OnceLock::new(),
        }
    }

    /// For a single entry that may get a new name.
    pub(crate) fn for_single(self, single: Option<&'a Single>) -> Self {
        Self { single, ..self }
    }

    /// To take a run back, or not.
    pub(crate) fn remembering(self, memory: Option<&'a Memory>) -> Self {
        Self { memory, ..self }
    }

    /// With a place for what is displaced.
    pub(crate) fn setting_aside(self, shelf: Option<&'a Shelf<'a>>) -> Self {
        Self { shelf, ..self }
    }

    /// Waiting for the drive once it has much before it.
    pub(crate) fn waiting_for_drive(self) -> Self {
        let waits = self.means.running.flush != Flush::None;
        Self { backlog: waits.then(Backlog::default), ..self }
    }

    /// An entry was changed.
    pub(crate) fn changed_entry(&self) {
        if let Some(backlog) = &self.backlog {
            backlog.hand_entry(|| self.means.must_end());
        }
    }

    fn system(&self) -> &'a dyn System {
        self.means.system
    }

    /// Where what is displaced goes, if it is not lost.
    pub(crate) fn keeps_displaced(&self) -> Option<&'a Shelf<'a>> {
        self.shelf.filter(|shelf| shelf.aside.keeps_displaced())
    }

    pub(crate) fn carries(&self, aspect: Aspect) -> bool {
        self.reach.carry.has(aspect)
    }

    /// The source's name of an entry, which differs only for a single file under a new name.
    pub(crate) fn source_name<'n>(&'n self, place: &'n Place, name: &'n [u8]) -> &'n [u8] {
        let came_as = place.came_as.iter().find(|(here, _)| **here == *name).map(|(_, was)| &**was);
        self.single.map_or(came_as.unwrap_or(name), |single| &single.source)
    }
}
