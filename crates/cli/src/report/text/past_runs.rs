//! Runs with set-aside entries.

use std::fmt::Write as _;
use std::time::Duration;

use jiff::Timestamp;

use crate::report::events::{SetAsideRunLine, StandingWord};
use crate::report::exact::Exact;
use crate::report::text::printer::Text;
use crate::report::text::styles::HEADING;
use crate::terminal::{names, units};

impl Text {
    pub(super) fn past_run(&mut self, run: &SetAsideRunLine) {
        self.line(&format!("{HEADING}{}{HEADING:#}", run.path.shown()));
        let room = run.bytes_on_drive.map(|bytes| format!("; uses {}", units::bytes(bytes)));
        self.line(&format!("  {}{}{}", age(run), summary_text(run), room.unwrap_or_default()));
        self.kept.bytes_on_drive += run.bytes_on_drive.unwrap_or_default();
    }

    pub(super) fn past_runs(&mut self, count: u64) {
        let room = units::bytes(self.kept.bytes_on_drive);
        self.line(&format!("{}, {room} in all", units::counted(count, "run", "runs")));
        self.line("Undo one: utter undo RUN; free its space: utter undo --discard RUN");
    }
}

/// How long ago a run began.
fn age(run: &SetAsideRunLine) -> String {
    let began = run.began.as_ref().and_then(|began| began.parse::<Timestamp>().ok());
    let ago = began.map(|began| Timestamp::now().duration_since(began));
    match ago.and_then(|ago| Duration::try_from(ago).ok()) {
        Some(ago) if ago.as_secs() == 0 => "just now: ".to_owned(),
        Some(ago) => format!("{} ago: ", units::span(Duration::from_secs(ago.as_secs()))),
        None => String::new(),
    }
}

fn summary_text(run: &SetAsideRunLine) -> String {
    if let Some(cause) = &run.cause {
        return format!("{}; its set-aside entries are in its folder", names::harmless(cause));
    }
    let Some(command) = &run.command else {
        return "never started, so there is nothing to undo".to_owned();
    };
    let place = run.destination.as_ref().map(Exact::shown).unwrap_or_default();
    let mut text = format!("{command} to {place}");
    for (verb, amount) in [("replaced", run.replaced), ("removed", run.removed)] {
        if let Some(amount) = amount.filter(|amount| amount.entries > 0) {
            let (entries, bytes) = (units::count(amount.entries), units::bytes(amount.bytes));
            // Writing to a String cannot fail.
            let _ = write!(text, ", {verb} {entries} ({bytes})");
        }
    }
    text + match run.state {
        StandingWord::NeverBegun => "; never started, so there is nothing to undo",
        StandingWord::CutShort => "; cut short, or still running",
        StandingWord::Complete | StandingWord::Unreadable => "",
        StandingWord::BeingUndone => "; partly undone",
        StandingWord::Undone => "; undone",
    }
}
