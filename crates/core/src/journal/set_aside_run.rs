//! What a run would remove or replace, kept in a folder of its own, and the way back.
//!
//! A run that sets aside has a place in a store of runs: what it displaces lies there under
//! the paths it had, and its notes hold its plan, the state that each entry had before its attributes were
//! changed, and the state that each step left. What is needed to undo the run is on the drive before it
//! does anything, so a run that was killed can be undone, too.

use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;
use std::sync::OnceLock;

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::drive_handle::DriveHandle;
use utter_echo_drives::features::Features;
use utter_echo_model::aspect::Aspects;
use utter_echo_model::state::{AttributesBefore, StateAfter};
use utter_echo_os::{Caller, Entry, Lock, System};

use crate::journal::frame::JournalMark;
use crate::journal::lines::{self, JournalLine, JournalRoot};
use crate::journal::recorder::JournalWriter;
use crate::journal::store::{self, RunStore};
use crate::journal::{origin, root_identity};
use crate::plan::Plan;
use crate::request::{Keeping, Request, SetAside};
use crate::sides::{Pair, SetAsidePlace};

/// What a run sets aside, and its notes.
pub(crate) struct SetAsideRun<'a> {
    system: &'a dyn System,
    /// The folder of the run.
    pub(crate) folder: OwnedFd,
    /// Opened before the first write.
    drive: DriveHandle,
    /// Held as long as something may still be set aside there.
    _lock: Option<Lock>,
    /// The same, as the user may name it.
    pub(crate) path: PathBuf,
    /// What its drive can hold.
    pub(crate) capabilities: Capabilities,
    recorder: JournalWriter<'a>,
    keeping: Keeping,
    /// Why the notes are not whole, where the run goes on without.
    lost: OnceLock<io::Error>,
}

/// What is written down of a run before it begins.
pub(crate) struct NotedRun<'a> {
    pub(crate) request: &'a Request,
    pub(crate) plan: &'a Plan,
    pub(crate) pairs: &'a [Pair],
}

impl<'a> SetAsideRun<'a> {
    /// Makes the folder of the run and writes down what the run is about to do.
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
            let (drive, inode) = root_identity::identity(system, pair);
            roots.push(JournalRoot {
                folder: at.as_os_str().as_encoded_bytes().into(),
                prefix: pair.prefix.as_bytes().into(),
                drive,
                inode,
                made: count(pair.destination.missing.len()),
                above: root_identity::time_above(pair),
            });
        }
        lines::add(&recorder, &JournalLine::Roots(roots))?;
        if request.task.vacates() {
            let origins = pairs.iter().map(|pair| origin::of(system, pair));
            lines::add(&recorder, &JournalLine::Sources(origins.collect::<io::Result<_>>()?))?;
        }
        let features = match set_aside.what {
            Keeping::Displaced => Features::try_out(system, caller, folder.as_fd()),
            // Nothing but notes is written there.
            Keeping::Notes => Features::default(),
        };
        let capabilities = Capabilities::new(Aspects::ALL, features, caller, 0);
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

    /// Its name in the store.
    pub(crate) fn name(&self) -> String {
        let name = self.path.file_name().unwrap_or_default();
        name.to_string_lossy().into_owned()
    }

    /// True if what the run displaces is kept here.
    pub(crate) fn keeps_displaced(&self) -> bool {
        self.keeping == Keeping::Displaced
    }

    /// What could not be noted, where the run went on without.
    pub(crate) fn into_lost(self) -> Option<io::Error> {
        self.lost.into_inner()
    }

    /// Passes on what went wrong with the notes, unless the run goes on without them.
    pub(crate) fn or_lose(&self, noted: io::Result<()>) -> io::Result<()> {
        match noted {
            Err(error) if self.keeping == Keeping::Notes => {
                // The first is the one to tell.
                let _ = self.lost.set(error);
                Ok(())
            }
            other => other,
        }
    }

    /// Opens the counterpart of a folder of the destination, made if need be.
    pub(crate) fn counterpart(&self, path: &[u8]) -> io::Result<OwnedFd> {
        match self.system.open_folder(self.folder.as_fd(), path) {
            Err(e) if e.kind() == ErrorKind::NotFound => {
                make_folders(self.system, self.folder.as_fd(), path)?;
                self.system.open_folder(self.folder.as_fd(), path)
            }
            other => other,
        }
    }

    /// Writes down what an entry is like, before that changes.
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

    /// Writes down what a step left.
    pub(crate) fn note_after(&self, part: usize, path: &[u8], left: StateAfter) -> io::Result<()> {
        lines::add(
            &self.recorder,
            &JournalLine::After { part: count(part), path: path.into(), left },
        )
    }

    /// Writes down what a folder of the source is like, before something goes from it.
    pub(crate) fn note_here(
        &self,
        part: usize,
        path: &[u8],
        was: AttributesBefore,
    ) -> io::Result<()> {
        lines::add(&self.recorder, &JournalLine::Here { part: count(part), path: path.into(), was })
    }

    /// Writes down that an entry and its copy are the same.
    pub(crate) fn note_proven(
        &self,
        part: usize,
        path: &[u8],
        (here, there): (StateAfter, StateAfter),
    ) -> io::Result<()> {
        let (part, path) = (count(part), path.into());
        lines::add(&self.recorder, &JournalLine::Proven { part, path, here, there })
    }

    /// Brings what was noted onto the drive: now the changes may come that it tells how to undo.
    pub(crate) fn open_gate(&self) -> io::Result<()> {
        self.recorder.mark(JournalMark::Gate)
    }

    /// Writes down that the run came to its end.
    pub(crate) fn end_notes(&self) -> io::Result<()> {
        self.recorder.mark(JournalMark::Ended)
    }

    /// Brings the notes, and what was set aside, onto the drive.
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

/// Makes a folder of this mode, whatever the umask. Another worker may have made it first.
fn make_folder(system: &dyn System, at: BorrowedFd<'_>, name: &[u8], mode: u32) -> io::Result<()> {
    match system.create_folder(at, name, mode) {
        Err(e) if e.kind() == ErrorKind::AlreadyExists => Ok(()),
        Ok(()) => store::grant(system, Entry::Named(at, name), mode),
        failed => failed,
    }
}
