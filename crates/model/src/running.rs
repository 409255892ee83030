//! Options on how a run works.

use std::time::Duration;

/// When written data is flushed to the drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Flush {
    /// Once, before the run reports its end.
    #[default]
    End,
    /// Each file before it gets its name, and everything at the end.
    Each,
    /// Never: a power cut may undo what the run reported.
    None,
}

/// What a run leaves in the system's page cache.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Cache {
    /// Whatever the system keeps there.
    #[default]
    Keep,
    /// Nothing of files over 8 MiB, so that other programs' data stays.
    Drop,
}

/// How often, and after which time, a temporary error is retried: a busy entry, an input or output error, a stale
/// handle, a file that changes while it is read or that a program holds open for writing.
#[derive(Clone, Copy, Debug)]
pub struct Retries {
    /// Further tries; 0 for none.
    pub times: u32,
    /// The time before each retry. After twenty waits a run retries at once.
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
    /// One for each processor at first, and more as long as they mostly wait and more of them do more.
    #[default]
    Auto,
    /// So many, at least one.
    Fixed(usize),
}

/// How a run works.
#[derive(Clone, Copy, Debug)]
pub struct Running {
    /// Threads that scan, compare and write.
    pub workers: Workers,
    /// When written data is flushed to the drive.
    pub flush: Flush,
    /// The most bytes of content to write in a second; `None` for no limit.
    pub rate: Option<u64>,
    /// What stays in the system's cache.
    pub cache: Cache,
    /// Retries of temporary errors.
    pub retries: Retries,
    /// Whether written files are read back from the drive and compared.
    pub read_back: bool,
}

impl Default for Running {
    /// Workers as the drives allow, a flush at the end, no retries.
    fn default() -> Self {
        Self {
            workers: Workers::default(),
            flush: Flush::default(),
            rate: None,
            cache: Cache::default(),
            retries: Retries::default(),
            read_back: false,
        }
    }
}
