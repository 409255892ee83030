//! What a run would remove or replace, kept in a folder of its own, and the way back.
//!
//! A run that sets aside makes `FOLDER/<run>` for what it displaces, under the paths it had, and
//! `FOLDER/<run>.record` beside it: the saved plan of the run, and after it a line for the state
//! that each entry had before its attributes were changed and for the state that each step left.
//! A line is written before what it tells of is undone for good, so the record of a run that was
//! killed holds what is needed to undo that, too.

mod prune;
mod record;
mod undo;

use std::io::{self, BufWriter, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::PathBuf;

use crate::abilities::Abilities;
use crate::abilities::Names;
use crate::aspect::Aspects;
use crate::os::{Caller, Entry, Identity, Kind, System};
use crate::plan::Plan;
use crate::problem::Problem;
use crate::reach::{self, Reach};
use crate::request::{Request, SetAside};
use crate::saved;
use crate::sides::{self, CallError, Pair, Place};
use crate::state::{Before, State};

pub(crate) use prune::{clear_all_leftovers, clear_leftovers};
use record::{Line, Record, Root};

pub use record::{BadRecord, Recorded};

/// What the folder of a run ends its record's name with.
const RECORD: &str = ".record";

/// Looks at an entry; one that may not be opened keeps its flags to itself.
pub(crate) fn look_before(
    system: &dyn System,
    reach: &Reach,
    entry: Entry<'_>,
) -> io::Result<Before> {
    let stat = system.stat(entry)?;
    let opened = match (entry, stat.kind) {
        (Entry::Named(folder, name), Kind::File) => system.open_file(folder, name).map(Some),
        (Entry::Named(folder, name), Kind::Folder) => system.open_folder(folder, name).map(Some),
        (Entry::Open(folder) | Entry::Pinned(folder), Kind::Folder) => {
            system.open_folder(folder, b"").map(Some)
        }
        _ => Ok(None),
    };
    let flags = match opened {
        Ok(Some(opened)) => reach::flags(system, opened.as_fd()),
        // A folder that cannot be opened cannot be made anew either as it was.
        Err(e) if e.kind() != ErrorKind::PermissionDenied || stat.kind == Kind::Folder => {
            return Err(e);
        }
        _ => None,
    };
    let xattrs = reach.xattrs_of(system, entry, Aspects::ALL)?;
    Ok(Before { state: State::from(&stat), accessed: stat.accessed, flags, xattrs })
}

/// Where things are set aside, before there is anything to set aside.
#[derive(Debug)]
pub(crate) struct Shelf {
    place: Place,
    path: PathBuf,
}

impl Shelf {
    pub(crate) fn open(system: &dyn System, set_aside: &SetAside) -> Result<Self, CallError> {
        let place = sides::find_place(system, &set_aside.folder)?;
        Ok(Self { place, path: set_aside.folder.clone() })
    }

    /// True if it lies within one of the two sides, where it would be taken for a part of it.
    pub(crate) fn is_in_the_way(&self, system: &dyn System, pair: &Pair) -> io::Result<bool> {
        let to = &pair.destination;
        if !to.exists() {
            let same = self.drive_and_folder() == to.anchor_stat.identity;
            if same && self.place.missing.starts_with(&to.missing) {
                return Ok(true);
            }
        }
        let is_folder = pair.single.is_none();
        let source = is_folder.then_some(pair.source_stat.identity);
        let destination = (is_folder && to.exists()).then_some(to.anchor_stat.identity);
        let mut above = sides::folders_above(system, &self.place.anchor)?;
        above.push(self.drive_and_folder());
        Ok([source, destination].into_iter().flatten().any(|side| above.contains(&side)))
    }

    /// The same for other spellings, on a drive that takes several for one name.
    pub(crate) fn is_spelled_within(
        &self,
        system: &dyn System,
        pair: &Pair,
        names: &Names,
    ) -> io::Result<bool> {
        Ok(pair.single.is_none() && sides::is_within(system, &self.place, pair, names)?)
    }

    /// Of the deepest folder of its path that exists.
    fn drive_and_folder(&self) -> Identity {
        self.place.anchor_stat.identity
    }

    pub(crate) fn drive(&self) -> u64 {
        self.drive_and_folder().drive
    }

    pub(crate) fn anchor(&self) -> BorrowedFd<'_> {
        self.place.anchor.as_fd()
    }

    pub(crate) fn shown(&self) -> String {
        self.path.to_string_lossy().into_owned()
    }

    /// Removes what earlier runs set aside, as far as it need not be kept any longer.
    pub(crate) fn prune(&self, system: &dyn System, set_aside: &SetAside) -> Vec<Problem> {
        prune::prune(system, &self.path, set_aside)
    }
}

/// What a run sets aside, and its record.
pub(crate) struct Aside<'a> {
    system: &'a dyn System,
    /// The folder of the run.
    pub(crate) folder: OwnedFd,
    /// Held as long as something may still be set aside there.
    _lock: Option<OwnedFd>,
    /// The same, as the user may name it.
    pub(crate) path: PathBuf,
    /// What its drive can hold.
    pub(crate) reach: Reach,
    record: Record<'a>,
}

impl<'a> Aside<'a> {
    /// Makes the folder of the run and writes down what the run is about to do.
    pub(crate) fn begin(
        system: &'a dyn System,
        caller: &Caller,
        shelf: &Shelf,
        (request, set_aside): (&Request, &SetAside),
        (plan, pairs): (&Plan, &[Pair]),
    ) -> io::Result<Self> {
        let mut at = system.open_folder(shelf.anchor(), b"")?;
        for name in &shelf.place.missing {
            taken_or(system.create_folder(at.as_fd(), name, 0o777))?;
            at = system.open_folder(at.as_fd(), name)?;
        }
        let (name, file) = new_run(system, at.as_fd(), &set_aside.run)?;
        let record = Record::new(system, file);
        // Nobody else may read there what they could not read in the destination.
        system.create_folder(at.as_fd(), name.as_bytes(), 0o700)?;
        let folder = system.open_folder(at.as_fd(), name.as_bytes())?;
        // Nobody else knows it yet. A drive that cannot lock it does not.
        let lock = system.lock(folder.as_fd()).ok().flatten();
        saved::write(plan, request, BufWriter::new(&record))?;
        let mut parts = Vec::new();
        for pair in pairs {
            make_folders(system, folder.as_fd(), pair.prefix.as_bytes())?;
            let at = std::path::absolute(&pair.destination_path)?;
            let (drive, inode) = undo::identity(system, pair);
            parts.push(Root {
                folder: at.as_os_str().as_encoded_bytes().into(),
                prefix: pair.prefix.as_bytes().into(),
                drive,
                inode,
                made: if pair.single.is_none() { pair.destination.missing.len() } else { 0 },
                above: undo::time_above(pair),
            });
        }
        record.add(&Line::Run { parts })?;
        record.write_out()?;
        let abilities = Abilities::try_out(system, caller, folder.as_fd());
        let reach = Reach::new(Aspects::ALL, abilities, caller, 0);
        let path = shelf.path.join(name);
        Ok(Self { system, folder, _lock: lock, path, reach, record })
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
    pub(crate) fn note_before(&self, part: usize, path: &[u8], was: Before) -> io::Result<()> {
        self.record.add(&Line::Before { part, path: path.into(), was })
    }

    /// Writes down what a step left.
    pub(crate) fn note_after(&self, part: usize, path: &[u8], state: State) -> io::Result<()> {
        self.record.add(&Line::After { part, path: path.into(), state })
    }

    /// Brings the record onto the drive.
    pub(crate) fn flush_notes(&self) -> io::Result<()> {
        self.record.flush_to_drive()
    }

    /// Writes out what is left of the record.
    pub(crate) fn close_notes(&self) -> io::Result<()> {
        self.record.write_out()
    }

    /// Brings the record, and what was set aside, onto the drive.
    pub(crate) fn flush(&self) -> io::Result<()> {
        self.system.flush_drive(self.folder.as_fd())
    }
}

/// The first free name for the folder of a run, and its record.
fn new_run(system: &dyn System, at: BorrowedFd<'_>, run: &str) -> io::Result<(String, OwnedFd)> {
    let mut name = run.to_owned();
    for count in 2.. {
        match system.create_file(at, format!("{name}{RECORD}").as_bytes(), 0o600) {
            Err(e) if e.kind() == ErrorKind::AlreadyExists => name = format!("{run}-{count}"),
            other => return Ok((name, other?)),
        }
    }
    Err(ErrorKind::AlreadyExists.into())
}

fn make_folders(system: &dyn System, root: BorrowedFd<'_>, path: &[u8]) -> io::Result<()> {
    let mut at = system.open_folder(root, b"")?;
    for name in path.split(|b| *b == b'/').filter(|name| !name.is_empty()) {
        taken_or(system.create_folder(at.as_fd(), name, 0o700))?;
        at = system.open_folder(at.as_fd(), name)?;
    }
    Ok(())
}

/// Another worker may have made it first.
fn taken_or(made: io::Result<()>) -> io::Result<()> {
    match made {
        Err(e) if e.kind() == ErrorKind::AlreadyExists => Ok(()),
        other => other,
    }
}
