//! What is kept of a run, beside what is shown of it.

use std::path::Path;

use anyhow::Result;
use clap::Args;

use crate::context::Context;
use crate::exit::{Exit, wrong_call};
use crate::options::log::Logging;
use crate::options::telling::Telling;
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
    /// Otherwise every run that is no dry run leaves one: how it was called, each step with what came of it, and
    /// each problem. Records are kept for 180 days, or as the job file says.
    #[arg(long, hide_short_help = true)]
    pub(crate) no_record: bool,
    #[command(flatten)]
    pub(crate) telling: Telling,
}

impl KeepingOptions {
    /// A mirror would take away what is kept there, as something that the source does not have.
    pub(crate) fn refuse_within(&self, destination: &Path) -> Result<()> {
        let mirrored = real(destination);
        for (what, path) in
            [("log", self.logging.path()), ("file of metrics", self.telling.metrics.as_deref())]
        {
            let Some(path) = path.map(real).filter(|path| path.starts_with(&mirrored)) else {
                continue;
            };
            wrong_call!(
                "the {what} '{}' lies in the destination, from which the mirror would remove it\n  give it a place outside",
                names::path(&path)
            );
        }
        Ok(())
    }

    /// Opens what is to be kept. A record that cannot be written keeps nothing from being done.
    pub(crate) fn open(&self, head: &Head, context: &Context) -> Result<ReportCopies> {
        let log = self.logging.open(head.command.word(), context)?;
        let begin = || Recorder::begin(Call::of(head, context), &context.keep());
        let record = (!self.no_record && !head.dry_run).then(begin);
        Ok(ReportCopies { log, record, text: self.telling.needs_text() && !head.dry_run })
    }

    /// Ends what is kept of a run, and tells whoever is to know what it came to.
    pub(crate) fn close(&self, report: Report, came: &Result<Exit>, context: &Context) {
        let is_dry = report.is_dry();
        let summary = report.end(came, &context.keep());
        if !is_dry {
            self.telling.tell(&summary, context.job().map(|job| &*job.name));
        }
    }
}

impl Call {
    /// As this was called.
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
