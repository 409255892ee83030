//! The contents of all files compared in the order in which they lie on a drive with a head, before the trees
//! are gone through for good: what was the same is then known, and whatever differs is read once more where it
//! is met.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher as _};
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::head::{self, Ahead, Brought, Heads, OneSide, Sample};
use crate::os::{Entry, Stat};
use crate::path::{NameRange, Names, TreePath};
use crate::request::{By, Reading};

use super::content::CHUNK;
use super::difference::{Below, Folder, Station};
use super::proof::Likely;
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
    /// Of both sides.
    bytes: u64,
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

    pub(super) fn are_the_same(&self, source: &Stat, destination: &Stat) -> bool {
        match self {
            Self::Known(known) => known.has(source, destination),
            Self::Read | Self::Noted(_) => false,
        }
    }
}

impl Known {
    pub(super) fn has(&self, source: &Stat, destination: &Stat) -> bool {
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
        // Of what is left for another sweep nothing is known yet.
        if !is_full {
            comparison.observer.comparing(files.bytes);
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
    files.bytes += 2 * source.1.size;
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
        in_order(context, all, &InFolders { context, files: &self })
    }
}

/// Files that both sides hold, whatever they are called there.
trait OnBoth: Sync {
    type File: Copy + Send + Sync;

    fn open_source(&self, file: Self::File) -> io::Result<OwnedFd>;
    fn open_destination(&self, file: Self::File) -> io::Result<OwnedFd>;
}

/// Those that have one name on both sides.
struct InFolders<'a> {
    context: &'a Comparison<'a>,
    files: &'a Files,
}

impl InFolders<'_> {
    fn open(&self, root: BorrowedFd<'_>, File { folder, name, .. }: File) -> io::Result<OwnedFd> {
        let folder = &self.files.folders[folder as usize];
        let folder = self.context.system.open_folder(root, folder.as_bytes())?;
        self.context.system.open_file(folder.as_fd(), self.files.names.get(name))
    }
}

impl OnBoth for InFolders<'_> {
    type File = File;

    fn open_source(&self, file: File) -> io::Result<OwnedFd> {
        self.open(self.context.pair.source.as_fd(), file)
    }

    fn open_destination(&self, file: File) -> io::Result<OwnedFd> {
        self.open(self.context.pair.destination.anchor.as_fd(), file)
    }
}

/// Those that may only have been renamed, by their numbers.
struct Renamed<'a> {
    context: &'a Comparison<'a>,
    likely: &'a dyn Likely,
}

impl Renamed<'_> {
    fn open(&self, root: BorrowedFd<'_>, path: &TreePath) -> io::Result<OwnedFd> {
        let (above, name) = path.split_last();
        let folder = self.context.system.open_folder(root, above)?;
        self.context.system.open_file(folder.as_fd(), name)
    }
}

impl OnBoth for Renamed<'_> {
    type File = (u64, u32);

    fn open_source(&self, (_, number): (u64, u32)) -> io::Result<OwnedFd> {
        self.open(self.context.pair.source.as_fd(), &self.likely.paths(number as usize).0)
    }

    fn open_destination(&self, (_, number): (u64, u32)) -> io::Result<OwnedFd> {
        self.open(
            self.context.pair.destination.anchor.as_fd(),
            &self.likely.paths(number as usize).1,
        )
    }
}

/// Compares files that may only have been renamed before each is asked for, where that is worth it.
pub(super) fn compare_renamed(context: &Comparison<'_>, likely: &dyn Likely) {
    let renamed = Renamed { context, likely };
    let is_source = context.reads.heads.source.is_some();
    let head = context.reads.heads.source.as_ref().or(context.reads.heads.destination.as_ref());
    let (Some(head), Ok(count)) = (head, u32::try_from(likely.count())) else { return };
    let inode_of = |number: u32| {
        let (source, destination) = likely.inodes(number as usize);
        if is_source { source } else { destination }
    };
    // To find out where they lie means to look at each, in the order of the inodes.
    let mut all: Vec<(u64, u32)> = (0..count).map(|number| (inode_of(number), number)).collect();
    all.sort_unstable();
    // What cannot be opened is not the same as far as is known.
    let open = |file| {
        if is_source { renamed.open_source(file) } else { renamed.open_destination(file) }.ok()
    };
    if head::are_in_memory(context.system, (all.iter().copied(), all.len()), open) {
        return;
    }
    for file in &mut all {
        if let Some(opened) = open(*file) {
            file.0 = head.place_of(context.system, opened.as_fd(), file.0);
        }
    }
    all.sort_unstable();
    let mut known = in_order(context, all, &renamed);
    known.sort_unstable();
    // Set once: whatever is asked for a second time is the same as the first.
    let _ = context.reads.renamed.set(Known(known));
}

/// Reads these files, which are in their order; returns the marks of those that are the same.
fn in_order<B: OnBoth>(context: &Comparison<'_>, all: Vec<B::File>, both: &B) -> Vec<u128> {
    let same = Mutex::new(Vec::new());
    let stops = || context.observer.stop_requested();
    // What cannot be read is told of where it is met.
    let bring = |file: io::Result<OwnedFd>| {
        let nothing = Brought { ahead: Ahead::Read, bytes: 0 };
        let Some(file) = file.ok().filter(|_| !stops()) else { return nothing };
        forget(context, file.as_fd());
        let stat = context.system.stat(Entry::Open(file.as_fd()));
        let brought = stat.and_then(|stat| {
            let ahead = head::bring(context.system, file.as_fd(), stat.size)?;
            Ok(Brought { ahead, bytes: stat.size })
        });
        brought.unwrap_or(nothing)
    };
    let compare = |file: B::File| {
        let mark = compare_one(context, file, both).ok().flatten().filter(|_| !stops());
        same.lock().unwrap_or_else(PoisonError::into_inner).extend(mark);
    };
    match &context.reads.heads {
        Heads { source: Some(here), destination: Some(there) } => {
            let place = |file: B::File| {
                let file = both.open_destination(file);
                file.map_or(0, |file| there.place_of(context.system, file.as_fd(), 0))
            };
            let source = OneSide { head: here, bring: &|file| bring(both.open_source(file)) };
            let bring = |file| bring(both.open_destination(file));
            let destination = OneSide { head: there, bring: &bring };
            head::sweep_both(&context.crew, all, (&source, &destination), place, compare);
        }
        Heads { source: Some(_), .. } => {
            head::sweep(&context.crew, all, |file| bring(both.open_source(*file)).ahead, compare);
        }
        Heads { .. } => {
            let bring = |file: &B::File| bring(both.open_destination(*file)).ahead;
            head::sweep(&context.crew, all, bring, compare);
        }
    }
    same.into_inner().unwrap_or_else(PoisonError::into_inner)
}

fn compare_one<B: OnBoth>(
    context: &Comparison<'_>,
    file: B::File,
    both: &B,
) -> io::Result<Option<u128>> {
    let (here, there) = (both.open_source(file)?, both.open_destination(file)?);
    let stat = |file: &OwnedFd| context.system.stat(Entry::Open(file.as_fd()));
    let (source, destination) = (stat(&here)?, stat(&there)?);
    // One that was not brought in anew.
    match &context.reads.heads {
        Heads { source: Some(_), destination: Some(_) } => {}
        Heads { source: Some(_), .. } => forget(context, there.as_fd()),
        Heads { .. } => forget(context, here.as_fd()),
    }
    if source.size != destination.size {
        return Ok(None);
    }
    let differs = content::first_difference(context, here.as_fd(), there.as_fd(), source.size)?;
    context.crew.did(1 + source.size / CHUNK);
    Ok(differs.is_none().then(|| mark_of(&source, &destination)))
}
