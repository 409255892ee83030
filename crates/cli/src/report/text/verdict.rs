//! Differences by state, the counts of both sides, and one sentence.

use anstyle::Style;
use unicode_width::UnicodeWidthStr as _;

use crate::report::events::{DifferenceLine, FoundLine, Planned, Says, StateWord, VerdictLine};
use crate::report::text::printer::Text;
use crate::report::text::styles::{BAD, FAINT, GOOD, HEADING, PLAIN, style_of_state};
use crate::terminal::units;

impl Text {
    pub(super) fn found(&mut self, FoundLine { state, differences, listed }: &FoundLine) {
        if self.lines > 0 {
            self.line("");
        }
        let what = match state {
            StateWord::Missing => "Only in the source",
            StateWord::Extra => "Only in the destination",
            StateWord::Moved => "Moved in the destination",
            StateWord::Differs => "Different",
            StateWord::Attributes => "Different in attributes only",
        };
        self.line(&format!("{HEADING}{what}: {}{HEADING:#}", units::entries(*differences)));
        self.unlisted = (*listed, differences - listed);
    }

    pub(super) fn difference(&mut self, difference: &DifferenceLine) {
        let DifferenceLine { state, path, reason, .. } = difference;
        let (style, word) = (style_of_state(*state), state.word());
        let path = path.shown();
        self.line(&format!("{style}{word:<10}{style:#} {path} {FAINT}· {reason}{FAINT:#}"));
        self.unlisted.0 -= 1;
        if let (0, more @ 1..) = self.unlisted {
            self.line(&format!("           … and {} more", units::count(more)));
        }
    }

    pub(super) fn verdict(&mut self, plan: &Planned, verdict: &VerdictLine, problems: u64) {
        if self.lines > 0 {
            self.line("");
        }
        self.print_held(|kept| &mut kept.notes);
        self.print_held(|kept| &mut kept.left_out);
        self.sides(plan);
        if plan.held_back > 0 {
            let count = units::entries(plan.held_back);
            self.line(&format!("Not counted: {count} only in the destination."));
        }
        let style = if verdict.result == Says::Identical { GOOD } else { BAD };
        self.line(&format!("{style}{}{style:#}", sentence(plan, verdict, problems)));
        if let Some(confidence) = confidence(plan, verdict) {
            self.line(&confidence);
        }
        if let Some(command) = self.kept.suggestion.take() {
            self.line(&format!("To make them identical: {command}"));
        }
    }

    fn sides(&mut self, plan: &Planned) {
        let (source, destination) = (&plan.source, &plan.destination);
        let rows = [
            ("folders", source.folders, destination.folders),
            ("files", source.files, destination.files),
            ("links", source.links, destination.links),
            ("other entries", source.others, destination.others),
            ("bytes", source.bytes, destination.bytes),
        ];
        let rows = rows.map(|(what, here, there)| (what, units::count(here), units::count(there)));
        let width = |title: &str, column: fn(&(&str, String, String)) -> usize| {
            rows.iter().map(column).max().unwrap_or_default().max(title.width())
        };
        let first = width("", |row| row.0.width());
        let second = width("source", |row| row.1.width());
        let third = width("destination", |row| row.2.width());
        self.line(&format!(
            "{HEADING}{:first$}  {:>second$}  {:>third$}{HEADING:#}",
            "", "source", "destination"
        ));
        for (what, here, there) in rows {
            let style: Style = if here == there { PLAIN } else { BAD };
            self.line(&format!("{what:first$}  {here:>second$}  {style}{there:>third$}{style:#}"));
        }
        self.line("");
    }
}

fn sentence(plan: &Planned, verdict: &VerdictLine, problems: u64) -> String {
    let steps = &plan.steps;
    match verdict.result {
        Says::NotProven => {
            let count = units::counted(problems, "problem", "problems");
            let found = units::counted(steps.count(), "difference", "differences");
            format!(
                "Not proven: {count}, so not everything could be compared; {found} in the rest."
            )
        }
        Says::Different => {
            let parts = [
                (steps.add, "missing"),
                (steps.remove, "extra"),
                (steps.rename, "moved"),
                (steps.replace, "different"),
                (steps.adjust, "in attributes only"),
            ];
            let parts = parts.iter().filter(|(count, _)| count.entries > 0);
            let parts: Vec<_> = parts
                .map(|(count, what)| format!("{} {what}", units::count(count.entries)))
                .collect();
            format!("Different: {}.", parts.join(", "))
        }
        Says::Identical => {
            let count = units::counted(plan.unchanged.entries, "entry agrees", "entries agree");
            let how_far = if verdict.not_held > 0 {
                "Identical as far as the drive can store it"
            } else {
                "Identical"
            };
            format!("{how_far}: {count} in {}.", compared(verdict))
        }
    }
}

fn compared(verdict: &VerdictLine) -> String {
    let told = |word: &str| match word {
        "presence" => "name and kind; nothing else was compared".to_owned(),
        "content" => "every byte".to_owned(),
        "size" if verdict.compared.iter().any(|other| other == "times") => "size".to_owned(),
        "size" => "size alone".to_owned(),
        "acl" => "access lists".to_owned(),
        "xattr" => "extended attributes".to_owned(),
        "hardlinks" => "hard links".to_owned(),
        other => other.to_owned(),
    };
    let all = ["content", "times", "mode", "owner", "acl", "xattr", "flags", "hardlinks"];
    if verdict.compared.iter().eq(all.iter()) {
        return "every byte and all attributes".to_owned();
    }
    verdict.compared.iter().map(|word| told(word)).collect::<Vec<_>>().join(", ")
}

/// What a sample without differences says about the unread files: if more than this share of them differed, the
/// sample would contain one with a probability of 95 %.
fn confidence(plan: &Planned, verdict: &VerdictLine) -> Option<String> {
    let (read, all) = (verdict.sampled?, plan.source.files);
    let told = format!(
        "Random sample: {} of {} files ({})",
        units::count(read.entries),
        units::count(all),
        units::bytes(read.bytes)
    );
    if verdict.content_differs {
        return Some(format!("{told}; some of them differ: verify with --by content."));
    }
    if read.entries >= all {
        return Some(format!("{told}: all of them."));
    }
    let part = 1.0 - 0.05_f64.powf(1.0 / read.entries as f64);
    Some(format!(
        "{told}; all of them agree.\nWith 95 % confidence, fewer than {:.0} % of all files differ in content.",
        (part * 100.0).ceil()
    ))
}
