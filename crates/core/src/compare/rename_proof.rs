//! What is asked and answered to prove a rename.

use utter_echo_model::aspect::Aspects;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;

/// Two entries that are the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ProvenRename {
    /// What has to be changed of the entry itself after it was renamed.
    pub(crate) aspects: Aspects,
}

/// What a new folder of the source is to hold, for those who have decided that.
pub(crate) trait ExpectedFolders: Sync {
    /// The names in a folder, sorted, each with the number of the folder if it is one that holds
    /// something.
    fn names(&self, folder: usize) -> Vec<(&[u8], Option<usize>)>;
}

/// What may have moved.
pub(crate) struct MovedEntry<'a> {
    /// Where it is in the source.
    pub(crate) source: TreePath,
    /// Where it is in the destination.
    pub(crate) destination: TreePath,
    /// The drive of the destination that both places lie on.
    pub(crate) drive: DriveId,
    /// For a folder that holds something, its number.
    pub(crate) folder: Option<usize>,
    pub(crate) wanted: &'a dyn ExpectedFolders,
}

/// Files that may have moved, by their numbers, each in the source and in the destination.
pub(crate) trait LikelyRenames: Sync {
    fn count(&self) -> usize;
    fn paths(&self, number: usize) -> (TreePath, TreePath);
    fn inodes(&self, number: usize) -> (u64, u64);
}

/// Looks both sides up to prove it.
pub(crate) trait Proof {
    /// True if it helps to know beforehand what will be asked.
    fn expects(&self) -> bool {
        false
    }

    /// These files are likely to be asked for, one by one.
    fn expect(&self, _likely: &dyn LikelyRenames) {}

    /// `None` if they are not the same, or it cannot be known.
    fn same(&self, moved: &MovedEntry<'_>) -> Option<ProvenRename>;
}
