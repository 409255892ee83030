//! Drives with a head, which has to be moved to what is read: a disk that turns reads what lies side by side a
//! hundred times as fast as what is strewn about. So what is on them is looked at and read in the order in
//! which it lies, by one worker at a time; what is in memory already needs no order.

use std::io;
use std::iter::Peekable;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, mpsc};
use std::time::{Duration, Instant};

use crate::alike;
use crate::os::{Entry, Name, System};
use crate::pool::Crew;
use crate::sides::Pair;
use crate::tree::Listing;

/// The heads of the drives that two roots lie on, as far as they have one.
#[derive(Debug, Default)]
pub(crate) struct Heads {
    pub(crate) source: Option<Arc<Head>>,
    pub(crate) destination: Option<Arc<Head>>,
}

impl Heads {
    /// Asks for those of a pair. Two roots on one disk share its head.
    pub(crate) fn of(system: &dyn System, pair: &Pair) -> Self {
        let (here, there) =
            (pair.source_stat.identity.drive, pair.destination.anchor_stat.identity.drive);
        // Where the kernel does not tell, there is none as far as is known.
        let head = |drive| system.head_of(drive).ok().flatten();
        let here_is = head(here);
        let there_is = if here == there { here_is } else { head(there) };
        let source = here_is.map(|_| Arc::default());
        let is_shared = here_is.is_some() && here_is == there_is;
        let destination = there_is.map(|_| Arc::default());
        Self { destination: if is_shared { source.clone() } else { destination }, source }
    }

    /// Bytes to read of each side at a time: where one head reads both, it has to be worth its way.
    pub(crate) fn block(&self) -> usize {
        match (&self.source, &self.destination) {
            (Some(source), Some(destination)) if Arc::ptr_eq(source, destination) => FAR_BLOCK,
            _ => alike::BLOCK,
        }
    }

    pub(crate) fn any(&self) -> bool {
        self.source.is_some() || self.destination.is_some()
    }
}

/// A drive's head, for which the workers queue up.
#[derive(Debug, Default)]
pub(crate) struct Head {
    moved: Mutex<()>,
    asked: Asked,
    /// Folders in a row of which all was in memory.
    warm: AtomicU32,
}

/// What asking for places took so far.
#[derive(Debug, Default)]
struct Asked {
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

/// Of so many files at most it is asked whether they are in memory.
const SAMPLE: usize = 64;

impl Head {
    /// Nobody else moves it as long as this is held.
    pub(crate) fn turn(&self) -> MutexGuard<'_, ()> {
        self.moved.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Lists a folder, and looks at all in it in the order in which it lies, so that whoever looks at it next
    /// finds it in memory. What cannot be looked at is left to them.
    pub(crate) fn list(&self, system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Listing> {
        let before = self.warm.load(Ordering::Relaxed);
        if !is_due(before) {
            self.warm.fetch_add(1, Ordering::Relaxed);
            return Listing::read(system, folder);
        }
        // What is in memory moves no head.
        let _turn = (before < WARM).then(|| self.turn());
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
    pub(crate) fn place_of(&self, system: &dyn System, file: BorrowedFd<'_>, inode: u64) -> u64 {
        let Asked { times, nanos } = &self.asked;
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
pub(crate) enum Ahead {
    /// All of it, so that the next one can be read meanwhile.
    Read,
    /// It is too long for that, and read in its turn.
    Left,
}

/// A file up to so many bytes is brought into memory in its turn.
pub(crate) const READ_AHEAD: u64 = 256 * 1024;

/// Works on all of these, which are read in this order: each is brought into memory in its turn, and worked on
/// while the next one is.
pub(crate) fn sweep<T: Send>(
    crew: &Crew,
    all: Vec<T>,
    bring: impl Fn(&T) -> Ahead + Sync,
    work: impl Fn(T) + Sync,
) {
    let hands = vec![(); crew.most().min(all.len())];
    let rest = Mutex::new(all.into_iter());
    crew.each(hands, |()| {
        loop {
            let mut turn = rest.lock().unwrap_or_else(PoisonError::into_inner);
            let Some(next) = turn.next() else { return };
            let keeps = (bring(&next) == Ahead::Left).then_some(turn);
            work(next);
            drop(keeps);
        }
    });
}

/// What became of bringing a file of so many bytes into memory.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Brought {
    pub(crate) ahead: Ahead,
    pub(crate) bytes: u64,
}

/// So many bytes and files of one side are in memory at most before the other side's join them.
const STRETCH: (u64, usize) = (128 << 20, 1 << 16);

/// How the files of one side are read.
pub(crate) struct OneSide<'a, T> {
    pub(crate) head: &'a Head,
    pub(crate) bring: &'a (dyn Fn(T) -> Brought + Sync),
}

/// Works on all of these, which are read on two sides: in this order on the first, and in that of their places on
/// the second, stretch by stretch. Two drives do that at once; one that holds both gives each a stretch in turn.
pub(crate) fn sweep_both<T: Copy + Send + Sync>(
    crew: &Crew,
    all: Vec<T>,
    (here, there): (&OneSide<'_, T>, &OneSide<'_, T>),
    place_there: impl Fn(T) -> u64,
    work: impl Fn(T) + Sync,
) {
    let (sender, stretches) = mpsc::sync_channel(0);
    std::thread::scope(|scope| {
        scope.spawn(move || {
            let mut rest = all.into_iter().peekable();
            while rest.peek().is_some() && sender.send(here.stretch(&mut rest)).is_ok() {}
        });
        for stretch in stretches {
            let mut placed: Vec<(u64, T)> =
                stretch.into_iter().map(|file| (place_there(file), file)).collect();
            placed.sort_by_key(|(place, _)| *place);
            let turn = there.head.turn();
            let is_long = |(_, file): &(u64, T)| (there.bring)(*file).ahead == Ahead::Left;
            let (long, short): (Vec<_>, Vec<_>) = placed.into_iter().partition(is_long);
            drop(turn);
            crew.each(short, |(_, file)| work(file));
            for (_, file) in long {
                work(file);
            }
        }
    });
}

impl<T: Copy> OneSide<'_, T> {
    /// Brings as many into memory as there is room for at a time.
    fn stretch(&self, rest: &mut Peekable<impl Iterator<Item = T>>) -> Vec<T> {
        let _turn = self.head.turn();
        let (mut stretch, mut bytes) = (Vec::new(), 0);
        while let Some(next) = rest.next_if(|_| bytes < STRETCH.0 && stretch.len() < STRETCH.1) {
            let brought = (self.bring)(next);
            bytes += if brought.ahead == Ahead::Read { brought.bytes } else { 0 };
            stretch.push(next);
        }
        stretch
    }
}

/// Brings a file of so many bytes into memory, if it is small.
pub(crate) fn bring(system: &dyn System, file: BorrowedFd<'_>, size: u64) -> io::Result<Ahead> {
    if size > READ_AHEAD {
        return Ok(Ahead::Left);
    }
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
    system.read_at(file, &mut bytes, 0).map(|_| Ahead::Read)
}

/// True if most of so many files are in memory, asked of some of them.
pub(crate) fn are_in_memory<T>(
    system: &dyn System,
    (all, count): (impl Iterator<Item = T>, usize),
    open: impl Fn(T) -> Option<OwnedFd>,
) -> bool {
    let mut sample = Sample::default();
    for file in all.step_by((count / SAMPLE).max(1)).filter_map(open) {
        sample.ask(system, file.as_fd());
    }
    sample.is_mostly_in_memory()
}

/// Whether files are in memory already, asked of some of them.
#[derive(Debug, Default)]
pub(crate) struct Sample {
    asked: usize,
    cached: usize,
}

impl Sample {
    /// Asks of a file that holds something.
    pub(crate) fn ask(&mut self, system: &dyn System, file: BorrowedFd<'_>) {
        if self.asked < SAMPLE {
            self.asked += 1;
            self.cached += usize::from(system.is_cached(file).unwrap_or(true));
        }
    }

    /// True once enough of them were asked to say that an order would gain nothing.
    pub(crate) fn is_in_memory(&self) -> bool {
        self.asked == SAMPLE && self.is_mostly_in_memory()
    }

    /// The same of however many were asked.
    pub(crate) fn is_mostly_in_memory(&self) -> bool {
        self.cached * 2 >= self.asked
    }
}
