//! Drives with a head, which has to be moved to what is read: a disk that turns reads what lies side by side a
//! hundred times as fast as what is strewn about. So what is on them is looked at and read in the order in
//! which it lies, by one worker at a time; what is in memory already needs no order.

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

/// The rotational disks that two roots lie on, as far as they do.
#[derive(Debug, Default)]
pub struct RotationalDisks {
    /// The disk of the source, if it is one.
    pub source: Option<Arc<RotationalDisk>>,
    /// The disk of the destination, if it is one.
    pub destination: Option<Arc<RotationalDisk>>,
}

impl RotationalDisks {
    /// Asks for those of two drives, by their numbers. Two roots on one disk share its lock.
    pub fn of(system: &dyn System, here: u64, there: u64) -> Self {
        // Where the kernel does not tell, there is none as far as is known.
        let disk = |drive| system.rotational_disk_of(drive).ok().flatten();
        let here_is = disk(here);
        let there_is = if here == there { here_is } else { disk(there) };
        let source = here_is.map(|_| Arc::default());
        let is_shared = here_is.is_some() && here_is == there_is;
        let destination = there_is.map(|_| Arc::default());
        Self { destination: if is_shared { source.clone() } else { destination }, source }
    }

    /// Bytes to read of each side at a time, by so many workers at most: where one head reads both, it has to be worth
    /// its way.
    pub fn block(&self, workers: usize) -> usize {
        match (&self.source, &self.destination) {
            (Some(source), Some(destination)) if Arc::ptr_eq(source, destination) => {
                (FAR_BLOCKS / workers.max(1)).clamp(BLOCK, FAR_BLOCK)
            }
            _ => BLOCK,
        }
    }

    /// Whether either side is on one.
    pub fn any(&self) -> bool {
        self.source.is_some() || self.destination.is_some()
    }
}

/// A rotational disk, for which the workers queue up.
#[derive(Debug, Default)]
pub struct RotationalDisk {
    turn: Mutex<()>,
    asked: QueryCost,
    /// Folders in a row of which all was in memory.
    warm: AtomicU32,
}

/// What asking for places took so far.
#[derive(Debug, Default)]
struct QueryCost {
    times: AtomicU32,
    nanos: AtomicU64,
}

/// When it is known what asking for a place takes, and the most that it may.
const TRIES: u32 = 64;

const WORTH: Duration = Duration::from_micros(500);

/// Whoever looks at what is in memory waits no longer than this.
const AT_HAND: Duration = Duration::from_micros(200);

/// Of so many entries of a folder it is tried whether they are in memory, and after so many folders in which
/// they were only of one in so many, at last of one in many more.
const PROBES: usize = 4;

const WARM: u32 = 8;

const WARM_FOR_LONG: u32 = 64;

/// It takes a head as long to get to the other side of its disk and back as to read half of this.
const FAR_BLOCK: usize = 4 << 20;

/// Memory for the blocks of one side, of all workers together.
const FAR_BLOCKS: usize = 8 * FAR_BLOCK;

/// Of so many files at most it is asked whether they are in memory.
const SAMPLE: usize = 64;

impl RotationalDisk {
    /// Nobody else moves its heads as long as this is held.
    pub fn lock(&self) -> MutexGuard<'_, ()> {
        self.turn.lock()
    }

    /// Lists a folder, and looks at all in it in the order in which it lies, so that whoever looks at it next
    /// finds it in memory. What cannot be looked at is left to them.
    pub fn list(&self, system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Listing> {
        let before = self.warm.load(Ordering::Relaxed);
        if !is_due(before) {
            self.warm.fetch_add(1, Ordering::Relaxed);
            return Listing::read(system, folder);
        }
        // What is in memory moves no head.
        let _lock = (before < WARM).then(|| self.lock());
        let (mut names, mut all) = (Vec::new(), Vec::new());
        let listing =
            Listing::read_telling(system, folder, &mut |Name { bytes, inode, .. }| {
                all.push((inode, names.len(), bytes.len()));
                names.extend_from_slice(bytes);
            })?;
        all.sort_unstable();
        let look = |at: usize| {
            let (_, start, length) = all[at];
            let begun = Instant::now();
            let _ = system.stat(Entry::Named(folder, &names[start..start + length]));
            begun.elapsed() > AT_HAND
        };
        let step = (all.len() / PROBES).max(1);
        // The first is the one that was not brought in with another.
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

    /// Where a file lies, for the order alone: where its content begins, else by its inode's number.
    pub fn place_of(&self, system: &dyn System, file: BorrowedFd<'_>, inode: u64) -> u64 {
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
        // What lies nowhere is not read.
        place.map_or(inode, Option::unwrap_or_default)
    }
}

/// True for a folder to be looked at closely, after so many in a row of which all was in memory.
fn is_due(before: u32) -> bool {
    let one_in = 1 << before.max(WARM).ilog2().saturating_sub(WARM.ilog2());
    before < WARM || before.is_multiple_of(one_in.clamp(WARM, WARM_FOR_LONG))
}

/// Whether a file was brought into memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Prefetch {
    /// All of it, so that the next one can be read meanwhile.
    Read,
    /// It is too long for that, and read in its turn.
    Left,
}

/// A file up to so many bytes is brought into memory in its turn.
pub const READ_AHEAD: u64 = 256 * 1024;

/// Reads and works on all of these in this order: each is brought into memory in its turn, and worked on while
/// the next one is.
fn on_one_side<T: Copy + Send>(
    pool: &WorkerPool,
    all: Vec<T>,
    bring: &(dyn Fn(T) -> Prefetched + Sync),
    work: &(dyn Fn(T) + Sync),
) {
    let hands = vec![(); pool.most().min(all.len())];
    let rest = Mutex::new(all.into_iter());
    pool.each(hands, |()| {
        loop {
            let mut rest = rest.lock();
            let Some(next) = rest.next() else { return };
            let keeps = (bring(next).ahead == Prefetch::Left).then_some(rest);
            work(next);
            drop(keeps);
        }
    });
}

/// What became of bringing a file of so many bytes into memory.
#[derive(Clone, Copy, Debug)]
pub struct Prefetched {
    /// How its blocks come into memory.
    pub ahead: Prefetch,
    /// How many bytes that takes; 0 if unknown.
    pub bytes: u64,
}

/// So many bytes and files of one side are in memory at most before the other side's join them.
const STRETCH: (u64, usize) = (128 << 20, 1 << 16);

/// Files that are read where rotational disks hold them, and worked on.
pub struct Sweep<'a, T> {
    /// In the order in which they lie on the source's disk, or else on the destination's.
    pub all: Vec<T>,
    /// Brings the source's file into memory.
    pub bring_source: &'a (dyn Fn(T) -> Prefetched + Sync),
    /// The same of the destination's.
    pub bring_destination: &'a (dyn Fn(T) -> Prefetched + Sync),
    /// Where the destination's file begins on its disk.
    pub place_there: &'a (dyn Fn(&RotationalDisk, T) -> u64 + Sync),
    /// What is done with a file that was brought.
    pub work: &'a (dyn Fn(T) + Sync),
}

impl<T: Copy + Send + Sync> Sweep<'_, T> {
    /// Reads and works on all of them. On two disks the source's order comes first, and the destination's within
    /// each stretch of it. Two drives do that at once; one that holds both gives each a stretch in turn. Without
    /// any disk nothing is done.
    pub fn run(self, pool: &WorkerPool, disks: &RotationalDisks) {
        match (disks.source.as_deref(), disks.destination.as_deref()) {
            (Some(here), Some(there)) => self.on_both_sides(pool, here, there),
            (Some(_), None) => on_one_side(pool, self.all, self.bring_source, self.work),
            (None, Some(_)) => on_one_side(pool, self.all, self.bring_destination, self.work),
            (None, None) => {}
        }
    }

    fn on_both_sides(self, pool: &WorkerPool, here: &RotationalDisk, there: &RotationalDisk) {
        let Self { all, bring_source, bring_destination, place_there, work } = self;
        let (sender, stretches) = mpsc::sync_channel(0);
        std::thread::scope(|scope| {
            scope.spawn(move || {
                let mut rest = all.into_iter().peekable();
                while rest.peek().is_some()
                    && sender.send(here.stretch(&mut rest, bring_source)).is_ok()
                {}
            });
            for stretch in stretches {
                let mut placed: Vec<(u64, T)> =
                    stretch.into_iter().map(|file| (place_there(there, file), file)).collect();
                placed.sort_by_key(|(place, _)| *place);
                let lock = there.turn.lock();
                let is_long =
                    |(_, file): &(u64, T)| bring_destination(*file).ahead == Prefetch::Left;
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
    /// Brings as many into memory as there is room for at a time.
    fn stretch<T: Copy>(
        &self,
        rest: &mut Peekable<impl Iterator<Item = T>>,
        bring: &(dyn Fn(T) -> Prefetched + Sync),
    ) -> Vec<T> {
        let _lock = self.turn.lock();
        let (mut stretch, mut bytes) = (Vec::new(), 0);
        while let Some(next) = rest.next_if(|_| bytes < STRETCH.0 && stretch.len() < STRETCH.1) {
            let brought = bring(next);
            bytes += if brought.ahead == Prefetch::Read { brought.bytes } else { 0 };
            stretch.push(next);
        }
        stretch
    }
}

/// Brings a file of so many bytes into memory, if it is small.
pub fn prefetch(system: &dyn System, file: BorrowedFd<'_>, size: u64) -> io::Result<Prefetch> {
    if size > READ_AHEAD {
        return Ok(Prefetch::Left);
    }
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
    system.read_at(file, &mut bytes, 0).map(|_| Prefetch::Read)
}

/// True if most of so many files are in memory, asked of some of them.
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

/// Whether files are in memory already, asked of some of them.
#[derive(Debug, Default)]
pub struct CacheSample {
    asked: usize,
    cached: usize,
}

impl CacheSample {
    /// Asks of a file that holds something.
    pub fn ask(&mut self, system: &dyn System, file: BorrowedFd<'_>) {
        if self.asked < SAMPLE {
            self.asked += 1;
            self.cached += usize::from(system.is_cached(file, 1).unwrap_or(true));
        }
    }

    /// True once enough of them were asked to say that an order would gain nothing.
    pub fn is_in_memory(&self) -> bool {
        self.asked == SAMPLE && self.is_mostly_in_memory()
    }

    /// The same of however many were asked.
    pub fn is_mostly_in_memory(&self) -> bool {
        self.cached * 2 >= self.asked
    }
}
