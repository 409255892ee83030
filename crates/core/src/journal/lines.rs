//! The contents of an undo journal: the plan and its places, and then, in order, the states of entries before and
//! after the steps.

use std::collections::HashMap;
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use utter_echo_model::bytes::Bytes;
use utter_echo_model::count::Count;
use utter_echo_model::state::{AttributesBefore, StateAfter, StatesBefore};
use utter_echo_model::verb::Verb;
use utter_echo_os::Time;

use crate::journal::frame::JournalMark;
use crate::journal::reader::JournalLines;
use crate::journal::recorder::JournalWriter;
use crate::journal::root_identity::RootIdentity;
use crate::journal::store::RunStore;
use crate::plan::{self, Plan, PlanLine, PlanReader, Purpose};
use crate::request::{Request, Task};

/// A line of a journal.
#[derive(Serialize, Deserialize)]
pub(crate) enum JournalLine {
    /// A summary of the run.
    About(RunSummary),
    /// A line of the plan, in the form of a saved plan.
    Plan(PlanLine),
    /// The places of the parts of the plan.
    Roots(Vec<JournalRoot>),
    /// An entry is about to change.
    Before { part: u32, path: Bytes, was: AttributesBefore },
    /// A step was done, with the state after it.
    After { part: u32, path: Bytes, left: StateAfter },
    /// The sources of the parts of a move.
    Sources(Vec<SourcePlace>),
    /// Something is about to be removed from a folder of the source.
    Here { part: u32, path: Bytes, was: AttributesBefore },
    /// An entry of the source was compared with its copy on the drive, byte by byte, and is equal.
    Proven { part: u32, path: Bytes, here: StateAfter, there: StateAfter },
    /// The roots of a part, once both exist and before anything else changes in them.
    Known { part: u32, source: RootIdentity, destination: RootIdentity },
    /// Files of the destination were put back by the undo of a later run, and have other inode numbers since, in pairs
    /// of the former and the present one.
    Renumbered { part: u32, numbers: Vec<(u64, u64)> },
}

/// The source of a part of a move.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct SourcePlace {
    /// The root of the source, or the folder of a single entry, as an absolute path.
    pub(crate) folder: Bytes,
    /// The name of a single entry in it.
    pub(crate) single: Option<Bytes>,
    /// The UUID of its drive, if known.
    pub(crate) drive: Option<String>,
}

impl SourcePlace {
    /// The path of the source itself.
    pub(crate) fn path(&self) -> PathBuf {
        let single = self.single.clone().map(Bytes::path).unwrap_or_default();
        self.folder.clone().path().join(single)
    }
}

/// What a run was, in brief.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RunSummary {
    /// What was to be done.
    pub task: Task,
    /// Planned replacements, with the bytes of the replaced entries.
    pub replaced: Count,
    /// Planned removals, without leftovers.
    pub removed: Count,
    destination: Bytes,
}

impl RunSummary {
    /// The subject of `plan`.
    pub(crate) fn of(plan: &Plan, request: &Request) -> io::Result<Self> {
        let destination = std::path::absolute(&request.places.destination)?;
        Ok(Self {
            task: request.task,
            replaced: plan.displaced(Verb::Replace),
            removed: plan.displaced(Verb::Remove),
            destination: destination.as_os_str().as_bytes().into(),
        })
    }

    /// Its destination, as an absolute path.
    pub fn destination(&self) -> PathBuf {
        self.destination.clone().path()
    }
}

/// The first line of a journal, if it is complete.
pub(crate) fn about(journal: &JournalLines) -> Option<RunSummary> {
    match postcard::from_bytes(journal.bodies().next()?) {
        Ok(JournalLine::About(about)) => Some(about),
        _ => None,
    }
}

/// The root folder of a part.
#[derive(Serialize, Deserialize)]
pub(crate) struct JournalRoot {
    /// In the destination, as an absolute path.
    pub(crate) folder: Bytes,
    /// Its path in the folder of the run.
    pub(crate) prefix: Bytes,
    /// The UUID of its drive, if known.
    pub(crate) drive: Option<String>,
    /// Its inode number, if it existed and inode numbers last on its drive.
    pub(crate) inode: Option<u64>,
    /// The number of folders at the end of its path that the run makes.
    pub(crate) made: u32,
    /// The time of the folder above, if only this run changes that.
    pub(crate) above: Option<Time>,
}

/// Adds a line.
pub(crate) fn add(recorder: &JournalWriter<'_>, note: &JournalLine) -> io::Result<()> {
    // Most lines are shorter; growing the buffer would cost more than everything else.
    let body = postcard::to_extend(note, Vec::with_capacity(256)).map_err(io::Error::other)?;
    recorder.note(&body)
}

impl RunStore<'_> {
    /// Adds lines to the journal of a run that ended.
    pub(crate) fn append(&self, run: &str, lines: &[JournalLine]) -> io::Result<()> {
        let _lock = self.hold_soon(run)?;
        let Ok(journal) = self.read(run) else { return Err(io::ErrorKind::InvalidData.into()) };
        let writer = self.resume(run, &journal)?;
        lines.iter().try_for_each(|line| add(&writer, line))?;
        writer.mark(JournalMark::Noted)
    }
}

/// Adds all lines of a plan.
pub(crate) fn add_plan(
    recorder: &JournalWriter<'_>,
    plan: &Plan,
    request: &Request,
) -> io::Result<()> {
    add(recorder, &JournalLine::About(RunSummary::of(plan, request)?))?;
    plan::each_line(plan, request, &mut |line| add(recorder, &JournalLine::Plan(line)))
}

/// The records of a move about its source.
#[derive(Debug)]
pub(crate) struct MovedNotes {
    /// Of a move.
    pub(crate) origin: Option<SourcePlace>,
    /// Folders of the source before something was removed from them.
    pub(crate) here: StatesBefore,
    /// Entries that were verified on both sides.
    pub(crate) proven: HashMap<Vec<u8>, (StateAfter, StateAfter)>,
    /// The root of the source, or the folder of a single entry.
    pub(crate) known: Option<RootIdentity>,
}

/// The records of one part of the plan.
#[derive(Debug)]
pub(crate) struct PastPart {
    pub(crate) root: PathBuf,
    /// The root, or the drive on which it was to be made, when the run began.
    pub(crate) first: RootIdentity,
    pub(crate) made: usize,
    pub(crate) above: Option<Time>,
    /// The root, if the run came that far. Version 1 does not have it.
    pub(crate) known: Option<RootIdentity>,
    /// The present inode numbers of files in the plan, by those in it.
    renumbered: HashMap<u64, u64>,
    pub(crate) prefix: Vec<u8>,
    pub(crate) before: StatesBefore,
    pub(crate) after: HashMap<Vec<u8>, StateAfter>,
    pub(crate) moved: MovedNotes,
}

impl PastPart {
    /// The state in which the run left an entry of the destination, if it recorded that.
    pub(crate) fn left_at(&self, path: &[u8]) -> Option<&StateAfter> {
        self.after.get(path).or(self.moved.proven.get(path).map(|(_, there)| there))
    }

    /// The present inode number of a file that had this one when the run was planned.
    pub(crate) fn number_now(&self, inode: u64) -> u64 {
        self.renumbered.get(&inode).copied().unwrap_or(inode)
    }

    fn renumber(&mut self, numbers: &[(u64, u64)]) {
        let known: HashMap<u64, u64> = numbers.iter().copied().collect();
        for now in self.renumbered.values_mut() {
            *now = known.get(now).copied().unwrap_or(*now);
        }
        for (was, now) in known {
            self.renumbered.entry(was).or_insert(now);
        }
    }

    /// All entries that the run recorded so.
    pub(crate) fn left(&self) -> impl Iterator<Item = (&[u8], &StateAfter)> {
        let compared = self.moved.proven.iter().map(|(path, (_, there))| (&**path, there));
        let compared = compared.filter(|(path, _)| !self.after.contains_key(*path));
        self.after.iter().map(|(path, left)| (&**path, left)).chain(compared)
    }
}

/// Reads the contents of a journal.
pub(crate) type JournalContents = (Purpose, Plan, Vec<PastPart>);

/// Builds the records from the lines. The error is the number of a line, from 1, and the reason.
pub(crate) fn read(journal: &JournalLines) -> Result<JournalContents, (usize, String)> {
    let mut reader = PlanReader::default();
    let mut parts = Vec::new();
    let mut lines = 1;
    for body in journal.bodies() {
        lines += 1;
        let note = postcard::from_bytes(body).map_err(|error| (lines, error.to_string()))?;
        take(&mut reader, &mut parts, note).map_err(|cause| (lines, cause))?;
    }
    let (purpose, plan) = reader.finish().ok_or((lines, "the plan is incomplete".to_owned()))?;
    if parts.len() != plan.parts.len() {
        return Err((lines, "it lacks the folders of the run".to_owned()));
    }
    share_roots(&mut parts);
    Ok((purpose, plan, parts))
}

/// The former state of a root shared by several sources is the one that the first of them saw.
fn share_roots(parts: &mut [PastPart]) {
    let mut first: HashMap<PathBuf, AttributesBefore> = HashMap::new();
    for part in parts {
        if let Some(was) = part.before.get_mut(&[][..]) {
            *was = first.entry(part.root.clone()).or_insert_with(|| was.clone()).clone();
        }
    }
}

fn take(
    reader: &mut PlanReader,
    parts: &mut Vec<PastPart>,
    note: JournalLine,
) -> Result<(), String> {
    let at = |part: u32| usize::try_from(part).unwrap_or(usize::MAX);
    let unknown = || "it belongs to a part that does not exist".to_owned();
    match note {
        JournalLine::About(_) => {}
        JournalLine::Plan(line) => reader.take(line)?,
        JournalLine::Roots(roots) => {
            for JournalRoot { folder, prefix, drive, inode, made, above } in roots {
                let (root, prefix, made) = (folder.path(), prefix.relative()?, at(made));
                parts.push(PastPart {
                    root,
                    first: RootIdentity { drive, inode, born: None },
                    made,
                    above,
                    known: None,
                    renumbered: HashMap::new(),
                    prefix,
                    before: StatesBefore::new(),
                    after: HashMap::new(),
                    moved: MovedNotes {
                        origin: None,
                        here: StatesBefore::new(),
                        proven: HashMap::new(),
                        known: None,
                    },
                });
            }
        }
        JournalLine::Sources(origins) => {
            for (part, origin) in parts.iter_mut().zip(origins) {
                if let Some(single) = &origin.single {
                    single.clone().name()?;
                }
                part.moved.origin = Some(origin);
            }
        }
        JournalLine::Here { part, path, was } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            part.moved.here.entry(path.relative()?).or_insert(was);
        }
        JournalLine::Proven { part, path, here, there } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            part.moved.proven.insert(path.relative()?, (here, there));
        }
        JournalLine::Before { part, path, was } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            // A second line about one entry shows a state that the run itself made.
            part.before.entry(path.relative()?).or_insert(was);
        }
        JournalLine::After { part, path, left } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            part.after.insert(path.relative()?, left);
        }
        JournalLine::Known { part, source, destination } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            part.known = Some(destination);
            part.moved.known = Some(source);
        }
        JournalLine::Renumbered { part, numbers } => {
            parts.get_mut(at(part)).ok_or_else(unknown)?.renumber(&numbers);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_that_lead_elsewhere_are_refused() {
        let root = |prefix: &[u8]| JournalRoot {
            folder: b"/keeper"[..].into(),
            prefix: prefix.into(),
            drive: None,
            inode: None,
            made: 0,
            above: None,
        };
        let take = |note| take(&mut PlanReader::default(), &mut Vec::new(), note);
        assert_eq!(take(JournalLine::Roots(vec![root(b"saltmere")])), Ok(()));
        for path in [&b"../keeper"[..], b"/keeper", b"a//b", b"a/..", &b"a\0b"[..]] {
            assert!(take(JournalLine::Roots(vec![root(path)])).is_err(), "{path:?}");
        }
    }
}
