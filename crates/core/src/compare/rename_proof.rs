//! Questions and answers of the proof of a rename.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;

/// A proven rename.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct ProvenRename {
    /// The attributes to change after the rename.
    pub(crate) attributes: Attributes,
}

/// The planned contents of new folders.
pub(crate) trait ExpectedFolders: Sync {
    /// The names in a folder, sorted, each with its folder number if it is a folder with entries.
    fn names(&self, folder: usize) -> Vec<(&[u8], Option<usize>)>;
}

/// An entry that may have moved.
pub(crate) struct MovedEntry<'a> {
    /// Where it is in the source.
    pub(crate) source: TreePath,
    /// Where it is in the destination.
    pub(crate) destination: TreePath,
    /// The drive of the destination that both places lie on.
    pub(crate) drive: DriveId,
    /// Its folder number, if it is a folder with entries.
    pub(crate) folder: Option<usize>,
    pub(crate) wanted: &'a dyn ExpectedFolders,
}

/// Files that may have moved, by their numbers, with both paths.
pub(crate) trait LikelyRenames: Sync {
    fn count(&self) -> usize;
    fn paths(&self, number: usize) -> (TreePath, TreePath);
    fn inodes(&self, number: usize) -> (u64, u64);
}

/// Proves renames.
pub(crate) trait Proof {
    /// True if `expect` is useful.
    fn expects(&self) -> bool {
        false
    }

    /// Announces files that will probably be asked for, one by one.
    fn expect(&self, _likely: &dyn LikelyRenames) {}

    /// `None` if the entries differ, or that cannot be found out.
    fn same(&self, moved: &MovedEntry<'_>) -> Option<ProvenRename>;
}
