//! Comparing the contents of all files in disk order, before the main walk through the trees. The walk then knows
//! the equal files, and reads a different one again where it meets it.

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
use crate::request::{CompareBy, Reading};

/// Ignores all folders.
struct NoSink;

impl FolderSink for NoSink {
    fn folder(&mut self, _: ComparedFolder) -> FolderDecision {
        FolderDecision::default()
    }
}

/// Compares contents in disk order, if that is worth it.
pub(crate) fn compare_in_disk_order(comparison: &mut Comparison<'_>) -> Result<(), Halt> {
    let reads = comparison.terms.scope.by == CompareBy::Content && comparison.pair.single.is_none();
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
        // Cached data needs no disk order.
        comparison.reads.block = BLOCK;
    } else {
        // With more than one sweep the total is known only at the last.
        if same.is_empty() {
            comparison.observer.comparing(files.bytes);
        }
        same.extend(files.compare(comparison));
    }
    same.sort_unstable();
    comparison.reads.contents = Contents::Known(SameFiles(same));
    Ok(())
}

/// Files that exist on both sides, under any names.
trait OnBothSides: Sync {
    type File: Copy + Send + Sync;

    fn open_source(&self, file: Self::File) -> io::Result<OwnedFd>;
    fn open_destination(&self, file: Self::File) -> io::Result<OwnedFd>;
}

/// Files with the same path on both sides.
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

/// Files that may have been renamed, by their numbers.
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

/// Compares files that may have been renamed in disk order, if that is worth it.
pub(super) fn compare_renamed(context: &Comparison<'_>, likely: &dyn LikelyRenames) {
    let renamed = RenamedFiles { context, likely };
    let is_source = context.reads.disks.source.is_some();
    let head = context.reads.disks.source.as_ref().or(context.reads.disks.destination.as_ref());
    let (Some(head), Ok(count)) = (head, u32::try_from(likely.count())) else { return };
    let inode_of = |number: u32| {
        let (source, destination) = likely.inodes(number as usize);
        if is_source { source } else { destination }
    };
    // To find their positions each is opened, in the order of inode numbers.
    let mut all: Vec<(u64, u32)> = (0..count).map(|number| (inode_of(number), number)).collect();
    all.sort_unstable();
    // A file that cannot be opened does not count as equal.
    let open = |file| {
        if is_source { renamed.open_source(file) } else { renamed.open_destination(file) }.ok()
    };
    if disk_order::are_in_memory(context.system, (all.iter().copied(), all.len()), open) {
        return;
    }
    for file in &mut all {
        if let Some(opened) = open(*file) {
            file.0 = head.position_of(context.system, opened.as_fd(), file.0);
        }
    }
    all.sort_unstable();
    let mut known = in_order(context, all, &renamed);
    known.sort_unstable();
    // Set once: a second result would be the same.
    let _ = context.reads.renamed.set(SameFiles(known));
}

/// Compares these files in this order. Returns the fingerprints of the equal ones.
fn in_order<B: OnBothSides>(context: &Comparison<'_>, all: Vec<B::File>, both: &B) -> Vec<u128> {
    let same = Mutex::new(Vec::new());
    let stops = || context.observer.stop_requested();
    // A read error is reported by the main walk.
    let prefetch_file = |file: io::Result<OwnedFd>| {
        let nothing = Prefetched { ahead: Prefetch::Read, bytes: 0 };
        let Some(file) = file.ok().filter(|_| !stops()) else { return nothing };
        let stat = context.system.stat(Entry::Open(file.as_fd()));
        let prefetched = stat.and_then(|stat| {
            content::drop_cache_if_requested(context, file.as_fd(), &stat);
            let ahead = disk_order::prefetch(context.system, file.as_fd(), stat.size)?;
            Ok(Prefetched { ahead, bytes: stat.size })
        });
        prefetched.unwrap_or(nothing)
    };
    let compare = |file: B::File| {
        let mark = compare_one(context, file, both).ok().flatten().filter(|_| !stops());
        same.lock().extend(mark);
    };
    let destination_position = |disk: &RotationalDisk, file: B::File| {
        let file = both.open_destination(file);
        file.map_or(0, |file| disk.position_of(context.system, file.as_fd(), 0))
    };
    let sweep = Sweep {
        all,
        prefetch_source: &|file| prefetch_file(both.open_source(file)),
        prefetch_destination: &|file| prefetch_file(both.open_destination(file)),
        destination_position: &destination_position,
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
    // A file that was not read ahead.
    match &context.reads.disks {
        RotationalDisks { source: Some(_), destination: Some(_) } => {}
        RotationalDisks { source: Some(_), .. } => {
            content::drop_cache_if_requested(context, there.as_fd(), &destination);
        }
        RotationalDisks { .. } => content::drop_cache_if_requested(context, here.as_fd(), &source),
    }
    if source.size != destination.size {
        return Ok(None);
    }
    let differs = content::first_difference(context, here.as_fd(), there.as_fd(), source.size)?;
    context.pool.did(1 + source.size / CHUNK);
    Ok(differs.is_none().then(|| fingerprint(&source, &destination)))
}

impl FilesToRead {
    /// Compares them in disk order. Returns the fingerprints of the equal ones.
    pub(crate) fn compare(mut self, context: &Comparison<'_>) -> Vec<u128> {
        self.all.sort_unstable_by_key(|file| file.place);
        let all = std::mem::take(&mut self.all);
        in_order(context, all, &SameNames { context, files: &self })
    }
}
