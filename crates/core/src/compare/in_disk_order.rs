//! The contents of all files compared in the order in which they lie on a drive with a head, before the trees
//! are gone through for good: what was the same is then known, and whatever differs is read once more where it
//! is met.

use parking_lot::Mutex;
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use utter_echo_drives::disk_order::{
    self, Prefetch, Prefetched, RotationalDisk, RotationalDisks, Sweep,
};
use utter_echo_files::same_content::BLOCK;
use utter_echo_model::path::TreePath;
use utter_echo_os::Entry;

use crate::compare::comparison::Comparison;
use crate::compare::content::{self, CHUNK};
use crate::compare::difference::{ComparedFolder, FolderDecision, FolderSink};
use crate::compare::found::Halt;
use crate::compare::noted::{Contents, FilesToRead, NotedFile, NotedFiles, SameFiles, fingerprint};
use crate::compare::rename_proof::LikelyRenames;
use crate::compare::walk;
use crate::request::{By, Reading};

/// Decides nothing.
struct NoSink;

impl FolderSink for NoSink {
    fn folder(&mut self, _: ComparedFolder) -> FolderDecision {
        FolderDecision::default()
    }
}

/// Compares what can be compared beforehand, where that is worth it.
pub(crate) fn compare_in_disk_order(comparison: &mut Comparison<'_>) -> Result<(), Halt> {
    let reads = comparison.terms.scope.by == By::Content && comparison.pair.single.is_none();
    if !reads || !comparison.reads.disks.any() {
        return Ok(());
    }
    comparison.reads.contents = Contents::Noted(NotedFiles::default());
    let mut findings = walk::go(comparison, &mut NoSink);
    if let Some(halt) = findings.halt.take() {
        return Err(halt);
    }
    let Contents::Noted(noted) = std::mem::take(&mut comparison.reads.contents) else {
        return Ok(());
    };
    let (files, mut same) = (noted.files.into_inner(), noted.same.into_inner());
    let asks = comparison.terms.scope.reading == Reading::AsCached && same.is_empty();
    if noted.is_in_memory.into_inner() || asks && files.sample.is_mostly_in_memory() {
        // No head moves for what is there already.
        comparison.reads.block = BLOCK;
    } else {
        // How much there is of more than one sweep is not known before the last.
        if same.is_empty() {
            comparison.observer.comparing(files.bytes);
        }
        same.extend(files.compare(comparison));
    }
    same.sort_unstable();
    comparison.reads.contents = Contents::Known(SameFiles(same));
    Ok(())
}

/// Files that both sides hold, whatever they are called there.
trait OnBothSides: Sync {
    type File: Copy + Send + Sync;

    fn open_source(&self, file: Self::File) -> io::Result<OwnedFd>;
    fn open_destination(&self, file: Self::File) -> io::Result<OwnedFd>;
}

/// Those that have one name on both sides.
pub(super) struct SameNames<'a> {
    context: &'a Comparison<'a>,
    files: &'a FilesToRead,
}

impl SameNames<'_> {
    fn open(
        &self,
        root: BorrowedFd<'_>,
        NotedFile { folder, name, .. }: NotedFile,
    ) -> io::Result<OwnedFd> {
        let folder = &self.files.folders[folder as usize];
        let folder = self.context.system.open_folder(root, folder.as_bytes())?;
        self.context.system.open_file(folder.as_fd(), self.files.names.get(name))
    }
}

impl OnBothSides for SameNames<'_> {
    type File = NotedFile;

    fn open_source(&self, file: NotedFile) -> io::Result<OwnedFd> {
        self.open(self.context.pair.source.as_fd(), file)
    }

    fn open_destination(&self, file: NotedFile) -> io::Result<OwnedFd> {
        self.open(self.context.pair.destination.anchor.as_fd(), file)
    }
}

/// Those that may only have been renamed, by their numbers.
struct RenamedFiles<'a> {
    context: &'a Comparison<'a>,
    likely: &'a dyn LikelyRenames,
}

impl RenamedFiles<'_> {
    fn open(&self, root: BorrowedFd<'_>, path: &TreePath) -> io::Result<OwnedFd> {
        let (above, name) = path.split_last();
        let folder = self.context.system.open_folder(root, above)?;
        self.context.system.open_file(folder.as_fd(), name)
    }
}

impl OnBothSides for RenamedFiles<'_> {
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
pub(super) fn compare_renamed(context: &Comparison<'_>, likely: &dyn LikelyRenames) {
    let renamed = RenamedFiles { context, likely };
    let is_source = context.reads.disks.source.is_some();
    let head = context.reads.disks.source.as_ref().or(context.reads.disks.destination.as_ref());
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
    if disk_order::are_in_memory(context.system, (all.iter().copied(), all.len()), open) {
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
    let _ = context.reads.renamed.set(SameFiles(known));
}

/// Reads these files, which are in their order; returns the marks of those that are the same.
fn in_order<B: OnBothSides>(context: &Comparison<'_>, all: Vec<B::File>, both: &B) -> Vec<u128> {
    let same = Mutex::new(Vec::new());
    let stops = || context.observer.stop_requested();
    // What cannot be read is reported where it is met.
    let bring = |file: io::Result<OwnedFd>| {
        let nothing = Prefetched { ahead: Prefetch::Read, bytes: 0 };
        let Some(file) = file.ok().filter(|_| !stops()) else { return nothing };
        let stat = context.system.stat(Entry::Open(file.as_fd()));
        let brought = stat.and_then(|stat| {
            content::forget_if_asked(context, file.as_fd(), &stat);
            let ahead = disk_order::prefetch(context.system, file.as_fd(), stat.size)?;
            Ok(Prefetched { ahead, bytes: stat.size })
        });
        brought.unwrap_or(nothing)
    };
    let compare = |file: B::File| {
        let mark = compare_one(context, file, both).ok().flatten().filter(|_| !stops());
        same.lock().extend(mark);
    };
    let place_there = |disk: &RotationalDisk, file: B::File| {
        let file = both.open_destination(file);
        file.map_or(0, |file| disk.place_of(context.system, file.as_fd(), 0))
    };
    let sweep = Sweep {
        all,
        bring_source: &|file| bring(both.open_source(file)),
        bring_destination: &|file| bring(both.open_destination(file)),
        place_there: &place_there,
        work: &compare,
    };
    sweep.run(&context.pool, &context.reads.disks);
    same.into_inner()
}

fn compare_one<B: OnBothSides>(
    context: &Comparison<'_>,
    file: B::File,
    both: &B,
) -> io::Result<Option<u128>> {
    let (here, there) = (both.open_source(file)?, both.open_destination(file)?);
    let stat = |file: &OwnedFd| context.system.stat(Entry::Open(file.as_fd()));
    let (source, destination) = (stat(&here)?, stat(&there)?);
    // One that was not brought in anew.
    match &context.reads.disks {
        RotationalDisks { source: Some(_), destination: Some(_) } => {}
        RotationalDisks { source: Some(_), .. } => {
            content::forget_if_asked(context, there.as_fd(), &destination);
        }
        RotationalDisks { .. } => content::forget_if_asked(context, here.as_fd(), &source),
    }
    if source.size != destination.size {
        return Ok(None);
    }
    let differs = content::first_difference(context, here.as_fd(), there.as_fd(), source.size)?;
    context.pool.did(1 + source.size / CHUNK);
    Ok(differs.is_none().then(|| fingerprint(&source, &destination)))
}

impl FilesToRead {
    /// Reads them in their order; returns the marks of those that are the same.
    pub(crate) fn compare(mut self, context: &Comparison<'_>) -> Vec<u128> {
        self.all.sort_unstable_by_key(|file| file.place);
        let all = std::mem::take(&mut self.all);
        in_order(context, all, &SameNames { context, files: &self })
    }
}
