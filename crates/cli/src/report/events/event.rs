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

/// The version of this form.
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

/// The first line: what was called.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Head {
    /// Of this form; raised by what could break a reader.
    pub(crate) version: u32,
    pub(crate) command: CommandWord,
    /// Nothing is changed, only told.
    pub(crate) dry_run: bool,
    /// As given; empty where the command has none.
    #[serde(flatten)]
    pub(crate) sources: Sources,
    #[serde(flatten)]
    pub(crate) destination: Option<Exact<Destination>>,
    #[serde(flatten)]
    pub(crate) plan: Option<Exact<PlanFile>>,
    #[serde(flatten)]
    pub(crate) job_file: Option<Exact<JobsIn>>,
}

/// Worth knowing, and no fault.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Note")]
pub(crate) struct NoteLine {
    /// A stable word for what it is about.
    #[serde(alias = "about")]
    pub(crate) code: Word,
    /// The folder that it is about, for a drive within one of the sides.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    /// For people.
    pub(crate) text: String,
}

/// One change to one side; in a run with what became of it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Step")]
pub(crate) struct StepLine {
    pub(crate) verb: VerbWord,
    /// The destination, if missing.
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
    /// Bytes of content that it writes, or gives up for a removal.
    pub(crate) bytes: u64,
    /// For people.
    pub(crate) reason: String,
    /// Only in a run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) outcome: Option<OutcomeWord>,
}

words! {
    /// What a step does.
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
    /// The tree that a step changes.
    #[schemars(rename = "ChangedSide")]
    SideWord {
        Source = "source",
    }
}

words! {
    /// What an entry is.
    EntryType {
        File = "file",
        Folder = "folder",
        Symlink = "symlink",
        Fifo = "fifo",
        Socket = "socket",
        Device = "device",
    }
}

/// In what the two sides differ at one path.
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
    /// Of the content that is missing, extra or differs: in the source, or in the destination where only that
    /// has it.
    pub(crate) bytes: u64,
    /// For people.
    pub(crate) reason: String,
}

words! {
    /// The five ways to differ.
    #[schemars(rename = "State")]
    StateWord {
        /// Only in the source.
        Missing = "missing",
        /// Only in the destination.
        Extra = "extra",
        /// In the destination under another name or in another folder.
        Moved = "moved",
        /// Another content or kind.
        Differs = "differs",
        /// The same content, other attributes.
        Attributes = "attributes",
    }
}

/// How many differences of one state there are, before those that are listed.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Found")]
pub(crate) struct FoundLine {
    pub(crate) state: StateWord,
    pub(crate) differences: u64,
    /// How many of them are listed, as far as `--limit` goes.
    pub(crate) listed: u64,
}

/// What could not be done, or may not.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Problem")]
pub(crate) struct ProblemLine {
    /// Not there where it is about the run as a whole.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    /// What was being done; `guard` for a plan that a guard refused, `ask` for one that was not agreed to, `run`
    /// for a run that ended before its time.
    pub(crate) operation: Word,
    /// In words.
    pub(crate) cause: String,
    /// What to do next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) advice: Option<String>,
    /// The guard that refused the plan.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) guard: Option<Word>,
}

/// What one rule of a selection decided.
#[allow(clippy::struct_field_names, reason = "the name that it has in JSON")]
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Rule")]
pub(crate) struct RuleLine {
    /// As it was given, or file, line and pattern.
    pub(crate) rule: String,
    /// Entries of the source that it took.
    pub(crate) taken: u64,
    /// Entries of the source that it left out.
    pub(crate) left_out: u64,
    /// Entries that only the destination has and that it kept there.
    #[serde(alias = "kept")]
    pub(crate) left_in_destination: u64,
    /// Of the content it decided about; only `explain` counts that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) bytes: Option<u64>,
}

/// The command that would make the destination identical.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Suggestion {
    /// As it can be typed into a POSIX shell.
    pub(crate) command: String,
}

/// What a selection says about one path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Explained")]
pub(crate) struct ExplainedLine {
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// Null if there is no such entry.
    #[serde(rename = "type")]
    pub(crate) entry: Option<EntryType>,
    pub(crate) decision: ParticipationWord,
    /// The rule that decided; null if none did.
    pub(crate) rule: Option<String>,
    #[serde(flatten)]
    pub(crate) decided_by_folder: Option<Exact<DecidedByFolder>>,
}

words! {
    /// Whether an entry takes part.
    #[schemars(rename = "Participation")]
    ParticipationWord {
        Taken = "taken",
        /// A folder that takes part only if something in it does.
        IfNeeded = "if-needed",
        LeftOut = "left-out",
    }
}

/// One mounted drive.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Drive")]
pub(crate) struct DriveLine {
    #[serde(flatten)]
    pub(crate) mounted_at: Exact<MountedAt>,
    #[serde(flatten)]
    pub(crate) device: Exact<Device>,
    /// Kind of file system.
    pub(crate) file_system: String,
    /// Null if it has none, or that cannot be found out.
    pub(crate) label: Option<String>,
    /// Null if that cannot be found out.
    pub(crate) uuid: Option<String>,
    /// In all.
    pub(crate) bytes: u64,
    pub(crate) bytes_free: u64,
    pub(crate) writable: bool,
    /// Null where it could not be tried out.
    pub(crate) holds: Option<Holds>,
}

/// What a drive can hold, as far as this user can use it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Holds {
    /// Of `links`, `hardlinks`, `fifos`, `devices`, `mode`, `owner`, `acl`, `user-xattr`, `trusted-xattr`,
    /// `security-xattr`, `holes`, `shared_extents`.
    pub(crate) features: Vec<Word>,
    /// Of `sync`, `immutable`, `append-only`, `no-dump`, `no-atime`.
    pub(crate) flags: Vec<Word>,
    pub(crate) time_resolution_nanoseconds: u64,
    /// Characters.
    pub(crate) forbidden_in_names: Vec<char>,
    pub(crate) names_without_control_characters: bool,
    pub(crate) names_letters: Letters,
    /// No dot or space at the end.
    pub(crate) names_no_trailing_dot_or_space: bool,
    /// Large and small letters are the same.
    pub(crate) names_case_insensitive: bool,
    /// In bytes; null for no limit.
    pub(crate) largest_file: Option<u64>,
}

words! {
    /// Which letters names can have.
    Letters {
        Any = "any",
        Utf8 = "utf-8",
        Ascii = "ascii",
    }
}

/// A past run that set something aside. What is not known is null.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "SetAsideRun")]
pub(crate) struct SetAsideRunLine {
    /// Its folder.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// RFC 3339.
    pub(crate) began: Option<String>,
    #[serde(alias = "standing")]
    pub(crate) state: StandingWord,
    /// Why its notes are unreadable.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cause: Option<String>,
    pub(crate) command: Option<Word>,
    #[serde(flatten)]
    pub(crate) destination: Option<Exact<Destination>>,
    /// What it displaced.
    pub(crate) replaced: Option<Amount>,
    pub(crate) removed: Option<Amount>,
    /// What that takes on its drive.
    pub(crate) bytes_on_drive: Option<u64>,
}

words! {
    /// How far a past run came.
    #[schemars(rename = "Standing")]
    StandingWord {
        NeverBegun = "never-begun",
        /// Or still going on.
        CutShort = "cut-short",
        Complete = "complete",
        /// Not all of it is back.
        BeingUndone = "being-undone",
        Undone = "undone",
        Unreadable = "unreadable",
    }
}

/// The last line, with the parts that the command has.
#[derive(Clone, Default, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Totals")]
pub(crate) struct TotalsLine {
    /// Entries with a problem.
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
    /// Drives, runs, jobs or whatever else was listed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) listed: Option<u64>,
}

/// What a plan holds.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Planned {
    #[serde(flatten)]
    pub(crate) steps: VerbTotals,
    /// Entries that are as they should be.
    pub(crate) unchanged: Amount,
    /// Files left as they are, since they are newer than the source's.
    #[serde(alias = "spared_newer")]
    pub(crate) left_newer: u64,
    /// Differences left as they are, for `--steps`, `--carry` or `--ignore-extra`.
    pub(crate) held_back: u64,
    pub(crate) source: SideTotals,
    pub(crate) destination: SideTotals,
}

/// How many steps of each kind.
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

/// What a run did.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct RunTotals {
    pub(crate) done: VerbTotals,
    pub(crate) bytes_written: u64,
    /// All that it did; the time that a question waited for its answer is not in it.
    pub(crate) seconds: f64,
    /// Until all was on the drive.
    pub(crate) seconds_writing: f64,
    /// What was written was read once more.
    #[serde(default)]
    pub(crate) seconds_reading_back: f64,
    pub(crate) ending: EndingWord,
    #[serde(flatten)]
    pub(crate) set_aside: Option<Exact<SetAsideIn>>,
    /// Only its notes are there, and not what it displaced.
    #[serde(default, alias = "notes_only")]
    pub(crate) journal_only: bool,
}

words! {
    /// How a run ended.
    #[schemars(rename = "Ending")]
    EndingWord {
        Complete = "complete",
        /// By a signal.
        Stopped = "stopped",
        /// The drive is full or gone.
        Early = "early",
    }
}

/// What a verification found.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[schemars(rename = "Verdict")]
pub(crate) struct VerdictLine {
    #[serde(alias = "says")]
    pub(crate) result: Says,
    /// What was compared: `presence`, or of `size`, `content` and the attributes carried.
    pub(crate) compared: Vec<Word>,
    /// Entries that the destination's drive cannot hold, and that are no differences for that.
    pub(crate) not_held: u64,
    /// Files that were read since they were chosen by chance.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) sampled: Option<Amount>,
    /// Some file turned out to differ in its content alone.
    pub(crate) content_differs: bool,
}

words! {
    /// The three verdicts.
    Says {
        Identical = "identical",
        Different = "different",
        /// Problems kept part of it from being compared.
        NotProven = "not-proven",
    }
}

/// What a selection makes of a source.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Selected {
    pub(crate) taken: SideTotals,
    pub(crate) left_out: SideTotals,
}

/// What one side holds as far as selected; the root folder is not counted, each name of a hard link is.
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
    /// Of a command without places.
    pub(crate) fn new(command: CommandWord) -> Self {
        Self {
            version: VERSION,
            command,
            dry_run: false,
            sources: Sources::default(),
            destination: None,
            job_file: None,
            plan: None,
        }
    }

    /// The sources, and then the destination.
    pub(crate) fn sides(&self) -> Vec<PathBuf> {
        let destination = self.destination.as_ref().map(Exact::to_path);
        self.sources.paths().iter().cloned().chain(destination).collect()
    }

    /// Of what reads a source.
    pub(crate) fn reading(self, source: &Path) -> Self {
        Self { sources: Sources::from(&[source.to_path_buf()][..]), ..self }
    }
}

impl SideTotals {
    pub(crate) fn entries(&self) -> u64 {
        self.folders + self.files + self.links + self.others
    }
}
