//! Starts of jobs, each with all its calls.

use std::collections::HashMap;
use std::io;
use std::path::Path;

use crate::records::index::RunEntry;
use crate::records::store::Store;
use crate::report::events::{JobCall, RecordedRun, RunOutcome};

/// One start of a job.
#[derive(Clone, Debug)]
pub(crate) struct Start {
    /// The first of its runs.
    pub(crate) run: u64,
    /// RFC 3339.
    pub(crate) began: String,
    pub(crate) outcome: RunOutcome,
}

/// What is known of a job.
#[derive(Clone, Debug, Default)]
pub(crate) struct Starts {
    pub(crate) last: Option<Start>,
    /// The last start that has ended.
    pub(crate) last_ended: Option<Start>,
    pub(crate) last_succeeded: Option<Start>,
}

impl Starts {
    fn is_known(&self) -> bool {
        self.last_ended.is_some() && self.last_succeeded.is_some()
    }

    fn add(&mut self, start: Start) {
        if start.outcome != RunOutcome::Running {
            self.last_ended.get_or_insert_with(|| start.clone());
        }
        if start.outcome == RunOutcome::Succeeded {
            self.last_succeeded.get_or_insert_with(|| start.clone());
        }
        self.last.get_or_insert(start);
    }
}

/// The calls of one start seen so far, the last first.
type Seen = (u64, Vec<RecordedRun>);

impl Store {
    /// The starts of these jobs of a file; `file` is a path without links.
    pub(crate) fn starts(&self, file: &Path, jobs: &[&str]) -> io::Result<HashMap<String, Starts>> {
        let mut known: HashMap<String, Starts> =
            jobs.iter().map(|job| ((*job).to_owned(), Starts::default())).collect();
        let mut open: HashMap<String, Seen> = HashMap::new();
        for run in self.runs()? {
            let is_asked_for =
                |job: &JobCall| job.file.to_path() == file && known.contains_key(&job.name);
            let Some(job) = run.began.job.clone().filter(is_asked_for) else { continue };
            let (start, calls) = open.entry(job.name.clone()).or_insert((job.start, Vec::new()));
            if *start != job.start {
                known.entry(job.name.clone()).or_default().extend(calls);
                calls.clear();
                *start = job.start;
            }
            calls.push(RunEntry::recorded(run));
            if known.values().all(Starts::is_known) {
                break;
            }
        }
        for (job, (_, calls)) in open {
            known.entry(job).or_default().extend(&calls);
        }
        Ok(known)
    }
}

impl Starts {
    /// Adds the calls of one start, the last first.
    fn extend(&mut self, calls: &[RecordedRun]) {
        let Some(first) = calls.last() else { return };
        let expected = first.began.job.as_ref().map_or(1, |job| job.calls);
        let outcomes = || calls.iter().map(|call| call.outcome);
        let worst = outcomes().max_by_key(|outcome| severity(*outcome));
        let outcome = match worst.unwrap_or(RunOutcome::CutShort) {
            going @ RunOutcome::Running => going,
            RunOutcome::Stopped => RunOutcome::Stopped,
            // Later calls of the start are missing.
            _ if (calls.len() as u64) < expected => RunOutcome::CutShort,
            worst => worst,
        };
        self.add(Start { run: first.began.start(), began: first.began.began.clone(), outcome });
    }
}

/// From good to bad.
fn severity(outcome: RunOutcome) -> usize {
    use RunOutcome::{
        CutShort, Different, DriveMissing, EndedEarly, Invalid, Problems, Refused, Running,
        Stopped, Succeeded,
    };
    let all = [
        Succeeded,
        Different,
        Problems,
        EndedEarly,
        DriveMissing,
        Refused,
        Invalid,
        CutShort,
        Stopped,
        Running,
    ];
    all.iter().position(|known| *known == outcome).unwrap_or_default()
}
