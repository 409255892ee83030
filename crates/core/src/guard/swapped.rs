//! The guard against swapped sides.

use utter_echo_model::verb::Verb;
use utter_echo_os::{Kind, Time};

use crate::guard::refusal::Refusal;
use crate::plan::Plan;
use crate::policy::{Part, Step};

/// Fewer entries written in the destination may be chance.
const ENOUGH: u64 = 20;

/// Refuses a plan if most entries that it replaces or removes were written in the destination after the newest
/// entry of the source: people work on the original, and its copy is older.
pub(crate) fn check(plan: &Plan) -> Result<(), Refusal> {
    let Some(newest) = plan.totals.newest else { return Ok(()) };
    let (mut written, mut taken) = (0, 0);
    for step in plan.parts.iter().flat_map(Part::all_steps).filter(|step| takes_away(step)) {
        taken += 1;
        written += u64::from(is_written_since(step, newest));
    }
    if written < ENOUGH || written * 2 <= taken {
        return Ok(());
    }
    Err(Refusal::Swapped { written, taken })
}

fn takes_away(step: &Step) -> bool {
    let is_folder = step.destination.is_some_and(|there| there.kind == Kind::Folder);
    matches!(step.verb, Verb::Replace | Verb::Remove) && !is_folder
}

fn is_written_since(step: &Step, newest: Time) -> bool {
    step.destination.is_some_and(|there| there.written_here() && there.modified() > newest)
}
