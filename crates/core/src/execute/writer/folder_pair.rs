//! The two folders of a step.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::OnceLock;

use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_os::{Flags, Stat};

use crate::execute::writer::step_error::StepError;
use crate::policy::SourceNames;

/// The mode of a folder until it has its final attributes.
pub(crate) const WHILE_FILLED: u32 = 0o700;

/// Effects of a folder and its drive on new entries.
pub(crate) struct FolderDefaults {
    /// Sizes of files in the source's folder are always right.
    pub(super) exact_sizes: bool,
    /// The group that new entries get here.
    pub(super) born_gid: u32,
    /// New entries get access lists from the folder.
    pub(super) gives_lists: bool,
    /// The folder's flags, some of which lock it, and some of which new entries inherit.
    pub(crate) flags: Flags,
}

/// Folders for removed and displaced entries, opened when needed.
#[derive(Default)]
pub(crate) struct FoldersAside {
    /// The exit folder of the source's folder, and whether inode numbers last there; `None` if it cannot be used.
    pub(crate) exit: OnceLock<Option<(OwnedFd, InodeNumbers)>>,
    /// The set-aside counterpart of the destination's folder.
    pub(super) counterpart: OnceLock<OwnedFd>,
}

/// The two folders of a step.
pub(crate) struct FolderPair {
    /// Relative to the root.
    pub(crate) path: TreePath,
    /// `None` if the source has no such folder or it cannot be opened.
    pub(crate) source: Option<OwnedFd>,
    pub(crate) destination: OwnedFd,
    /// The destination's folder, when it was entered.
    pub(crate) stat: Stat,
    /// The mode of a folder of the caller without write permission.
    pub(crate) closed_with: Option<u32>,
    /// The temporary name for all new entries here, one after the other. In a folder with a hundred thousand
    /// entries one name is much faster than one for each.
    pub(super) temporary: Vec<u8>,
    /// The folder is hidden, so new entries get their final names at once.
    pub(crate) hidden: bool,
    /// Names that differ in the source.
    pub(crate) source_names: SourceNames,
    pub(crate) aside: FoldersAside,
    pub(crate) gives: FolderDefaults,
}

impl FolderPair {
    /// The source's name of an entry, from its name in the destination.
    pub(crate) fn source_name<'n>(&'n self, name: &'n [u8]) -> &'n [u8] {
        self.source_names.get(name).unwrap_or(name)
    }

    pub(crate) fn source(&self) -> Result<BorrowedFd<'_>, StepError> {
        let gone = || StepError(Operation::Read, Cause::Stale("its folder in the source"));
        self.source.as_ref().map(AsFd::as_fd).ok_or_else(gone)
    }
}
