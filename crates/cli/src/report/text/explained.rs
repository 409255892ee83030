//! What a selection includes, and which rule decided.

use crate::report::events::{
    EntryType, ExplainedLine, ParticipationWord, RuleLine, Selected, SideTotals,
};
use crate::report::text::printer::Text;
use crate::report::text::styles::{FAINT, HEADING, PLAIN};
use crate::report::wording;
use crate::terminal::{names, units};

impl Text {
    /// One path with the rule that decided.
    pub(super) fn explained(&mut self, one: &ExplainedLine) {
        let (style, word) = match one.decision {
            ParticipationWord::Taken => (PLAIN, "taken"),
            ParticipationWord::IfNeeded => (PLAIN, "taken if needed"),
            ParticipationWord::LeftOut => (FAINT, "left out"),
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
            self.line(&format!("{HEADING}{:>12} {:>12}  rule{HEADING:#}", "entries", "size"));
        }
        let (style, word) =
            if *left_out > 0 { (FAINT, "left out by") } else { (PLAIN, "taken by") };
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
    let rule = match (&one.rule, one.decision) {
        (Some(rule), _) => format!("by {}", names::shown(rule.as_bytes())),
        (None, ParticipationWord::IfNeeded) => "no rule includes it".to_owned(),
        (None, _) => "no rule leaves it out".to_owned(),
    };
    let at =
        one.decided_by_folder.as_ref().map(|at| format!(", which decides about {}/", at.shown()));
    let missing = if one.entry.is_none() {
        "; no such entry exists, so only the name was checked"
    } else {
        ""
    };
    format!("{rule}{}{missing}", at.unwrap_or_default())
}

/// What the decision for a folder means for its entries.
fn below(one: &ExplainedLine) -> Option<&'static str> {
    match (one.entry, one.decision) {
        (Some(EntryType::Folder), ParticipationWord::LeftOut) => {
            Some("with everything in it: entries of an excluded folder cannot be included again")
        }
        (Some(EntryType::Folder), ParticipationWord::Taken) => {
            Some("with everything in it that no rule leaves out")
        }
        (Some(EntryType::Folder), ParticipationWord::IfNeeded) => {
            Some("only if an entry in it is taken")
        }
        _ => None,
    }
}
