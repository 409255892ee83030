//! A run that sets aside what it removes or replaces, and its journal.
//!
//! It has a folder in a run store, which holds the displaced entries under their former paths. Its journal holds
//! the plan, the state of each entry before its attributes changed, and the state after each step. Everything
//! needed to undo the run is on the drive before it changes anything, so a killed run can be undone, too.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;
use std::sync::OnceLock;

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::drive_handle::DriveHandle;
use utter_echo_drives::features::Features;
use utter_echo_model::attribute::Attributes;
use utter_echo_model::state::{AttributesBefore, StateAfter};
use utter_echo_os::{Caller, Entry, Lock, System};

use crate::journal::frame::JournalMark;
use crate::journal::lines::{self, JournalLine, JournalRoot};
use crate::journal::origin;
use crate::journal::recorder::JournalWriter;
use crate::journal::root_identity::{self, RootIdentity};
use crate::journal::store::{self, RunStore};
use crate::plan::Plan;
use crate::request::{Keeping, Request, SetAside};
use crate::sides::{Pair, SetAsidePlace};

/// The set-aside entries of a run, and its journal.
pub(crate) struct SetAsideRun<'a> {
    system: &'a dyn System,
    /// The folder of the run.
    pub(crate) folder: OwnedFd,
    /// Opened before the first write.
    drive: DriveHandle,
    /// The lock, held while entries may still be set aside.
    _lock: Option<Lock>,
    /// Its path, as the user may type it.
    pub(crate) path: PathBuf,
    /// The capabilities of its drive.
    pub(crate) capabilities: Capabilities,
    recorder: JournalWriter<'a>,
    keeping: Keeping,
    /// Why the journal is incomplete, if the run continues without it.
    lost: OnceLock<io::Error>,
}

/// What the journal holds before the run begins.
pub(crate) struct NotedRun<'a> {
    pub(crate) request: &'a Request,
    pub(crate) plan: &'a Plan,
    pub(crate) pairs: &'a [Pair],
}

impl<'a> SetAsideRun<'a> {
    /// Creates the folder of the run and writes its plan to the journal.
    pub(crate) fn begin(
        system: &'a dyn System,
        caller: &Caller,
        aside_place: &SetAsidePlace,
        set_aside: &SetAside,
        noted: &NotedRun<'_>,
    ) -> io::Result<Self> {
        let NotedRun { request, plan, pairs } = *noted;
        let mut at = system.open_folder(aside_place.anchor(), b"")?;
        for name in &aside_place.place.missing {
            make_folder(system, at.as_fd(), name, 0o777 & !caller.umask | 0o700)?;
            at = system.open_folder(at.as_fd(), name)?;
        }
        let run = RunStore::of(system, at).begin(&set_aside.run)?;
        let (folder, recorder) = (run.folder, run.recorder);
        lines::add_plan(&recorder, plan, request)?;
        let mut roots = Vec::new();
        for pair in pairs {
            make_folders(system, folder.as_fd(), pair.prefix.as_bytes())?;
            let at = std::path::absolute(&pair.destination_path)?;
            let anchor = RootIdentity::of(system, pair.destination.anchor.as_fd());
            roots.push(JournalRoot {
                folder: at.as_os_str().as_encoded_bytes().into(),
                prefix: pair.prefix.as_bytes().into(),
                drive: anchor.drive,
                inode: anchor.inode.filter(|_| pair.destination.exists()),
                made: count(pair.destination.missing.len()),
                above: root_identity::time_above(pair),
            });
        }
        lines::add(&recorder, &JournalLine::Roots(roots))?;
        if request.task.removes_sources() {
            let origins = pairs.iter().map(|pair| origin::of(system, pair));
            lines::add(&recorder, &JournalLine::Sources(origins.collect::<io::Result<_>>()?))?;
        }
        let features = match set_aside.what {
            Keeping::Displaced => Features::try_out(system, caller, folder.as_fd()),
            // Only the journal is written there.
            Keeping::Journal => Features::default(),
        };
        let capabilities = Capabilities::new(Attributes::ALL, features, caller, 0);
        let path = aside_place.path.join(run.name);
        let (keeping, lost) = (set_aside.what, OnceLock::new());
        let drive = DriveHandle::new(system, system.open_folder(folder.as_fd(), b"")?);
        Ok(Self {
            system,
            folder,
            drive,
            _lock: run.lock,
            path,
            capabilities,
            recorder,
            keeping,
            lost,
        })
    }

    /// The name of the run in the store.
    pub(crate) fn name(&self) -> String {
        let name = self.path.file_name().unwrap_or_default();
        name.to_string_lossy().into_owned()
    }

    /// True if displaced entries are kept here.
    pub(crate) fn keeps_displaced(&self) -> bool {
        self.keeping == Keeping::Displaced
    }

    /// The journal error, if the run continued without its journal.
    pub(crate) fn into_lost(self) -> Option<io::Error> {
        self.lost.into_inner()
    }

    /// Returns an error of the journal, unless the run continues without it.
    pub(crate) fn or_lose(&self, noted: io::Result<()>) -> io::Result<()> {
        match noted {
            Err(error) if self.keeping == Keeping::Journal => {
                // The first error is reported.
                let _ = self.lost.set(error);
                Ok(())
            }
            other => other,
        }
    }

    /// Opens the counterpart of a destination folder, creating it if necessary.
    pub(crate) fn counterpart(&self, path: &[u8]) -> io::Result<OwnedFd> {
        match self.system.open_folder(self.folder.as_fd(), path) {
            Err(e) if e.kind() == ErrorKind::NotFound => {
                make_folders(self.system, self.folder.as_fd(), path)?;
                self.system.open_folder(self.folder.as_fd(), path)
            }
            other => other,
        }
    }

    /// Records the state of an entry before it changes.
    pub(crate) fn note_before(
        &self,
        part: usize,
        path: &[u8],
        was: AttributesBefore,
    ) -> io::Result<()> {
        lines::add(
            &self.recorder,
            &JournalLine::Before { part: count(part), path: path.into(), was },
        )
    }

    /// Records the state after a step.
    pub(crate) fn note_after(&self, part: usize, path: &[u8], left: StateAfter) -> io::Result<()> {
        lines::add(
            &self.recorder,
            &JournalLine::After { part: count(part), path: path.into(), left },
        )
    }

    /// Records the state of a source folder before an entry is removed from it.
    pub(crate) fn note_here(
        &self,
        part: usize,
        path: &[u8],
        was: AttributesBefore,
    ) -> io::Result<()> {
        lines::add(&self.recorder, &JournalLine::Here { part: count(part), path: path.into(), was })
    }

    /// Records that an entry and its copy are equal.
    pub(crate) fn note_proven(
        &self,
        part: usize,
        path: &[u8],
        (here, there): (StateAfter, StateAfter),
    ) -> io::Result<()> {
        let (part, path) = (count(part), path.into());
        lines::add(&self.recorder, &JournalLine::Proven { part, path, here, there })
    }

    /// Records the roots of a part: see [`JournalLine::Known`].
    pub(crate) fn note_roots(
        &self,
        part: usize,
        source: BorrowedFd<'_>,
        destination: BorrowedFd<'_>,
    ) -> io::Result<()> {
        let of = |root| RootIdentity::of(self.system, root);
        let (source, destination) = (of(source), of(destination));
        lines::add(&self.recorder, &JournalLine::Known { part: count(part), source, destination })
    }

    /// Flushes the journal: the operations that it can undo may now follow.
    pub(crate) fn open_gate(&self) -> io::Result<()> {
        self.recorder.mark(JournalMark::Gate)
    }

    /// Records that the run ended.
    pub(crate) fn end_journal(&self) -> io::Result<()> {
        self.recorder.mark(JournalMark::Ended)
    }

    /// Flushes the journal and the set-aside entries.
    pub(crate) fn flush(&self) -> io::Result<()> {
        self.drive.flush(self.system)
    }
}

fn count(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

pub(crate) fn make_folders(
    system: &dyn System,
    root: BorrowedFd<'_>,
    path: &[u8],
) -> io::Result<()> {
    let mut at = system.open_folder(root, b"")?;
    for name in path.split(|b| *b == b'/').filter(|name| !name.is_empty()) {
        make_folder(system, at.as_fd(), name, 0o700)?;
        at = system.open_folder(at.as_fd(), name)?;
    }
    Ok(())
}

/// Creates a folder with this mode, whatever the umask. Another worker may have created it first.
fn make_folder(system: &dyn System, at: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<()> {
    match system.create_folder(at, name, mode) {
        Err(e) if e.kind() == ErrorKind::AlreadyExists => Ok(()),
        Ok(()) => store::grant(system, Entry::Named(at, name), mode),
        failed => failed,
    }
}
