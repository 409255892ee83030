//! The totals of a plan and of a run.

use std::time::Duration;

use crate::report::events::{Amount, CommandWord, EndingWord, Planned, RunTotals, VerbTotals};
use crate::report::text::phrases::source_name;
use crate::report::text::printer::{ListedSteps, Text};
use crate::report::text::styles::{BAD, HEADING};
use crate::terminal::units;

/// One line: the number of steps of each kind, and what stays unchanged.
pub(crate) fn plan_totals(
    steps: &VerbTotals,
    unchanged: u64,
    left_alone: u64,
    is_undo: bool,
) -> String {
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
        part(steps.left_source, &format!("remove from the {}", source_name(is_undo)), true),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    let stays = format!("{} unchanged", units::count(unchanged));
    match (parts.is_empty(), unchanged) {
        (true, _) if left_alone > 0 => {
            let left = units::count(left_alone);
            format!("Nothing to do with these options: {stays}, {left} left alone.")
        }
        (true, _) => format!("Nothing to do: {stays}."),
        (false, 0) => parts.join(" · "),
        (false, _) => format!("{}; {stays}", parts.join(" · ")),
    }
}

/// A rate is printed only for more than this.
const FEW_BYTES: u64 = 10 << 20;

/// A rate is printed only if writing took longer.
const MOMENT: Duration = Duration::from_secs(1);

fn counted(count: Amount, with_bytes: bool) -> String {
    let bytes = if with_bytes { format!(", {}", units::bytes(count.bytes)) } else { String::new() };
    format!("{}{bytes}", units::entries(count.entries))
}

impl Text {
    /// After the steps of a plan that is not carried out.
    pub(super) fn planned(&mut self, plan: &Planned, problems: u64) {
        if self.lines > 0 {
            self.line("");
        }
        self.print_held(|kept| &mut kept.notes);
        let what = match self.command {
            CommandWord::Execute => "Plan",
            CommandWord::Mirror => "Plan to mirror",
            CommandWord::Move => "Plan to move",
            CommandWord::Undo => "Plan to undo",
            _ => "Plan to copy",
        };
        self.line(&format!("{HEADING}{what}{HEADING:#} {}", self.places));
        let left_alone = plan.left_newer + plan.held_back;
        let is_undo = self.command == CommandWord::Undo;
        self.line(&plan_totals(&plan.steps, plan.unchanged.entries, left_alone, is_undo));
        self.left_as_it_is(plan);
        self.print_held(|kept| &mut kept.left_out);
        self.problem_count(problems);
        self.line("Dry run: nothing was touched.");
    }

    /// The short block after a run.
    pub(super) fn ran(&mut self, plan: &Planned, run: &RunTotals, problems: u64) {
        if self.listed != ListedSteps::None && self.lines > 0 {
            self.line("");
        }
        self.headline(plan, run, problems);
        let done = &run.done;
        let left = format!("left the {}", source_name(self.command == CommandWord::Undo));
        let width = if done.left_source.entries > 0 { left.len() } else { 10 };
        let label = |what: &str, text: &str| format!("  {what:<width$} {text}");
        for (what, count, with_bytes) in [
            ("added", done.add, true),
            ("replaced", done.replace, true),
            ("adjusted", done.adjust, false),
            ("renamed", done.rename, false),
            ("removed", done.remove, true),
            (&*left, done.left_source, true),
        ] {
            if count.entries > 0 {
                self.line(&label(what, &counted(count, with_bytes)));
            }
        }
        if plan.unchanged.entries > 0 || plan.steps.count() == 0 {
            self.line(&label("unchanged", &counted(plan.unchanged, true)));
        }
        if run.bytes_written > 0 {
            let took = Duration::try_from_secs_f64(run.seconds_writing).unwrap_or_default();
            let rate = if run.bytes_written < FEW_BYTES || took < MOMENT {
                String::new()
            } else {
                format!(" at {}/s", units::bytes(units::per_second(run.bytes_written, took)))
            };
            self.line(&label("wrote", &(units::bytes(run.bytes_written) + &rate)));
        }
        self.left_as_it_is(plan);
        if let Some(folder) = &run.set_aside {
            let (count, folder) = (done.replace.entries + done.remove.entries, folder.shown());
            let is_worth_a_line =
                count > 0 || !matches!(self.command, CommandWord::Move | CommandWord::Undo);
            if is_worth_a_line && !run.journal_only {
                let text = format!("{} in {folder}", units::entries(count));
                self.line(&label("set aside", &text));
            }
            if done.count() > 0 {
                self.line(&format!("Undo this run: utter undo {folder}"));
            }
        }
        self.problem_count(problems);
        if run.ending != EndingWord::Complete {
            let how = if run.ending == EndingWord::Stopped { "Stopped." } else { "Ended early." };
            self.line(&format!(
                "{BAD}{how}{BAD:#} Finished files are intact; run the same command again to continue."
            ));
        }
    }

    fn headline(&mut self, plan: &Planned, run: &RunTotals, problems: u64) {
        let whole = run.ending == EndingWord::Complete && problems == 0;
        let what = match self.command {
            _ if !whole && run.done.count() == 0 => "Nothing done:",
            _ if !whole => "Partly done:",
            _ if plan.steps.count() == 0 && plan.left_newer + plan.held_back > 0 => {
                "Nothing to do with these options:"
            }
            _ if plan.steps.count() == 0 => "Nothing to do:",
            CommandWord::Mirror => "Mirrored",
            CommandWord::Move => "Moved",
            CommandWord::Undo => "Undone",
            CommandWord::Execute => "Carried out",
            _ => "Copied",
        };
        // More digits than people need, and shorter than a clock shows.
        let took = Duration::try_from_secs_f64(run.seconds).unwrap_or_default();
        let took = units::span(took.max(Duration::from_millis(1)));
        self.line(&format!("{HEADING}{what}{HEADING:#} {} in {took}", self.places));
    }

    /// Differences left alone at the user's request.
    fn left_as_it_is(&mut self, plan: &Planned) {
        if plan.left_newer > 0 {
            let count = units::counted(plan.left_newer, "file", "files");
            self.line(&format!("Left alone: {count} newer than in the source."));
        }
        if plan.held_back > 0 {
            let count = units::counted(plan.held_back, "difference", "differences");
            self.line(&format!(
                "Left alone, because of --steps, --carry or another name of the same file: {count}."
            ));
        }
    }

    fn problem_count(&mut self, count: u64) {
        if count > 0 {
            let count = units::counted(count, "problem", "problems");
            self.line(&format!("{BAD}{count}{BAD:#}, listed above."));
        }
    }
}

impl VerbTotals {
    pub(super) fn count(&self) -> u64 {
        let Self { add, replace, adjust, rename, remove, left_source } = self;
        [add, replace, adjust, rename, remove, left_source]
            .into_iter()
            .map(|count| count.entries)
            .sum()
    }
}
