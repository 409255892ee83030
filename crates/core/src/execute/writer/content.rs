//! The content of one file.

use crate::execute::writer::attributes::EntryCopy;
use crate::execute::writer::step_error::ErrorContext as _;
use std::cell::RefCell;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::Ordering;

use utter_echo_files::same_content::{self, BLOCK, ReadLength};
use utter_echo_model::attribute::Attribute;
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

/// The name of a file while it is written.
#[derive(Clone, Copy, Debug)]
pub(super) enum MadeUnder<'a> {
    /// A new name.
    Name(&'a [u8]),
    /// A name under which an interrupted run may have left a part of the same file, which is continued.
    Kept(&'a [u8]),
    /// It has no name.
    Nothing,
}

/// A file that is begun or continued.
struct FileBegun {
    file: OwnedFd,
    lock: Option<Lock>,
    birth_mode: u32,
    /// The offset to continue at.
    from: u64,
}

impl FileBegun {
    fn new(file: io::Result<OwnedFd>, birth_mode: u32) -> Result<Self, StepError> {
        Ok(Self { file: file.during(Operation::Write)?, lock: None, birth_mode, from: 0 })
    }
}

/// A file up to this size is read and written with one call each.
const SMALL: usize = 256 * 1024;

/// The bytes that one call copies of a larger file; the run can be stopped in between.
const STRETCH: u64 = 8 * 1024 * 1024;

/// The bytes that are dropped from the cache at a time.
const DROPPED: u64 = 64 * 1024 * 1024;

/// This many bytes count as much work as one step.
const CHUNK: u64 = 64 * 1024;

/// The most times that a file is read which changes meanwhile.
const TRIES: u32 = 3;

thread_local! {
    static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

impl Writer<'_> {
    /// Makes a complete file with all attributes, under a name or unnamed.
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
            // A size of 0 means nothing: files of the kernel report no size.
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
        let flags = self.set_new_attributes(place, name, operation, &copy)?;
        if self.is_flushed_first() {
            self.flush_before_naming(made.as_fd())?;
        }
        Ok(MadeEntry { handle: Some(made), flags, lock })
    }

    /// True if the file must be flushed before it gets its name: if requested, or if there is no dirty marker,
    /// since a power cut may leave its size and times on the drive without its content.
    fn is_flushed_first(&self) -> bool {
        match self.context.running.flush {
            Flush::Each => true,
            Flush::End => !self.marked.load(Ordering::Relaxed),
            Flush::None => false,
        }
    }

    fn is_sparse(&self, stat: &Stat) -> bool {
        self.carries(Attribute::Holes) && stat.allocated < stat.size
    }

    fn flush_before_naming(&self, made: BorrowedFd<'_>) -> StepResult {
        match self.system().flush_file(made) {
            Err(e) if is_unsupported(&e) => Ok(()),
            other => other.during(Operation::Flush),
        }
    }

    /// Begins a large file, or continues the part that an interrupted run left. Fails with `AlreadyExists` if
    /// somebody else is writing under its name.
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

    /// Locks a file that is being written. On a drive that cannot lock there is no lock.
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
        // Its former owner may have renamed it to its final name.
        if self.leads_to(folder, name, file)? { Ok(lock) } else { Err(taken()) }
    }

    /// True if a name is that of an open file, judged by inode numbers if they last.
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

    /// The part of a large file that an interrupted run left, if nobody else can have put it there.
    fn kept(&self, folder: BorrowedFd<'_>, name: &[u8]) -> Option<OwnedFd> {
        let system = self.system();
        let kept = system.open_to_write(folder, name).ok()?;
        let stat = system.stat(Entry::Open(kept.as_fd())).ok()?;
        let ours =
            stat.kind == Kind::File && stat.links == 1 && stat.uid == self.capabilities.caller.uid;
        ours.then_some(kept)
    }

    /// The offset to continue a partial file at: its first byte that differs from the source. Everything before
    /// that is read, since after a crash a file may have its length without its content.
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
        // Data beyond that is not trusted, and must not show through a hole.
        system.set_length(kept, at).during(Operation::Write)?;
        self.context.observer.wrote(at);
        Ok(at)
    }

    /// The offset where the source's content ended; more than its size if there is more.
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

    /// Copies the content. Returns the offset where the source ended.
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

    /// Copies as much as the source's size says. Returns the offset where it ended.
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
            // The drive has the content already.
            self.context.bytes_written.fetch_add(stat.size, Ordering::Relaxed);
            self.context.observer.wrote(stat.size);
            return Ok(stat.size);
        }
        // Without this advice the copy only takes longer.
        let _ = self.system().advise(source, Advice::ReadAhead, 0, 0);
        if !sparse {
            self.reserve(made, stat.size)?;
            return self.pour_stretch(source, made, from, stat.size);
        }
        // The length first: unwritten parts read as zeros and take no space.
        self.system().set_length(made, stat.size).during(Operation::Write)?;
        let mut at = from;
        while at < stat.size {
            // If holes are not known, all of the rest counts as content.
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

    /// Reserves space, so that a file too large for the drive fails before it is written, and one that fits is not
    /// fragmented. The size of the file does not change, since an unfinished file must not look complete. On a
    /// nearly full drive the reservation also keeps the kernel from flushing everything in between, which it does
    /// when much space is promised and not allocated.
    fn reserve(&self, made: BorrowedFd<'_>, size: u64) -> StepResult {
        match self.system().reserve(made, size) {
            Err(e) if ends_the_try(&e) => Err(e).during(Operation::Write),
            // Not every drive can reserve space.
            _ => Ok(()),
        }
    }

    /// Shares the content. Returns false if the drive cannot.
    fn share(&self, source: BorrowedFd<'_>, made: BorrowedFd<'_>) -> bool {
        if !self.shares_content.load(Ordering::Relaxed) {
            return false;
        }
        // Any error counts as unsupported: an error of the drive shows again when the content is written.
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
                // Some drivers return this for what they cannot do.
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

    /// Drops copied data from the cache, if requested. It must be flushed first.
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

    /// `None` if the drives do not support it.
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

/// True for an error that writing would meet later as well.
fn ends_the_try(error: &io::Error) -> bool {
    use ErrorKind as K;
    matches!(
        error.kind(),
        K::StorageFull | K::QuotaExceeded | K::ReadOnlyFilesystem | K::FileTooLarge
    ) || error.raw_os_error() == Some(rustix::io::Errno::IO.raw_os_error())
}
