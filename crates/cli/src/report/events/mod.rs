//! The output of commands as typed events: the only way from commands to sinks. As JSON they are the lines that
//! programs read. `docs/json.md` documents them, and changes that could break a reader raise `VERSION`.

mod event;
mod fields;
mod jobs;
mod records;

pub(crate) use event::{
    DifferenceLine, DriveLine, EndingWord, EntryType, Event, ExplainedLine, FoundLine, Head, Holds,
    Letters, NoteLine, ParticipationWord, Planned, ProblemLine, RuleLine, RunTotals, Says,
    Selected, SetAsideRunLine, SideTotals, SideWord, StandingWord, StateWord, StepLine, Suggestion,
    TotalsLine, VerbTotals, VerbWord, VerdictLine,
};
pub(crate) use fields::{Amount, CommandWord, OutcomeWord, Word};
pub(crate) use jobs::{
    DriveSpace, JobLine, JobResult, JobStatus, JobTimes, RunOutcome, ScheduledJob, UnitFile,
};
pub(crate) use records::{
    CallingProcess, JobCall, PathHistory, Placed, RecordedRun, RunEnded, RunStarted,
};
