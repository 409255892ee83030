//! Files whose contents are compared in disk order.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher as _};
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_drives::disk_order::CacheSample;
use utter_echo_model::path::{NameArena, NameRange, TreePath};
use utter_echo_os::Stat;

/// How the contents of files are compared.
#[derive(Debug, Default)]
pub(crate) enum Contents {
    /// They are read where the walk meets them.
    #[default]
    Read,
    /// They are collected, to be read in disk order.
    Noted(NotedFiles),
    /// These files were read and are equal; all others are read where the walk meets them.
    Known(SameFiles),
}

/// Fingerprints of pairs of equal files, sorted.
#[derive(Debug, Default)]
pub(crate) struct SameFiles(pub(super) Vec<u128>);

/// Files to read.
#[derive(Debug, Default)]
pub(crate) struct NotedFiles {
    pub(super) files: Mutex<FilesToRead>,
    /// Fingerprints of those that were read and are equal.
    pub(super) same: Mutex<Vec<u128>>,
    /// The files are cached, so that disk order gains nothing.
    pub(crate) is_in_memory: AtomicBool,
}

#[derive(Debug, Default)]
pub(super) struct FilesToRead {
    pub(crate) folders: Vec<TreePath>,
    numbers: HashMap<TreePath, u32>,
    pub(crate) names: NameArena,
    pub(crate) all: Vec<NotedFile>,
    /// Bytes of both sides.
    pub(crate) bytes: u64,
    pub(crate) sample: CacheSample,
}

#[derive(Clone, Copy, Debug)]
pub(super) struct NotedFile {
    pub(super) place: u64,
    pub(super) folder: u32,
    pub(super) name: NameRange,
}

/// The most files in one sweep. Their names and positions take about 20 MiB.
pub(super) const AT_A_TIME: usize = 1 << 19;

impl Contents {
    pub(super) fn is_noted(&self) -> bool {
        matches!(self, Self::Noted(_))
    }

    /// True if nothing more is to be collected.
    pub(super) fn has_enough(&self) -> bool {
        match self {
            Self::Noted(noted) => noted.is_in_memory.load(Ordering::Relaxed),
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

impl SameFiles {
    pub(super) fn has(&self, source: &Stat, destination: &Stat) -> bool {
        !self.0.is_empty() && self.0.binary_search(&fingerprint(source, destination)).is_ok()
    }
}

pub(super) fn fingerprint(source: &Stat, destination: &Stat) -> u128 {
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

impl FilesToRead {
    pub(super) fn add(&mut self, folder: &TreePath, name: &[u8], place: u64) {
        let Self { folders, numbers, names, all, .. } = self;
        let folder = numbers.get(folder).copied().unwrap_or_else(|| {
            let number = u32::try_from(folders.len()).unwrap_or(u32::MAX);
            numbers.insert(folder.clone(), number);
            folders.push(folder.clone());
            number
        });
        all.push(NotedFile { place, folder, name: names.add(name) });
    }
}
