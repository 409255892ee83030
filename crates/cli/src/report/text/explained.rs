//! What a selection includes, and which rule decided.

use crate::report::events::{
    EntryType, ExplainedLine, ParticipationWord, RuleLine, Selected, SideTotals,
};
use crate::report::text::printer::Text;
use crate::report::text::styles::{BAD, FAINT, GOOD, HEADING};
use crate::report::wording;
use crate::terminal::{names, units};

impl Text {
    /// One path with the rule that decided.
    pub(super) fn explained(&mut self, one: &ExplainedLine) {
        let (style, word) = match one.fate {
            ParticipationWord::Taken => (GOOD, "taken"),
            ParticipationWord::IfNeeded => (GOOD, "taken if needed"),
            ParticipationWord::LeftOut => (BAD, "left out"),
        };
        let path = one.path.shown();
        self.line(&format!("{style}{word:<15}{style:#} {path} {FAINT}· {}{FAINT:#}", why(one)));
        if let Some(below) = below(one) {
            self.line(&format!("{:<15} {below}", ""));
        }
    }

    /// What one rule decided over a whole source.
    pub(super) fn ruled(&mut self, rule: &RuleLine) {
        let RuleLine { rule, taken, left_out, bytes, .. } = rule;
        if taken + left_out == 0 {
            let told = wording::idle_pattern(rule);
            self.kept.idle.push(format!("{FAINT}note: {told}{FAINT:#}"));
            return;
        }
        let rule = names::shown(rule.as_bytes());
        if self.lines == 0 {
            self.line(&format!(
                "{HEADING}{:>12} {:>12}  what decides{HEADING:#}",
                "entries", "bytes"
            ));
        }
        let (style, word) = if *left_out > 0 { (BAD, "left out by") } else { (GOOD, "taken by") };
        let (entries, bytes) = (units::count(taken + left_out), units::bytes(bytes.unwrap_or(0)));
        self.line(&format!("{entries:>12} {bytes:>12}  {style}{word}{style:#} {rule}"));
    }

    pub(super) fn selected(&mut self, Selected { taken, left_out }: &Selected) {
        self.print_held(|kept| &mut kept.idle);
        let told = |side: &SideTotals| {
            format!("{} ({})", units::entries(side.entries()), units::bytes(side.bytes))
        };
        let (taken, left_out) = (told(taken), told(left_out));
        self.line(&format!("Of {} {taken} would be taken, {left_out} left out.", self.places));
    }
}

fn why(one: &ExplainedLine) -> String {
    let rule = match (&one.rule, one.fate) {
        (Some(rule), _) => format!("by {}", names::shown(rule.as_bytes())),
        (None, ParticipationWord::IfNeeded) => "no rule takes it by itself".to_owned(),
        (None, _) => "no rule leaves it out".to_owned(),
    };
    let at = one.decided_at.as_ref().map(|at| format!(", which decides about {}/", at.shown()));
    let missing =
        if one.entry.is_none() { "; there is no such entry, so its name decides" } else { "" };
    format!("{rule}{}{missing}", at.unwrap_or_default())
}

/// What the decision for a folder means for its entries.
fn below(one: &ExplainedLine) -> Option<&'static str> {
    match (one.entry, one.fate) {
        (Some(EntryType::Folder), ParticipationWord::LeftOut) => Some(
            "with everything in it: no rule can take back what is in a folder that is left out",
        ),
        (Some(EntryType::Folder), ParticipationWord::Taken) => {
            Some("with everything in it that no rule leaves out")
        }
        (Some(EntryType::Folder), ParticipationWord::IfNeeded) => {
            Some("only to hold what is taken in it")
        }
        _ => None,
    }
}
