//! The events and their fields.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::report::events::fields::{
    Amount, AtPath, CommandWord, DecidedByFolder, Destination, Device, JobsIn, LinkOf, MountedAt,
    OutcomeWord, PlanFile, SetAsideIn, Was, Word,
};
use crate::report::events::jobs::{JobLine, JobResult, JobStatus, ScheduledJob};
use crate::report::events::records::{PathHistory, RecordedRun, RunEnded, RunStarted};
use crate::report::exact::{Exact, Sources};
use crate::report::word::words;

/// The version of this output format.
pub(crate) const VERSION: u32 = 3;

/// One line of output. Aliases, here and below, read the records of version 2.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub(crate) enum Event {
    Head(Head),
    Note(NoteLine),
    Step(StepLine),
    Difference(DifferenceLine),
    Found(FoundLine),
    Problem(ProblemLine),
    Rule(RuleLine),
    Suggestion(Suggestion),
    Path(ExplainedLine),
    Drive(DriveLine),
    #[serde(alias = "run")]
    SetAsideRun(SetAsideRunLine),
    Job(JobLine),
    #[serde(alias = "job-ran")]
    JobResult(JobResult),
    JobStatus(JobStatus),
    Scheduled(ScheduledJob),
    #[serde(alias = "began")]
    RunStarted(RunStarted),
    #[serde(alias = "closed")]
    RunEnded(RunEnded),
    PastRun(RecordedRun),
    PathHistory(PathHistory),
    Totals(Box<TotalsLine>),
}

/// The first line says which command was called, and with what.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Head {
    /// The version of the format. It is raised by changes that could break a reader.
    pub(crate) version: u32,
    pub(crate) command: CommandWord,
    /// True if the command only reports and changes nothing.
    pub(crate) dry_run: bool,
    /// The sources as they were given. The list is empty if the command has none.
    #[serde(flatten)]
    pub(crate) sources: Sources,
    #[serde(flatten)]
    pub(crate) destination: Option<Exact<Destination>>,
    #[serde(flatten)]
    pub(crate) plan: Option<Exact<PlanFile>>,
    #[serde(flatten)]
    pub(crate) job_file: Option<Exact<JobsIn>>,
    /// The places as the user typed them, for text.
    #[serde(skip)]
    pub(crate) typed_places: Option<String>,
}

/// A fact that is worth knowing but is no problem.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Note")]
pub(crate) struct NoteLine {
    /// A stable word for the subject of the note.
    #[serde(alias = "about")]
    pub(crate) code: Word,
    /// For a drive within one of the sides, this is its folder.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    /// The text is for people and may change.
    pub(crate) text: String,
}

/// A step is one change to one side. In a run it has an outcome.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Step")]
pub(crate) struct StepLine {
    pub(crate) verb: VerbWord,
    /// The side that the step changes. If missing, it is the destination.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) side: Option<SideWord>,
    #[serde(rename = "type")]
    pub(crate) entry: EntryType,
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) was: Option<Exact<Was>>,
    #[serde(flatten)]
    pub(crate) link_of: Option<Exact<LinkOf>>,
    /// The bytes of content that the step writes, or removes.
    pub(crate) bytes: u64,
    /// The text is for people and may change.
    pub(crate) reason: String,
    /// The outcome is given only in a run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) outcome: Option<OutcomeWord>,
}

words! {
    /// This is what a step does.
    #[schemars(rename = "Verb")]
    VerbWord {
        Add = "add",
        Replace = "replace",
        Adjust = "adjust",
        Rename = "rename",
        Remove = "remove" | "vacate",
    }
}

words! {
    /// This is the tree that a step changes.
    #[schemars(rename = "ChangedSide")]
    SideWord {
        Source = "source",
    }
}

words! {
    /// This is the type of an entry.
    EntryType {
        File = "file",
        Folder = "folder",
        Symlink = "symlink",
        Fifo = "fifo",
        Socket = "socket",
        Device = "device",
    }
}

/// A difference between the two sides at one path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Difference")]
pub(crate) struct DifferenceLine {
    pub(crate) state: StateWord,
    #[serde(rename = "type")]
    pub(crate) entry: EntryType,
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) was: Option<Exact<Was>>,
    /// The bytes of the content that is missing, extra or different. They are those of the source if it has the
    /// entry, else those of the destination.
    pub(crate) bytes: u64,
    /// The text is for people and may change.
    pub(crate) reason: String,
}

words! {
    /// There are five kinds of difference.
    #[schemars(rename = "State")]
    StateWord {
        /// The entry is only in the source.
        Missing = "missing",
        /// The entry is only in the destination.
        Extra = "extra",
        /// The destination has the entry under another name or in another folder.
        Moved = "moved",
        /// The content or the type differs.
        Differs = "differs",
        /// The content is the same, and attributes differ.
        Attributes = "attributes",
    }
}

/// The number of differences of one state. It comes before those that are listed.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Found")]
pub(crate) struct FoundLine {
    pub(crate) state: StateWord,
    pub(crate) differences: u64,
    /// The number of them that are listed, which `--limit` may reduce.
    pub(crate) listed: u64,
}

/// A problem is something that could not or may not be done.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Problem")]
pub(crate) struct ProblemLine {
    /// The path is missing if the problem concerns the run as a whole.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    /// The operation that failed. It is `guard` for a plan that a guard refused, `ask` for a plan that was declined
    /// at the prompt, and `run` for a run that ended early.
    pub(crate) operation: Word,
    /// The cause is given in words.
    pub(crate) cause: String,
    /// This says what to do next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) advice: Option<String>,
    /// This is the guard that refused the plan.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) guard: Option<Word>,
}

/// The decisions of one rule of a selection.
#[allow(clippy::struct_field_names, reason = "the name that it has in JSON")]
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Rule")]
pub(crate) struct RuleLine {
    /// The rule as it was given, or its file, line and pattern.
    pub(crate) rule: String,
    /// The number of entries of the source that it includes.
    pub(crate) taken: u64,
    /// The number of entries of the source that it leaves out.
    pub(crate) left_out: u64,
    /// The number of entries that only the destination has and that it leaves there.
    #[serde(alias = "kept")]
    pub(crate) left_in_destination: u64,
    /// The bytes of these entries. Only `explain` counts them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) bytes: Option<u64>,
}

/// A command that would make the destination identical.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Suggestion {
    /// The command can be typed into a POSIX shell as it is.
    pub(crate) command: String,
}

/// The decision of a selection about one path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Explained")]
pub(crate) struct ExplainedLine {
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// It is null if no such entry exists.
    #[serde(rename = "type")]
    pub(crate) entry: Option<EntryType>,
    pub(crate) decision: ParticipationWord,
    /// The rule that decided. It is null if none did.
    pub(crate) rule: Option<String>,
    #[serde(flatten)]
    pub(crate) decided_by_folder: Option<Exact<DecidedByFolder>>,
}

words! {
    /// This says whether an entry takes part.
    #[schemars(rename = "Participation")]
    ParticipationWord {
        Taken = "taken",
        /// The folder takes part only if an entry in it does.
        IfNeeded = "if-needed",
        LeftOut = "left-out",
    }
}

/// A drive that is mounted.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Drive")]
pub(crate) struct DriveLine {
    #[serde(flatten)]
    pub(crate) mounted_at: Exact<MountedAt>,
    #[serde(flatten)]
    pub(crate) device: Exact<Device>,
    /// The type of its file system.
    pub(crate) file_system: String,
    /// It is null if the drive has none or it is not known.
    pub(crate) label: Option<String>,
    /// It is null if it is not known.
    pub(crate) uuid: Option<String>,
    /// The capacity of the drive.
    pub(crate) bytes: u64,
    pub(crate) bytes_free: u64,
    pub(crate) writable: bool,
    /// It is null if the drive could not be tested.
    pub(crate) holds: Option<Holds>,
}

/// The features of a drive that this user can use.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Holds {
    /// Each is one of `links`, `hardlinks`, `fifos`, `devices`, `mode`, `owner`, `acl`, `user-xattr`,
    /// `trusted-xattr`, `security-xattr`, `holes` and `shared_extents`.
    pub(crate) features: Vec<Word>,
    /// Each is one of `sync`, `immutable`, `append-only`, `no-dump` and `no-atime`.
    pub(crate) flags: Vec<Word>,
    pub(crate) time_resolution_nanoseconds: u64,
    /// These characters cannot be part of a name.
    pub(crate) forbidden_in_names: Vec<char>,
    pub(crate) names_without_control_characters: bool,
    pub(crate) names_letters: Letters,
    /// True if names cannot end with a dot or a space.
    pub(crate) names_no_trailing_dot_or_space: bool,
    /// True if the drive ignores upper and lower case in names.
    pub(crate) names_case_insensitive: bool,
    /// The largest size of a file in bytes. It is null if there is no limit.
    pub(crate) largest_file: Option<u64>,
}

words! {
    /// This says which characters names can have.
    Letters {
        Any = "any",
        Utf8 = "utf-8",
        Ascii = "ascii",
    }
}

/// A past run that set entries aside. Unknown values are null.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "SetAsideRun")]
pub(crate) struct SetAsideRunLine {
    /// The folder of the run.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// The time is in RFC 3339 format.
    pub(crate) began: Option<String>,
    #[serde(alias = "standing")]
    pub(crate) state: StandingWord,
    /// This is why its undo journal cannot be read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cause: Option<String>,
    pub(crate) command: Option<Word>,
    #[serde(flatten)]
    pub(crate) destination: Option<Exact<Destination>>,
    /// The entries that the run displaced.
    pub(crate) replaced: Option<Amount>,
    pub(crate) removed: Option<Amount>,
    /// The space that its set-aside entries use.
    pub(crate) bytes_on_drive: Option<u64>,
}

words! {
    /// This is the state of a past run.
    #[schemars(rename = "Standing")]
    StandingWord {
        NeverBegun = "never-begun",
        /// The run was cut short, or is still running.
        CutShort = "cut-short",
        Complete = "complete",
        /// An undo has begun, and not all is restored.
        BeingUndone = "being-undone",
        Undone = "undone",
        Unreadable = "unreadable",
    }
}

/// The last line holds the totals that apply to the command.
#[derive(Clone, Default, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Totals")]
pub(crate) struct TotalsLine {
    /// The number of entries with a problem.
    pub(crate) problems: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) plan: Option<Planned>,
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "run_totals", alias = "run")]
    pub(crate) run: Option<RunTotals>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) verdict: Option<VerdictLine>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) selection: Option<Selected>,
    /// The number of drives, runs, jobs or other items that were listed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) listed: Option<u64>,
}

/// The totals of a plan.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Planned {
    #[serde(flatten)]
    pub(crate) steps: VerbTotals,
    /// Entries that are identical on both sides.
    pub(crate) unchanged: Amount,
    /// The number of files that stay because they are newer than the source's.
    #[serde(alias = "spared_newer")]
    pub(crate) left_newer: u64,
    /// The number of differences that stay because of `--steps`, `--carry` or `--ignore-extra`.
    pub(crate) held_back: u64,
    pub(crate) source: SideTotals,
    pub(crate) destination: SideTotals,
}

/// The number of steps of each kind, and their bytes.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Verbs")]
pub(crate) struct VerbTotals {
    pub(crate) add: Amount,
    pub(crate) replace: Amount,
    pub(crate) adjust: Amount,
    pub(crate) rename: Amount,
    pub(crate) remove: Amount,
    /// Entries that a move removes from the source.
    #[serde(default, alias = "vacate")]
    pub(crate) left_source: Amount,
}

impl VerbTotals {
    /// Each with its word.
    pub(crate) fn named(&self) -> [(&'static str, Amount); 6] {
        let words = ["add", "replace", "adjust", "rename", "remove", "left-source"];
        let amounts = self.amounts();
        std::array::from_fn(|at| (words[at], amounts[at]))
    }

    fn amounts(&self) -> [Amount; 6] {
        [self.add, self.replace, self.adjust, self.rename, self.remove, self.left_source]
    }

    /// All steps, in which an entry counts once that is copied and then leaves the source.
    pub(crate) fn total(&self) -> Amount {
        let sum = |amounts: &[Amount], of: fn(&Amount) -> u64| amounts.iter().map(of).sum::<u64>();
        let [there @ .., left] = &self.amounts();
        Amount {
            entries: sum(there, |amount| amount.entries).max(left.entries),
            bytes: sum(there, |amount| amount.bytes).max(left.bytes),
        }
    }
}

/// The totals of a run.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunTotals {
    pub(crate) done: VerbTotals,
    pub(crate) bytes_written: u64,
    /// The duration of the run, without the time in which a prompt waited for an answer.
    pub(crate) seconds: f64,
    /// The time until everything was on the drive.
    pub(crate) seconds_writing: f64,
    /// The time for reading back what was written.
    #[serde(default)]
    pub(crate) seconds_reading_back: f64,
    pub(crate) ending: EndingWord,
    #[serde(flatten)]
    pub(crate) set_aside: Option<Exact<SetAsideIn>>,
    /// True if the folder holds only the undo journal and no displaced entries.
    #[serde(default, alias = "notes_only")]
    pub(crate) journal_only: bool,
}

words! {
    /// This is how a run ended.
    #[schemars(rename = "Ending")]
    EndingWord {
        Complete = "complete",
        /// A signal stopped the run.
        Stopped = "stopped",
        /// The drive was full or disappeared.
        Early = "early",
    }
}

/// The result of a verification.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Verdict")]
pub(crate) struct VerdictLine {
    #[serde(alias = "says")]
    pub(crate) result: Says,
    /// The list holds what was compared: only `presence`, or else `size` or `content`, and the attributes of
    /// `--carry`.
    pub(crate) compared: Vec<Word>,
    /// The number of entries that the destination's drive cannot store. They are no differences.
    pub(crate) not_held: u64,
    /// The files of the random sample that were read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) sampled: Option<Amount>,
    /// True if some file differs only in its content.
    pub(crate) content_differs: bool,
}

words! {
    /// There are three verdicts.
    Says {
        Identical = "identical",
        Different = "different",
        /// Because of problems, not everything could be compared.
        NotProven = "not-proven",
    }
}

/// The totals of a selection.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Selected {
    pub(crate) taken: SideTotals,
    pub(crate) left_out: SideTotals,
}

/// The selected entries of one side. The root folder counts, and so does each name of a hard link.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Side")]
pub(crate) struct SideTotals {
    pub(crate) folders: u64,
    pub(crate) files: u64,
    pub(crate) links: u64,
    pub(crate) others: u64,
    pub(crate) bytes: u64,
}

impl Head {
    /// The head of a command without places.
    pub(crate) fn new(command: CommandWord) -> Self {
        Self {
            version: VERSION,
            command,
            dry_run: false,
            sources: Sources::default(),
            destination: None,
            job_file: None,
            plan: None,
            typed_places: None,
        }
    }

    /// The sources, and then the destination.
    pub(crate) fn sides(&self) -> Vec<PathBuf> {
        let destination = self.destination.as_ref().map(Exact::to_path);
        self.sources.paths().iter().cloned().chain(destination).collect()
    }

    /// The same with a source.
    pub(crate) fn reading(self, source: &Path) -> Self {
        Self { sources: Sources::from(&[source.to_path_buf()][..]), ..self }
    }
}

impl SideTotals {
    pub(crate) fn entries(&self) -> u64 {
        self.folders + self.files + self.links + self.others
    }
}
