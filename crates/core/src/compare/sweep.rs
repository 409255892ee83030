//! The contents of all files compared in the order in which they lie on a drive with a head, before the trees
//! are gone through for good: what was the same is then known, and whatever differs is read once more where it
//! is met.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher as _};
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::head::{self, Ahead, Heads, Sample};
use crate::os::{Entry, Stat};
use crate::path::{NameRange, Names, TreePath};
use crate::request::{By, Reading};

use super::content::CHUNK;
use super::difference::{Below, Folder, Station};
use super::{Comparison, Halt, content, walk};

/// How the contents of files come to be compared.
#[derive(Debug, Default)]
pub(crate) enum Contents {
    /// They are read where they are met.
    #[default]
    Read,
    /// They are noted, to be read in their order.
    Noted(Noted),
    /// Those of these files were read, and were the same; all others are read where they are met.
    Known(Known),
}

/// Pairs of files that were the same, by what tells a state of both from any other; sorted.
#[derive(Debug, Default)]
pub(crate) struct Known(Vec<u128>);

/// Files that are to be read.
#[derive(Debug, Default)]
pub(crate) struct Noted {
    files: Mutex<Files>,
    /// What was known before.
    before: Known,
    /// There are more than are kept at a time.
    is_full: AtomicBool,
    /// They are in memory, so that their order does not count.
    is_in_memory: AtomicBool,
}

#[derive(Debug, Default)]
struct Files {
    folders: Vec<TreePath>,
    numbers: HashMap<TreePath, u32>,
    names: Names,
    all: Vec<File>,
    sample: Sample,
}

#[derive(Clone, Copy, Debug)]
struct File {
    place: u64,
    folder: u32,
    name: NameRange,
}

/// How many are read in one sweep: their names and places take some 20 MiB.
const AT_A_TIME: usize = 1 << 19;

impl Contents {
    pub(super) fn is_noted(&self) -> bool {
        matches!(self, Self::Noted(_))
    }

    /// Nothing more is to be noted.
    pub(super) fn has_enough(&self) -> bool {
        match self {
            Self::Noted(noted) => {
                let is_set = |flag: &AtomicBool| flag.load(Ordering::Relaxed);
                is_set(&noted.is_full) || is_set(&noted.is_in_memory)
            }
            Self::Read | Self::Known(_) => false,
        }
    }

    /// All that is listed was listed once before.
    pub(super) fn was_swept(&self) -> bool {
        matches!(self, Self::Known(known) if !known.0.is_empty())
    }

    pub(super) fn are_the_same(&self, source: &Stat, destination: &Stat) -> bool {
        match self {
            Self::Known(known) => known.has(source, destination),
            Self::Read | Self::Noted(_) => false,
        }
    }
}

impl Known {
    fn has(&self, source: &Stat, destination: &Stat) -> bool {
        !self.0.is_empty() && self.0.binary_search(&mark_of(source, destination)).is_ok()
    }
}

fn mark_of(source: &Stat, destination: &Stat) -> u128 {
    let half = |first: u8| {
        let mut hasher = DefaultHasher::new();
        first.hash(&mut hasher);
        for Stat { identity, size, modified, changed, .. } in [source, destination] {
            let times = (modified.secs, modified.nanos, changed.secs, changed.nanos);
            (identity, size, times).hash(&mut hasher);
        }
        u128::from(hasher.finish())
    };
    half(0) << 64 | half(1)
}

/// Decides nothing.
struct Nobody;

impl Station for Nobody {
    fn folder(&mut self, _: Folder) -> Below {
        Below::default()
    }
}

/// Compares what can be compared beforehand, where that is worth it.
pub(crate) fn sweep(comparison: &mut Comparison<'_>) -> Result<(), Halt> {
    let reads = comparison.scope.by == By::Content && comparison.pair.single.is_none();
    if !reads || !comparison.reads.heads.any() {
        return Ok(());
    }
    let mut known = Known::default();
    loop {
        let before = std::mem::take(&mut known);
        comparison.reads.contents = Contents::Noted(Noted { before, ..Noted::default() });
        let mut findings = walk::go(comparison, &mut Nobody);
        if let Some(halt) = findings.halt.take() {
            return Err(halt);
        }
        let Contents::Noted(noted) = std::mem::take(&mut comparison.reads.contents) else { break };
        let (is_full, is_in_memory) = (noted.is_full.into_inner(), noted.is_in_memory.into_inner());
        known = noted.before;
        let files = noted.files.into_inner().unwrap_or_else(PoisonError::into_inner);
        let counts = comparison.scope.reading == Reading::AsCached;
        if is_in_memory || counts && files.sample.is_mostly_in_memory() {
            break;
        }
        let same = files.compare(comparison);
        let is_stuck = same.is_empty();
        known.0.extend(same);
        known.0.sort_unstable();
        if !is_full || is_stuck || comparison.observer.stop_requested() {
            break;
        }
    }
    comparison.reads.contents = Contents::Known(known);
    Ok(())
}

/// What a drive holds is to be read, if that was asked for.
fn forget(context: &Comparison<'_>, file: BorrowedFd<'_>) {
    if context.scope.reading == Reading::FromDrive {
        content::forget(context, file);
    }
}

/// Notes a file of which both sides are open, to be read later.
pub(super) fn note(
    context: &Comparison<'_>,
    (folder, name): (&TreePath, &[u8]),
    (source, destination): ((BorrowedFd<'_>, &Stat), (BorrowedFd<'_>, &Stat)),
) {
    let Contents::Noted(noted) = &context.reads.contents else { return };
    if source.1.size == 0 || noted.before.has(source.1, destination.1) {
        return;
    }
    let (head, (file, stat)) = match &context.reads.heads {
        Heads { source: Some(head), .. } => (head, source),
        Heads { destination: Some(head), .. } => (head, destination),
        Heads { .. } => return,
    };
    let place = head.place_of(context.system, file, stat.identity.inode);
    let mut files = noted.files.lock().unwrap_or_else(PoisonError::into_inner);
    if files.all.len() >= AT_A_TIME {
        noted.is_full.store(true, Ordering::Relaxed);
        return;
    }
    if context.scope.reading == Reading::AsCached {
        files.sample.ask(context.system, file);
        noted.is_in_memory.store(files.sample.is_in_memory(), Ordering::Relaxed);
    }
    files.add(folder, name, place);
}

impl Files {
    fn add(&mut self, folder: &TreePath, name: &[u8], place: u64) {
        let Self { folders, numbers, names, all, .. } = self;
        let folder = numbers.get(folder).copied().unwrap_or_else(|| {
            let number = u32::try_from(folders.len()).unwrap_or(u32::MAX);
            numbers.insert(folder.clone(), number);
            folders.push(folder.clone());
            number
        });
        all.push(File { place, folder, name: names.add(name) });
    }

    /// Reads them in their order; returns the marks of those that are the same.
    fn compare(mut self, context: &Comparison<'_>) -> Vec<u128> {
        self.all.sort_unstable_by_key(|file| file.place);
        let all = std::mem::take(&mut self.all);
        let same = Mutex::new(Vec::new());
        let stops = || context.observer.stop_requested();
        let root = match context.reads.heads.source {
            Some(_) => context.pair.source.as_fd(),
            None => context.pair.destination.anchor.as_fd(),
        };
        head::sweep(
            &context.crew,
            all,
            |file| match self.open(context, root, *file).ok().filter(|_| !stops()) {
                Some((file, stat)) => {
                    forget(context, file.as_fd());
                    // What cannot be read is told of where it is met.
                    let brought = head::bring(context.system, file.as_fd(), stat.size);
                    brought.unwrap_or(Ahead::Read)
                }
                None => Ahead::Read,
            },
            |file| {
                // What cannot be read is told of where it is met.
                if let Some(mark) =
                    self.compare_one(context, file).ok().flatten().filter(|_| !stops())
                {
                    same.lock().unwrap_or_else(PoisonError::into_inner).push(mark);
                }
            },
        );
        same.into_inner().unwrap_or_else(PoisonError::into_inner)
    }

    fn open(
        &self,
        context: &Comparison<'_>,
        root: BorrowedFd<'_>,
        File { folder, name, .. }: File,
    ) -> io::Result<(OwnedFd, Stat)> {
        let folder = &self.folders[folder as usize];
        let folder = context.system.open_folder(root, folder.as_bytes())?;
        let file = context.system.open_file(folder.as_fd(), self.names.get(name))?;
        let stat = context.system.stat(Entry::Open(file.as_fd()))?;
        Ok((file, stat))
    }

    fn compare_one(&self, context: &Comparison<'_>, file: File) -> io::Result<Option<u128>> {
        let pair = context.pair;
        let (here, source) = self.open(context, pair.source.as_fd(), file)?;
        let (there, destination) = self.open(context, pair.destination.anchor.as_fd(), file)?;
        // The other one was brought in anew.
        let other = if context.reads.heads.source.is_some() { &there } else { &here };
        forget(context, other.as_fd());
        if source.size != destination.size {
            return Ok(None);
        }
        let differs = content::first_difference(context, here.as_fd(), there.as_fd(), source.size)?;
        context.crew.did(1 + source.size / CHUNK);
        Ok(differs.is_none().then(|| mark_of(&source, &destination)))
    }
}
