//! The content of one file.

use crate::execute::writer::attributes::EntryCopy;
use crate::execute::writer::step_error::ErrorContext as _;
use std::cell::RefCell;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

use utter_echo_files::same_content::{self, BLOCK, ReadLength};
use utter_echo_model::aspect::Aspect;
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::running::{Cache, Flush};
use utter_echo_model::state::State;
use utter_echo_os::{Advice, Entry, Kind, LARGE, Lock, Stat, is_unsupported};

use crate::execute::writer::drive_writer::Writer;
use crate::execute::writer::flags::MadeEntry;
use crate::execute::writer::folder_pair::FolderPair;
use crate::execute::writer::operation::EntryOperation;
use crate::execute::writer::step_error::{StepError, StepResult};

/// What a file is called while it is made.
#[derive(Clone, Copy, Debug)]
pub(super) enum MadeUnder<'a> {
    /// This, and nobody has it yet.
    Name(&'a [u8]),
    /// This, and if an interrupted run left a part of the same file there, that is gone on with.
    Kept(&'a [u8]),
    /// It has no name.
    Nothing,
}

/// A file that is begun, or gone on with.
struct FileBegun {
    file: OwnedFd,
    lock: Option<Lock>,
    birth_mode: u32,
    /// Where to go on.
    from: u64,
}

impl FileBegun {
    fn new(file: io::Result<OwnedFd>, birth_mode: u32) -> Result<Self, StepError> {
        Ok(Self { file: file.during(Operation::Write)?, lock: None, birth_mode, from: 0 })
    }
}

/// A file up to this size is read with one call and written with one.
const SMALL: usize = 256 * 1024;

/// What one call copies of a larger one; the run can be stopped in between.
const STRETCH: u64 = 8 * 1024 * 1024;

/// What is dropped from the cache at a time.
const DROPPED: u64 = 64 * 1024 * 1024;

/// Bytes that count as much as a step.
const CHUNK: u64 = 64 * 1024;

/// How often a file that changes while it is read is read in all.
const TRIES: u32 = 3;

thread_local! {
    static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

impl Writer<'_> {
    /// Makes a complete file, with all attributes, under this name or without any.
    pub(super) fn make_file(
        &self,
        place: &FolderPair,
        name: &[u8],
        under: MadeUnder<'_>,
        operation: &EntryOperation,
        planned: &State,
    ) -> Result<MadeEntry, StepError> {
        let system = self.system();
        let opened = system.open_file(place.source()?, place.source_name(name));
        let source = opened.map_err(|e| match e.kind() {
            ErrorKind::NotFound => StepError::stale_source(Operation::Read),
            _ => StepError(Operation::Read, e.into()),
        })?;
        let mut before = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
        if !planned.still(&before) {
            return Err(StepError::stale_source(Operation::Read));
        }
        let wanted = self.wanted(place, operation, &State::from(&before));
        let folder = place.destination.as_fd();
        let birth_mode = self.birth_mode(place, &wanted);
        let FileBegun { file: made, lock, birth_mode, mut from } = match under {
            MadeUnder::Kept(name) => self.begin_large(folder, name, (source.as_fd(), &before))?,
            MadeUnder::Name(name) => {
                FileBegun::new(system.create_file(folder, name, birth_mode), birth_mode)?
            }
            MadeUnder::Nothing => {
                FileBegun::new(system.create_nameless(folder, birth_mode), birth_mode)?
            }
        };
        for attempt in 1.. {
            let came = self.pour(source.as_fd(), made.as_fd(), &before, from)?;
            let came = self.beyond(place, source.as_fd(), &before, came)?;
            let after = system.stat(Entry::Open(source.as_fd())).during(Operation::Read)?;
            let at_rest = (after.size, after.modified, after.changed)
                == (before.size, before.modified, before.changed);
            // A size of nothing says nothing: what the kernel makes up when it is read has none.
            if at_rest && (came == before.size || before.size == 0) {
                break;
            }
            if at_rest {
                let size = before.size;
                return Err(StepError(Operation::Read, Cause::SizeBelied { size, came }));
            }
            if attempt == TRIES {
                return Err(StepError(Operation::Read, Cause::Restless));
            }
            system.set_length(made.as_fd(), 0).during(Operation::Write)?;
            (before, from) = (after, 0);
        }
        let copy = EntryCopy {
            source_entry: Entry::Open(source.as_fd()),
            source: State::from(&before),
            made: Entry::Open(made.as_fd()),
            born: self.born(place, birth_mode, &before),
        };
        let flags = self.dress(place, name, operation, &copy)?;
        if self.is_flushed_first() {
            self.flush_before_naming(made.as_fd())?;
        }
        Ok(MadeEntry { handle: Some(made), flags, lock })
    }

    /// True if the file must be on the drive before it gets its name: it was asked for, or nothing
    /// else keeps a power cut from leaving its size and times there without its content.
    fn is_flushed_first(&self) -> bool {
        match self.context.running.flush {
            Flush::Each => true,
            Flush::End => !self.marked.load(Ordering::Relaxed),
            Flush::None => false,
        }
    }

    fn is_sparse(&self, stat: &Stat) -> bool {
        self.carries(Aspect::Holes) && stat.allocated < stat.size
    }

    fn flush_before_naming(&self, made: BorrowedFd<'_>) -> StepResult {
        match self.system().flush_file(made) {
            Err(e) if is_unsupported(&e) => Ok(()),
            other => other.during(Operation::Flush),
        }
    }

    /// Begins a large file, or goes on with what an interrupted run left of it. Fails as for a name that is taken if
    /// somebody else is at work under it.
    fn begin_large(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        (source, stat): (BorrowedFd<'_>, &Stat),
    ) -> Result<FileBegun, StepError> {
        let birth_mode = 0o600;
        let Some(file) = self.kept(folder, name) else {
            let file = self.system().create_file(folder, name, birth_mode);
            let begun = FileBegun::new(file, birth_mode)?;
            let lock = self.hold(folder, name, begun.file.as_fd()).during(Operation::Write)?;
            return Ok(FileBegun { lock, ..begun });
        };
        let lock = self.hold(folder, name, file.as_fd()).during(Operation::Write)?;
        let from = self.resume(source, file.as_fd(), stat)?;
        Ok(FileBegun { file, lock, birth_mode, from })
    }

    /// Has a file under way alone. Where the drive cannot lock, nothing keeps others from it.
    fn hold(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        file: BorrowedFd<'_>,
    ) -> io::Result<Option<Lock>> {
        let taken = || io::Error::from(ErrorKind::AlreadyExists);
        let lock = match self.system().lock_file(file) {
            Ok(None) => return Err(taken()),
            other => other.ok().flatten(),
        };
        // Whoever had it may have given it the name that it should have.
        if self.leads_to(folder, name, file)? { Ok(lock) } else { Err(taken()) }
    }

    /// True if a name is that of an open file, as far as the drive's numbers tell.
    pub(super) fn leads_to(
        &self,
        folder: BorrowedFd<'_>,
        name: &[u8],
        file: BorrowedFd<'_>,
    ) -> io::Result<bool> {
        if self.capabilities.drive.numbers != InodeNumbers::Stable {
            return Ok(true);
        }
        let open = self.system().stat(Entry::Open(file))?;
        match self.system().stat(Entry::Named(folder, name)) {
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(false),
            named => Ok(named?.identity == open.identity),
        }
    }

    /// What an interrupted run left of the same large file, if nobody else can have put it there.
    fn kept(&self, folder: BorrowedFd<'_>, name: &[u8]) -> Option<OwnedFd> {
        let system = self.system();
        let kept = system.open_to_write(folder, name).ok()?;
        let stat = system.stat(Entry::Open(kept.as_fd())).ok()?;
        let ours =
            stat.kind == Kind::File && stat.links == 1 && stat.uid == self.capabilities.caller.uid;
        ours.then_some(kept)
    }

    /// Where to go on with a file of which a part is there: at the first byte that is not the
    /// source's. Everything before it is read, since a machine that went down may have kept a
    /// length without what belongs there.
    fn resume(
        &self,
        source: BorrowedFd<'_>,
        kept: BorrowedFd<'_>,
        stat: &Stat,
    ) -> Result<u64, StepError> {
        let system = self.system();
        let go_on = |_, _| self.context.go_on();
        let length = ReadLength { size: stat.size, block: BLOCK };
        let same = same_content::first_difference(system, source, kept, length, go_on);
        let at = same.during(Operation::Read)?.unwrap_or(stat.size);
        // What lies beyond is not to be trusted, nor to show through a hole.
        system.set_length(kept, at).during(Operation::Write)?;
        self.context.observer.wrote(at);
        Ok(at)
    }

    /// Where the source's content ended, of which so much came; more than its size if it goes on there.
    fn beyond(
        &self,
        place: &FolderPair,
        source: BorrowedFd<'_>,
        stat: &Stat,
        came: u64,
    ) -> Result<u64, StepError> {
        if came != stat.size || stat.size == 0 || place.gives.exact_sizes {
            return Ok(came);
        }
        let beyond = self.system().read_at(source, &mut [0], came).during(Operation::Read)?;
        Ok(came + beyond as u64)
    }

    /// Returns where the source's content ended.
    fn pour(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        stat: &Stat,
        from: u64,
    ) -> Result<u64, StepError> {
        let mut end = self.pour_size(source, made, stat, from)?;
        if stat.size > 0 {
            return Ok(end);
        }
        loop {
            self.context.go_on().during(Operation::Write)?;
            match self.copy_through(source, made, end, SMALL as u64)? {
                0 => return Ok(end),
                copied => {
                    self.wrote(copied);
                    end += copied;
                }
            }
        }
    }

    /// As much as the source says it holds; returns where it ended.
    fn pour_size(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        stat: &Stat,
        from: u64,
    ) -> Result<u64, StepError> {
        let sparse = self.is_sparse(stat);
        if stat.size <= SMALL as u64 && !sparse {
            return self.pour_at_once(source, made, stat.size);
        }
        if from == 0 && self.share(source, made) {
            // The drive holds it already.
            self.context.bytes_written.fetch_add(stat.size, Ordering::Relaxed);
            self.context.observer.wrote(stat.size);
            return Ok(stat.size);
        }
        // Advice that is not taken costs nothing but time.
        let _ = self.system().advise(source, Advice::ReadAhead, 0, 0);
        if !sparse {
            self.reserve(made, stat.size)?;
            return self.pour_stretch(source, made, from, stat.size);
        }
        // The length first: what is not written then reads as zeros and takes no room.
        self.system().set_length(made, stat.size).during(Operation::Write)?;
        let mut at = from;
        while at < stat.size {
            // Where holes are not known, all of the rest is content.
            let next = self.system().next_data(source, at).unwrap_or(Some((at, stat.size)));
            let Some((start, end)) = next else { break };
            self.context.observer.wrote(start - at);
            let end = end.min(stat.size);
            at = self.pour_stretch(source, made, start, end)?;
            if at < end {
                return Ok(at);
            }
        }
        self.context.observer.wrote(stat.size.saturating_sub(at));
        Ok(stat.size)
    }

    fn pour_at_once(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        size: u64,
    ) -> Result<u64, StepError> {
        if size == 0 {
            return Ok(0);
        }
        with_buffer(|buffer| {
            let length = usize::try_from(size).unwrap_or(SMALL).min(SMALL);
            let read = self.system().read_at(source, &mut buffer[..length], 0);
            let read = read.during(Operation::Read)?;
            self.system().write_at(made, &buffer[..read], 0).during(Operation::Write)?;
            self.wrote(read as u64);
            Ok(read as u64)
        })
    }

    /// Room is reserved ahead, so that a file too large for the drive fails before it is written,
    /// and one that fits lies in few pieces. Its size does not show it: what is not written yet
    /// must not look finished. On a drive that is filling up it also keeps the kernel from writing
    /// everything out in between, which it does when much of the room is promised and not given.
    fn reserve(&self, made: BorrowedFd<'_>, size: u64) -> StepResult {
        match self.system().reserve(made, size) {
            Err(e) if ends_the_try(&e) => Err(e).during(Operation::Write),
            // Not every drive can.
            _ => Ok(()),
        }
    }

    /// Shares the content where the drive can; false where it cannot.
    fn share(&self, source: BorrowedFd<'_>, made: BorrowedFd<'_>) -> bool {
        if !self.shares_content.load(Ordering::Relaxed) {
            return false;
        }
        // Whatever it says: what is amiss with the drive shows once more when the content is written.
        let shared = self.system().share_content(source, made).is_ok();
        if !shared {
            self.shares_content.store(false, Ordering::Relaxed);
        }
        shared
    }

    fn pour_stretch(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        mut at: u64,
        end: u64,
    ) -> Result<u64, StepError> {
        let by_rate =
            self.context.pace.as_ref().map_or(STRETCH, |pace| pace.stretch().min(STRETCH));
        let mut dropped = at;
        while at < end {
            self.context.go_on().during(Operation::Write)?;
            let by_drive =
                self.backlog.as_ref().map_or(STRETCH, |backlog| backlog.stretch(STRETCH));
            let length = (end - at).min(by_rate).min(by_drive);
            let copied = match self.copy_in_kernel(source, made, at, length) {
                // Some drivers say that of what they cannot do.
                None | Some(0) => self.copy_through(source, made, at, length)?,
                Some(copied) => copied,
            };
            if copied == 0 {
                break;
            }
            self.wrote(copied);
            at += copied;
            if at - dropped >= DROPPED || at == end {
                self.drop_cached(source, made, dropped, at)?;
                dropped = at;
            }
        }
        Ok(at)
    }

    /// What was just copied goes from the cache, if that was asked for. It can only go once it is
    /// on the drive.
    fn drop_cached(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        from: u64,
        to: u64,
    ) -> StepResult {
        if self.context.running.cache == Cache::Keep || to < LARGE {
            return Ok(());
        }
        let system = self.system();
        system.flush_file(made).during(Operation::Flush)?;
        for file in [source, made] {
            let _ = system.advise(file, Advice::Drop, from, to - from);
        }
        Ok(())
    }

    /// `None` where these drives do not do that.
    fn copy_in_kernel(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        at: u64,
        length: u64,
    ) -> Option<u64> {
        if !self.copies_in_kernel.load(Ordering::Relaxed) {
            return None;
        }
        let copied = self.system().copy_range(source, made, at, length).ok();
        if copied.is_none() {
            self.copies_in_kernel.store(false, Ordering::Relaxed);
        }
        copied
    }

    fn copy_through(
        &self,
        source: BorrowedFd<'_>,
        made: BorrowedFd<'_>,
        at: u64,
        length: u64,
    ) -> Result<u64, StepError> {
        with_buffer(|buffer| {
            let length = usize::try_from(length).unwrap_or(SMALL).min(buffer.len());
            let system = self.system();
            let read = system.read_at(source, &mut buffer[..length], at).during(Operation::Read)?;
            system.write_at(made, &buffer[..read], at).during(Operation::Write)?;
            Ok(read as u64)
        })
    }

    fn wrote(&self, bytes: u64) {
        if let Some(pace) = &self.context.pace {
            pace.pass(bytes, || self.context.must_end());
        }
        self.context.pool.did(bytes / CHUNK);
        self.context.bytes_written.fetch_add(bytes, Ordering::Relaxed);
        match &self.backlog {
            Some(backlog) => backlog.hand(bytes, || self.context.must_end()),
            None => self.context.observer.wrote(bytes),
        }
    }
}

fn with_buffer<T>(work: impl FnOnce(&mut [u8]) -> T) -> T {
    BUFFER.with_borrow_mut(|buffer| {
        buffer.resize(SMALL, 0);
        work(buffer)
    })
}

/// True for what writing would meet as well, and late.
fn ends_the_try(error: &io::Error) -> bool {
    use ErrorKind as K;
    matches!(
        error.kind(),
        K::StorageFull | K::QuotaExceeded | K::ReadOnlyFilesystem | K::FileTooLarge
    ) || error.raw_os_error() == Some(rustix::io::Errno::IO.raw_os_error())
}
