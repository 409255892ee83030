//! What the undo notes of a run say: its plan, where it takes place, and then, in the order of happening,
//! what entries were before and what steps left.

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

use crate::journal::reader::JournalLines;
use crate::journal::recorder::JournalWriter;
use crate::plan::{self, Plan, PlanLine, PlanReader, Purpose};
use crate::request::{Request, Task};

/// One line of the notes.
#[derive(Serialize, Deserialize)]
pub(crate) enum JournalLine {
    /// What people want to know before they read on.
    About(About),
    /// Of the plan, as a saved plan has it.
    Plan(PlanLine),
    /// Where the parts of the plan lie.
    Roots(Vec<JournalRoot>),
    /// An entry is about to change.
    Before { part: u32, path: Bytes, was: AttributesBefore },
    /// A step was done, and this is what it left.
    After { part: u32, path: Bytes, left: StateAfter },
    /// Where the parts of a move come from.
    Sources(Vec<SourcePlace>),
    /// Something is about to go from a folder of the source.
    Here { part: u32, path: Bytes, was: AttributesBefore },
    /// What is in the source was compared with its copy on the drive, byte by byte, and is the same.
    Proven { part: u32, path: Bytes, here: StateAfter, there: StateAfter },
}

/// Where a part of a move comes from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct SourcePlace {
    /// The root of the source, or the folder of a single entry, as an absolute path.
    pub(crate) folder: Bytes,
    /// The name of a single entry in it.
    pub(crate) single: Option<Bytes>,
    /// What identifies the drive it lies on, as far as that can be found out.
    pub(crate) drive: Option<String>,
}

/// What a run was, in brief.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct About {
    /// What was to be done.
    pub task: Task,
    /// What it planned to replace, with the bytes that were there.
    pub replaced: Count,
    /// What it planned to remove, but for what other runs left behind.
    pub removed: Count,
    destination: Bytes,
}

impl About {
    /// What `plan` is about.
    pub(crate) fn of(plan: &Plan, request: &Request) -> io::Result<Self> {
        let destination = std::path::absolute(&request.places.destination)?;
        Ok(Self {
            task: request.task,
            replaced: plan.displaced(Verb::Replace),
            removed: plan.displaced(Verb::Remove),
            destination: destination.as_os_str().as_bytes().into(),
        })
    }

    /// Where it took place, as an absolute path.
    pub fn destination(&self) -> PathBuf {
        self.destination.clone().path()
    }
}

/// The first line of notes, if it is there.
pub(crate) fn about(notes: &JournalLines) -> Option<About> {
    match postcard::from_bytes(notes.bodies().next()?) {
        Ok(JournalLine::About(about)) => Some(about),
        _ => None,
    }
}

/// The root folder of a part.
#[derive(Serialize, Deserialize)]
pub(crate) struct JournalRoot {
    /// In the destination, as an absolute path.
    pub(crate) folder: Bytes,
    /// In the folder of the run.
    pub(crate) prefix: Bytes,
    /// What identifies the drive it lies on, as far as that can be found out.
    pub(crate) drive: Option<String>,
    /// Its inode number, if it was there and its drive's numbers last.
    pub(crate) inode: Option<u64>,
    /// How many of the last folders of its path the run makes.
    pub(crate) made: u32,
    /// The time of the folder that it goes into with others, where that is to change for it alone.
    pub(crate) above: Option<Time>,
}

/// Adds a line.
pub(crate) fn add(recorder: &JournalWriter<'_>, note: &JournalLine) -> io::Result<()> {
    // Most are shorter; growing step by step costs more than all the rest.
    let body = postcard::to_extend(note, Vec::with_capacity(256)).map_err(io::Error::other)?;
    recorder.note(&body)
}

/// Adds all lines of a plan.
pub(crate) fn add_plan(
    recorder: &JournalWriter<'_>,
    plan: &Plan,
    request: &Request,
) -> io::Result<()> {
    add(recorder, &JournalLine::About(About::of(plan, request)?))?;
    plan::each_line(plan, request, &mut |line| add(recorder, &JournalLine::Plan(line)))
}

/// What the journal of a move says of its source.
#[derive(Debug)]
pub(crate) struct MovedNotes {
    /// Of a move.
    pub(crate) origin: Option<SourcePlace>,
    /// Folders of the source before something went from them.
    pub(crate) here: StatesBefore,
    /// What was seen to be the same on both sides.
    pub(crate) proven: HashMap<Vec<u8>, (StateAfter, StateAfter)>,
}

/// What is known of one part of the plan.
#[derive(Debug)]
pub(crate) struct PastPart {
    pub(crate) root: PathBuf,
    pub(crate) drive: Option<String>,
    pub(crate) inode: Option<u64>,
    pub(crate) made: usize,
    pub(crate) above: Option<Time>,
    pub(crate) prefix: Vec<u8>,
    pub(crate) before: StatesBefore,
    pub(crate) after: HashMap<Vec<u8>, StateAfter>,
    pub(crate) moved: MovedNotes,
}

/// All that the notes of a run say.
pub(crate) type JournalContents = (Purpose, Plan, Vec<PastPart>);

/// Puts together what the lines say. The error is the line, counted from 1, and what is wrong with it.
pub(crate) fn read(notes: &JournalLines) -> Result<JournalContents, (usize, String)> {
    let mut reader = PlanReader::default();
    let mut parts = Vec::new();
    let mut lines = 1;
    for body in notes.bodies() {
        lines += 1;
        let note = postcard::from_bytes(body).map_err(|error| (lines, error.to_string()))?;
        take(&mut reader, &mut parts, note).map_err(|cause| (lines, cause))?;
    }
    let (purpose, plan) = reader.finish().ok_or((lines, "the plan is not whole".to_owned()))?;
    if parts.len() != plan.parts.len() {
        return Err((lines, "it does not say where the run took place".to_owned()));
    }
    share_roots(&mut parts);
    Ok((purpose, plan, parts))
}

/// What a root was like that several entries go into is what the first of them met.
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
    let unknown = || "it is of a part that is not there".to_owned();
    match note {
        JournalLine::About(_) => {}
        JournalLine::Plan(line) => reader.take(line)?,
        JournalLine::Roots(roots) => {
            for JournalRoot { folder, prefix, drive, inode, made, above } in roots {
                let (root, prefix, made) = (folder.path(), prefix.relative()?, at(made));
                parts.push(PastPart {
                    root,
                    drive,
                    inode,
                    made,
                    above,
                    prefix,
                    before: StatesBefore::new(),
                    after: HashMap::new(),
                    moved: MovedNotes {
                        origin: None,
                        here: StatesBefore::new(),
                        proven: HashMap::new(),
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
            // What a second line of one entry shows was made by the run itself.
            part.before.entry(path.relative()?).or_insert(was);
        }
        JournalLine::After { part, path, left } => {
            let part = parts.get_mut(at(part)).ok_or_else(unknown)?;
            part.after.insert(path.relative()?, left);
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
