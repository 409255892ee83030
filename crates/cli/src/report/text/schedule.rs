//! When jobs start, and the units that start them.

use crate::report::events::{ScheduledJob, TotalsLine, UnitFile};
use crate::report::exact::Exact;
use crate::report::text::phrases::when;
use crate::report::text::printer::Text;
use crate::report::text::styles::{FAINT, HEADING};
use crate::terminal::names;

impl Text {
    pub(super) fn scheduled(&mut self, job: &ScheduledJob) {
        if self.lines > 0 {
            self.line("");
        }
        self.line(&format!("{HEADING}{}{HEADING:#}: {}", names::harmless(&job.name), job.at));
        for next in &job.next {
            self.line(&format!("  {}", when(next)));
        }
        for file in &job.files {
            self.unit_file(file);
        }
        self.kept.installed = job.installed;
    }

    /// Installed units are named, others are printed.
    fn unit_file(&mut self, UnitFile { path, text }: &UnitFile) {
        let place = path.as_ref().map_or_else(|| "the table of cron".to_owned(), Exact::shown);
        if !self.dry_run {
            self.line(&format!("  in {place}"));
            return;
        }
        self.line("");
        self.line(&format!("{FAINT}for {place}{FAINT:#}"));
        for line in text.lines() {
            self.line(&names::harmless(line));
        }
    }

    pub(super) fn schedule(&mut self, totals: &TotalsLine) {
        self.line("");
        self.print_held(|kept| &mut kept.notes);
        let what = if totals.listed == Some(1) { "it" } else { "them" };
        let line = match (self.dry_run, self.kept.installed) {
            (true, _) => "Not installed; install with --install.".to_owned(),
            (false, true) => format!("Installed: the system starts {what} at these times."),
            (false, false) => {
                format!("Written, but not installed: the system does not start {what} yet.")
            }
        };
        self.line(&line);
    }
}
