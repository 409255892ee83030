//! What a run is asked to do.

use std::collections::HashMap;
use std::fmt;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::aspect::Aspects;
use crate::path::TreePath;
use crate::plan::Verbs;
use crate::select::Selection;

/// What to do with the two sides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Task {
    /// Add and replace; remove nothing.
    Copy,
    /// Add, replace and remove what the source does not have.
    Mirror,
    /// Only compare, and look at every aspect of every entry.
    Verify,
    /// Take back what a run did that set aside what it displaced.
    Undo,
    /// Add, and take away from the source what has arrived.
    Move,
}

/// What a task may do, and what it needs: asked by these names, and not by the task's own.
impl Task {
    /// Its name in messages and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Copy => "copy",
            Self::Mirror => "mirror",
            Self::Verify => "verify",
            Self::Undo => "undo",
            Self::Move => "move",
        }
    }

    /// What the source lacks goes from the destination.
    pub fn removes(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// What has arrived goes from the source.
    pub fn vacates(self) -> bool {
        matches!(self, Self::Move)
    }

    /// Nothing is changed on either side.
    pub fn only_compares(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// The plan comes from the notes of another run, and not from comparing.
    pub fn is_undo(self) -> bool {
        matches!(self, Self::Undo)
    }

    /// A single entry cannot be its source.
    pub fn needs_a_folder(self) -> bool {
        matches!(self, Self::Mirror)
    }

    /// The destination must be there.
    pub fn needs_a_destination(self) -> bool {
        matches!(self, Self::Verify)
    }

    /// Somebody should be asked before what is there goes.
    pub fn asks_before_removing(self) -> bool {
        matches!(self, Self::Mirror | Self::Undo)
    }
}

/// When a file counts as changed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum By {
    /// Size or modification time differ.
    #[default]
    SizeTime,
    /// Bytes differ; reads both sides and looks at every aspect.
    Content,
    /// Size differs.
    Size,
    /// Only that there is an entry of the same name and kind; nothing else of it is compared.
    Presence,
}

/// How the contents of files are read that are compared.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Reading {
    /// As the system has them in its cache, if it has.
    #[default]
    AsCached,
    /// As the drives hold them: what is in the cache is written out and left aside.
    FromDrive,
}

/// A part of all files, chosen by chance.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sample {
    /// How likely each is to be among them, in percent.
    pub percent: f64,
    /// What the choice depends on, beside the file.
    pub seed: u64,
}

/// How many removals a mirror may hold.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum RemovalLimit {
    /// A third of the destination's entries, once that is more than twenty removals.
    #[default]
    Usual,
    /// This many entries.
    Count(u64),
    /// This part of the destination's entries, in percent.
    Percent(f64),
}

/// A check, by the name it is waived with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guard {
    /// One side lies inside the other; cannot be waived.
    Overlap,
    /// A mirror whose source holds nothing that is selected, while the destination does.
    EmptySource,
    /// A mirror that removes more than its limit.
    Removals,
    /// A plan that needs more room than there is.
    Space,
    /// A mirror into a destination that looks nothing like the source, while a folder right above or
    /// right below it does.
    Nesting,
    /// A mirror that would mostly take away what was written in the destination after the newest
    /// entry of the source.
    Swapped,
    /// A place on a drive that is not mounted, or on another drive than was named.
    Drive,
    /// A destination that another run is working on.
    OtherRun,
    /// A move onto a drive that cannot hold what would be gone with the source.
    Loss,
}

impl Guard {
    /// All guards.
    pub const ALL: [Self; 9] = [
        Self::Overlap,
        Self::EmptySource,
        Self::Removals,
        Self::Space,
        Self::Nesting,
        Self::Swapped,
        Self::Drive,
        Self::OtherRun,
        Self::Loss,
    ];

    /// Its name in options, messages and JSON.
    pub fn name(self) -> &'static str {
        match self {
            Self::Overlap => "overlap",
            Self::EmptySource => "empty-source",
            Self::Removals => "removals",
            Self::Space => "space",
            Self::Nesting => "nesting",
            Self::Swapped => "swapped",
            Self::Drive => "drive",
            Self::OtherRun => "other-run",
            Self::Loss => "loss",
        }
    }
}

impl fmt::Display for Guard {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl Places {
    /// The contents of each source into this destination, or, for several, each under its own name.
    pub fn new(sources: Vec<PathBuf>, destination: PathBuf) -> Self {
        Self { sources, destination, inside: false }
    }
}

/// Where a run goes from and to. See [`crate::Session::open`] for the rule that joins the two.
#[derive(Clone, Debug)]
pub struct Places {
    /// Folders, or single entries; at least one.
    pub sources: Vec<PathBuf>,
    /// Where their contents go.
    pub destination: PathBuf,
    /// Put each source itself, under its own name, inside the destination.
    pub inside: bool,
}

/// Which of the runs that set something aside are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Keep {
    /// So many of them, the run itself among them.
    Newest(usize),
    /// Those whose names are not less than this one, which has the form of [`SetAside::run`].
    Since(String),
}

/// Where to move what a run would remove or replace.
#[derive(Clone, Debug)]
pub struct SetAside {
    /// The folder that holds a folder for each run.
    pub folder: PathBuf,
    /// Name of this run: its time in UTC as `2026-11-23T14-05-09Z`, so that names sort by time. If
    /// it is taken, a number is added.
    pub run: String,
    /// Which runs to keep once this one is done; `None` for all.
    pub keep: Option<Keep>,
    /// What the folder is for.
    pub what: Keeping,
}

/// What of a run is kept where it sets aside.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Keeping {
    /// What it displaces, with what it takes to undo the run. Nothing is done that cannot be kept.
    #[default]
    Displaced,
    /// Only what it takes to undo a move. It goes on if that cannot be kept.
    Notes,
}

/// What may refuse a plan, and what not.
#[derive(Clone, Debug, Default)]
pub struct Safety {
    /// Most removals that a mirror may hold.
    pub removal_limit: RemovalLimit,
    /// Files are removed before anything arrives: for drives that have no room for both.
    pub remove_first: bool,
    /// Label or UUID of the drive that the destination must lie on.
    pub drive: Option<String>,
    /// Guards that are switched off for this run.
    pub waived: Vec<Guard>,
    /// Where what is displaced goes; `None` to lose it.
    pub set_aside: Option<SetAside>,
}

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

/// What counts as changed, and what is done about it.
#[derive(Clone, Copy, Debug)]
pub struct Changed {
    /// What tells that a file changed.
    pub by: By,
    /// Files to be read and compared byte by byte though nothing else tells that they differ.
    pub sample: Option<Sample>,
    /// How those are read that are compared.
    pub reading: Reading,
    /// Look at every attribute of every entry, whatever the change times say; [`Task::Verify`] and
    /// [`By::Content`] always do.
    pub all_aspects: bool,
    /// The most by which two modification times may differ that count as equal, beyond what the
    /// destination's drive cannot tell apart.
    pub time_slack: Duration,
    /// Leave a file of the destination as it is where it would be replaced and is newer.
    pub spare_newer: bool,
    /// Steps that the plan may hold.
    pub steps: Verbs,
}

impl Default for Changed {
    /// By size and time, exactly, with all steps.
    fn default() -> Self {
        Self {
            by: By::default(),
            sample: None,
            reading: Reading::default(),
            all_aspects: false,
            time_slack: Duration::ZERO,
            spare_newer: false,
            steps: Verbs::ALL,
        }
    }
}

/// What to do where a moved entry meets another of its name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnConflict {
    /// Both stay where they are, and are told of.
    #[default]
    Skip,
    /// The destination's gives way.
    Replace,
    /// The destination's gives way if it is older; else both stay.
    Newer,
    /// The one that arrives gets a name with its date. A folder that meets something else stays.
    KeepBoth,
    /// Whatever was [answered](Request::answer) for its path; both stay where nothing was.
    Ask,
}

/// How a move goes about it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Vacating {
    /// Folders of the source stay, empty.
    pub leave_folders: bool,
    /// What to do where there is something else already.
    pub on_conflict: OnConflict,
}

/// A whole run; each part goes to the station that needs it.
#[derive(Debug)]
pub struct Request {
    /// What to do.
    pub task: Task,
    /// From where to where.
    pub places: Places,
    /// Which entries take part.
    pub selection: Selection,
    /// What counts as changed, and what is done about it.
    pub changed: Changed,
    /// What goes along.
    pub carry: Aspects,
    /// What cannot be carried is a problem, not a note.
    pub strictly: bool,
    /// Guards.
    pub safety: Safety,
    /// How to go about it.
    pub running: Running,
    /// How a move goes about it.
    pub vacating: Vacating,
    /// The folder in which whoever asks keeps what changes while it runs; it takes no part.
    pub own: Option<PathBuf>,
    answers: OnceLock<HashMap<Vec<u8>, OnConflict>>,
}

impl Request {
    /// What to do with each conflict, by its path below the destination as the user named it: for
    /// [`OnConflict::Ask`]. It can be answered once; a plan made after that goes by it.
    pub fn answer(&self, answers: HashMap<Vec<u8>, OnConflict>) {
        // The first answer is the one that was looked at.
        let _ = self.answers.set(answers);
    }

    pub(crate) fn on_conflict(&self, path: &TreePath) -> OnConflict {
        match self.vacating.on_conflict {
            OnConflict::Ask => {
                let answered = self.answers.get().and_then(|all| all.get(path.as_bytes()));
                answered.copied().unwrap_or_default()
            }
            other => other,
        }
    }

    /// A request for everything, with every aspect and all guards on. Each of the calls
    /// below changes one part of that.
    pub fn new(task: Task, places: Places) -> Self {
        Self {
            task,
            places,
            selection: Selection::everything(),
            changed: Changed::default(),
            carry: Aspects::ALL,
            strictly: false,
            safety: Safety::default(),
            running: Running::default(),
            vacating: Vacating::default(),
            own: None,
            answers: OnceLock::new(),
        }
    }

    /// Moving like this.
    #[must_use]
    pub fn vacating(self, vacating: Vacating) -> Self {
        Self { vacating, ..self }
    }

    /// With only what a selection takes.
    #[must_use]
    pub fn selecting(self, selection: Selection) -> Self {
        Self { selection, ..self }
    }

    /// With other terms of what counts as changed.
    #[must_use]
    pub fn comparing(self, changed: Changed) -> Self {
        Self { changed, ..self }
    }

    /// With these aspects.
    #[must_use]
    pub fn carrying(self, carry: Aspects) -> Self {
        Self { carry, ..self }
    }

    /// With what cannot be carried as a problem.
    #[must_use]
    pub fn strictly(self, strictly: bool) -> Self {
        Self { strictly, ..self }
    }

    /// With these guards and limits.
    #[must_use]
    pub fn guarded(self, safety: Safety) -> Self {
        Self { safety, ..self }
    }

    /// Leaving out this folder, wherever it is met.
    #[must_use]
    pub fn leaving_out(self, own: Option<PathBuf>) -> Self {
        Self { own, ..self }
    }

    /// Gone about like this.
    #[must_use]
    pub fn running(self, running: Running) -> Self {
        Self { running, ..self }
    }
}
