//! Phrases that several tables share.

use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};

use crate::report::events::{RuleLine, RunOutcome};
use crate::terminal::{names, units};

/// Local time, to the minute.
pub(super) fn when(time: &str) -> String {
    let zoned = |time: Timestamp| -> Zoned { time.to_zoned(TimeZone::system()) };
    let time = time.parse::<Timestamp>().map(zoned);
    time.map(|time| time.strftime("%Y-%m-%d %H:%M").to_string()).unwrap_or_default()
}

/// How a job or a run ended.
pub(super) fn outcome_words(outcome: RunOutcome) -> &'static str {
    match outcome {
        RunOutcome::Succeeded => "succeeded",
        RunOutcome::Different => "differences found",
        RunOutcome::Problems => "with problems",
        RunOutcome::Refused => "refused",
        RunOutcome::EndedEarly => "ended early",
        RunOutcome::DriveMissing => "drive missing",
        RunOutcome::Invalid => "invalid",
        RunOutcome::Stopped => "stopped",
        RunOutcome::NotReached => "not reached",
        RunOutcome::NotDue => "not due",
        RunOutcome::NotEnabled => "not enabled",
        RunOutcome::CutShort => "cut short",
        RunOutcome::Running => "running",
        RunOutcome::NeverRun => "never run",
    }
}

/// What a rule of the selection left out.
pub(super) fn left_out(
    RuleLine { rule, left_out, left_in_destination: kept, .. }: &RuleLine,
) -> Option<String> {
    let source = (*left_out > 0).then(|| format!("{} of the source", units::entries(*left_out)));
    let kept = (*kept > 0).then(|| format!("{} left in the destination", units::entries(*kept)));
    let told: Vec<_> = [source, kept].into_iter().flatten().collect();
    let told = (!told.is_empty()).then(|| told.join(", "))?;
    Some(format!("Left out by {}: {told}.", names::shown(rule.as_bytes())))
}

/// What the side is called from which a move removes entries. An undo calls the sides as the run did that it undoes.
pub(super) fn source_name(is_undo: bool) -> &'static str {
    if is_undo { "destination" } else { "source" }
}
