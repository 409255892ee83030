//! The two folders that entries are handled in.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::OnceLock;

use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_os::{Flags, Stat};

use crate::execute::writer::step_error::StepError;
use crate::policy::SourceNames;

/// Open to nobody else until the folder has the attributes it should have.
pub(crate) const WHILE_FILLED: u32 = 0o700;

/// What a folder and its drive do to what is made in it.
pub(crate) struct FolderDefaults {
    /// Nothing lies beyond the sizes of the files there.
    pub(super) exact_sizes: bool,
    /// The group that new entries get here.
    pub(super) born_gid: u32,
    /// New entries get access lists from the folder.
    pub(super) gives_lists: bool,
    /// The folder's flags: some keep it from being changed, others are given to new entries.
    pub(crate) flags: Flags,
}

/// Folders that entries go to, opened once one does.
#[derive(Default)]
pub(crate) struct FoldersAside {
    /// By which entries leave the source's folder, and whether the numbers of its drive last; nothing where that cannot
    /// be had.
    pub(crate) exit: OnceLock<Option<(OwnedFd, InodeNumbers)>>,
    /// Where things of the destination's folder are set aside.
    pub(super) counterpart: OnceLock<OwnedFd>,
}

/// The two folders that entries are handled in.
pub(crate) struct FolderPair {
    /// Relative to the root.
    pub(crate) path: TreePath,
    /// `None` where the source has no such folder or it cannot be opened.
    pub(crate) source: Option<OwnedFd>,
    pub(crate) destination: OwnedFd,
    /// The destination's folder, when it was entered.
    pub(crate) stat: Stat,
    /// The mode of a folder that the caller owns and may not write into.
    pub(crate) closed_with: Option<u32>,
    /// The name under which one entry after the other is made here. One name for all is much
    /// quicker than one each where a folder holds a hundred thousand.
    pub(super) temporary: Vec<u8>,
    /// Nobody sees the folder yet, so what is made in it gets its name at once.
    pub(crate) hidden: bool,
    /// Names of entries that the source has under others.
    pub(crate) source_names: SourceNames,
    pub(crate) aside: FoldersAside,
    pub(crate) gives: FolderDefaults,
}

impl FolderPair {
    /// The source's name of an entry that has this name in the destination.
    pub(crate) fn source_name<'n>(&'n self, name: &'n [u8]) -> &'n [u8] {
        self.source_names.get(name).unwrap_or(name)
    }

    pub(crate) fn source(&self) -> Result<BorrowedFd<'_>, StepError> {
        let gone = || StepError(Operation::Read, Cause::Stale("its folder in the source"));
        self.source.as_ref().map(AsFd::as_fd).ok_or_else(gone)
    }
}
