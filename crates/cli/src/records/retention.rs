//! Which records may be removed. Those of successful runs go first; the last of each job stays, and its last
//! success.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::{self, OpenOptions};
use std::io;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use jiff::Timestamp;
use utter_echo_core::retention;

use crate::records::index::{RunEntry, line};
use crate::records::store::Store;
use crate::report::events::{Event, RecordedRun, RunOutcome};

/// How long records are kept, and in how much space.
#[derive(Clone, Debug)]
pub(crate) struct RecordRetention {
    /// Records of failed runs are kept twice as long.
    pub(crate) time: Duration,
    pub(crate) at_most: u64,
    /// Looks for old records after every run instead of once a day.
    pub(crate) always: bool,
    /// A group that may read them, besides the owner.
    pub(crate) group: Option<u32>,
    /// The job file, without links, whose records these are; `None` for those of commands that were typed.
    pub(crate) file: Option<PathBuf>,
}

impl Default for RecordRetention {
    fn default() -> Self {
        Self {
            time: Duration::from_secs(180 * 24 * 3600),
            at_most: 2 << 30,
            always: false,
            group: None,
            file: None,
        }
    }
}

impl RecordRetention {
    /// True for a record that this rule is for. Those of a job file that is gone are kept like those of commands.
    fn is_for(&self, run: &RecordedRun) -> bool {
        match (&self.file, &run.began.job) {
            (Some(file), Some(job)) => job.file.to_path() == *file,
            (Some(_), None) => false,
            (None, None) => true,
            (None, Some(job)) => !job.file.to_path().exists(),
        }
    }
}

const DAY: Duration = Duration::from_secs(24 * 3600);

/// Removes old records if due, with the lock held.
pub(super) fn tidy(store: &Store, keep: &RecordRetention) -> io::Result<()> {
    let mark = store.folder().join("tidied");
    let last = fs::metadata(&mark).and_then(|mark| mark.modified()).ok();
    let ago = last.and_then(|last| SystemTime::now().duration_since(last).ok());
    if !keep.always && ago.is_some_and(|ago| ago < DAY) {
        return Ok(());
    }
    OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(mark)?;
    let mut all: Vec<RecordedRun> = store.runs()?.map(RunEntry::recorded).collect();
    all.reverse();
    let due = store.folder().join("due");
    let marked = marked(&due);
    let (mine, others): (Vec<RecordedRun>, Vec<RecordedRun>) =
        all.iter().cloned().partition(|run| keep.is_for(run));
    let (old, mut marks) = old(&mine, keep, (Timestamp::now(), &marked), |run| room(store, run));
    let of_others = others.iter().map(|run| run.began.run);
    marks.extend(of_others.filter_map(|run| Some((run, marked.get(&run)?.clone()))));
    if marks != marked {
        let lines = marks.iter().map(|(run, finder)| format!("{run} {finder}\n"));
        fs::write(&due, lines.collect::<String>())?;
        fs::set_permissions(&due, fs::Permissions::from_mode(0o600))?;
    }
    if old.is_empty() {
        return Ok(());
    }
    let mut lines = Vec::new();
    for run in all.iter().filter(|run| !old.contains(&run.began.run)) {
        lines.extend(line(&Event::RunStarted(run.began.clone())));
        if let Some(closed) = &run.closed {
            lines.extend(line(&Event::RunEnded(closed.clone())));
        }
    }
    // A record that cannot be removed is tried again the next time, as long as it is in the index.
    for named in store.names()?.iter().filter(|named| old.contains(&named.run)) {
        match fs::remove_file(store.record(&named.name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    store.replace_index(&lines)?;
    store.allow_group(keep.group, &store.index())
}

/// Which runs were found old earlier, and by which run. If lost, it is built again.
fn marked(due: &Path) -> BTreeMap<u64, String> {
    let lines = fs::read_to_string(due).unwrap_or_default();
    let mark = |line: &str| {
        let (run, finder) = line.split_once(' ')?;
        Some((run.parse().ok()?, finder.to_owned()))
    };
    lines.lines().filter_map(mark).collect()
}

/// The size of a record in bytes.
fn room(store: &Store, run: &RecordedRun) -> u64 {
    let name =
        crate::records::store::Named::new(run.began.run, &super::index::stamp(&run.began.began))
            .name;
    fs::metadata(store.record(&name)).map_or(0, |meta| meta.len())
}

/// Which of these runs, the oldest first, may be removed, and which are old now and may be removed by a later run.
fn old(
    all: &[RecordedRun],
    keep: &RecordRetention,
    (now, marked): (Timestamp, &BTreeMap<u64, String>),
    room: impl Fn(&RecordedRun) -> u64,
) -> (HashSet<u64>, BTreeMap<u64, String>) {
    // A start counts as a success only if all its calls succeeded.
    let mut well: HashMap<u64, u64> = HashMap::new();
    for run in all.iter().filter(|run| run.outcome == RunOutcome::Succeeded) {
        *well.entry(run.began.start()).or_default() += 1;
    }
    let is_start_well = |run: &RecordedRun| {
        let calls = run.began.job.as_ref().map_or(1, |job| job.calls);
        well.get(&run.began.start()).is_some_and(|well| *well >= calls)
    };
    let (mut seen, mut seen_well, mut needed) = (HashSet::new(), HashSet::new(), HashSet::new());
    for run in all.iter().rev() {
        let job = run.began.job.as_ref().map(|job| (&job.name, job.file.as_bytes()));
        let is_last = seen.insert(job);
        let is_last_well = is_start_well(run) && seen_well.insert(job);
        if is_last || is_last_well || run.outcome == RunOutcome::Running {
            needed.insert(run.began.start());
        }
    }
    let is_needed = |run: &RecordedRun| needed.contains(&run.began.start());
    let age = |run: &RecordedRun| {
        let began = run.began.began.parse::<Timestamp>().ok()?;
        Duration::try_from(now.duration_since(began)).ok()
    };
    let has_succeeded = |run: &&RecordedRun| run.outcome == RunOutcome::Succeeded;
    let is_old = |run: &RecordedRun| {
        let time = if has_succeeded(&run) { keep.time } else { keep.time * 2 };
        !is_needed(run) && age(run).is_some_and(|age| age > time)
    };
    let too_old: HashSet<u64> =
        all.iter().filter(|run| is_old(run)).map(|run| run.began.run).collect();
    let mut numbers: Vec<u64> = all.iter().map(|run| run.began.run).collect();
    numbers.sort_unstable();
    let finder = numbers.last().map(u64::to_string).unwrap_or_default();
    let decided = retention::decide(&numbers, |run| too_old.contains(run), marked, &finder);
    let mut gone: HashSet<u64> = decided.goes.into_iter().collect();
    let mut kept: u64 = all.iter().filter(|run| !gone.contains(&run.began.run)).map(&room).sum();
    let by_worth =
        all.iter().filter(has_succeeded).chain(all.iter().filter(|run| !has_succeeded(run)));
    for run in by_worth.filter(|run| !is_needed(run)) {
        if kept <= keep.at_most {
            break;
        }
        if gone.insert(run.began.run) {
            kept -= room(run).min(kept);
        }
    }
    (gone, decided.marked)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::report::events::{CallingProcess, CommandWord, JobCall, RunStarted};
    use std::path::Path;

    /// A job's call with this outcome, so many days ago.
    fn call(
        run: u64,
        days: i64,
        (start, call, calls): (u64, u64, u64),
        outcome: RunOutcome,
    ) -> RecordedRun {
        let began = now() - jiff::SignedDuration::from_hours(24 * days);
        let file = Path::new("/utter.toml").into();
        let job = JobCall { name: "papers".into(), file, start, call, calls };
        let began = RunStarted {
            run,
            began: began.to_string(),
            command: CommandWord::Copy,
            line: String::new(),
            folder: Path::new("/").into(),
            job: Some(job),
            sides: Vec::new(),
            caller: CallingProcess {
                host: String::new(),
                user: String::new(),
                process: 1,
                program: String::new(),
            },
        };
        RecordedRun { began, outcome, closed: None }
    }

    fn now() -> Timestamp {
        Timestamp::from_second(1_795_000_000).unwrap()
    }

    /// The runs that stay, if each takes one byte.
    fn left(all: &[RecordedRun], days: u64, at_most: u64) -> Vec<u64> {
        let keep = RecordRetention {
            time: DAY * u32::try_from(days).unwrap(),
            at_most,
            ..RecordRetention::default()
        };
        // An earlier run found them old, too; a single run removes nothing by age.
        let numbers = all.iter().map(|run| (run.began.run, "0".to_owned())).collect();
        assert!(old(all, &keep, (now(), &BTreeMap::new()), |_| 0).0.is_empty());
        let (gone, _) = old(all, &keep, (now(), &numbers), |_| 1);
        all.iter().map(|run| run.began.run).filter(|run| !gone.contains(run)).collect()
    }

    #[test]
    fn the_last_start_and_the_last_successful_one_stay_whole() {
        use RunOutcome::{Problems, Succeeded};
        let all = [
            call(1, 90, (1, 1, 2), Succeeded),
            call(2, 90, (1, 2, 2), Succeeded),
            call(3, 80, (3, 1, 2), Succeeded),
            call(4, 80, (3, 2, 2), Problems),
            call(5, 70, (5, 1, 2), Succeeded),
            call(6, 70, (5, 2, 2), Problems),
        ];
        assert_eq!(left(&all, 10, 100), [1, 2, 5, 6]);
        // Failed runs are kept twice as long.
        assert_eq!(left(&all, 45, 100), [1, 2, 4, 5, 6]);
        assert_eq!(left(&all, 100, 100), [1, 2, 3, 4, 5, 6]);
        // When space is short, successful runs go first.
        assert_eq!(left(&all, 100, 5), [1, 2, 4, 5, 6]);
        assert_eq!(left(&all, 100, 0), [1, 2, 5, 6]);
    }
}
