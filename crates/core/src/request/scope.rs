//! What comparing is asked to find out: derived from command and options here, and nowhere else, so
//! that it does not look at what nobody asks for and still knows nothing of steps.

use utter_echo_model::aspect::Aspects;
use utter_echo_model::verb::Verb;
use utter_echo_select::Selection;

use crate::request::comparing::{By, Changed, Reading, Sample};
use crate::request::run::Request;

/// The questions of one comparison.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scope {
    /// How a changed file is recognised.
    pub(crate) by: By,
    /// Files to be read though nothing else shows that they differ.
    pub(crate) sample: Option<Sample>,
    /// How files are read.
    pub(crate) reading: Reading,
    /// Whether to look at attributes that `statx` does not show.
    pub(crate) attributes: HiddenAttributes,
    /// Whether to go below folders that only the destination has.
    pub(crate) extra: ExtraFolders,
    /// Whether what the selection leaves out of the destination is a difference.
    pub(crate) left_out: LeftOutEntries,
    /// Whether to go onto other drives that are mounted in the destination alone.
    pub(crate) drives: DriveCrossing,
    /// Whether what is the same on both sides is to be reported.
    pub(crate) same: EqualEntries,
    /// Whether to find out what could be renamed from one side to the other.
    pub(crate) rename_path: RenamePath,
}

/// Whether entries of the source can be renamed to where they go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum RenamePath {
    /// They cannot.
    #[default]
    Impossible,
    /// They can; of a folder it takes a look at all that is in it to know.
    EachEntry,
    /// They can, and a folder with all it holds, whatever that is.
    WholeTree,
}

/// What to do with what both sides agree in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum EqualEntries {
    /// It is counted.
    Counted,
    /// It is reported, too.
    Told,
}

/// When attributes that cost calls of their own are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum HiddenAttributes {
    /// Where the source's change time says that they may have been altered since they were carried.
    WhereAltered,
    /// Always.
    Always,
}

/// What to find out about a folder that only the destination has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ExtraFolders {
    /// That it is there.
    NameOnly,
    /// All that is in it.
    WithContents,
}

/// What to do with what the selection leaves out of the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LeftOutEntries {
    /// It is invisible.
    Unseen,
    /// It is a difference.
    Told,
}

/// How far to go in the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum DriveCrossing {
    /// Onto another drive only where the source has something in that very place.
    WhereTheSourceGoes,
    /// Wherever one is mounted.
    All,
}

impl Scope {
    pub(crate) fn of(request: &Request, selection: &Selection) -> Self {
        let Request { task, changed, .. } = request;
        let Changed { by, sample, reading, all_aspects, .. } = *changed;
        let always = all_aspects || task.only_compares() || task.vacates() || by == By::Content;
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
            left_out: if drops { LeftOutEntries::Told } else { LeftOutEntries::Unseen },
            drives: if selection.crosses_drives() {
                DriveCrossing::All
            } else {
                DriveCrossing::WhereTheSourceGoes
            },
            same: if task.vacates() { EqualEntries::Told } else { EqualEntries::Counted },
            rename_path: rename_path(request, selection),
        }
    }
}

/// A rename takes all of an entry along, and away from the source; so it needs leave for all of that.
fn rename_path(request: &Request, selection: &Selection) -> RenamePath {
    let Request { task, changed, carry, vacating, .. } = request;
    let carries_all = Aspects::ALL.iter().all(|aspect| carry.has(aspect));
    let may = [Verb::Add, Verb::Rename, Verb::Vacate].iter().all(|verb| changed.steps.has(*verb));
    if !task.vacates() || !carries_all || !may {
        RenamePath::Impossible
    } else if selection.takes_everything() && !vacating.leave_folders {
        RenamePath::WholeTree
    } else {
        RenamePath::EachEntry
    }
}
