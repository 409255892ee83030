//! Locks of folders, which keep runs on nested places apart.
//!
//! A run locks what it changes exclusively, and every folder above as shared, across mounts and up to the root of
//! the system. So a run below or above another finds a lock. Commands that change nothing lock nothing. Where a
//! drive cannot lock, or the user may not read a folder, there is no lock.

use std::collections::BTreeMap;
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_model::note::Note;
use utter_echo_os::{Caller, Entry, Identity, Lock, LockMode, Stat, System};

use crate::guard::refusal::Refusal;
use crate::sides::{self, Pair, SetAsidePlace};

/// A folder to lock.
struct FolderToLock {
    folder: OwnedFd,
    stat: Stat,
    mode: LockMode,
    /// The place that needs the lock, as the user named it.
    shown: String,
}

/// Takes the locks of a run, which are held until its end, and returns notes on locks that were ignored. With
/// `refuses`, a lock of another run is an error. The set-aside folder is not locked as shared if it lies above the
/// destination, since the run locks it later.
pub(crate) fn take(
    system: &dyn System,
    (pairs, aside_place): (&[Pair], Option<&SetAsidePlace>),
    takes_from_source: bool,
    refuses: bool,
) -> Result<(Vec<Lock>, Vec<Note>), Refusal> {
    let (mut locks, mut notes) = (Vec::new(), Vec::new());
    let store = aside_place.and_then(SetAsidePlace::store);
    let is_store =
        |it: &FolderToLock| it.mode == LockMode::Shared && Some(it.stat.identity) == store;
    let all = to_lock(system, pairs, takes_from_source).into_values();
    for FolderToLock { folder, stat, mode, shown } in all.filter(|it| !is_store(it)) {
        match system.lock(folder.as_fd(), mode) {
            Ok(Some(lock)) => locks.push(lock),
            Ok(None) => match foreign_holder(system, &folder, &stat) {
                Some(process) => notes.push(Note::LockPassedOver { path: shown, process }),
                None if refuses => return Err(Refusal::OtherRun { path: shown }),
                None => {}
            },
            // The drive cannot lock, or the user may not read the folder.
            Err(_) => {}
        }
    }
    notes.dedup();
    Ok((locks, notes))
}

/// By identity, since a folder above several places is locked once.
fn to_lock(
    system: &dyn System,
    pairs: &[Pair],
    takes_from_source: bool,
) -> BTreeMap<Identity, FolderToLock> {
    let mut all = BTreeMap::new();
    for pair in pairs {
        let destination = &pair.destination;
        // A missing destination is locked once it is made.
        let mode = if destination.exists() { LockMode::Alone } else { LockMode::Shared };
        add_with_all_above(system, &destination.anchor, (mode, &pair.destination_shown), &mut all);
        if takes_from_source {
            let how = (LockMode::Alone, &pair.source_shown);
            add_with_all_above(system, &pair.source, how, &mut all);
        }
    }
    all
}

fn add_with_all_above(
    system: &dyn System,
    place: &OwnedFd,
    (mode, shown): (LockMode, &String),
    all: &mut BTreeMap<Identity, FolderToLock>,
) {
    // If the folders above cannot be opened, the place itself is locked all the same.
    let above = sides::open_folders_above(system, place).unwrap_or_default();
    let above = above.into_iter().map(|folder| (folder, LockMode::Shared));
    let own = place.try_clone().map(|own| (own, mode));
    for (folder, mode) in own.into_iter().chain(above) {
        let Ok(stat) = system.stat(Entry::Pinned(folder.as_fd())) else { continue };
        let shown = shown.clone();
        let known = all.entry(stat.identity).or_insert(FolderToLock { folder, stat, mode, shown });
        known.mode = known.mode.max(mode);
    }
}

/// The process that holds the lock of a folder in which it may change nothing, so that it is no run there. Nobody
/// can block others that way.
fn foreign_holder(system: &dyn System, folder: &OwnedFd, stat: &Stat) -> Option<u32> {
    let holders = system.lock_holders(folder.as_fd()).ok()?;
    let may_change =
        |caller: &Option<Caller>| caller.as_ref().is_none_or(|caller| caller.may_write_into(stat));
    let is_foreign = holders.iter().all(|holder| !may_change(&holder.caller));
    holders.first().filter(|_| is_foreign).map(|holder| holder.process)
}
