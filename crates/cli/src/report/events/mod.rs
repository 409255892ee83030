//! What a command has to tell, as typed events. They are the one way from what runs to what shows, and as JSON
//! they are the lines that programs read: `docs/json.md` documents them, and what could break a reader raises
//! [`VERSION`].

mod event;
mod fields;
mod jobs;
mod records;

pub(crate) use event::{
    Difference, Drive, Ending, EntryType, Event, Explained, Found, Head, Holds, Letters, Note,
    Participation, PastRun, Planned, Problem, Ran, Rule, Says, Selected, Side, Standing, State,
    Step, Suggestion, Totals, Verb, Verbs, Verdict,
};
pub(crate) use fields::{Amount, Command, Outcome, Word};
pub(crate) use jobs::{JobRan, JobStands, JobTold, Room, RunOutcome, ScheduledJob, UnitFile};
pub(crate) use records::{Began, Closed, Happened, JobCall, Placed, Recorded};
