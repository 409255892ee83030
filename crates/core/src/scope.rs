//! What comparing is asked to find out: derived from command and options here, and nowhere else, so
//! that it does not look at what nobody asks for and still knows nothing of steps.

use crate::aspect::Aspects;
use crate::policy::Verb;
use crate::request::{By, Changed, Reading, Request, Sample};
use crate::select::Selection;

/// The questions of one comparison.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Scope {
    /// What tells that a file changed.
    pub(crate) by: By,
    /// Files to be read though nothing else tells that they differ.
    pub(crate) sample: Option<Sample>,
    /// How files are read.
    pub(crate) reading: Reading,
    /// Whether to look at attributes that `statx` does not show.
    pub(crate) attributes: Attributes,
    /// Whether to go below folders that only the destination has.
    pub(crate) extra: Extra,
    /// Whether what the selection leaves out of the destination is a difference.
    pub(crate) left_out: LeftOut,
    /// Whether to go onto other drives that are mounted in the destination alone.
    pub(crate) drives: Drives,
    /// Whether what is on both sides alike is to be told.
    pub(crate) same: Same,
    /// Whether to find out what could be renamed from one side to the other.
    pub(crate) passage: Passage,
}

/// Whether entries of the source can be renamed to where they go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Passage {
    /// They cannot.
    #[default]
    Closed,
    /// They can; of a folder it takes a look at all that is in it to know.
    Open,
    /// They can, and a folder with all it holds, whatever that is.
    Unseen,
}

/// What to do with what both sides agree in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Same {
    /// It is counted.
    Counted,
    /// It is told, too.
    Told,
}

/// When attributes that cost calls of their own are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Attributes {
    /// Where the source's change time says that they may have been altered since they were carried.
    WhereAltered,
    /// Always.
    Always,
}

/// What to find out about a folder that only the destination has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Extra {
    /// That it is there.
    NameOnly,
    /// All that is in it.
    WithContents,
}

/// What to do with what the selection leaves out of the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LeftOut {
    /// It is invisible.
    Unseen,
    /// It is a difference.
    Told,
}

/// How far to go in the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Drives {
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
            attributes: if always { Attributes::Always } else { Attributes::WhereAltered },
            extra: if task.removes() || task.only_compares() {
                Extra::WithContents
            } else {
                Extra::NameOnly
            },
            left_out: if drops { LeftOut::Told } else { LeftOut::Unseen },
            drives: if selection.crosses_drives() {
                Drives::All
            } else {
                Drives::WhereTheSourceGoes
            },
            same: if task.vacates() { Same::Told } else { Same::Counted },
            passage: passage(request, selection),
        }
    }
}

/// A rename takes all of an entry along, and away from the source; so it needs leave for all of that.
fn passage(request: &Request, selection: &Selection) -> Passage {
    let Request { task, changed, carry, vacating, .. } = request;
    let carries_all = Aspects::ALL.iter().all(|aspect| carry.has(aspect));
    let may = [Verb::Add, Verb::Rename, Verb::Vacate].iter().all(|verb| changed.steps.has(*verb));
    if !task.vacates() || !carries_all || !may {
        Passage::Closed
    } else if selection.takes_everything() && !vacating.leave_folders {
        Passage::Unseen
    } else {
        Passage::Open
    }
}
