//! The scope of a comparison, derived from the request here and nowhere else. So the comparison reads only what is
//! needed, and knows nothing of steps.

use utter_echo_model::attribute::Attributes;
use utter_echo_model::verb::Verb;
use utter_echo_select::Selection;

use crate::request::comparing::{Changed, CompareBy, Reading, Sample};
use crate::request::run::Request;

/// The scope of a comparison.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scope {
    /// How a changed file is recognised.
    pub(crate) by: CompareBy,
    /// A random sample of files to read.
    pub(crate) sample: Option<Sample>,
    /// How files are read.
    pub(crate) reading: Reading,
    /// When to compare attributes that `statx` does not show.
    pub(crate) attributes: HiddenAttributes,
    /// Whether to scan folders that only the destination has.
    pub(crate) extra: ExtraFolders,
    /// Whether left-out entries of the destination are differences.
    pub(crate) left_out: LeftOutEntries,
    /// Whether to scan drives mounted in folders of the destination only.
    pub(crate) drives: DriveCrossing,
    /// Whether equal entries are reported.
    pub(crate) same: EqualEntries,
    /// Whether entries can be renamed from one side to the other.
    pub(crate) rename_path: RenamePath,
}

/// Whether entries of the source can be renamed into the destination.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum RenamePath {
    /// They cannot.
    #[default]
    Impossible,
    /// They can; for a folder all its entries must be checked.
    EachEntry,
    /// They can, and folders with all their entries unchecked.
    WholeTree,
}

/// What to do with equal entries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum EqualEntries {
    /// They are counted.
    Counted,
    /// They are reported.
    Reported,
}

/// When attributes that `statx` does not show are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum HiddenAttributes {
    /// If the change time of the source shows that they may have changed since they were carried.
    WhereAltered,
    /// Always.
    Always,
}

/// How to scan a folder that only the destination has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ExtraFolders {
    /// Not at all.
    NameOnly,
    /// With all its entries.
    WithContents,
}

/// What to do with left-out entries of the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LeftOutEntries {
    /// They are invisible.
    Unseen,
    /// They are differences.
    Reported,
}

/// Which drives of the destination to scan.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum DriveCrossing {
    /// Another drive only if the source has an entry in the place of its mount point.
    WhereTheSourceGoes,
    /// All drives.
    All,
}

impl Scope {
    pub(crate) fn of(request: &Request, selection: &Selection) -> Self {
        let Request { task, changed, .. } = request;
        let Changed { by, sample, reading, all_attributes, .. } = *changed;
        let always = all_attributes
            || task.only_compares()
            || task.removes_sources()
            || by == CompareBy::Content;
        let drops = task.removes() && selection.drops_unselected();
        Self {
            by,
            sample,
            reading,
            attributes: if always {
                HiddenAttributes::Always
            } else {
                HiddenAttributes::WhereAltered
            },
            extra: if task.removes() || task.only_compares() {
                ExtraFolders::WithContents
            } else {
                ExtraFolders::NameOnly
            },
            left_out: if drops { LeftOutEntries::Reported } else { LeftOutEntries::Unseen },
            drives: if selection.crosses_drives() {
                DriveCrossing::All
            } else {
                DriveCrossing::WhereTheSourceGoes
            },
            same: if task.removes_sources() {
                EqualEntries::Reported
            } else {
                EqualEntries::Counted
            },
            rename_path: rename_path(request, selection),
        }
    }
}

/// A rename carries all attributes and removes the entry from the source, so both must be allowed.
fn rename_path(request: &Request, selection: &Selection) -> RenamePath {
    let Request { task, changed, carry, moving, .. } = request;
    let carries_all = Attributes::ALL.iter().all(|attribute| carry.has(attribute));
    let may =
        [Verb::Add, Verb::Rename, Verb::RemoveSource].iter().all(|verb| changed.steps.has(*verb));
    if !task.removes_sources() || !carries_all || !may {
        RenamePath::Impossible
    } else if selection.takes_everything() && !moving.leave_folders {
        RenamePath::WholeTree
    } else {
        RenamePath::EachEntry
    }
}
