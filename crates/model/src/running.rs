//! How a run goes about its work.

use std::time::Duration;

/// When what was written is brought onto the drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Flush {
    /// Once, before the run says that it finished.
    #[default]
    End,
    /// Each file before it gets its name, and everything at the end.
    Each,
    /// Left to the system: a power cut may undo what the run reported.
    None,
}

/// What a run leaves in the system's cache of file content.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Cache {
    /// Whatever the system keeps there.
    #[default]
    Keep,
    /// Nothing of files over 8 MiB, so that the machine's working set stays.
    Drop,
}

/// How often, and after which time, to try again what may pass: a busy entry, an input or output
/// error, a stale handle, a file that changes while it is read.
#[derive(Clone, Copy, Debug)]
pub struct Retries {
    /// Further tries; 0 for none.
    pub times: u32,
    /// Before each of them. A run waits twenty times at most, and then tries again at once.
    pub wait: Duration,
}

impl Default for Retries {
    /// None.
    fn default() -> Self {
        Self { times: 0, wait: Duration::ZERO }
    }
}

/// Threads that scan, compare and write.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Workers {
    /// One a processor to begin with, and more as long as they mostly wait and do more together.
    #[default]
    Auto,
    /// So many, at least one.
    Fixed(usize),
}

/// How a run goes about it.
#[derive(Clone, Copy, Debug)]
pub struct Running {
    /// Threads that scan, compare and write.
    pub workers: Workers,
    /// When what was written is brought onto the drive.
    pub flush: Flush,
    /// Most bytes of content to write in a second; `None` for as many as can be.
    pub rate: Option<u64>,
    /// What stays in the system's cache.
    pub cache: Cache,
    /// Trying again.
    pub retries: Retries,
    /// Read back from the drive what was written, and compare.
    pub recheck: bool,
}

impl Default for Running {
    /// As many workers as do more, a flush at the end, nothing tried again.
    fn default() -> Self {
        Self {
            workers: Workers::default(),
            flush: Flush::default(),
            rate: None,
            cache: Cache::default(),
            retries: Retries::default(),
            recheck: false,
        }
    }
}
