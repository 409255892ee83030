//! The totals of a plan and of a run.

use std::time::Duration;

use crate::report::events::{Amount, CommandWord, EndingWord, Planned, RunTotals, VerbTotals};
use crate::report::text::printer::Text;
use crate::report::text::styles::{BAD, HEADING};
use crate::terminal::units;

/// One line: the number of steps of each kind, and what stays unchanged.
pub(crate) fn plan_totals(steps: &VerbTotals, unchanged: u64) -> String {
    let part = |count: Amount, what: &str, with_bytes: bool| {
        let bytes =
            if with_bytes { format!(" ({})", units::bytes(count.bytes)) } else { String::new() };
        (count.entries > 0).then(|| format!("{what} {}{bytes}", units::count(count.entries)))
    };
    let parts = [
        part(steps.add, "add", true),
        part(steps.replace, "replace", true),
        part(steps.adjust, "adjust", false),
        part(steps.rename, "rename", false),
        part(steps.remove, "remove", true),
        part(steps.vacate, "vacate", true),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    let stays = format!("{} unchanged", units::count(unchanged));
    match (parts.is_empty(), unchanged) {
        (true, _) => format!("Nothing to do: {stays}."),
        (false, 0) => parts.join(" · "),
        (false, _) => format!("{}; {stays}", parts.join(" · ")),
    }
}

impl Text {
    /// After the steps of a plan that is not carried out.
    pub(super) fn planned(&mut self, plan: &Planned, problems: u64) {
        if self.lines > 0 {
            self.line("");
        }
        self.print_held(|kept| &mut kept.notes);
        let what = match self.command {
            CommandWord::Enact => "Plan",
            CommandWord::Mirror => "Plan to mirror",
            CommandWord::Move => "Plan to move",
            CommandWord::Undo => "Plan to undo",
            _ => "Plan to copy",
        };
        self.line(&format!("{HEADING}{what}{HEADING:#} {}", self.places));
        self.line(&plan_totals(&plan.steps, plan.unchanged.entries));
        self.left_as_it_is(plan);
        self.print_held(|kept| &mut kept.left_out);
        self.problem_count(problems);
        self.line("Dry run: nothing was touched.");
    }

    /// The short block after a run.
    pub(super) fn ran(&mut self, plan: &Planned, run: &RunTotals, problems: u64) {
        if self.lists_steps && self.lines > 0 {
            self.line("");
        }
        self.headline(plan, run, problems);
        let done = &run.done;
        for (what, count, with_bytes) in [
            ("added", done.add, true),
            ("replaced", done.replace, true),
            ("adjusted", done.adjust, false),
            ("renamed", done.rename, false),
            ("removed", done.remove, true),
            ("vacated", done.vacate, true),
        ] {
            if count.entries > 0 {
                self.count_line(what, count, with_bytes);
            }
        }
        if plan.unchanged.entries > 0 || plan.steps.count() == 0 {
            self.count_line("unchanged", plan.unchanged, true);
        }
        if run.bytes_written > 0 {
            let took = Duration::try_from_secs_f64(run.seconds_writing).unwrap_or_default();
            let (bytes, rate) = (run.bytes_written, units::per_second(run.bytes_written, took));
            self.line(&format!("  wrote      {} at {}/s", units::bytes(bytes), units::bytes(rate)));
        }
        self.left_as_it_is(plan);
        if let Some(folder) = &run.set_aside {
            let (count, folder) = (done.replace.entries + done.remove.entries, folder.shown());
            let has_report =
                count > 0 || !matches!(self.command, CommandWord::Move | CommandWord::Undo);
            if has_report && !run.notes_only {
                self.line(&format!("  set aside  {} in {folder}", units::entries(count)));
            }
            if done.count() > 0 {
                self.line(&format!("To take this run back: utter undo {folder}"));
            }
        }
        self.problem_count(problems);
        if run.ending != EndingWord::Complete {
            let how = if run.ending == EndingWord::Stopped { "Stopped." } else { "Ended early." };
            self.line(&format!(
                "{BAD}{how}{BAD:#} What was done is whole; run the same line again to go on."
            ));
        }
    }

    fn headline(&mut self, plan: &Planned, run: &RunTotals, problems: u64) {
        let whole = run.ending == EndingWord::Complete && problems == 0;
        let what = match self.command {
            _ if !whole && run.done.count() == 0 => "Nothing done:",
            _ if !whole => "Partly done:",
            _ if plan.steps.count() == 0 => "Nothing to do:",
            CommandWord::Mirror => "Mirrored",
            CommandWord::Move => "Moved",
            CommandWord::Undo => "Undone",
            CommandWord::Enact => "Carried out",
            _ => "Copied",
        };
        // More digits than people need, and shorter than a clock shows.
        let took = Duration::try_from_secs_f64(run.seconds).unwrap_or_default();
        let took = units::span(took.max(Duration::from_millis(1)));
        self.line(&format!("{HEADING}{what}{HEADING:#} {} in {took}", self.places));
    }

    fn count_line(&mut self, what: &str, count: Amount, with_bytes: bool) {
        let bytes =
            if with_bytes { format!(", {}", units::bytes(count.bytes)) } else { String::new() };
        self.line(&format!("  {what:<10} {}{bytes}", units::entries(count.entries)));
    }

    /// Differences left alone at the user's request.
    fn left_as_it_is(&mut self, plan: &Planned) {
        if plan.spared_newer > 0 {
            let count = units::counted(plan.spared_newer, "file", "files");
            self.line(&format!("Spared: {count} newer than the source's."));
        }
        if plan.held_back > 0 {
            let count = units::counted(plan.held_back, "difference", "differences");
            self.line(&format!("Left as they are, because of --steps or --carry: {count}."));
        }
    }

    fn problem_count(&mut self, count: u64) {
        if count > 0 {
            let count = units::counted(count, "problem", "problems");
            self.line(&format!("{BAD}{count}{BAD:#}, each of them named above."));
        }
    }
}

impl VerbTotals {
    pub(super) fn count(&self) -> u64 {
        let Self { add, replace, adjust, rename, remove, vacate } = self;
        [add, replace, adjust, rename, remove, vacate].into_iter().map(|count| count.entries).sum()
    }
}
