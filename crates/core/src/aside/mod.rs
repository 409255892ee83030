//! What a run would remove or replace, kept in a folder of its own, and the way back.
//!
//! A run that sets aside has a place in a [store of runs](crate::runs): what it displaces lies there under
//! the paths it had, and its notes hold its plan, the state that each entry had before its attributes were
//! changed, and the state that each step left. What is needed to undo the run is on the drive before it
//! does anything, so a run that was killed can be undone, too.

mod earlier;
mod home;
mod moved;
mod notes;
mod origin;
mod overview;
mod partners;
mod past;
mod regroup;
mod undo;

use std::ffi::OsStr;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use crate::abilities::Abilities;
use crate::abilities::Names;
use crate::aspect::Aspects;
use crate::os::{Caller, Entry, Identity, Kind, Lock, System};
use crate::plan::Plan;
use crate::problem::{Operation, Problem};
use crate::reach::{self, Reach};
use crate::request::{Keeping, Request, SetAside};
use crate::runs::{self, Mark, NOTES, Recorder, Store};
use crate::sides::{self, CallError, Pair, Place};
use crate::state::{Before, Left, State};

use notes::{Note, Root};

pub(crate) use earlier::Earlier;
pub use notes::About;
pub use overview::{NotDiscarded, Overview, discard, past_run, past_runs};
pub use past::{BadRun, PastRun};

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

/// The same of a folder of the source, on whatever drive that is.
pub(crate) fn look_here(
    system: &dyn System,
    caller: &Caller,
    folder: BorrowedFd<'_>,
) -> io::Result<Before> {
    let reach = Reach::new(Aspects::ALL, Abilities::default(), caller, 0);
    look_before(system, &reach, Entry::Open(folder))
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

    pub(crate) fn is_in_the_way_of_any(&self, system: &dyn System, pairs: &[Pair]) -> bool {
        pairs.iter().any(|pair| self.is_in_the_way(system, pair).unwrap_or(true))
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
        let Some(keep) = &set_aside.keep else { return Vec::new() };
        let problem = |(run, cause): (String, io::Error)| Problem {
            path: self.path.join(run).as_os_str().as_encoded_bytes().into(),
            operation: Operation::Prune,
            cause: cause.into(),
        };
        // Where a drive is not there, nobody can say that its runs are not needed any more.
        let may_go = |run: &str| match PastRun::open(system, &self.path.join(run)) {
            Ok(past) => past.pairs().is_ok_and(|pairs| past.other_place(&pairs).is_none()),
            // Neither can they of what cannot be read, or only by a later version.
            Err(error) => matches!(error, BadRun::NeverBegun(_)),
        };
        match open_store(system, &self.path).and_then(|store| store.prune(keep, may_go)) {
            Ok(failed) => failed.into_iter().map(problem).collect(),
            Err(error) => vec![problem((String::new(), error))],
        }
    }
}

fn open_store<'a>(system: &'a dyn System, path: &Path) -> io::Result<Store<'a>> {
    let root = system.open_root(path)?;
    Ok(Store::of(system, system.open_folder(root.as_fd(), b"")?))
}

/// The store that holds the run whose folder, or notes, lie at `path`, and the name of the run.
fn locate<'a>(system: &'a dyn System, path: &Path) -> io::Result<(Store<'a>, String)> {
    let name = path.file_name().and_then(OsStr::to_str).ok_or(ErrorKind::NotFound)?;
    let name = name.strip_suffix(NOTES).unwrap_or(name).to_owned();
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    Ok((open_store(system, above.unwrap_or(Path::new(".")))?, name))
}

/// The runs that a folder holds, if it is one where runs set aside, the oldest first.
fn runs_below(system: &dyn System, path: &Path) -> Vec<String> {
    let runs = open_store(system, path).and_then(|store| store.names()).unwrap_or_default();
    runs.into_iter().map(|run| path.join(run).to_string_lossy().into_owned()).collect()
}

/// What a run sets aside, and its notes.
pub(crate) struct Aside<'a> {
    system: &'a dyn System,
    /// The folder of the run.
    pub(crate) folder: OwnedFd,
    /// Held as long as something may still be set aside there.
    _lock: Option<Lock>,
    /// The same, as the user may name it.
    pub(crate) path: PathBuf,
    /// What its drive can hold.
    pub(crate) reach: Reach,
    recorder: Recorder<'a>,
    keeping: Keeping,
    /// Why the notes are not whole, where the run goes on without.
    lost: OnceLock<io::Error>,
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
            make_folder(system, at.as_fd(), name, 0o777 & !caller.umask | 0o700)?;
            at = system.open_folder(at.as_fd(), name)?;
        }
        let run = Store::of(system, at).begin(&set_aside.run)?;
        let (folder, recorder) = (run.folder, run.recorder);
        notes::add_plan(&recorder, plan, request)?;
        let mut roots = Vec::new();
        for pair in pairs {
            make_folders(system, folder.as_fd(), pair.prefix.as_bytes())?;
            let at = std::path::absolute(&pair.destination_path)?;
            let (drive, inode) = undo::identity(system, pair);
            roots.push(Root {
                folder: at.as_os_str().as_encoded_bytes().into(),
                prefix: pair.prefix.as_bytes().into(),
                drive,
                inode,
                made: count(pair.destination.missing.len()),
                above: undo::time_above(pair),
            });
        }
        notes::add(&recorder, &Note::Roots(roots))?;
        if request.task.vacates() {
            let origins = pairs.iter().map(|pair| origin::of(system, pair));
            notes::add(&recorder, &Note::Sources(origins.collect::<io::Result<_>>()?))?;
        }
        let abilities = match set_aside.what {
            Keeping::Displaced => Abilities::try_out(system, caller, folder.as_fd()),
            // Nothing but notes is written there.
            Keeping::Notes => Abilities::default(),
        };
        let reach = Reach::new(Aspects::ALL, abilities, caller, 0);
        let path = shelf.path.join(run.name);
        let (keeping, lost) = (set_aside.what, OnceLock::new());
        Ok(Self { system, folder, _lock: run.lock, path, reach, recorder, keeping, lost })
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
    pub(crate) fn note_before(&self, part: usize, path: &[u8], was: Before) -> io::Result<()> {
        notes::add(&self.recorder, &Note::Before { part: count(part), path: path.into(), was })
    }

    /// Writes down what a step left.
    pub(crate) fn note_after(&self, part: usize, path: &[u8], left: Left) -> io::Result<()> {
        notes::add(&self.recorder, &Note::After { part: count(part), path: path.into(), left })
    }

    /// Writes down what a folder of the source is like, before something goes from it.
    pub(crate) fn note_here(&self, part: usize, path: &[u8], was: Before) -> io::Result<()> {
        notes::add(&self.recorder, &Note::Here { part: count(part), path: path.into(), was })
    }

    /// Writes down that an entry and its copy are the same.
    pub(crate) fn note_proven(
        &self,
        part: usize,
        path: &[u8],
        (here, there): (Left, Left),
    ) -> io::Result<()> {
        let (part, path) = (count(part), path.into());
        notes::add(&self.recorder, &Note::Proven { part, path, here, there })
    }

    /// Brings what was noted onto the drive: now the deeds may come that it tells how to undo.
    pub(crate) fn open_gate(&self) -> io::Result<()> {
        self.recorder.mark(Mark::Gate)
    }

    /// Writes down that the run came to its end.
    pub(crate) fn end_notes(&self) -> io::Result<()> {
        self.recorder.mark(Mark::Ended)
    }

    /// Brings the notes, and what was set aside, onto the drive.
    pub(crate) fn flush(&self) -> io::Result<()> {
        self.system.flush_drive(self.folder.as_fd())
    }
}

fn count(number: usize) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

fn make_folders(system: &dyn System, root: BorrowedFd<'_>, path: &[u8]) -> io::Result<()> {
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
        Ok(()) => runs::grant(system, Entry::Named(at, name), mode),
        failed => failed,
    }
}
