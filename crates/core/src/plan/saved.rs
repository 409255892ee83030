//! Saved plans: written to a file, and carried out later.
//!
//! The form is JSON lines, documented in `docs/json.md`: a head with what the plan is for and what it was
//! made under, then each part's root, drives, folders, steps and names in the plan's own order, the
//! problems it foresees, the totals, and an end with the number of lines and the SHA-256 of all that
//! comes before it. What does not fit together to the last byte is refused as a whole.

use std::io::{self, BufRead, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use utter_echo_model::attribute::Attributes;
use utter_echo_model::bytes::Bytes;
use utter_echo_model::count::Count;
use utter_echo_model::identity::DriveId;
use utter_echo_model::path::{NameArena, TreePath};
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_model::verb::{Reason, Side, Verb};

use crate::compare::FolderHead;
use crate::plan::steps::Plan;
use crate::plan::totals::{StepTotals, Totals};
use crate::policy::{
    NameElsewhere, NameId, Part, PlannedFolder, Relation, SavedParts, Step, from_saved_plan,
};
use crate::request::{Guard, Places, RemovalLimit, Request, Safety, Task};

/// Raised when an older program could misread what a newer one wrote.
const VERSION: u32 = 4;

/// What a saved plan is for, and what it was made under.
#[derive(Clone, Debug)]
pub struct Purpose {
    /// What was to be done.
    pub task: Task,
    /// From where to where, as absolute paths.
    pub places: Places,
    /// The attributes to carry.
    pub carry: Attributes,
    /// What cannot be carried was a problem.
    pub strictly: bool,
    /// Times this far apart count as equal.
    pub time_slack: Duration,
    /// Guards and limits.
    pub safety: Safety,
}

/// Why a file is no plan, or not one to be carried out.
#[derive(Debug, thiserror::Error)]
pub enum BadPlan {
    /// It cannot be read.
    #[error("it cannot be read")]
    Unreadable(#[from] io::Error),
    /// A line is not what it should be.
    #[error("line {line} is not a line of a plan: {cause}\n  save a new plan with --save-plan")]
    Line {
        /// Counted from 1.
        line: usize,
        /// What is wrong.
        cause: String,
    },
    /// It was written by another version.
    #[error(
        "it has version {0}, and this program reads version {VERSION}\n  save a new plan with --save-plan"
    )]
    Version(u32),
    /// Something was changed, added or lost.
    #[error(
        "it is incomplete, or was changed after it was written\n  save a new plan with --save-plan"
    )]
    Damaged,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub(crate) enum PlanLine {
    Plan(PlanHead),
    Part {
        root: Option<SavedStep>,
    },
    Drive {
        path: Bytes,
    },
    Folder {
        parent: u32,
        name: Bytes,
        known: FolderIdentity,
        before: Option<State>,
    },
    Step(SavedStep),
    Name {
        folder: u32,
        name: Bytes,
    },
    Problem {
        path: Bytes,
        operation: String,
        cause: String,
    },
    Totals(Totals),
    End {
        lines: usize,
        sha256: String,
    },
    /// The source's root goes when all in it went.
    #[serde(rename = "source_root")]
    SourceRoot(SavedStep),
    /// The source's name of the folder or step before, where that is another.
    #[serde(rename = "source_name")]
    SourceName {
        name: Bytes,
    },
    /// Times this far apart count as equal.
    #[serde(rename = "time_slack")]
    TimeSlack {
        nanos: u64,
    },
}

/// What a plan was made under.
#[derive(Serialize, Deserialize)]
pub(crate) struct SavedTerms {
    #[serde(with = "words")]
    carry: Attributes,
    strictly: bool,
    removal_limit: SavedLimit,
    remove_first: bool,
    waived: Vec<String>,
}

#[derive(Serialize, Deserialize)]
pub(crate) struct PlanHead {
    version: u32,
    task: Task,
    sources: Vec<Bytes>,
    destination: Bytes,
    inside: bool,
    pub(crate) terms: SavedTerms,
    drive: Option<String>,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum SavedLimit {
    Usual,
    Count(u64),
    Percent(f64),
}

impl From<RemovalLimit> for SavedLimit {
    fn from(limit: RemovalLimit) -> Self {
        match limit {
            RemovalLimit::Usual => Self::Usual,
            RemovalLimit::Count(most) => Self::Count(most),
            RemovalLimit::Percent(percent) => Self::Percent(percent),
        }
    }
}

impl From<SavedLimit> for RemovalLimit {
    fn from(limit: SavedLimit) -> Self {
        match limit {
            SavedLimit::Usual => Self::Usual,
            SavedLimit::Count(most) => Self::Count(most),
            SavedLimit::Percent(percent) => Self::Percent(percent),
        }
    }
}

#[derive(Serialize, Deserialize)]
pub(crate) struct SavedStep {
    name: Bytes,
    verb: Verb,
    side: Side,
    reason: Reason,
    #[serde(with = "words")]
    attributes: Attributes,
    source: Option<State>,
    destination: Option<State>,
    /// Number of the name that it becomes another name of.
    link_of: Option<u32>,
    /// Number of the name that it takes away.
    rename_of: Option<u32>,
}

/// Attributes as their names where people may read them.
mod words {
    use serde::{Deserialize as _, Deserializer, Serialize as _, Serializer, de};

    use utter_echo_model::attribute::Attribute;
    use utter_echo_model::attribute::Attributes;

    #[allow(clippy::trivially_copy_pass_by_ref, reason = "so it is called")]
    pub(crate) fn serialize<S: Serializer>(
        attributes: &Attributes,
        to: S,
    ) -> Result<S::Ok, S::Error> {
        if to.is_human_readable() {
            to.collect_seq(attributes.iter().map(Attribute::name))
        } else {
            attributes.bits().serialize(to)
        }
    }

    pub(crate) fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<Attributes, D::Error> {
        if !from.is_human_readable() {
            return u16::deserialize(from).map(Attributes::of_bits);
        }
        let named = |word: String| {
            let known = Attribute::ALL.into_iter().find(|attribute| attribute.name() == word);
            known.ok_or_else(|| de::Error::custom(format!("'{word}' is not an attribute")))
        };
        Vec::<String>::deserialize(from)?.into_iter().map(named).collect()
    }
}

fn saved(step: &Step, name: &[u8]) -> SavedStep {
    SavedStep {
        name: name.into(),
        verb: step.verb,
        side: step.side,
        reason: step.reason,
        attributes: step.attributes,
        source: step.source,
        destination: step.destination,
        link_of: step.link().map(|NameId(name)| name),
        rename_of: step.renamed_from().map(|NameId(name)| name),
    }
}

/// Counts and digests what passes.
struct DigestWriter<W> {
    out: W,
    lines: usize,
    digest: Sha256,
}

impl<W: Write> DigestWriter<W> {
    fn line(&mut self, line: &PlanLine) -> io::Result<()> {
        let mut text = serde_json::to_vec(line)?;
        text.push(b'\n');
        self.lines += 1;
        self.digest.update(&text);
        self.out.write_all(&text)
    }
}

/// Writes a plan. Its notes are not part of what is carried out, and stay behind.
pub fn write(plan: &Plan, request: &Request, out: impl Write) -> io::Result<()> {
    let mut out = DigestWriter { out, lines: 0, digest: Sha256::new() };
    each_line(plan, request, &mut |line| match line {
        PlanLine::Plan(head) => out.line(&PlanLine::Plan(found(head, plan, request))),
        other => out.line(&other),
    })?;
    let (lines, sha256) = (out.lines, hex(out.digest));
    serde_json::to_writer(&mut out.out, &PlanLine::End { lines, sha256 })?;
    out.out.write_all(b"\n")?;
    out.out.flush()
}

/// Of several sources those alone that the plan found, each still under its own name.
fn found(head: PlanHead, plan: &Plan, request: &Request) -> PlanHead {
    let missing = plan.problems.iter().filter(|problem| matches!(problem.cause, Cause::NoSource));
    let missing: Vec<&[u8]> = missing.map(|problem| problem.path.as_bytes()).collect();
    let inside = head.inside || head.sources.len() > 1;
    let of_request = request.places.sources.iter().zip(head.sources);
    let is_there = |source: &Path| !missing.contains(&source.to_string_lossy().as_bytes());
    let sources = of_request.filter(|(source, _)| is_there(source)).map(|(_, saved)| saved);
    PlanHead { sources: sources.collect(), inside, ..head }
}

/// Gives out a plan line by line, in the order in which [`PlanReader`] takes them.
pub(crate) fn each_line(
    plan: &Plan,
    request: &Request,
    put: &mut dyn FnMut(PlanLine) -> io::Result<()>,
) -> io::Result<()> {
    put(PlanLine::Plan(head(request)?))?;
    let slack = request.changed.time_slack;
    if !slack.is_zero() {
        let nanos = u64::try_from(slack.as_nanos()).unwrap_or(u64::MAX);
        put(PlanLine::TimeSlack { nanos })?;
    }
    for (part, drives) in plan.parts.iter().zip(&plan.drives) {
        put(PlanLine::Part { root: part.root.as_ref().map(|step| saved(step, b"")) })?;
        for path in drives {
            put(PlanLine::Drive { path: path.as_bytes().into() })?;
        }
        for folder in &part.folders {
            let FolderHead { name, known, before, .. } = &folder.head;
            let (parent, name) = (folder.parent, (&**name).into());
            let (known, before) = (*known, *before);
            put(PlanLine::Folder { parent, name, known, before })?;
            if let Some(name) = &folder.head.source_name {
                put(PlanLine::SourceName { name: (&**name).into() })?;
            }
            for step in folder.steps.iter().chain(&folder.source_removals) {
                put(PlanLine::Step(saved(step, folder.head.names.get(step.name))))?;
                if let Some(name) = folder.other_name_in_source(step) {
                    put(PlanLine::SourceName { name: name.into() })?;
                }
            }
        }
        if let Some(step) = &part.root_source_removal {
            put(PlanLine::SourceRoot(saved(step, b"")))?;
        }
        for NameElsewhere { folder, name } in &part.elsewhere {
            put(PlanLine::Name { folder: *folder, name: (&**name).into() })?;
        }
    }
    for Problem { path, operation, cause } in &plan.problems {
        let (operation, cause) = (operation.id().to_owned(), cause.to_string());
        put(PlanLine::Problem { path: path.as_bytes().into(), operation, cause })?;
    }
    put(PlanLine::Totals(plan.totals))
}

fn head(request: &Request) -> io::Result<PlanHead> {
    let absolute = |path: &Path| {
        let path = std::path::absolute(path)?;
        Ok::<_, io::Error>(Bytes::from(path.as_os_str().as_bytes()))
    };
    let Places { sources, destination, inside, .. } = &request.places;
    Ok(PlanHead {
        version: VERSION,
        task: request.task,
        sources: sources.iter().map(|source| absolute(source)).collect::<Result<_, _>>()?,
        destination: absolute(destination)?,
        inside: *inside,
        drive: request.safety.drive.clone(),
        terms: SavedTerms {
            carry: request.carry,
            strictly: request.changed.strictly,
            removal_limit: request.safety.removal_limit.into(),
            remove_first: request.safety.remove_first,
            waived: request.safety.waived.iter().map(|guard| guard.name().to_owned()).collect(),
        },
    })
}

fn hex(digest: Sha256) -> String {
    digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().concat()
}

/// Reads a plan back, whole or not at all.
pub fn read(input: impl BufRead) -> Result<(Purpose, Plan), BadPlan> {
    let mut lines = input.split(b'\n').enumerate();
    let mut reader = PlanReader::default();
    let mut digest = Sha256::new();
    for (at, text) in &mut lines {
        let text = text?;
        let bad = |cause| BadPlan::Line { line: at + 1, cause };
        let line = serde_json::from_slice(&text).map_err(|e| bad(e.to_string()))?;
        if let PlanLine::End { lines: count, sha256 } = &line {
            if *count != at || *sha256 != hex(digest) || lines.next().is_some() {
                return Err(BadPlan::Damaged);
            }
            return reader.finish().ok_or(BadPlan::Damaged);
        }
        digest.update(&text);
        digest.update(b"\n");
        if let PlanLine::Plan(PlanHead { version, .. }) = &line
            && *version != VERSION
        {
            return Err(BadPlan::Version(*version));
        }
        reader.take(line).map_err(bad)?;
    }
    Err(BadPlan::Damaged)
}

/// Puts a plan together again, line by line.
#[derive(Default)]
pub(crate) struct PlanReader {
    purpose: Option<Purpose>,
    parts: Vec<Part>,
    /// Of the folder that is being read.
    steps: Vec<Step>,
    drives: Vec<Vec<TreePath>>,
    problems: Vec<Problem>,
    totals: Option<Totals>,
}

impl PlanReader {
    /// Takes one line; the error is the reason why it cannot.
    pub(crate) fn take(&mut self, line: PlanLine) -> Result<(), String> {
        if self.purpose.is_none() != matches!(line, PlanLine::Plan(_)) || self.totals.is_some() {
            return Err("it is in the wrong place".into());
        }
        match line {
            PlanLine::Plan(head) => self.purpose = Some(purpose(head)?),
            PlanLine::Part { root } => {
                self.end_folder();
                let mut names = NameArena::default();
                let root = root.map(|step| step_of(step, &mut names, true)).transpose()?;
                self.parts.push(Part { root, ..Part::default() });
                self.drives.push(Vec::new());
            }
            PlanLine::Drive { path } => {
                let path = path.relative()?;
                let drives = self.drives.last_mut().ok_or("it is in no part")?;
                drives.push((&*path).into());
            }
            PlanLine::Folder { parent, name, known, before } => {
                self.begin_folder(
                    PlannedFolder {
                        parent,
                        head: FolderHead { known, before, ..FolderHead::default() },
                        ..PlannedFolder::default()
                    },
                    name,
                )?;
            }
            PlanLine::Step(step) => {
                let folder = self.part()?.folders.last_mut().ok_or("it is in no folder")?;
                let step = step_of(step, &mut folder.head.names, false)?;
                self.steps.push(step);
            }
            PlanLine::SourceRoot(step) => {
                self.end_folder();
                let step = step_of(step, &mut NameArena::default(), true)?;
                self.part()?.root_source_removal = Some(step);
            }
            PlanLine::TimeSlack { nanos } => {
                let purpose = self.purpose.as_mut().ok_or("it is in the wrong place")?;
                purpose.time_slack = Duration::from_nanos(nanos);
            }
            PlanLine::SourceName { name } => self.source_names(&name.name()?)?,
            PlanLine::Name { folder, name } => {
                self.end_folder();
                let name = name.name()?.into();
                self.part()?.elsewhere.push(NameElsewhere { folder, name });
            }
            PlanLine::Problem { path, operation, cause } => {
                self.end_folder();
                let path = path.relative()?;
                let operation = Operation::of_id(&operation).ok_or("the operation is not known")?;
                let (path, cause) = ((&*path).into(), Cause::Foreseen(cause));
                self.problems.push(Problem { path, operation, cause });
            }
            PlanLine::Totals(totals) => {
                self.end_folder();
                self.totals = Some(totals);
            }
            PlanLine::End { .. } => {}
        }
        Ok(())
    }

    fn begin_folder(&mut self, folder: PlannedFolder, name: Bytes) -> Result<(), String> {
        let drives = self.drives.last().map_or(0, Vec::len);
        let DriveId(drive) = folder.head.known.drive;
        if usize::from(drive) > drives {
            return Err("it is on a drive that is not in the plan".into());
        }
        self.end_folder();
        let part = self.part()?;
        let is_root = part.folders.is_empty();
        let above = usize::try_from(folder.parent).unwrap_or(usize::MAX);
        if above >= part.folders.len().max(1) {
            return Err("its folder above does not come before it".into());
        }
        let name = if is_root { Vec::new() } else { name.name()? };
        part.folders.push(PlannedFolder {
            head: FolderHead { name: name.into(), ..folder.head },
            ..folder
        });
        Ok(())
    }

    fn source_names(&mut self, name: &[u8]) -> Result<(), String> {
        let part = self.parts.last_mut().ok_or("it is in no part")?;
        let folder = part.folders.last_mut().ok_or("it is in no folder")?;
        match self.steps.last() {
            Some(step) => {
                folder.source_names.add(folder.head.names.get(step.name), name);
            }
            None => folder.head.source_name = Some(name.into()),
        }
        Ok(())
    }

    fn part(&mut self) -> Result<&mut Part, String> {
        self.parts.last_mut().ok_or_else(|| "it is in no part".to_owned())
    }

    fn end_folder(&mut self) {
        let steps = std::mem::take(&mut self.steps);
        if let Some(folder) = self.parts.last_mut().and_then(|part| part.folders.last_mut())
            && !steps.is_empty()
        {
            let goes = |step: &Step| step.verb == Verb::RemoveSource;
            let (source_removals, steps): (Vec<Step>, Vec<Step>) =
                steps.into_iter().partition(goes);
            (folder.steps, folder.source_removals) = (steps.into(), source_removals.into());
        }
    }

    /// `None` if lines are missing, or do not belong together.
    pub(crate) fn finish(self) -> Option<(Purpose, Plan)> {
        let (purpose, saved) = (self.purpose?, self.totals?);
        let fits = |part: &Part| {
            let folders = part.folders.len();
            let names = part.elsewhere.len();
            let known = |step: &Step| {
                let spoken_of = step.link().or(step.renamed_from());
                spoken_of.is_none_or(|id| (id.0 as usize) < names)
            };
            part.elsewhere.iter().all(|name| (name.folder as usize) < folders)
                && part.all_steps().all(known)
                && part.folders.iter().all(is_sorted)
        };
        if !self.parts.iter().all(fits) {
            return None;
        }
        let (mut parts, drives, problems) = (self.parts, self.drives, self.problems);
        parts.iter_mut().for_each(Part::set_what_stays);
        let mut plan = Plan { parts, problems, drives, totals: saved, ..Plan::default() };
        // Counted anew, the steps must come to what was saved; the rest does not follow from them.
        plan.number();
        let left_source = Count::default();
        (Totals { steps: StepTotals { left_source, ..plan.totals.steps }, ..plan.totals } == saved)
            .then_some((purpose, plan))
    }
}

/// Steps are found by their names.
fn is_sorted(folder: &PlannedFolder) -> bool {
    let names =
        |pair: &[Step]| (folder.head.names.get(pair[0].name), folder.head.names.get(pair[1].name));
    let is_sorted = |steps: &[Step]| steps.windows(2).map(names).all(|(a, b)| a < b);
    is_sorted(&folder.steps) && is_sorted(&folder.source_removals)
}

fn purpose(head: PlanHead) -> Result<Purpose, String> {
    let sources = head.sources.into_iter().map(Bytes::path).collect();
    let places = Places { inside: head.inside, ..Places::new(sources, head.destination.path()) };
    let guard = |name: &String| {
        let known = Guard::ALL.into_iter().find(|guard| guard.name() == name);
        known.ok_or_else(|| format!("'{name}' is not a guard"))
    };
    let safety = Safety {
        // The plan was made from what there was.
        expected: 0,
        removal_limit: head.terms.removal_limit.into(),
        remove_first: head.terms.remove_first,
        drive: head.drive,
        waived: head.terms.waived.iter().map(guard).collect::<Result<_, _>>()?,
        set_aside: None,
    };
    let (task, strictly) = (head.task, head.terms.strictly);
    let (carry, time_slack) = (head.terms.carry, Duration::ZERO);
    Ok(Purpose { task, places, carry, strictly, time_slack, safety })
}

fn step_of(step: SavedStep, names: &mut NameArena, is_root: bool) -> Result<Step, String> {
    let name = if is_root { Vec::new() } else { step.name.name()? };
    let relation = match (step.link_of, step.rename_of) {
        (None, None) => None,
        (Some(name), None) => Some(Relation::LinkOf(NameId(name))),
        (None, Some(name)) => Some(Relation::RenameOf(NameId(name))),
        (Some(_), Some(_)) => return Err("it is both a link and a rename".into()),
    };
    from_saved_plan(SavedParts {
        verb: step.verb,
        side: step.side,
        reason: step.reason,
        attributes: step.attributes,
        source: step.source,
        destination: step.destination,
        relation,
        name: names.add(&name),
    })
}
