//! `utter copy` and `utter mirror`: plan, show or ask, carry out.

use std::fs::File;
use std::io::{BufWriter, ErrorKind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, anyhow};
use utter_echo_core::drives::Known;
use utter_echo_core::guard::Refusal;
use utter_echo_core::os::Linux;
use utter_echo_core::plan::Plan;
use utter_echo_core::request::{Places, Request, Safety, Task};
use utter_echo_core::{Session, saved};

use super::hooks;
use crate::args::{Ask, Changing, Copy, How, Mirror, SafetyOptions, Writing, request};
use crate::exit::{self, Exit, Refused};
use crate::gentle;
use crate::places;
use crate::present::{Presenter, Progress, Took, ask, names, streams, units};
use crate::signals::Signals;

pub(crate) fn copy(args: &Copy) -> Result<Exit> {
    let places = (args.sources.clone(), args.destination.as_path());
    let request = wanted(Task::Copy, places, args.changing.safety.guards(), false, &args.changing)?;
    change(&request, &args.changing)
}

pub(crate) fn mirror(args: &Mirror) -> Result<Exit> {
    let places = (vec![args.source.clone()], args.destination.as_path());
    let guards = args.removing.over(&Safety::default(), args.changing.safety.guards());
    let drops = args.drop_unselected;
    let request = wanted(Task::Mirror, places, guards, drops, &args.changing)?;
    change(&request, &args.changing)
}

fn wanted(
    task: Task,
    places: (Vec<PathBuf>, &Path),
    guards: Safety,
    drops: bool,
    Changing { what, steps, writing, how, .. }: &Changing,
) -> Result<Request> {
    let mut request = request(task, places, (what, drops), &how.running, Some(writing), guards)?;
    request.changed.spare_newer = steps.spare_newer;
    request.changed.steps = steps.steps.unwrap_or(request.changed.steps);
    Ok(request)
}

fn change(
    request: &Request,
    Changing { safety, wait_for_drive, save_plan, writing, how, .. }: &Changing,
) -> Result<Exit> {
    Change { request, safety, writing, how }.around(|change, presenter, signals| {
        let Some(patience) = wait_for_drive else {
            return change.plan_and_carry_out(save_plan.as_deref(), presenter, signals);
        };
        let drives = Drives::of(request)?;
        let mut save_plan = save_plan.as_deref();
        loop {
            let exit = change.plan_and_carry_out(save_plan.take(), presenter, signals)?;
            if exit != Exit::EndedEarly || drives.are_there() {
                return Ok(exit);
            }
            presenter.waiting(*patience)?;
            if !drives.come_back_within(*patience, signals)? {
                return Ok(exit);
            }
        }
    })
}

/// The drives that a run needs.
struct Drives(Vec<Known>);

impl Drives {
    fn of(request: &Request) -> Result<Self> {
        let Places { sources, destination, .. } = &request.places;
        let all = sources.iter().chain([destination]);
        let known = |path: &PathBuf| {
            Known::holding(&Linux, path).with_context(|| {
                let path = names::shown(path.as_os_str().as_encoded_bytes());
                format!("cannot find out on which drive '{path}' lies, to wait for it")
            })
        };
        all.map(known).collect::<Result<_>>().map(Self)
    }

    fn are_there(&self) -> bool {
        self.0.iter().all(|drive| drive.is_there(&Linux))
    }

    fn come_back_within(&self, patience: Duration, signals: &Signals) -> Result<bool> {
        let begun = Instant::now();
        while begun.elapsed() < patience {
            signals.check()?;
            if self.are_there() {
                return Ok(true);
            }
            std::thread::sleep(Duration::from_millis(200).min(patience));
        }
        Ok(self.are_there())
    }
}

/// A run that changes the destination, from wherever its plan comes.
pub(super) struct Change<'a> {
    pub(super) request: &'a Request,
    pub(super) safety: &'a SafetyOptions,
    pub(super) writing: &'a Writing,
    pub(super) how: &'a How,
}

impl Change<'_> {
    /// Sets everything up, and does `work` between the user's own commands.
    pub(super) fn around(
        &self,
        work: impl FnOnce(&Self, &Presenter<'_>, &Signals) -> Result<Exit>,
    ) -> Result<Exit> {
        if self.how.running.gentle {
            gentle::stand_back()?;
        }
        self.how.output.refuse_csv()?;
        if self.safety.ask.is_some() {
            ask::require_terminal()?;
        }
        let presenter = Presenter::new(&self.how.output, self.request, self.safety.dry_run);
        presenter.head()?;
        let signals = Signals::caught_from_now_on()?;
        if self.safety.dry_run {
            return work(self, &presenter, &signals);
        }
        hooks::around(self.writing, || {
            signals.check()?;
            work(self, &presenter, &signals)
        })
    }

    fn plan_and_carry_out(
        &self,
        save_plan: Option<&Path>,
        presenter: &Presenter<'_>,
        signals: &Signals,
    ) -> Result<Exit> {
        let session = Session::open(&Linux, self.request)?;
        let progress = Progress::scanning(&self.how.output, signals);
        let begun = Instant::now();
        let plan = session.plan(&progress);
        let planning = begun.elapsed();
        progress.done();
        signals.check()?;
        let plan = plan.inspect_err(|error| presenter.refused_early(error))?;
        if let Some(file) = save_plan {
            save(&plan, self.request, file)?;
            presenter.plan_saved(file)?;
        }
        self.carry_out(&session, plan, planning, presenter, signals)
    }

    /// As [`Self::carry_out`], of a plan that is older than this run: what overtaken since is told
    /// beforehand where nothing is done, and may keep all of it from being done.
    pub(super) fn carry_out_known(
        &self,
        session: &Session<'_>,
        mut plan: Plan,
        all_or_nothing: bool,
        presenter: &Presenter<'_>,
        signals: &Signals,
    ) -> Result<Exit> {
        if self.safety.dry_run || all_or_nothing {
            plan.problems.extend(session.overtaken(&plan));
        }
        if all_or_nothing && !self.safety.dry_run && !plan.problems.is_empty() {
            presenter.problems(&plan)?;
            let why = "not all of it can be done any more, and all or nothing was asked for";
            return Err(Refused(why.into()).into());
        }
        self.carry_out(session, plan, Duration::ZERO, presenter, signals)
    }

    /// Shows a plan, or guards it, asks where it should, and carries it out.
    pub(super) fn carry_out(
        &self,
        session: &Session<'_>,
        mut plan: Plan,
        planning: Duration,
        presenter: &Presenter<'_>,
        signals: &Signals,
    ) -> Result<Exit> {
        if self.safety.dry_run {
            presenter.plan(&plan)?;
            session.guard(&plan, &[]).or_else(|refusal| refused(&refusal, presenter))?;
            return Ok(if plan.problems.is_empty() { Exit::Done } else { Exit::Problems });
        }
        guard_or_ask(session, &plan, presenter, signals)?;
        presenter.notes(&plan)?;
        confirm(self.request, self.safety, self.how.output.quiet, &mut plan, signals)?;
        let progress = Progress::changing(&self.how.output, signals, &plan);
        let begun = Instant::now();
        let outcome = session.enact(&plan, &progress);
        progress.done();
        if let (Some(_), Some(folder)) = (&outcome.set_aside, &self.safety.set_aside) {
            places::remember(folder);
        }
        let took = Took { planning, applying: begun.elapsed() };
        presenter.outcome(&plan, &outcome, took, self.writing.verbose)?;
        Ok(exit::of_outcome(&outcome, plan.problems.len(), signals.caught()))
    }
}

/// Never over a file that is there: it might be another plan, or anything.
fn save(plan: &Plan, request: &Request, file: &Path) -> Result<()> {
    let shown = names::shown(file.as_os_str().as_encoded_bytes());
    let out = File::create_new(file).map_err(|error| match error.kind() {
        ErrorKind::AlreadyExists => anyhow!(
            "'{shown}' is there already, so the plan was not saved and nothing was touched\n  give \
             --save-plan another name, or remove that file"
        ),
        _ => anyhow!("cannot save the plan to '{shown}': {error}; nothing was touched"),
    })?;
    let saved = saved::write(plan, request, BufWriter::new(&out)).and_then(|()| out.sync_all());
    if saved.is_err() {
        // Else the next try would find half of it there. What cannot be removed either stays.
        let _ = std::fs::remove_file(file);
    }
    saved.with_context(|| format!("cannot save the plan to '{shown}'; nothing was touched"))
}

/// A refusal that only the user can judge is a question, if there is somebody to answer it.
fn guard_or_ask(
    session: &Session<'_>,
    plan: &Plan,
    presenter: &Presenter<'_>,
    signals: &Signals,
) -> Result<()> {
    match session.guard(plan, &[]) {
        Err(refusal @ Refusal::Swapped { .. }) if ask::can_ask() => {
            if !ask::despite(&refusal, signals)? {
                return Err(Refused("not agreed to".into()).into());
            }
            let answered = [refusal.guard()];
            session.guard(plan, &answered).or_else(|refusal| refused(&refusal, presenter))
        }
        Err(refusal) => refused(&refusal, presenter),
        Ok(()) => Ok(()),
    }
}

pub(super) fn refused(refusal: &Refusal, presenter: &Presenter<'_>) -> Result<()> {
    presenter.refusal(refusal)?;
    Err(Refused(format!("guard '{}' refuses the plan: {refusal}", refusal.guard())).into())
}

/// Asks where it should: always with `--ask`, before removing anything on a terminal without
/// `--yes`.
fn confirm(
    request: &Request,
    safety: &SafetyOptions,
    quiet: bool,
    plan: &mut Plan,
    signals: &Signals,
) -> Result<()> {
    let destination = &request.places.destination;
    let removals = plan.totals.remove.entries > plan.totals.leftovers;
    let removes = removals && request.task.asks_before_removing();
    let unasked = removes && !safety.yes && safety.ask.is_none();
    let wanted = safety.ask.is_some() || unasked && ask::can_ask();
    if unasked && !wanted && !quiet {
        let removals = units::entries(plan.totals.remove.entries);
        streams::tell(&format!(
            "utter: removing {removals} without asking, since there is no terminal to ask on; --yes says that it is meant"
        ));
    }
    if !wanted || plan.is_empty() {
        return Ok(());
    }
    let agreed = match safety.ask {
        Some(Ask::Each) => ask::about_each(plan, destination, signals)?,
        _ => ask::agreed(plan, destination, signals)?,
    };
    if agreed {
        return Ok(());
    }
    Err(Refused("not agreed to".into()).into())
}
