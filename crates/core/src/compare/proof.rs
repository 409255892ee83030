//! Whether an entry of the source and one of the destination, under different names, are the same to the
//! last byte and attribute: what a rename needs to be true, and nothing else would ever notice.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_files::listing::Listing;
use utter_echo_model::aspect::Aspects;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Identity, Kind, Stat};

use crate::compare::comparison::Comparison;
use crate::compare::difference::What;
use crate::compare::entry::{self, BothEntries};
use crate::compare::in_disk_order;
use crate::compare::rename_proof::{LikelyRenames, MovedEntry, Proof, ProvenRename};
use crate::request::HiddenAttributes;

impl Proof for Comparison<'_> {
    fn expects(&self) -> bool {
        self.reads.disks.any()
    }

    fn expect(&self, likely: &dyn LikelyRenames) {
        in_disk_order::compare_renamed(self, likely);
    }

    fn same(&self, moved: &MovedEntry<'_>) -> Option<ProvenRename> {
        // What cannot be looked at is not the same as far as is known.
        self.prove(moved).ok().flatten()
    }
}

/// Two folders, the number of the first, and the first of the names that are to be looked at.
struct FolderRange {
    from: TreePath,
    to: TreePath,
    folder: Option<usize>,
    begin: usize,
}

/// Names compared in one task. The rest of a folder is a task of its own, behind the folders found so far.
const STRETCH: usize = 256;

impl Comparison<'_> {
    fn prove(&self, moved: &MovedEntry<'_>) -> io::Result<Option<ProvenRename>> {
        let MovedEntry { source, destination, drive, .. } = moved;
        let ((above, name), (other_above, other)) = (source.split_last(), destination.split_last());
        let (from, to) = (self.open_source(above)?, self.open_destination(other_above)?);
        let own = self.hold_together((&from, name), (&to, other), *drive)?;
        let aspects = match own.what {
            // Its other names would have to move as well.
            _ if own.linked.is_some() || own.crosses => return Ok(None),
            What::Nothing => Aspects::NONE,
            What::Aspects(aspects) => aspects,
            _ => return Ok(None),
        };
        let same = own.kind != Kind::Folder || self.same_below(moved);
        Ok(same.then_some(ProvenRename { aspects }))
    }

    fn open_source(&self, path: &[u8]) -> io::Result<OwnedFd> {
        self.system.open_folder(self.pair.source.as_fd(), path)
    }

    fn open_destination(&self, path: &[u8]) -> io::Result<OwnedFd> {
        self.system.open_folder(self.pair.destination.anchor.as_fd(), path)
    }

    /// True if all that two folders hold is the same.
    fn same_below(&self, moved: &MovedEntry<'_>) -> bool {
        let same = AtomicBool::new(true);
        let groups = Mutex::new(Vec::new());
        let MovedEntry { source, destination, folder, .. } = moved;
        let (from, to) = (source.clone(), destination.clone());
        let first = vec![FolderRange { from, to, folder: *folder, begin: 0 }];
        self.pool.run(first, |stretch, stack| {
            let goes_on = same.load(Ordering::Relaxed) && !self.observer.stop_requested();
            match goes_on.then(|| self.same_entries(moved, &stretch, &groups)) {
                Some(Ok(Some(more))) => stack.push(more.into_iter()),
                _ => same.store(false, Ordering::Relaxed),
            }
        });
        same.into_inner() && same_groups(&groups.into_inner())
    }

    /// Compares some entries of two folders; returns where to go on, `None` if one differs.
    fn same_entries(
        &self,
        moved: &MovedEntry<'_>,
        FolderRange { from, to, folder, begin }: &FolderRange,
        groups: &Mutex<Vec<(Stat, Stat)>>,
    ) -> io::Result<Option<Vec<FolderRange>>> {
        let (source, destination) =
            (self.open_source(from.as_bytes())?, self.open_destination(to.as_bytes())?);
        let here = folder.map(|folder| moved.wanted.names(folder)).unwrap_or_default();
        let there = Listing::read(self.system, destination.as_fd())?;
        let same_names = here.len() == there.count()
            && (0..there.count()).all(|at| there.get(at).map(|(name, _)| name) == Some(here[at].0));
        if !same_names {
            return Ok(None);
        }
        let end = here.len().min(begin.saturating_add(STRETCH));
        let mut more = Vec::new();
        for (name, folder) in &here[*begin..end] {
            let held = self.hold_together((&source, name), (&destination, name), moved.drive)?;
            self.pool.did(1);
            if held.what != What::Nothing || held.crosses {
                return Ok(None);
            }
            if let Some(both) = held.linked {
                groups.lock().push(both);
            }
            if held.kind == Kind::Folder {
                let (from, to) = (from.join(name), to.join(name));
                more.push(FolderRange { from, to, folder: *folder, begin: 0 });
            }
        }
        if end < here.len() {
            let (from, to) = (from.clone(), to.clone());
            more.push(FolderRange { from, to, folder: *folder, begin: end });
        }
        Ok(Some(more))
    }

    /// Compares two entries with every byte read.
    fn hold_together(
        &self,
        (source, name): (&OwnedFd, &[u8]),
        (destination, other): (&OwnedFd, &[u8]),
        drive: DriveId,
    ) -> io::Result<ComparedPair> {
        let system = self.system;
        let (from, to) =
            (Entry::Named(source.as_fd(), name), Entry::Named(destination.as_fd(), other));
        let (here, there) = (system.stat(from)?, system.stat(to)?);
        let linked = here.kind != Kind::Folder && (here.links > 1 || there.links > 1);
        let linked = linked.then_some((here, there));
        let drive = self.drives.get(drive);
        let crosses = there.mounted || there.identity.drive != drive.identity.drive;
        let sides = BothEntries {
            source: (from, &here),
            destination: (to, &there),
            unflushed: None,
            attributes: HiddenAttributes::Always,
            at: None,
        };
        let what = entry::compare_all(self, &drive.capabilities, &sides)?;
        Ok(ComparedPair { what, kind: here.kind, linked, crosses })
    }
}

/// What became of comparing two entries with every byte read.
struct ComparedPair {
    what: What,
    /// Of the source's.
    kind: Kind,
    /// Both, if they have other names.
    linked: Option<(Stat, Stat)>,
    /// Another drive is mounted on the destination's.
    crosses: bool,
}

/// True if the same names share a file on both sides, and no name elsewhere does.
fn same_groups(pairs: &[(Stat, Stat)]) -> bool {
    let mut counts: HashMap<Identity, (Identity, u32)> = HashMap::new();
    let mut taken = HashMap::new();
    for (here, there) in pairs {
        let known = counts.entry(here.identity).or_insert((there.identity, 0));
        known.1 += 1;
        let back = *taken.entry(there.identity).or_insert(here.identity);
        if known.0 != there.identity || back != here.identity || here.links != there.links {
            return false;
        }
    }
    pairs.iter().all(|(here, _)| counts[&here.identity].1 == here.links)
}
