//! The history of a path in all records.

use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};

use memchr::memmem::Finder;
use parking_lot::Mutex;

use crate::records::index::RunEntry;
use crate::records::reader;
use crate::records::store::Store;
use crate::report::events::{
    CommandWord, DifferenceLine, Event, PathHistory, ProblemLine, RunStarted, SideWord, StepLine,
    VerbWord,
};
use crate::report::exact::Exact;

/// Bytes read at once.
const STRETCH: usize = 1 << 20;

/// The events about a path, the newest first; and unreadable records with their errors.
pub(crate) struct PathEvents {
    pub(crate) happened: Vec<PathHistory>,
    pub(crate) unread: Vec<(u64, String)>,
}

/// Searches the records of these runs.
pub(crate) fn search(store: &Store, runs: &[RunEntry], path: &Path) -> PathEvents {
    let next = AtomicUsize::new(0);
    let found = Mutex::new(Vec::new());
    let workers = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    std::thread::scope(|scope| {
        for _ in 0..workers {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some(run) = runs.get(at) else { break };
                    let Some(asked) = Search::of(&run.began, path) else { continue };
                    let here = asked.look_in(store, run);
                    found.lock().push((at, here));
                }
            });
        }
    });
    let mut found = found.into_inner();
    found.sort_by_key(|(at, _)| *at);
    let mut all = PathEvents { happened: Vec::new(), unread: Vec::new() };
    for (at, here) in found {
        match here {
            Ok(happened) => all.happened.extend(happened),
            // A missing record was removed as old.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => all.unread.push((runs[at].began.run, error.to_string())),
        }
    }
    all
}

/// A path relative to one side.
struct SearchedName {
    below: Vec<u8>,
    root: PathBuf,
    is_source: bool,
}

/// The paths to look for in one record.
struct Search {
    /// Relative to one of the sides.
    names: Vec<SearchedName>,
    /// Searching for each by itself is faster than for all together.
    needles: Vec<Finder<'static>>,
}

impl Search {
    /// `None` if the path is outside both sides of the run.
    fn of(began: &RunStarted, path: &Path) -> Option<Self> {
        let mut names: Vec<SearchedName> = Vec::new();
        for (at, side) in began.sides.iter().enumerate() {
            let is_source = at + 1 < began.sides.len();
            let root = side.path.to_path();
            let Ok(below) = path.strip_prefix(&root) else { continue };
            let bytes = |path: &Path| path.as_os_str().as_encoded_bytes().to_vec();
            names.push(SearchedName { below: bytes(below), root: root.clone(), is_source });
            // With several sources, or a single file, paths begin with the name of the source.
            if let (Some(name), Some(above)) = (root.file_name(), root.parent()) {
                let named = if below.as_os_str().is_empty() {
                    PathBuf::from(name)
                } else {
                    Path::new(name).join(below)
                };
                names.push(SearchedName {
                    below: bytes(&named),
                    root: above.to_owned(),
                    is_source,
                });
            }
        }
        let all = names.iter().flat_map(|name| with_those_above(&name.below));
        let needles = all.flat_map(|name| {
            // In the form of the record.
            let text = serde_json::to_string(&String::from_utf8_lossy(name)).unwrap_or_default();
            [format!("\"path\":{text}"), format!("\"was\":{text}")]
        });
        let needles = needles.map(|needle| Finder::new(&needle).into_owned()).collect();
        (!names.is_empty()).then_some(Self { names, needles })
    }

    fn look_in(&self, store: &Store, run: &RunEntry) -> io::Result<Vec<PathHistory>> {
        let mut record = reader::bytes(store, &run.name())?;
        let (mut found, mut bytes) = (Vec::new(), Vec::with_capacity(2 * STRETCH));
        loop {
            let kept = bytes.len();
            let read = record.by_ref().take(STRETCH as u64).read_to_end(&mut bytes);
            let is_end = !matches!(read, Ok(1..));
            let whole = memchr::memrchr(b'\n', &bytes[kept.min(bytes.len())..]).map(|at| kept + at);
            let whole = if is_end { Some(bytes.len()) } else { whole };
            if let Some(whole) = whole {
                self.look_at(&bytes[..whole], &run.began, &mut found);
                bytes.drain(..whole);
            }
            if is_end {
                return Ok(found);
            }
        }
    }

    /// Only lines that may be about the path are parsed.
    fn look_at(&self, lines: &[u8], began: &RunStarted, found: &mut Vec<PathHistory>) {
        let hits = self.needles.iter().flat_map(|needle| needle.find_iter(lines));
        let begin = |hit: usize| memchr::memrchr(b'\n', &lines[..hit]).map_or(0, |at| at + 1);
        let mut begins: Vec<usize> = hits.map(begin).collect();
        begins.sort_unstable();
        begins.dedup();
        for begin in begins {
            let line = &lines[begin..];
            let end = memchr::memchr(b'\n', line).unwrap_or(line.len());
            let event = reader::event(&line[..end]);
            found.extend(event.and_then(|event| self.history_of(event, began)));
        }
    }

    fn history_of(&self, event: Event, began: &RunStarted) -> Option<PathHistory> {
        let told = match event {
            Event::Step(step) => {
                let StepLine { verb, side, path, was, reason, outcome, .. } = step;
                let sides = match (verb, side) {
                    // A renamed entry left one folder and is in the other.
                    (VerbWord::Rename, _) if began.command == CommandWord::Move => Sides::Both,
                    (_, Some(SideWord::Source)) => Sides::Source,
                    _ => Sides::Destination,
                };
                // A renamed folder takes its entries along.
                (path, was, verb.word().into(), reason, outcome, verb == VerbWord::Rename, sides)
            }
            Event::Problem(ProblemLine { path: Some(path), operation, cause, .. }) => (
                path,
                None,
                "problem".into(),
                format!("{operation}: {cause}"),
                None,
                true,
                Sides::Both,
            ),
            Event::Difference(DifferenceLine { state, path, was, reason, .. }) => {
                (path, was, state.word().into(), reason, None, false, Sides::Both)
            }
            _ => return None,
        };
        let (path, was, what, reason, outcome, with_all, sides) = told;
        let is_it = |told: &[u8]| {
            self.names.iter().filter(|name| sides.have(name)).find(
                |SearchedName { below, .. }| {
                    below == told || with_all && with_those_above(below).any(|above| above == told)
                },
            )
        };
        let SearchedName { root, .. } =
            is_it(path.as_bytes()).or_else(|| is_it(was.as_ref().map(Exact::as_bytes)?))?;
        let below = |path: Exact<_>| (&*root.join(path.to_path())).into();
        Some(PathHistory {
            run: began.run,
            began: began.began.clone(),
            job: began.job.as_ref().map(|job| job.name.clone()),
            command: began.command,
            path: below(path),
            was: was.map(|was| (&*root.join(was.to_path())).into()),
            what,
            reason,
            outcome,
        })
    }
}

/// The path of an event.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sides {
    Source,
    Destination,
    Both,
}

impl Sides {
    fn have(self, name: &SearchedName) -> bool {
        self == Self::Both || name.is_source == (self == Self::Source)
    }
}

/// A relative path and all folders above it, including the root.
fn with_those_above(path: &[u8]) -> impl Iterator<Item = &[u8]> {
    let slashes = path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
    [0].into_iter().chain(slashes).chain([path.len()]).map(|end| &path[..end])
}
