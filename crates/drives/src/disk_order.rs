//! Reading in disk order. A rotational disk reads adjacent data a hundred times as fast as scattered data. So its
//! entries are looked at and read in the order of their positions, by one worker at a time. Data in the cache needs
//! no order.

use parking_lot::{Mutex, MutexGuard};
use std::io;
use std::iter::Peekable;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, mpsc};
use std::time::{Duration, Instant};

use utter_echo_files::listing::Listing;
use utter_echo_files::same_content::BLOCK;
use utter_echo_os::{Entry, Name, System};
use utter_echo_workers::pool::WorkerPool;

/// The rotational disks of two roots, if they have any.
#[derive(Debug, Default)]
pub struct RotationalDisks {
    /// The disk of the source, if it is rotational.
    pub source: Option<Arc<RotationalDisk>>,
    /// The disk of the destination, if it is rotational.
    pub destination: Option<Arc<RotationalDisk>>,
}

impl RotationalDisks {
    /// The disks of two drives, by the drives' numbers. Two roots on one disk share its lock.
    pub fn of(system: &dyn System, here: u64, there: u64) -> Self {
        // If the kernel does not know, the disk counts as not rotational.
        let disk = |drive| system.rotational_disk_of(drive).ok().flatten();
        let here_is = disk(here);
        let there_is = if here == there { here_is } else { disk(there) };
        let source = here_is.map(|_| Arc::default());
        let is_shared = here_is.is_some() && here_is == there_is;
        let destination = there_is.map(|_| Arc::default());
        Self { destination: if is_shared { source.clone() } else { destination }, source }
    }

    /// Bytes to read of each side at a time, with at most this many workers. Where both sides lie on one disk, a
    /// block must be worth the seek.
    pub fn block(&self, workers: usize) -> usize {
        match (&self.source, &self.destination) {
            (Some(source), Some(destination)) if Arc::ptr_eq(source, destination) => {
                (FAR_BLOCKS / workers.max(1)).clamp(BLOCK, FAR_BLOCK)
            }
            _ => BLOCK,
        }
    }

    /// True if either side lies on a rotational disk.
    pub fn any(&self) -> bool {
        self.source.is_some() || self.destination.is_some()
    }
}

/// A rotational disk, which one worker uses at a time.
#[derive(Debug, Default)]
pub struct RotationalDisk {
    lock: Mutex<()>,
    asked: QueryCost,
    /// Number of folders in a row that were all in the cache.
    warm: AtomicU32,
}

/// The cost of asking for positions so far.
#[derive(Debug, Default)]
struct QueryCost {
    times: AtomicU32,
    nanos: AtomicU64,
}

/// After how many queries the cost of one is known, and the most that it may be.
const TRIES: u32 = 64;

const WORTH: Duration = Duration::from_micros(500);

/// A look at a cached entry takes no longer than this.
const CACHED_AT_MOST: Duration = Duration::from_micros(200);

/// How many entries of a folder are tested for being in the cache. After [`WARM`] cached folders only every eighth
/// folder is tested, and later every 64th.
const PROBES: usize = 4;

const WARM: u32 = 8;

const WARM_FOR_LONG: u32 = 64;

/// A seek across the disk and back takes as long as reading half of this.
const FAR_BLOCK: usize = 4 << 20;

/// Memory for the blocks of one side, for all workers together.
const FAR_BLOCKS: usize = 8 * FAR_BLOCK;

/// The most files that are tested for being in the cache.
const SAMPLE: usize = 64;

impl RotationalDisk {
    /// Keeps other workers from the disk while it is held.
    pub fn lock(&self) -> MutexGuard<'_, ()> {
        self.lock.lock()
    }

    /// Lists a folder and looks at its entries in disk order, so that the next look finds them in the cache. Errors
    /// show at that next look.
    pub fn list(&self, system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Listing> {
        let before = self.warm.load(Ordering::Relaxed);
        if !is_due(before) {
            self.warm.fetch_add(1, Ordering::Relaxed);
            return Listing::read(system, folder);
        }
        // Cached data needs no lock.
        let _lock = (before < WARM).then(|| self.lock());
        let (mut names, mut all) = (Vec::new(), Vec::new());
        let listing = Listing::read_with(system, folder, &mut |Name { bytes, inode, .. }| {
            all.push((inode, names.len(), bytes.len()));
            names.extend_from_slice(bytes);
        })?;
        all.sort_unstable();
        let look = |at: usize| {
            let (_, start, length) = all[at];
            let begun = Instant::now();
            let _ = system.stat(Entry::Named(folder, &names[start..start + length]));
            begun.elapsed() > CACHED_AT_MOST
        };
        let step = (all.len() / PROBES).max(1);
        // The first look shows it, since the others may be cached by the first.
        if all.is_empty() || !(0..all.len()).step_by(step).any(look) {
            self.warm.fetch_add(1, Ordering::Relaxed);
        } else {
            self.warm.store(0, Ordering::Relaxed);
            for at in 0..all.len() {
                look(at);
            }
        }
        Ok(listing)
    }

    /// A number to sort files by: the position of the content, or else the inode number.
    pub fn position_of(&self, system: &dyn System, file: BorrowedFd<'_>, inode: u64) -> u64 {
        let QueryCost { times, nanos } = &self.asked;
        let tried = times.fetch_add(1, Ordering::Relaxed);
        let most = u128::from(TRIES) * WORTH.as_nanos();
        if tried >= TRIES && u128::from(nanos.load(Ordering::Relaxed)) > most {
            return inode;
        }
        let begun = Instant::now();
        let place = system.lies_at(file);
        if tried < TRIES {
            let took = u64::try_from(begun.elapsed().as_nanos()).unwrap_or(u64::MAX);
            nanos.fetch_add(took, Ordering::Relaxed);
        }
        // A file without content is not read.
        place.map_or(inode, Option::unwrap_or_default)
    }
}

/// True if the next folder is to be tested, after this many cached folders in a row.
fn is_due(before: u32) -> bool {
    let one_in = 1 << before.max(WARM).ilog2().saturating_sub(WARM.ilog2());
    before < WARM || before.is_multiple_of(one_in.clamp(WARM, WARM_FOR_LONG))
}

/// Whether a file was read into the cache.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Prefetch {
    /// All of it, so that the next file can be read while this one is processed.
    Read,
    /// It is too large for that, and is read when it is processed.
    Left,
}

/// The largest file, in bytes, that is read into the cache ahead.
pub const READ_AHEAD: u64 = 256 * 1024;

/// Reads all files in this order. Each is read into the cache in its turn, and processed while the next one is
/// read.
fn on_one_side<T: Copy + Send>(
    pool: &WorkerPool,
    all: Vec<T>,
    read_ahead: &(dyn Fn(T) -> Prefetched + Sync),
    work: &(dyn Fn(T) + Sync),
) {
    let hands = vec![(); pool.most().min(all.len())];
    let rest = Mutex::new(all.into_iter());
    pool.each(hands, |()| {
        loop {
            let mut rest = rest.lock();
            let Some(next) = rest.next() else { return };
            let keeps = (read_ahead(next).ahead == Prefetch::Left).then_some(rest);
            work(next);
            drop(keeps);
        }
    });
}

/// The result of reading a file ahead.
#[derive(Clone, Copy, Debug)]
pub struct Prefetched {
    /// Whether it was read.
    pub ahead: Prefetch,
    /// Its size in bytes; 0 if unknown.
    pub bytes: u64,
}

/// The most bytes and files of one side that are read ahead before those of the other side.
const STRETCH: (u64, usize) = (128 << 20, 1 << 16);

/// Files to read from rotational disks and process.
pub struct Sweep<'a, T> {
    /// In the order of the source's disk, or else of the destination's.
    pub all: Vec<T>,
    /// Reads the source's file into the cache.
    pub prefetch_source: &'a (dyn Fn(T) -> Prefetched + Sync),
    /// The same for the destination's.
    pub prefetch_destination: &'a (dyn Fn(T) -> Prefetched + Sync),
    /// The position of the destination's file on its disk.
    pub destination_position: &'a (dyn Fn(&RotationalDisk, T) -> u64 + Sync),
    /// Processes a file that was read ahead.
    pub work: &'a (dyn Fn(T) + Sync),
}

impl<T: Copy + Send + Sync> Sweep<'_, T> {
    /// Processes all files. With two disks they are read in the source's order, and within each stretch of that in
    /// the destination's; two drives work at the same time, and one drive alternates between the sides. Without a
    /// rotational disk nothing is done.
    pub fn run(self, pool: &WorkerPool, disks: &RotationalDisks) {
        match (disks.source.as_deref(), disks.destination.as_deref()) {
            (Some(here), Some(there)) => self.on_both_sides(pool, here, there),
            (Some(_), None) => on_one_side(pool, self.all, self.prefetch_source, self.work),
            (None, Some(_)) => on_one_side(pool, self.all, self.prefetch_destination, self.work),
            (None, None) => {}
        }
    }

    fn on_both_sides(self, pool: &WorkerPool, here: &RotationalDisk, there: &RotationalDisk) {
        let Self { all, prefetch_source, prefetch_destination, destination_position, work } = self;
        let (sender, stretches) = mpsc::sync_channel(0);
        std::thread::scope(|scope| {
            scope.spawn(move || {
                let mut rest = all.into_iter().peekable();
                while rest.peek().is_some()
                    && sender.send(here.stretch(&mut rest, prefetch_source)).is_ok()
                {
                }
            });
            for stretch in stretches {
                let mut placed: Vec<(u64, T)> = stretch
                    .into_iter()
                    .map(|file| (destination_position(there, file), file))
                    .collect();
                placed.sort_by_key(|(place, _)| *place);
                let lock = there.lock.lock();
                let is_long =
                    |(_, file): &(u64, T)| prefetch_destination(*file).ahead == Prefetch::Left;
                let (long, short): (Vec<_>, Vec<_>) = placed.into_iter().partition(is_long);
                drop(lock);
                pool.each(short, |(_, file)| work(file));
                for (_, file) in long {
                    work(file);
                }
            }
        });
    }
}

impl RotationalDisk {
    /// Reads ahead as many files as fit into one stretch.
    fn stretch<T: Copy>(
        &self,
        rest: &mut Peekable<impl Iterator<Item = T>>,
        read_ahead: &(dyn Fn(T) -> Prefetched + Sync),
    ) -> Vec<T> {
        let _lock = self.lock.lock();
        let (mut stretch, mut bytes) = (Vec::new(), 0);
        while let Some(next) = rest.next_if(|_| bytes < STRETCH.0 && stretch.len() < STRETCH.1) {
            let prefetched = read_ahead(next);
            bytes += if prefetched.ahead == Prefetch::Read { prefetched.bytes } else { 0 };
            stretch.push(next);
        }
        stretch
    }
}

/// Reads a file of this size in bytes into the cache, if it is small.
pub fn prefetch(system: &dyn System, file: BorrowedFd<'_>, size: u64) -> io::Result<Prefetch> {
    if size > READ_AHEAD {
        return Ok(Prefetch::Left);
    }
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
    system.read_at(file, &mut bytes, 0).map(|_| Prefetch::Read)
}

/// True if most of these files are cached, judged by a sample.
pub fn are_in_memory<T>(
    system: &dyn System,
    (all, count): (impl Iterator<Item = T>, usize),
    open: impl Fn(T) -> Option<OwnedFd>,
) -> bool {
    let mut sample = CacheSample::default();
    for file in all.step_by((count / SAMPLE).max(1)).filter_map(open) {
        sample.ask(system, file.as_fd());
    }
    sample.is_mostly_in_memory()
}

/// A sample of files that shows whether they are cached.
#[derive(Debug, Default)]
pub struct CacheSample {
    asked: usize,
    cached: usize,
}

impl CacheSample {
    /// Adds a file that is not empty.
    pub fn ask(&mut self, system: &dyn System, file: BorrowedFd<'_>) {
        if self.asked < SAMPLE {
            self.asked += 1;
            self.cached += usize::from(system.is_cached(file, 1).unwrap_or(true));
        }
    }

    /// True if the sample is complete and mostly cached, so that disk order gains nothing.
    pub fn is_in_memory(&self) -> bool {
        self.asked == SAMPLE && self.is_mostly_in_memory()
    }

    /// True if most files of the sample so far are cached.
    pub fn is_mostly_in_memory(&self) -> bool {
        self.cached * 2 >= self.asked
    }
}
