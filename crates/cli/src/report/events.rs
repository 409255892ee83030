//! What a command has to tell, as typed events. They are the one way from what runs to what shows, and as JSON
//! they are the lines that programs read: `docs/json.md` documents them, and what could break a reader raises
//! [`VERSION`].

use std::borrow::Cow;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::exact::{Exact, Sources, field};
use super::word::words;

/// The version of this form.
pub(crate) const VERSION: u32 = 2;

/// A word of a fixed set, told as it is.
pub(crate) type Word = Cow<'static, str>;

field!(
    /// Relative to the root it is about, components joined by `/`; empty for the root itself.
    AtPath = "path" / "path_base64"
);
field!(
    /// For what was renamed or moved, the path that it had.
    Was = "was" / "was_base64"
);
field!(
    /// For a hard link, the path that it becomes another name of.
    LinkOf = "link_of" / "link_of_base64"
);
field!(
    /// The folder above that the rule decided about.
    DecidedAt = "decided_at" / "decided_at_base64"
);
field!(
    /// As it was given, or where a run took place.
    Destination = "destination" / "destination_base64"
);
field!(
    /// The saved plan that is carried out.
    PlanFile = "plan" / "plan_base64"
);
field!(
    /// The folder that holds what this run displaced.
    SetAsideIn = "set_aside" / "set_aside_base64"
);
field!(
    /// The job file that was read.
    JobsIn = "jobs" / "jobs_base64"
);
field!(
    /// The folder that it was called in.
    WorkingFolder = "folder" / "folder_base64"
);
field!(
    /// Where a drive is mounted.
    MountedAt = "mounted_at" / "mounted_at_base64"
);
field!(
    /// The device, or what stands for one.
    Device = "device" / "device_base64"
);

/// One line of what a command tells.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub(crate) enum Event {
    Head(Head),
    Note(Note),
    Step(Step),
    Difference(Difference),
    Found(Found),
    Problem(Problem),
    Rule(Rule),
    Suggestion(Suggestion),
    Path(Explained),
    Drive(Drive),
    Run(PastRun),
    Job(JobTold),
    JobRan(JobRan),
    JobStands(JobStands),
    Scheduled(ScheduledJob),
    Began(Began),
    Closed(Closed),
    Recorded(Recorded),
    Happened(Happened),
    Totals(Box<Totals>),
}

/// The first line: what was called.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Head {
    /// Of this form; raised by what could break a reader.
    pub(crate) version: u32,
    pub(crate) command: Command,
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
    pub(crate) jobs: Option<Exact<JobsIn>>,
}

words! {
    /// Which command tells.
    Command {
        Copy = "copy",
        Mirror = "mirror",
        Move = "move",
        Verify = "verify",
        Enact = "enact",
        Undo = "undo",
        Explain = "explain",
        Drives = "drives",
        Jobs = "jobs",
        Run = "run",
        History = "history",
        Status = "status",
        Schedule = "schedule",
    }
}

/// Worth knowing, and no fault.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Note {
    /// A stable word for what it is about.
    pub(crate) about: Word,
    /// The folder that it is about, for a drive within one of the sides.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    /// For people.
    pub(crate) text: String,
}

/// One change to one side; in a run with what became of it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Step {
    pub(crate) verb: Verb,
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
    pub(crate) outcome: Option<Outcome>,
}

words! {
    /// What a step does.
    Verb {
        Add = "add",
        Replace = "replace",
        Adjust = "adjust",
        Rename = "rename",
        Remove = "remove",
        Vacate = "vacate",
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

words! {
    /// What became of a step. `failed` and `overtaken` have a problem of the same path or of a folder above it.
    Outcome {
        Done = "done",
        Failed = "failed",
        Overtaken = "overtaken",
        NotReached = "not-reached",
    }
}

/// In what the two sides differ at one path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Difference {
    pub(crate) state: State,
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
    State {
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
pub(crate) struct Found {
    pub(crate) state: State,
    pub(crate) differences: u64,
    /// How many of them are listed, as far as `--limit` goes.
    pub(crate) listed: u64,
}

/// What could not be done, or may not.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Problem {
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
pub(crate) struct Rule {
    /// As it was given, or file, line and pattern.
    pub(crate) rule: String,
    /// Entries of the source that it took.
    pub(crate) taken: u64,
    /// Entries of the source that it left out.
    pub(crate) left_out: u64,
    /// Entries that only the destination has and that it kept there.
    pub(crate) kept: u64,
    /// Of the content it decided about; only `explain` counts that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) bytes: Option<u64>,
}

/// The command that would make the destination the source's echo.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Suggestion {
    /// As it can be typed into a POSIX shell.
    pub(crate) command: String,
}

/// What a selection says about one path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Explained {
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// Null if there is no such entry.
    #[serde(rename = "type")]
    pub(crate) entry: Option<EntryType>,
    pub(crate) fate: Fate,
    /// The rule that decided; null if none did.
    pub(crate) rule: Option<String>,
    #[serde(flatten)]
    pub(crate) decided_at: Option<Exact<DecidedAt>>,
}

words! {
    /// Whether an entry takes part.
    Fate {
        Taken = "taken",
        /// A folder that takes part only if something in it does.
        IfNeeded = "if-needed",
        LeftOut = "left-out",
    }
}

/// One mounted drive.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Drive {
    #[serde(flatten)]
    pub(crate) mounted_at: Exact<MountedAt>,
    #[serde(flatten)]
    pub(crate) device: Exact<Device>,
    /// Kind of file system.
    #[serde(rename = "type")]
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
    /// `security-xattr`, `holes`, `sharing`.
    pub(crate) abilities: Vec<Word>,
    /// Of `sync`, `immutable`, `append-only`, `no-dump`, `no-atime`.
    pub(crate) flags: Vec<Word>,
    pub(crate) time_grain_nanoseconds: u64,
    /// Characters.
    pub(crate) forbidden_in_names: Vec<char>,
    pub(crate) names_no_control: bool,
    pub(crate) names_letters: Letters,
    /// No dot or space at the end.
    pub(crate) names_firm_end: bool,
    /// Large and small letters are the same.
    pub(crate) names_fold_case: bool,
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
pub(crate) struct PastRun {
    /// Its folder.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    /// RFC 3339.
    pub(crate) began: Option<String>,
    pub(crate) standing: Standing,
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
    Standing {
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

/// A job of the job file: of `utter jobs`, and of `utter run` before what it does.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobTold {
    pub(crate) name: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) about: Option<String>,
    pub(crate) enabled: bool,
    pub(crate) tags: Vec<String>,
    /// Jobs that run after it, if it went well.
    pub(crate) then: Vec<String>,
    /// The lines that it stands for, as a shell reads them.
    pub(crate) commands: Vec<String>,
    /// How it stands, in a list of jobs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) stands: Option<JobStands>,
}

/// What became of a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobRan {
    pub(crate) name: String,
    pub(crate) outcome: RunOutcome,
    /// The exit code that its command would have ended with, the worst of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) code: Option<u8>,
    /// Steps that were done, and the bytes of what they added, replaced and removed.
    pub(crate) done: Amount,
    pub(crate) seconds: f64,
    /// Entries with a problem.
    pub(crate) problems: u64,
}

words! {
    /// How a job, or a run, ended.
    RunOutcome {
        Well = "well",
        /// A verification found differences.
        Different = "different",
        Problems = "problems",
        /// A guard refused, or somebody who was asked.
        Refused = "refused",
        /// The drive is full or gone.
        EndedEarly = "ended-early",
        /// What it says cannot be meant, or is not there.
        Wrong = "wrong",
        /// By a signal.
        Stopped = "stopped",
        /// A signal came before its turn.
        NotReached = "not-reached",
        NotEnabled = "not-enabled",
        /// It was killed, or the power failed.
        CutShort = "cut-short",
        GoingOn = "going-on",
        NeverRun = "never-run",
    }
}

/// The first line of a record: which run it is of, and how that was called.
#[allow(clippy::struct_field_names, reason = "the names that they have in JSON")]
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Began {
    /// The number of the run, in the order in which runs began, whatever the clock said.
    pub(crate) run: u64,
    /// RFC 3339.
    pub(crate) began: String,
    pub(crate) command: Command,
    /// The whole call, as it can be typed into a POSIX shell.
    pub(crate) line: String,
    /// Where relative paths in it start.
    #[serde(flatten)]
    pub(crate) folder: Exact<WorkingFolder>,
    /// The job that it was a call of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<JobCall>,
    pub(crate) host: String,
    pub(crate) user: String,
    pub(crate) process: u32,
    /// Of the program.
    pub(crate) program: String,
    /// The sources, and then the destination.
    pub(crate) sides: Vec<Placed>,
}

/// Which of a job's calls one is.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobCall {
    pub(crate) name: String,
    /// The number of the first run of this start of the job.
    pub(crate) start: u64,
    /// Which of the calls of the job, counted from 1.
    pub(crate) call: u64,
    /// How many it has.
    pub(crate) calls: u64,
}

/// One side of a run, and the drive that it was on. What could not be found out is null.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Placed {
    /// The absolute path.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) mounted_at: Option<Exact<MountedAt>>,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
}

/// The last line of a record: how the run ended.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Closed {
    pub(crate) run: u64,
    /// RFC 3339.
    pub(crate) ended: String,
    pub(crate) seconds: f64,
    pub(crate) outcome: RunOutcome,
    /// The exit code.
    pub(crate) code: u8,
    /// What it added, replaced and removed.
    pub(crate) done: Amount,
    /// Entries with a problem.
    pub(crate) problems: u64,
    /// Why it could not be carried out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) cause: Option<String>,
}

/// A run of which there is a record.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Recorded {
    #[serde(flatten)]
    pub(crate) began: Began,
    pub(crate) outcome: RunOutcome,
    /// Null where it did not come to its end.
    pub(crate) closed: Option<Closed>,
}

/// Something that happened to a path.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Happened {
    pub(crate) run: u64,
    /// When that run began; RFC 3339.
    pub(crate) began: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) job: Option<String>,
    pub(crate) command: Command,
    /// The absolute path that it happened to: the one that was asked about, or a folder above it.
    #[serde(flatten)]
    pub(crate) path: Exact<AtPath>,
    #[serde(flatten)]
    pub(crate) was: Option<Exact<Was>>,
    /// The verb of a step, `problem`, or the state of a difference.
    pub(crate) what: Word,
    /// Why; for people.
    pub(crate) reason: String,
    /// Of a step.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) outcome: Option<Outcome>,
}

/// How things stand with a job.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct JobStands {
    pub(crate) name: String,
    pub(crate) enabled: bool,
    /// Nothing has to be done about it.
    pub(crate) is_well: bool,
    /// Of its last start; `never-run` if there is none.
    pub(crate) outcome: RunOutcome,
    /// The first run of its last start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) run: Option<u64>,
    /// When that began; RFC 3339.
    pub(crate) last: Option<String>,
    /// When it last began and then went well; RFC 3339.
    pub(crate) last_well: Option<String>,
    /// When it is to run, as the job file has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) at: Option<String>,
    /// When it runs next; RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) next: Option<String>,
    /// The start that it missed; RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) overdue_since: Option<String>,
    /// The room on the drives of its destinations, where they are there.
    pub(crate) rooms: Vec<Room>,
}

/// When a job starts, and what has the system start it.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct ScheduledJob {
    pub(crate) name: String,
    /// In the words of the job file.
    pub(crate) at: String,
    /// The next three starts; RFC 3339.
    pub(crate) next: Vec<String>,
    /// The system starts it from now on.
    pub(crate) installed: bool,
    pub(crate) files: Vec<UnitFile>,
}

/// A unit of systemd, or lines for cron.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct UnitFile {
    /// Not there for cron.
    #[serde(flatten)]
    pub(crate) path: Option<Exact<AtPath>>,
    pub(crate) text: String,
}

/// The room on a drive.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Room {
    #[serde(flatten)]
    pub(crate) destination: Exact<Destination>,
    /// In all.
    pub(crate) bytes: u64,
    pub(crate) bytes_free: u64,
}

/// The last line, with the parts that the command has.
#[derive(Clone, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Totals {
    /// Entries with a problem.
    pub(crate) problems: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) plan: Option<Planned>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) run: Option<Ran>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) verdict: Option<Verdict>,
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
    pub(crate) steps: Verbs,
    /// Entries that are as they should be.
    pub(crate) unchanged: Amount,
    /// Files left as they are, since they are newer than the source's.
    pub(crate) spared_newer: u64,
    /// Differences left as they are, for `--steps`, `--carry` or `--ignore-extra`.
    pub(crate) held_back: u64,
    pub(crate) source: Side,
    pub(crate) destination: Side,
}

/// How many steps of each kind.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Verbs {
    pub(crate) add: Amount,
    pub(crate) replace: Amount,
    pub(crate) adjust: Amount,
    pub(crate) rename: Amount,
    pub(crate) remove: Amount,
    /// What goes from the source.
    pub(crate) vacate: Amount,
}

impl Verbs {
    /// Each with its word.
    pub(crate) fn named(&self) -> [(&'static str, Amount); 6] {
        let words =
            [Verb::Add, Verb::Replace, Verb::Adjust, Verb::Rename, Verb::Remove, Verb::Vacate];
        let amounts = self.amounts();
        std::array::from_fn(|at| (words[at].word(), amounts[at]))
    }

    pub(crate) fn amounts(&self) -> [Amount; 6] {
        [self.add, self.replace, self.adjust, self.rename, self.remove, self.vacate]
    }
}

/// What a run did.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Ran {
    pub(crate) done: Verbs,
    pub(crate) bytes_written: u64,
    /// Planning and writing; the time that a question waited for its answer is not in it.
    pub(crate) seconds: f64,
    /// Writing alone.
    pub(crate) seconds_writing: f64,
    pub(crate) ending: Ending,
    #[serde(flatten)]
    pub(crate) set_aside: Option<Exact<SetAsideIn>>,
}

words! {
    /// How a run ended.
    Ending {
        Complete = "complete",
        /// By a signal.
        Stopped = "stopped",
        /// The drive is full or gone.
        Early = "early",
    }
}

/// What a verification found.
#[derive(Clone, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Verdict {
    pub(crate) says: Says,
    /// What was compared: `presence`, or of `size`, `content` and the aspects carried.
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
    pub(crate) taken: Side,
    pub(crate) left_out: Side,
}

/// Entries and bytes of content.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Amount {
    pub(crate) entries: u64,
    pub(crate) bytes: u64,
}

/// What one side holds as far as selected; the root folder is not counted, each name of a hard link is.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub(crate) struct Side {
    pub(crate) folders: u64,
    pub(crate) files: u64,
    pub(crate) links: u64,
    pub(crate) others: u64,
    pub(crate) bytes: u64,
}

impl Head {
    /// Of a command without places.
    pub(crate) fn new(command: Command) -> Self {
        Self {
            version: VERSION,
            command,
            dry_run: false,
            sources: Sources::default(),
            destination: None,
            jobs: None,
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

impl Began {
    /// What tells the starts of jobs, and all other runs, apart.
    pub(crate) fn start(&self) -> u64 {
        self.job.as_ref().map_or(self.run, |job| job.start)
    }
}

impl Side {
    pub(crate) fn entries(&self) -> u64 {
        self.folders + self.files + self.links + self.others
    }
}
