//! The proof of a rename: an entry of the source and one of the destination, under different names, are equal in
//! every byte and attribute. Nothing later would notice an error.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::io;
use std::ops::Range;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_files::listing::Listing;
use utter_echo_model::attribute::Attributes;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, Identity, Kind, Stat};

use crate::compare::comparison::Comparison;
use crate::compare::difference::DifferenceKind;
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
        // An entry that cannot be read does not count as equal.
        self.prove(moved).ok().flatten()
    }
}

/// Names of a folder of the source, each with its folder number if it is a folder.
type NamesHere<'m> = Vec<(&'m [u8], Option<usize>)>;

/// A task of a worker.
enum ProofTask<'m> {
    /// Two folders, and the number of the first.
    Folder { from: TreePath, to: TreePath, folder: Option<usize> },
    /// Some of the names of two folders, which are listed once.
    Names { from: TreePath, to: TreePath, names: Arc<NamesHere<'m>>, range: Range<usize> },
}

/// Names compared in one task.
const NAMES_AT_A_TIME: usize = 256;

impl Comparison<'_> {
    fn prove(&self, moved: &MovedEntry<'_>) -> io::Result<Option<ProvenRename>> {
        let MovedEntry { source, destination, drive, .. } = moved;
        let ((above, name), (other_above, other)) = (source.split_last(), destination.split_last());
        let (from, to) = (self.open_source(above)?, self.open_destination(other_above)?);
        let own = self.compare_pair((&from, name), (&to, other), *drive)?;
        let attributes = match own.what {
            // Its hard links would have to be renamed as well.
            _ if own.linked.is_some() || own.crosses => return Ok(None),
            DifferenceKind::Nothing => Attributes::NONE,
            DifferenceKind::Attributes(attributes) => attributes,
            _ => return Ok(None),
        };
        let same = own.kind != Kind::Folder || self.same_below(moved);
        Ok(same.then_some(ProvenRename { attributes }))
    }

    fn open_source(&self, path: &[u8]) -> io::Result<OwnedFd> {
        self.system.open_folder(self.pair.source.as_fd(), path)
    }

    fn open_destination(&self, path: &[u8]) -> io::Result<OwnedFd> {
        self.system.open_folder(self.pair.destination.anchor.as_fd(), path)
    }

    /// True if two folders have equal contents.
    fn same_below(&self, moved: &MovedEntry<'_>) -> bool {
        let same = AtomicBool::new(true);
        let groups = Mutex::new(Vec::new());
        let MovedEntry { source, destination, folder, .. } = moved;
        let (from, to) = (source.clone(), destination.clone());
        let first = vec![ProofTask::Folder { from, to, folder: *folder }];
        self.pool.run(first, |task, stack| {
            let goes_on = same.load(Ordering::Relaxed) && !self.observer.stop_requested();
            match goes_on.then(|| self.same_entries(moved, task, &groups)) {
                Some(Ok(Some(more))) => stack.push(more.into_iter()),
                _ => same.store(false, Ordering::Relaxed),
            }
        });
        same.into_inner() && same_groups(&groups.into_inner())
    }

    /// Returns the next tasks; `None` if something differs.
    fn same_entries<'m>(
        &self,
        moved: &MovedEntry<'m>,
        task: ProofTask<'m>,
        groups: &Mutex<Vec<(Stat, Stat)>>,
    ) -> io::Result<Option<Vec<ProofTask<'m>>>> {
        let (from, to, names, range) = match task {
            ProofTask::Folder { from, to, folder } => {
                return self.same_names(moved, (&from, &to), folder);
            }
            ProofTask::Names { from, to, names, range } => (from, to, names, range),
        };
        let source = self.open_source(from.as_bytes())?;
        let destination = self.open_destination(to.as_bytes())?;
        let mut more = Vec::new();
        for (name, folder) in &names[range] {
            let held = self.compare_pair((&source, name), (&destination, name), moved.drive)?;
            self.pool.did(1);
            if held.what != DifferenceKind::Nothing || held.crosses {
                return Ok(None);
            }
            if let Some(both) = held.linked {
                groups.lock().push(both);
            }
            if held.kind == Kind::Folder {
                let (from, to) = (from.join(name), to.join(name));
                more.push(ProofTask::Folder { from, to, folder: *folder });
            }
        }
        Ok(Some(more))
    }

    /// Splits the names of two folders into tasks; `None` if they differ.
    fn same_names<'m>(
        &self,
        moved: &MovedEntry<'m>,
        (from, to): (&TreePath, &TreePath),
        folder: Option<usize>,
    ) -> io::Result<Option<Vec<ProofTask<'m>>>> {
        let here = folder.map(|folder| moved.wanted.names(folder)).unwrap_or_default();
        let there = Listing::read(self.system, self.open_destination(to.as_bytes())?.as_fd())?;
        let same = here.len() == there.count()
            && (0..there.count()).all(|at| there.get(at).map(|(name, _)| name) == Some(here[at].0));
        let names = Arc::new(here);
        let ranges = (0..names.len()).step_by(NAMES_AT_A_TIME);
        Ok(same.then(|| {
            let tasks = ranges.map(|begin| ProofTask::Names {
                from: from.clone(),
                to: to.clone(),
                range: begin..names.len().min(begin + NAMES_AT_A_TIME),
                names: Arc::clone(&names),
            });
            tasks.collect()
        }))
    }

    /// Compares two entries with every byte read.
    fn compare_pair(
        &self,
        (source, name): (&OwnedFd, &[u8]),
        (destination, other): (&OwnedFd, &[u8]),
        drive: DriveId,
    ) -> io::Result<PairResult> {
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
        Ok(PairResult { what, kind: here.kind, linked, crosses })
    }
}

/// The result of comparing two entries with every byte read.
struct PairResult {
    what: DifferenceKind,
    /// Of the source's.
    kind: Kind,
    /// Both entries, if either has hard links.
    linked: Option<(Stat, Stat)>,
    /// Another drive is mounted on the destination's entry.
    crosses: bool,
}

/// True if the same names are hard links on both sides, and there are no others elsewhere.
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
