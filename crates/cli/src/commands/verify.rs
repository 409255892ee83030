//! `utter verify`: compares both sides and prints differences and a verdict.

use anyhow::Result;
use clap::{Args, ValueHint};
use utter_echo_core::Session;
use utter_echo_core::os::Linux;
use utter_echo_core::request::{Request, Task};

mod suggest;

use crate::context::{Command, Context};
use crate::exit::{Exit, wrong_call};
use crate::location::{Location, location};
use crate::mounting::Mounts;
use crate::options::{
    Comparing, Dropping, Inside, ListingOptions, Output, RunningOptions, Verifying, places,
};
use crate::progress::Progress;
use crate::records::RunKey;
use crate::report::conversion;
use crate::report::events::{self, Head};
use crate::reporter::Report;

const EXAMPLES: &str = "\
Examples:
  utter verify saltmere /mnt/lantern/saltmere                by size, time and attributes
  utter verify --by content saltmere /mnt/lantern/saltmere   every byte, read on both sides";

/// Compare both sides and change nothing
///
/// Lists every difference, counts folders, files and bytes of both sides, and gives a verdict in one sentence.
/// Unlike copy and mirror it compares every attribute of every entry, even if no time shows a change.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Verify {
    /// The folder, or single entry, to compare with
    #[arg(value_name = "SOURCE", value_hint = ValueHint::AnyPath, value_parser = location())]
    source: Location,
    /// The copy to check
    #[arg(value_name = "DESTINATION", value_hint = ValueHint::AnyPath, value_parser = location())]
    destination: Location,
    #[command(flatten)]
    inside: Inside,
    #[command(flatten)]
    comparing: Comparing,
    #[command(flatten)]
    verifying: Verifying,
    #[command(flatten)]
    running: RunningOptions,
    #[command(flatten)]
    output: Output,
    #[command(flatten)]
    listing: ListingOptions,
}

impl Verify {
    fn asked(&self, context: &Context) -> Result<Request> {
        if self.verifying.sample.is_some() && self.comparing.changed.reads_all() {
            wrong_call!(
                "--by content reads every byte already\n  leave out --sample, or --by content"
            );
        }
        if self.verifying.from_drive && self.comparing.changed.reads_none() {
            wrong_call!(
                "--from-drive reads every byte, and --by size and --by presence read none\n  use only one of them"
            );
        }
        let sources = std::slice::from_ref(&self.source);
        let places = places(sources, &self.destination, self.inside.inside)?;
        let comparing = &self.comparing;
        let request = comparing.request(Task::Verify, places, &Dropping::default(), context)?;
        Ok(self.running.apply(self.verifying.apply(request, context)))
    }

    fn compare(&self, between: &RunKey, report: &Report, context: &Context) -> Result<Exit> {
        self.running.settle(context, context.signals()?)?;
        let drives = [&self.source, &self.destination].into_iter().filter_map(Location::drive);
        let _mounts = Mounts::of(drives.filter(|_| self.running.mount), true)?;
        let request = &self.asked(context)?;
        let session = Session::open(&Linux, request)?;
        let signals = context.signals()?;
        let progress = Progress::scanning(&self.output, signals, || between.expected_totals());
        let plan = session.plan(&progress);
        progress.done();
        report.scanned_totals(progress.scanned_totals());
        signals.check()?;
        let plan = plan?;
        let wanted = self.listing.suggest && !plan.is_empty();
        let suggestion = wanted.then(|| suggest::command(&plan, request, context));
        report.emit_all(conversion::verdict(&plan, request, self.listing.limit, suggestion));
        Ok(context.of_shown(if !plan.problems.is_empty() {
            Exit::Problems
        } else if plan.is_empty() {
            Exit::Done
        } else {
            Exit::Different
        }))
    }
}

impl Command for Verify {
    fn run(&self, context: &Context) -> Result<Exit> {
        let form = self.output.form_for_verdict(&self.listing)?;
        let sources = std::slice::from_ref(&self.source);
        let head = Head::called(events::CommandWord::Verify, sources, &self.destination, false);
        let kept = self.output.keeping.open(&head, context)?;
        let between = RunKey::of(&head, context.line());
        let report = Report::kept(form, head, kept, &context.heard);
        let compared = self.compare(&between, &report, context);
        self.output.keeping.close(report, &compared, context);
        compared
    }

    fn request(&self, context: &Context) -> Result<Option<Request>> {
        self.asked(context).map(Some)
    }
}
