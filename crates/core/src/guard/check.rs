//! Checking a plan against every guard.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};
use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;

use utter_echo_drives::features::Feature;
use utter_echo_drives::map::DriveMap;
use utter_echo_drives::mounted;
use utter_echo_model::attribute::Attributes;
use utter_echo_model::identity::DriveId;
use utter_echo_model::note::Note;
use utter_echo_os::{Space, System};

use crate::guard::refusal::Refusal;
use crate::guard::{swapped, uncarried};
use crate::plan::{Plan, SpaceFreed, SpaceNeed, Undoes};
use crate::policy::{Part, Step};
use crate::request::{Guard, RemovalLimit, Request};
use crate::sides::{Pair, SetAsidePlace};

/// A run before its first change.
pub(crate) struct GuardedRun<'a> {
    pub(crate) system: &'a dyn System,
    pub(crate) request: &'a Request,
    pub(crate) pairs: &'a [Pair],
    /// The place for displaced entries.
    pub(crate) aside_place: Option<&'a SetAsidePlace>,
    /// For each pair, the drives below its destination.
    pub(crate) maps: &'a [DriveMap],
}

/// Checks a plan against every guard that is not waived. The first that refuses is the error. Changes and locks
/// nothing; see [`locks`](crate::guard::locks).
pub(crate) fn check(run: &GuardedRun<'_>, plan: &Plan, answered: &[Guard]) -> Result<(), Refusal> {
    let GuardedRun { system, request, pairs, .. } = *run;
    let Request { task, safety, .. } = request;
    let on = |guard| !safety.waived.contains(&guard) && !answered.contains(&guard);
    if on(Guard::Drive) {
        mounted(system, request, pairs)?;
        drive(system, request, pairs)?;
    }
    if on(Guard::Nesting) {
        nested(plan)?;
    }
    if on(Guard::EmptySource) {
        let roots = pairs.iter().filter(|pair| pair.single.is_none()).count() as u64;
        let found = plan.totals.source.entries().saturating_sub(roots);
        if found < safety.expected {
            return Err(Refusal::FewEntries { found, expected: safety.expected });
        }
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
    if task.removes_sources() && on(Guard::Loss) {
        loss(run, plan)?;
    }
    if on(Guard::Space) {
        space(run, plan)?;
    }
    Ok(())
}

/// Refuses a move that would lose attributes.
pub(crate) fn loss(run: &GuardedRun<'_>, plan: &Plan) -> Result<(), Refusal> {
    let request = run.request;
    if plan.totals.steps.left_source.entries == 0 {
        return Ok(());
    }
    let lacks = Attributes::ALL.iter().filter(|attribute| !request.carry.has(*attribute));
    let lacks = lacks.map(|attribute| attribute.name().to_owned());
    let notes = plan.notes.iter().filter_map(|note| match note {
        Note::PrivilegesLeftOut(_) => Some("set-id bits and capabilities".to_owned()),
        other => other.not_carried(),
    });
    let is_closed =
        |drive: &DriveInUse<'_>| run.system.driver_device(drive.handle.as_fd()).is_err();
    let unproven = drives_in_use(run, plan).values().any(is_closed);
    let unproven = unproven.then(|| "a proof from the drive itself".to_owned());
    // What comes back by an undo never had more.
    let uncarried = match plan.undoes {
        Undoes::Nothing => uncarried::lost(run.system, run.pairs, plan),
        Undoes::Move | Undoes::Run => BTreeSet::new(),
    };
    let uncarried = uncarried.into_iter().map(str::to_owned);
    let lost: Vec<String> = lacks.chain(notes).chain(unproven).chain(uncarried).collect();
    if lost.is_empty() { Ok(()) } else { Err(Refusal::Loss { what: lost.join(", ") }) }
}

/// Refuses a mount point whose drive is not mounted.
pub(crate) fn mounted(
    system: &dyn System,
    request: &Request,
    pairs: &[Pair],
) -> Result<(), Refusal> {
    // If the system does not know, nothing is refused.
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

/// Refuses a place that is not on the named drive: an unmounted drive leaves an empty folder.
pub(crate) fn drive(system: &dyn System, request: &Request, pairs: &[Pair]) -> Result<(), Refusal> {
    let is_on = |folder: &OwnedFd, shown: &str, wanted: &str| {
        let real = system.real_path(folder.as_fd()).unwrap_or_default();
        mounted::is_called(system, &real, wanted).map_err(|found| Refusal::Drive {
            path: shown.to_owned(),
            wanted: wanted.to_owned(),
            found,
        })
    };
    let places = &request.places;
    let of_destination = places.drives.last().and_then(Option::as_ref);
    for pair in pairs {
        for wanted in request.safety.drive.iter().chain(of_destination) {
            is_on(&pair.destination.anchor, &pair.destination_shown, wanted)?;
        }
        // A source that an interrupted move took has no pair.
        let is_its = |typed: &PathBuf| typed.to_string_lossy() == *pair.source_shown;
        let named = places.typed.iter().zip(&places.drives).find(|(typed, _)| is_its(typed));
        if let Some(wanted) = named.and_then(|(_, drive)| drive.as_ref()) {
            is_on(&pair.source, &pair.source_shown, wanted)?;
        }
    }
    Ok(())
}

fn real_removals(plan: &Plan) -> u64 {
    plan.totals.steps.remove.entries - plan.totals.leftovers
}

/// If nothing would be removed, a note is enough.
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
    // A root alone is a source without entries.
    if plan.totals.source.entries() <= 1 && removals > 0 {
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

/// A drive on which a plan needs space.
struct DriveInUse<'p> {
    handle: OwnedFd,
    holds_holes: bool,
    /// In words.
    shown: String,
    steps: Vec<&'p Step>,
    /// Entries that come back to it were set aside on it, so they are renamed.
    has_all: bool,
}

/// Refuses a plan for which a drive has too little space.
pub(crate) fn space(run: &GuardedRun<'_>, plan: &Plan) -> Result<(), Refusal> {
    let GuardedRun { system, request, aside_place, .. } = *run;
    let all_steps = || plan.parts.iter().flat_map(Part::all_steps);
    let drives = drives_in_use(run, plan);
    let is_elsewhere = |place: &&SetAsidePlace| !drives.contains_key(&place.drive());
    if let Some(place) = aside_place.filter(is_elsewhere)
        && let Ok(space) = system.space(place.anchor())
    {
        let aside = SpaceNeed::of_what_is_set_aside(all_steps(), &space);
        let drive = "the drive of the set-aside folder".to_owned();
        refuse_unless(&aside, aside.bytes(false) <= space.bytes, &space, (drive, false))?;
    }
    let freed =
        if request.safety.remove_first { SpaceFreed::Removed } else { SpaceFreed::Shrinking };
    for (number, drive) in drives {
        // A drive that does not report its space cannot be checked.
        let Ok(space) = system.space(drive.handle.as_fd()) else { continue };
        if drive.has_all {
            continue;
        }
        // Displaced entries that are kept on the drive free no space.
        let keeps = aside_place.is_some_and(|place| place.drive() == number);
        let freed = if keeps { SpaceFreed::Nothing } else { freed };
        let need = SpaceNeed::of(drive.steps.into_iter(), &space, drive.holds_holes);
        let would_fit =
            freed == SpaceFreed::Shrinking && need.fits(space.bytes, SpaceFreed::Removed);
        refuse_unless(&need, need.fits(space.bytes, freed), &space, (drive.shown, would_fit))?;
    }
    Ok(())
}

/// By drive numbers, since several places may lie on one drive.
fn drives_in_use<'p>(run: &GuardedRun<'_>, plan: &'p Plan) -> BTreeMap<u64, DriveInUse<'p>> {
    let mut drives = BTreeMap::new();
    for ((pair, map), part) in run.pairs.iter().zip(run.maps).zip(&plan.parts) {
        let root = part.root.iter().map(|step| (DriveId::default(), step));
        let below = part.folders.iter();
        let below =
            below.flat_map(|it| it.steps.iter().map(move |step| (it.head.known.drive, step)));
        for (id, step) in root.chain(below) {
            let drive = map.get(id);
            let number = drive.identity.drive;
            let in_use = match drives.entry(number) {
                Entry::Occupied(known) => known.into_mut(),
                Entry::Vacant(new) => {
                    // A drive that is gone makes its steps stale.
                    let anchor = pair.destination.anchor.as_fd();
                    let Ok(handle) = drive.open(run.system, anchor) else { continue };
                    let at = drive.path.as_bytes();
                    let shown = if at.is_empty() {
                        "the destination's drive".to_owned()
                    } else {
                        format!("the drive at '{}'", String::from_utf8_lossy(at).escape_debug())
                    };
                    new.insert(DriveInUse {
                        handle,
                        holds_holes: drive.capabilities.drive.holds(Feature::Holes),
                        shown,
                        steps: Vec::new(),
                        has_all: part.brings_back && pair.source_stat.identity.drive == number,
                    })
                }
            };
            in_use.steps.push(step);
        }
    }
    drives
}

fn refuse_unless(
    need: &SpaceNeed,
    fits: bool,
    space: &Space,
    (drive, remove_first): (String, bool),
) -> Result<(), Refusal> {
    let (needed, free, unit) = match space.inodes {
        _ if !fits => (need.bytes(false), space.bytes, "bytes"),
        Some(free) if need.inodes() > free => (need.inodes(), free, "inodes"),
        _ => return Ok(()),
    };
    let remove_first = remove_first && unit == "bytes";
    Err(Refusal::Space { needed, unit, free, drive, remove_first })
}
