//! Checking a plan against every guard.

use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;

use utter_echo_drives::mounted;
use utter_echo_model::aspect::Aspects;
use utter_echo_model::note::Note;
use utter_echo_os::{Space, System};

use crate::guard::refusal::Refusal;
use crate::guard::swapped;
use crate::plan::{Plan, SpaceFreed, SpaceNeed};
use crate::policy::Part;
use crate::request::{Guard, RemovalLimit, Request};
use crate::sides::{Pair, SetAsidePlace};

/// A run that is about to begin.
pub(crate) struct GuardedRun<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) request: &'a Request,
    pub(crate) pairs: &'a [Pair],
    /// Where what is displaced goes.
    pub(crate) aside_place: Option<&'a SetAsidePlace>,
    /// All drives of the destination can leave holes in files.
    pub(crate) holds_holes: bool,
}

/// Checks a plan against every guard that is not waived; the first that refuses is the error.
/// Changes nothing, and locks nothing: see [`locks`](crate::guard::locks).
pub(crate) fn check(run: &GuardedRun<'_>, plan: &Plan, answered: &[Guard]) -> Result<(), Refusal> {
    let GuardedRun { system, request, pairs, .. } = *run;
    let Request { task, safety, .. } = request;
    let on = |guard| !safety.waived.contains(&guard) && !answered.contains(&guard);
    if on(Guard::Drive) {
        mounted(system, request, pairs)?;
        if let Some(wanted) = &safety.drive {
            drive(system, pairs, wanted)?;
        }
    }
    if on(Guard::Nesting) {
        nested(plan)?;
    }
    if task.removes() && on(Guard::EmptySource) {
        empty_source(plan)?;
    }
    if task.removes() && on(Guard::Removals) {
        removals(plan, safety.removal_limit)?;
    }
    if task.removes() && on(Guard::Swapped) {
        swapped::check(plan)?;
    }
    if task.vacates() && on(Guard::Loss) {
        loss(request, plan)?;
    }
    if on(Guard::Space) {
        space(run, plan)?;
    }
    Ok(())
}

/// What goes from a source must all have arrived.
pub(crate) fn loss(request: &Request, plan: &Plan) -> Result<(), Refusal> {
    if plan.totals.steps.vacate.entries == 0 {
        return Ok(());
    }
    let lacks = Aspects::ALL.iter().filter(|aspect| !request.carry.has(*aspect));
    let lacks = lacks.map(|aspect| aspect.name().to_owned());
    let notes = plan.notes.iter().filter_map(|note| match note {
        Note::PrivilegesLeftOut(_) => Some("set-id bits and capabilities".to_owned()),
        other => other.not_carried(),
    });
    let lost: Vec<String> = lacks.chain(notes).collect();
    if lost.is_empty() { Ok(()) } else { Err(Refusal::Loss { what: lost.join(", ") }) }
}

/// A folder that a drive is to be mounted on holds none of it as long as that is not.
pub(crate) fn mounted(
    system: &dyn System,
    request: &Request,
    pairs: &[Pair],
) -> Result<(), Refusal> {
    // Where the system does not tell, nothing is known to be amiss.
    let (Ok(meant), Ok(mounts)) = (system.mounts_meant(), system.mounts()) else { return Ok(()) };
    let lacks = |folder: &OwnedFd| {
        let real = system.real_path(folder.as_fd()).unwrap_or_else(|_| PathBuf::new());
        meant.contains(&real) && mounts.iter().all(|mount| mount.point != real)
    };
    for pair in pairs {
        let source = (&pair.source, &pair.source_shown);
        let destination = (&pair.destination.anchor, &pair.destination_shown);
        let task = request.task;
        let both = [(!task.is_undo()).then_some(source), Some(destination)];
        for (folder, shown) in both.into_iter().flatten() {
            if lacks(folder) {
                return Err(Refusal::NotMounted { path: shown.clone() });
            }
        }
    }
    Ok(())
}

/// What is not mounted leaves an empty folder behind, on the drive above.
pub(crate) fn drive(system: &dyn System, pairs: &[Pair], wanted: &str) -> Result<(), Refusal> {
    for pair in pairs {
        let real = system.real_path(pair.destination.anchor.as_fd()).unwrap_or_default();
        mounted::is_called(system, &real, wanted).map_err(|found| Refusal::Drive {
            destination_path: pair.destination_shown.clone(),
            wanted: wanted.to_owned(),
            found,
        })?;
    }
    Ok(())
}

fn real_removals(plan: &Plan) -> u64 {
    plan.totals.steps.remove.entries - plan.totals.leftovers
}

/// Where nothing would be removed, saying so is enough.
fn nested(plan: &Plan) -> Result<(), Refusal> {
    let nested = plan.notes.iter().find_map(|note| match note {
        Note::Nested(nested) => Some(nested),
        _ => None,
    });
    match nested.filter(|_| real_removals(plan) > 0) {
        Some(nested) => Err(Refusal::Nesting(nested.clone())),
        None => Ok(()),
    }
}

fn empty_source(plan: &Plan) -> Result<(), Refusal> {
    let removals = real_removals(plan);
    if plan.totals.source.entries() == 0 && removals > 0 {
        return Err(Refusal::EmptySource { removals });
    }
    Ok(())
}

pub(crate) fn removals(plan: &Plan, limit: RemovalLimit) -> Result<(), Refusal> {
    let removals = real_removals(plan);
    let entries = plan.totals.destination.entries();
    let share = |percent: f64| removals as f64 * 100.0 > entries as f64 * percent;
    let (refused, limit) = match limit {
        RemovalLimit::Usual => (removals > 20 && share(100.0 / 3.0), "a third of them".to_owned()),
        RemovalLimit::Count(most) => (removals > most, most.to_string()),
        RemovalLimit::Percent(percent) => (share(percent), format!("{percent} %")),
    };
    if refused { Err(Refusal::Removals { removals, entries, limit }) } else { Ok(()) }
}

/// Every pair's destination lies on the drive of the first: they share the folder it names.
pub(crate) fn space(run: &GuardedRun<'_>, plan: &Plan) -> Result<(), Refusal> {
    let GuardedRun { system, request, pairs, aside_place, holds_holes } = *run;
    let safety = &request.safety;
    let Some(pair) = pairs.first() else {
        return Ok(());
    };
    // What was set aside on the same drive comes back by name.
    let comes_back = plan.parts.iter().any(|part| part.memory.is_some());
    if comes_back && pair.source_stat.identity.drive == pair.destination.anchor_stat.identity.drive
    {
        return Ok(());
    }
    // A drive that does not say how full it is cannot be checked; the run finds out.
    let Ok(space) = system.space(pair.destination.anchor.as_fd()) else {
        return Ok(());
    };
    let steps = || plan.parts.iter().flat_map(Part::all_steps);
    let need = SpaceNeed::of(steps(), &space, holds_holes);
    let mut giving = if safety.remove_first { SpaceFreed::Removed } else { SpaceFreed::Shrinking };
    if let Some(aside_place) = aside_place {
        if aside_place.drive() == pair.destination.anchor_stat.identity.drive {
            // What is displaced gives no room free.
            giving = SpaceFreed::Nothing;
        } else if let Ok(space) = system.space(aside_place.anchor()) {
            let aside = SpaceNeed::of_what_is_set_aside(steps(), &space);
            let drive = "the drive where things are set aside";
            refuse_unless(&aside, aside.bytes(false) <= space.bytes, &space, (drive, false))?;
        }
    }
    let fits = need.fits(space.bytes, giving);
    let would_fit = giving == SpaceFreed::Shrinking && need.fits(space.bytes, SpaceFreed::Removed);
    refuse_unless(&need, fits, &space, ("the destination's drive", would_fit))
}

fn refuse_unless(
    need: &SpaceNeed,
    fits: bool,
    space: &Space,
    (drive, remove_first): (&'static str, bool),
) -> Result<(), Refusal> {
    let (needed, free, unit) = match space.inodes {
        _ if !fits => (need.bytes(false), space.bytes, "bytes"),
        Some(free) if need.inodes() > free => (need.inodes(), free, "inodes"),
        _ => return Ok(()),
    };
    let remove_first = remove_first && unit == "bytes";
    Err(Refusal::Space { needed, unit, free, drive, remove_first })
}
