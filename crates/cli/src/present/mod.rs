//! What a run says: the same facts as text for people and as JSON for programs.

pub(crate) mod ask;
mod csv;
mod drives;
mod explain;
mod json;
pub(crate) mod names;
mod past_runs;
mod progress;
pub(crate) mod streams;
mod suggest;
mod text;
pub(crate) mod units;
mod words;

use std::io::{self, Write as _};
use std::path::Path;
use std::time::Duration;

use utter_echo_core::guard::Refusal;
use utter_echo_core::plan::Plan;
use utter_echo_core::problem::Problem;
use utter_echo_core::request::Request;
use utter_echo_core::{Outcome, PlanError};

use crate::args::{Format, Output, When};

pub(crate) use drives::drives;
pub(crate) use explain::{explained, survey};
pub(crate) use past_runs::{passed_over, past_runs};
pub(crate) use progress::Progress;

/// Prints an error that ended a command.
pub(crate) fn error(error: &anyhow::Error) {
    tell_wrong(&format!("{error:#}"));
}

/// Prints what is wrong with a call, or the help that was asked for. True if it was asked for.
pub(crate) fn unparsed(error: &clap::Error) -> bool {
    if !error.use_stderr() {
        // There is nothing to be done about it if it cannot be shown.
        let _ = error.print();
        return true;
    }
    let text = error.render().to_string();
    if error.kind() == clap::error::ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand {
        streams::tell(text.trim_end());
        return false;
    }
    tell_wrong(text.strip_prefix("error: ").unwrap_or(&text).trim_end());
    false
}

fn tell_wrong(message: &str) {
    let label = anstyle::AnsiColor::Red.on_default().bold();
    streams::tell(&format!("{label}utter:{label:#} {}", names::harmless(message)));
}

/// Makes `--color` count for everything printed from here on.
pub(crate) fn choose_colors(when: When) {
    let choice = match when {
        When::Auto => anstream::ColorChoice::Auto,
        When::Always => anstream::ColorChoice::AlwaysAnsi,
        When::Never => anstream::ColorChoice::Never,
    };
    choice.write_global();
}

/// How long a run took; the time that a person thought about a question is in neither part.
#[derive(Clone, Copy)]
pub(crate) struct Took {
    pub(crate) planning: Duration,
    pub(crate) applying: Duration,
}

/// How the differences of a verification are listed.
#[derive(Clone, Copy)]
pub(crate) struct Listing {
    /// So many of each kind at most.
    pub(crate) limit: Option<usize>,
    /// With the command that mends them.
    pub(crate) suggest: bool,
}

/// Says what a run found and did, in the form that was asked for.
pub(crate) struct Presenter<'a> {
    output: &'a Output,
    request: &'a Request,
    dry_run: bool,
}

impl<'a> Presenter<'a> {
    pub(crate) fn new(output: &'a Output, request: &'a Request, dry_run: bool) -> Self {
        choose_colors(output.color);
        Self { output, request, dry_run }
    }

    /// What comes before everything else; nothing in text.
    pub(crate) fn head(&self) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::head(self.request, self.dry_run),
            Format::Text | Format::Csv => Ok(()),
        }
    }

    /// A plan that is not carried out.
    pub(crate) fn plan(&self, plan: &Plan) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::plan(plan),
            Format::Text | Format::Csv => text::plan(plan, self.request, self.output.quiet),
        }
    }

    /// What is worth knowing before a plan is carried out.
    pub(crate) fn notes(&self, plan: &Plan) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::notes_first(plan),
            Format::Text | Format::Csv if self.output.quiet => Ok(()),
            Format::Text | Format::Csv => text::notes(&mut streams::out(), plan),
        }
    }

    /// Where a plan was saved; a program knows, having said so.
    pub(crate) fn plan_saved(&self, file: &Path) -> io::Result<()> {
        if self.output.quiet || self.output.format == Format::Json {
            return Ok(());
        }
        let shown = names::shown(file.as_os_str().as_encoded_bytes());
        writeln!(streams::out(), "The plan is saved; carry it out with: utter enact {shown}\n")
    }

    /// A plan that was refused before it was whole.
    pub(crate) fn refused_early(&self, error: &PlanError) {
        if let PlanError::Refused(refusal) = error {
            // The error itself is reported all the same, should this fail.
            let _ = self.refusal(refusal);
        }
    }

    /// The problems of a plan that is not carried out for them.
    pub(crate) fn problems(&self, plan: &Plan) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::problems_alone(&plan.problems),
            Format::Text | Format::Csv => text::problems(&plan.problems),
        }
    }

    /// A guard that refused; in text the error tells it.
    pub(crate) fn refusal(&self, refusal: &Refusal) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::refusal(refusal),
            Format::Text | Format::Csv => Ok(()),
        }
    }

    /// A run.
    pub(crate) fn outcome(
        &self,
        plan: &Plan,
        outcome: &Outcome,
        took: Took,
        verbose: bool,
    ) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::outcome(plan, outcome, took),
            Format::Text | Format::Csv if self.output.quiet => {
                text::outcome_in_brief(plan, outcome)
            }
            Format::Text | Format::Csv => {
                if verbose {
                    text::steps_taken(plan, outcome)?;
                }
                text::outcome(plan, outcome, self.request, took)
            }
        }
    }

    /// A run that is not wholly taken back, and so is kept, and what keeps it if nobody wanted that.
    pub(crate) fn kept(&self, run: &Path, left: &[Problem]) -> io::Result<()> {
        let shown = names::shown(run.as_os_str().as_encoded_bytes());
        let text = format!("not all of {shown} is back, so it is kept and can still be undone");
        match self.output.format {
            Format::Json => {
                json::problems_alone(left)?;
                json::note("kept", text)
            }
            Format::Text | Format::Csv => {
                text::problems(left)?;
                writeln!(streams::err(), "utter: {text}")
            }
        }
    }

    /// A drive that the run needs is gone, and is waited for.
    pub(crate) fn waiting(&self, patience: Duration) -> io::Result<()> {
        let span = units::span(patience);
        let text = format!("a drive is gone; waiting up to {span} for it to come back");
        match self.output.format {
            Format::Json => json::note("waiting", text),
            Format::Text | Format::Csv => writeln!(streams::err(), "utter: {text}"),
        }
    }

    /// A verification.
    pub(crate) fn verdict(&self, plan: &Plan, listing: Listing) -> io::Result<()> {
        match self.output.format {
            Format::Json => json::verdict(plan, listing, self.request),
            Format::Csv => csv::verdict(plan),
            Format::Text => text::verdict(plan, self.request, listing, self.output.quiet),
        }
    }
}
