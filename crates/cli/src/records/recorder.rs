//! Writing the record of a run while it is going on.

use std::collections::HashSet;
use std::ffi::OsString;
use std::fs::{File, OpenOptions};
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU8, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use parking_lot::{Mutex, MutexGuard};
use utter_echo_core::observe::Observer;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Plan;
use utter_echo_core::problem::Problem;
use utter_echo_core::{Outcome, StepOutcome, drives};
use zstd::Encoder;

use crate::exit::{self, Exit};
use crate::location::{DriveName, Location};
use crate::real::real_side;
use crate::records::call::{Call, Within};
use crate::records::index::{line, stamp};
use crate::records::retention::{self, RecordRetention};
use crate::records::store::{Named, Store, try_lock};
use crate::report::events::{
    CallingProcess, CommandWord, Event, Placed, RunEnded, RunOutcome, RunStarted, StepLine,
};
use crate::report::{HeardTotals, conversion};
use crate::terminal::shell::quoted;

/// Bytes written at once, unless this much time has passed.
const STRETCH: usize = 64 * 1024;
const MOMENT: Duration = Duration::from_millis(500);

/// The compression level: most of the gain, in a twentieth of the time of a copy.
const LEVEL: i32 = 1;

/// Writes the events of a run. After the first error it writes nothing more.
pub(crate) struct Recorder {
    store: Store,
    pub(crate) run: u64,
    begun: Instant,
    /// The time of the last write, in milliseconds since the start.
    written: AtomicU64,
    journal: Mutex<Journal>,
}

struct Journal {
    /// Each flushed block can be read, whatever follows it.
    file: Encoder<'static, File>,
    waiting: Vec<u8>,
    /// Problems reported when they occurred, which come again at the end.
    met: HashSet<u64>,
    failed: Option<io::Error>,
}

impl Recorder {
    pub(crate) fn begin(call: Call, keep: &RecordRetention) -> io::Result<Self> {
        let store =
            Store::find().ok_or_else(|| io::Error::other("the home folder is not known"))?;
        store.make()?;
        store.allow_group(keep.group, store.folder())?;
        let began = call.began.to_string();
        let mut began = RunStarted {
            run: 0,
            command: call.command,
            line: call.line,
            folder: (&*std::env::current_dir().unwrap_or_default()).into(),
            job: call.job,
            sides: placed(&call.sides),
            began,
            caller: CallingProcess {
                host: rustix::system::uname().nodename().to_string_lossy().into_owned(),
                user: user(),
                process: std::process::id(),
                program: env!("CARGO_PKG_VERSION").to_owned(),
            },
        };
        let _lock = store.lock()?;
        began.run = store.next()?;
        if let Some(job) = began.job.as_mut().filter(|job| job.start == 0) {
            job.start = began.run;
        }
        let (run, name) = (began.run, Named::new(began.run, &stamp(&began.began)).name);
        let first = line(&Event::RunStarted(began));
        store.add(&first)?;
        store.allow_group(keep.group, &store.index())?;
        let open =
            OpenOptions::new().append(true).create_new(true).mode(0o600).open(store.record(&name));
        let file = open?;
        store.allow_group(keep.group, &store.record(&name))?;
        // A new record is nobody else's, but another process may be looking at its lock.
        while !try_lock(&file) {
            std::thread::yield_now();
        }
        let file = Encoder::new(file, LEVEL)?;
        let journal = Journal { file, waiting: first, met: HashSet::new(), failed: None };
        let (begun, written) = (Instant::now(), AtomicU64::new(0));
        let recorder = Self { store, run, begun, written, journal: Mutex::new(journal) };
        recorder.flush();
        Ok(recorder)
    }

    fn journal(&self) -> MutexGuard<'_, Journal> {
        self.journal.lock()
    }

    /// Writes events, except those written when they happened.
    pub(crate) fn show(&self, event: &Event) {
        let is_in_a_run = |step: &StepLine| step.outcome.is_some();
        match event {
            Event::Step(step) if is_in_a_run(step) => {}
            Event::Problem(_) => {
                let line = line(event);
                let mut journal = self.journal();
                if !journal.met.remove(&hash(&line)) {
                    journal.waiting.extend(line);
                }
            }
            _ => self.add(&line(event)),
        }
    }

    fn add(&self, line: &[u8]) {
        let mut journal = self.journal();
        journal.waiting.extend_from_slice(line);
        if journal.waiting.len() >= STRETCH {
            self.write_out(&mut journal);
        }
    }

    /// Flushes the buffer.
    pub(crate) fn flush(&self) {
        self.write_out(&mut self.journal());
    }

    fn write_out(&self, journal: &mut Journal) {
        self.written.store(self.millis(), Ordering::Relaxed);
        let Journal { file, waiting, failed, .. } = journal;
        if failed.is_none() {
            *failed = file.write_all(waiting).and_then(|()| file.flush()).err();
        }
        waiting.clear();
    }

    fn millis(&self) -> u64 {
        u64::try_from(self.begun.elapsed().as_millis()).unwrap_or(u64::MAX)
    }

    /// Flushes the buffer after some time, so that a killed run loses little.
    fn flush_now_and_then(&self) {
        let waited = self.millis().saturating_sub(self.written.load(Ordering::Relaxed));
        if u128::from(waited) > MOMENT.as_millis()
            && let Some(mut journal) = self.journal.try_lock()
        {
            self.write_out(&mut journal);
        }
    }

    /// Why the record is incomplete.
    pub(crate) fn failure(&self) -> Option<io::Error> {
        self.journal().failed.as_ref().map(|error| io::Error::new(error.kind(), error.to_string()))
    }

    /// Ends the record, and removes old ones if due.
    pub(crate) fn close(
        self,
        came: Result<Exit, &anyhow::Error>,
        heard: &HeardTotals,
        keep: &RecordRetention,
    ) -> io::Result<()> {
        let exit = came.unwrap_or_else(exit::of_error);
        let cause = came.err().map(|error| format!("{error:#}"));
        let closed = RunEnded {
            run: self.run,
            ended: Timestamp::now().to_string(),
            seconds: self.begun.elapsed().as_secs_f64(),
            outcome: RunOutcome::after(exit),
            exit_code: exit as u8,
            done: heard.done(),
            left: heard.left(),
            problems: heard.problems,
            cause,
        };
        let last = line(&Event::RunEnded(closed));
        let Self { store, journal, .. } = self;
        let Journal { mut file, waiting, failed, .. } = journal.into_inner();
        let whole = failed.map_or(Ok(()), Err).and_then(|()| {
            file.write_all(&[&*waiting, &*last].concat())?;
            // Closing the file releases its lock.
            file.finish().map(drop)
        });
        // The index gets the outcome even if the rest is lost.
        let _lock = store.lock()?;
        store.add(&last)?;
        whole?;
        retention::tidy(&store, keep)
    }
}

/// Writes a record for a job's call that failed before it began one, and returns its number.
pub(crate) fn of_failed(
    command: CommandWord,
    words: &[OsString],
    within: Within,
    error: &anyhow::Error,
) -> Option<u64> {
    let quoted = words.iter().map(|word| quoted(word));
    let line = ["utter".to_owned()].into_iter().chain(quoted).collect::<Vec<_>>().join(" ");
    let (began, sides) = (Timestamp::now(), Vec::new());
    let call = Call { command, began, line, job: Some(within.job), sides };
    // A record that cannot be written does not affect the job.
    let recorder = Recorder::begin(call, &within.keep).ok()?;
    let run = recorder.run;
    recorder.close(Err(error), &HeardTotals::default(), &within.keep).ok()?;
    Some(run)
}

/// The name of the user, or else the user's number.
fn user() -> String {
    let number = rustix::process::geteuid().as_raw();
    let user = uzers::get_user_by_uid(number);
    user.map_or_else(|| number.to_string(), |user| user.name().to_string_lossy().into_owned())
}

fn placed(sides: &[PathBuf]) -> Vec<Placed> {
    let called = drives::beneath(&Linux, sides);
    let sides = sides.iter().zip(called).map(|(path, drive)| {
        let location = Location::read(path.clone()).ok();
        if let Some(missing) = location.as_ref().and_then(Location::drive) {
            let (label, uuid) = match missing.clone() {
                DriveName::Label(label) => (Some(label), None),
                DriveName::Uuid(uuid) => (None, Some(uuid)),
            };
            return Placed { path: (&**path).into(), mounted_at: None, label, uuid };
        }
        let path = real_side(path);
        let (label, uuid) = drive.as_ref().map(|d| (d.label.clone(), d.uuid.clone())).unzip();
        let mounted_at = drive.map(|drive| (&*drive.mounted_at).into());
        Placed { path: (&*path).into(), mounted_at, label: label.flatten(), uuid: uuid.flatten() }
    });
    sides.collect()
}

fn hash(line: &[u8]) -> u64 {
    let mut hasher = DefaultHasher::new();
    line.hash(&mut hasher);
    hasher.finish()
}

/// Observes a run: shows progress, and writes each step to the record when it ends.
pub(crate) struct Watching<'a, S> {
    shown: &'a S,
    recorder: Option<&'a Recorder>,
    plan: &'a Plan,
    /// The recorded outcome of each step.
    told: Vec<AtomicU8>,
}

impl<'a, S: Observer> Watching<'a, S> {
    pub(crate) fn new(shown: &'a S, recorder: Option<&'a Recorder>, plan: &'a Plan) -> Self {
        let steps = recorder.map_or(0, |_| plan.totals.steps());
        let steps = usize::try_from(steps).unwrap_or_default();
        let told = std::iter::repeat_with(|| AtomicU8::new(NOTHING)).take(steps).collect();
        Self { shown, recorder, plan, told }
    }

    /// Records outcomes that are missing or have changed.
    pub(crate) fn settle(&self, outcome: &Outcome) {
        for number in 0..self.told.len() {
            self.record(number, outcome.of(number));
        }
    }

    fn record(&self, number: usize, outcome: StepOutcome) {
        let (Some(recorder), Some(told)) = (self.recorder, self.told.get(number)) else { return };
        if told.swap(outcome as u8, Ordering::Relaxed) == outcome as u8 {
            return;
        }
        if let Some(placed) = self.plan.step(number) {
            recorder.add(&line(&Event::Step(StepLine::of(&placed, Some(outcome)))));
        }
    }

    fn keep(&self) {
        if let Some(recorder) = self.recorder {
            recorder.flush_now_and_then();
        }
    }
}

/// No outcome of a step.
const NOTHING: u8 = u8::MAX;

impl<S: Observer> Observer for Watching<'_, S> {
    fn scanned(&self, entries: u64) {
        self.shown.scanned(entries);
    }

    fn comparing(&self, bytes: u64) {
        self.shown.comparing(bytes);
    }

    fn compared(&self, bytes: u64) {
        self.keep();
        self.shown.compared(bytes);
    }

    fn started(&self, path: &[u8]) {
        self.keep();
        self.shown.started(path);
    }

    fn wrote(&self, bytes: u64) {
        self.keep();
        self.shown.wrote(bytes);
    }

    fn concluded(&self, step: usize, outcome: StepOutcome) {
        self.record(step, outcome);
        self.shown.concluded(step, outcome);
    }

    fn met(&self, problem: &Problem) {
        if let Some(recorder) = self.recorder {
            for event in conversion::problems(std::slice::from_ref(problem)) {
                let line = line(&event);
                recorder.journal().met.insert(hash(&line));
                recorder.add(&line);
            }
        }
        self.shown.met(problem);
    }

    fn flushing(&self) {
        if let Some(recorder) = self.recorder {
            recorder.flush();
        }
        self.shown.flushing();
    }

    fn stop_requested(&self) -> bool {
        self.shown.stop_requested()
    }
}
