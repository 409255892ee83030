//! What is kept of a run: its record, log and metrics.

use std::path::Path;

use anyhow::Result;
use clap::Args;

use crate::context::Context;
use crate::exit::{Exit, wrong_call};
use crate::options::log::Logging;
use crate::options::notifying::NotifyOptions;
use crate::real::real;
use crate::records::{Call, Recorder};
use crate::report::events::Head;
use crate::reporter::{Report, ReportCopies};
use crate::terminal::names;

#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct KeepingOptions {
    #[command(flatten)]
    pub(crate) logging: Logging,
    /// Leave no record of this run for 'utter history' and 'utter status'
    ///
    /// Every other run that is not a dry run leaves one: its call, each step with its outcome, and each problem.
    /// Records are kept for 180 days, or as set in the job file.
    #[arg(long, hide_short_help = true)]
    pub(crate) no_record: bool,
    #[command(flatten)]
    pub(crate) notifying: NotifyOptions,
}

impl KeepingOptions {
    /// A mirror would remove what is kept there, since the source does not have it.
    pub(crate) fn refuse_within(&self, destination: &Path) -> Result<()> {
        let mirrored = real(destination);
        for (what, path) in [("log", self.logging.path()), ("metrics file", self.notifying.path())]
        {
            let Some(path) = path.as_deref().map(real).filter(|path| path.starts_with(&mirrored))
            else {
                continue;
            };
            wrong_call!(
                "the {what} '{}' is in the destination, and the mirror would remove it\n  choose a place outside",
                names::path(&path)
            );
        }
        Ok(())
    }

    /// Opens the record and the log. A failed record does not stop the run.
    pub(crate) fn open(&self, head: &Head, context: &Context) -> Result<ReportCopies> {
        self.logging.check()?;
        let log = self.logging.open(head.command.word(), context);
        let begin = || Recorder::begin(Call::of(head, context), &context.keep());
        let record = (!self.no_record && !head.dry_run).then(begin);
        Ok(ReportCopies { log, record, text: self.notifying.needs_text() && !head.dry_run })
    }

    /// Ends the record and the log, and notifies about the result.
    pub(crate) fn close(&self, report: Report, came: &Result<Exit>, context: &Context) {
        let is_dry = report.is_dry();
        let summary = report.end(came, &context.keep());
        match context.job() {
            _ if is_dry => {}
            Some(_) => context.summaries.borrow_mut().push(summary),
            None => self.notifying.notify_all(&summary, None),
        }
    }
}

impl Call {
    /// The call of this run.
    pub(crate) fn of(head: &Head, context: &Context) -> Self {
        Self {
            command: head.command,
            began: context.began,
            line: context.line(),
            job: context.job().cloned(),
            sides: head.sides(),
        }
    }
}
