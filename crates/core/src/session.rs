//! A run from beginning to end: the stations in their order.

use std::fmt;
use std::io;

use crate::apply::{self, Outcome};
use crate::compare::{self, Compared, Comparison, Halt};
use crate::guard::{self, Refusal};
use crate::observe::Observer;
use crate::os::System;
use crate::pair::{self, CallError, Pair};
use crate::plan::{Part, Plan, Reason, Remark, Totals, Verb};
use crate::reach::Reach;
use crate::request::Request;

/// Both sides opened, ready to be planned and, after that, changed.
pub struct Session<'a> {
    system: &'a dyn System,
    request: &'a Request,
    pairs: Vec<Pair>,
    reaches: Vec<Reach>,
}

impl fmt::Debug for Session<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Session").field("request", self.request).finish_non_exhaustive()
    }
}

/// Why there is no plan.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// A guard that needs no plan to refuse.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The source folder itself cannot be listed, so nothing is known of it.
    #[error("source '{path}' cannot be listed: {cause}; nothing was touched")]
    SourceClosed {
        /// As the user named it.
        path: String,
        /// The system's word.
        cause: io::Error,
    },
    /// The observer asked to stop.
    #[error("stopped while comparing; nothing was touched")]
    Stopped,
}

impl<'a> Session<'a> {
    /// Opens both sides without changing them.
    ///
    /// A source folder's *contents* become the destination's contents; with
    /// [`inside`](crate::request::Places::inside), or with several sources, each source goes inside
    /// the destination under its own name. A single entry goes into a destination folder that
    /// exists; otherwise the destination is its new name. A trailing slash means nothing.
    pub fn open(system: &'a dyn System, request: &'a Request) -> Result<Self, CallError> {
        let pairs = pair::open(system, request.task, &request.places)?;
        let caller = system.caller().map_err(CallError::Caller)?;
        let reaches =
            pairs.iter().map(|pair| Reach::find(system, pair, request.carry, &caller)).collect();
        Ok(Self { system, request, pairs, reaches })
    }

    /// Scans and compares both sides and writes down every step. Changes nothing.
    pub fn plan(&self, observer: &dyn Observer) -> Result<Plan, PlanError> {
        let mut plan = Plan::default();
        for (pair, reach) in self.pairs.iter().zip(&self.reaches) {
            self.refuse_overlap(pair)?;
            let compared = compare::compare(&Comparison {
                system: self.system,
                observer,
                task: self.request.task,
                by: self.request.by,
                selection: &self.request.selection,
                reach,
                pair,
                closely: self.request.closely,
                running: self.request.running,
            });
            take_in(&mut plan, pair, compared.map_err(|halt| halted(halt, pair))?);
            plan.remarks.extend(reach.remarks());
            plan.remarks.extend(missing_folders(pair));
        }
        let idle = self.request.selection.idle_patterns();
        plan.remarks
            .extend(idle.into_iter().map(|(option, p)| Remark::IdlePattern(option, p.to_owned())));
        plan.remarks.dedup();
        number(&mut plan);
        Ok(plan)
    }

    /// Checks a plan against the guards that are not waived.
    pub fn guard(&self, plan: &Plan) -> Result<(), Refusal> {
        guard::check(self.system, self.request, &self.pairs, plan)
    }

    /// Carries a plan out, step by step. Never fails as a whole: what could not be done is told by
    /// the outcome.
    pub fn apply(&self, plan: &Plan, observer: &dyn Observer) -> Outcome {
        let terms = apply::Terms { system: self.system, observer, running: self.request.running };
        apply::apply(&terms, &self.pairs, &self.reaches, plan)
    }

    fn refuse_overlap(&self, pair: &Pair) -> Result<(), PlanError> {
        match pair::overlap(self.system, pair) {
            Ok(false) => Ok(()),
            Ok(true) => Err(halted(Halt::Overlap(crate::path::TreePath::default()), pair)),
            Err(cause) => Err(PlanError::SourceClosed { path: pair.source_shown.clone(), cause }),
        }
    }
}

fn halted(halt: Halt, pair: &Pair) -> PlanError {
    match halt {
        Halt::Stopped => PlanError::Stopped,
        Halt::SourceClosed(cause) => {
            PlanError::SourceClosed { path: pair.source_shown.clone(), cause }
        }
        Halt::Overlap(at) => {
            let at = String::from_utf8_lossy(at.as_bytes()).into_owned();
            PlanError::Refused(Refusal::Overlap {
                source_path: pair.source_shown.clone(),
                destination_path: pair.destination_shown.clone(),
                at: (!at.is_empty() && pair.single.is_none()).then_some(at),
            })
        }
    }
}

/// Adds what was found for one pair, with its paths made relative to the destination as named.
fn take_in(plan: &mut Plan, pair: &Pair, compared: Compared) {
    let Compared { part, problems, remarks, source, destination, unchanged } = compared;
    plan.parts.push(part);
    plan.prefixes.push(pair.prefix.clone());
    plan.problems.extend(problems.into_iter().map(|problem| crate::problem::Problem {
        path: pair.prefix.join(problem.path.as_bytes()),
        ..problem
    }));
    plan.remarks.extend(remarks.into_iter().map(|remark| match remark {
        Remark::Mount(path) => Remark::Mount(pair.prefix.join(path.as_bytes())),
        other => other,
    }));
    plan.totals.source.merge(&source);
    plan.totals.destination.merge(&destination);
    plan.totals.unchanged.entries += unchanged.entries;
    plan.totals.unchanged.bytes += unchanged.bytes;
}

fn missing_folders(pair: &Pair) -> Option<Remark> {
    // The last one is the root folder itself, which is a step, unless a single entry goes there.
    let expected = usize::from(pair.single.is_none());
    (pair.destination.missing.len() > expected)
        .then(|| Remark::MissingFolders(pair.destination_shown.clone()))
}

/// Numbers the steps through and adds them up.
fn number(plan: &mut Plan) {
    let mut next = 0;
    for part in &mut plan.parts {
        part.first = next;
        next += usize::from(part.root.is_some());
        for folder in &mut part.folders {
            folder.first = next;
            next += folder.steps.len();
        }
        part.all_steps().for_each(|step| plan.totals.include(step));
    }
}

impl Part {
    pub(crate) fn all_steps(&self) -> impl Iterator<Item = &crate::plan::Step> {
        self.root.iter().chain(self.folders.iter().flat_map(|folder| &*folder.steps))
    }
}

impl Totals {
    fn include(&mut self, step: &crate::plan::Step) {
        let count = match step.verb {
            Verb::Add => &mut self.add,
            Verb::Replace => &mut self.replace,
            Verb::Retouch => &mut self.retouch,
            Verb::Remove => &mut self.remove,
        };
        count.add(step.bytes());
        self.leftovers += u64::from(step.reason == Reason::Leftover);
    }
}
