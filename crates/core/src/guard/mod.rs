//! Station: checks on a whole plan that can refuse it before anything is touched.

pub(crate) mod nesting;
mod swapped;

use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;

use crate::aside::Shelf;
use crate::aspect::Aspects;
use crate::os::{Lock, Space, System};
use crate::plan::{Nested, Note, Plan};
use crate::policy::Part;
use crate::request::{Guard, RemovalLimit, Request, Safety};
use crate::room::{Giving, Need};
use crate::sides::{self, Pair};

/// Why a plan was refused, with the figures that made it so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// See [`Guard::Overlap`].
    #[error("'{source_path}' and '{destination_path}' overlap: they are one folder, or one lies inside the other{}\n  choose a destination outside the source", .at.as_ref().map(|at| format!(" (at '{at}')")).unwrap_or_default())]
    Overlap {
        /// As the user named it.
        source_path: String,
        /// As the user named it.
        destination_path: String,
        /// Where one turned up in the other, if not by its path.
        at: Option<String>,
    },
    /// What is set aside would become part of a side. See [`Guard::Overlap`].
    #[error(
        "'{folder}', where things would be set aside, is inside '{source_path}' or '{destination_path}' and would be taken for a part of it\n  choose a folder outside both; if it is on the destination's drive, nothing has to be copied"
    )]
    SetAsideWithin {
        /// As the user named it.
        folder: String,
        /// As the user named it.
        source_path: String,
        /// As the user named it.
        destination_path: String,
    },
    /// See [`Guard::EmptySource`].
    #[error(
        "nothing in the source is taken, and {removals} entries of the destination would be removed\n  check that the source's drive is mounted and that the patterns are right; if you mean it: --waive empty-source"
    )]
    EmptySource {
        /// Entries that would go.
        removals: u64,
    },
    /// See [`Guard::Removals`].
    #[error(
        "{removals} of the destination's {entries} entries would be removed, and the limit is {limit}\n  look at them with --dry-run, then raise it with --removal-limit {removals} or switch it off with --waive removals"
    )]
    Removals {
        /// Entries that would go.
        removals: u64,
        /// Entries there are.
        entries: u64,
        /// In words.
        limit: String,
    },
    /// See [`Guard::Space`].
    #[error(
        "the plan needs {needed} {unit} and {drive} has {free} free\n  make room there, take less, {}or go ahead anyway with --waive space",
        if *remove_first { "let the removals make room with --remove-first, " } else { "" }
    )]
    Space {
        /// Needed at the fullest moment.
        needed: u64,
        /// Free now.
        free: u64,
        /// "bytes" or "inodes".
        unit: &'static str,
        /// Which drive, in words.
        drive: &'static str,
        /// There is room for all of it if the removals come first.
        remove_first: bool,
    },
    /// See [`Guard::Nesting`].
    #[error(
        "'{}' has almost nothing of what '{}' has, but '{}' does\n  you probably meant: utter mirror '{}' '{}'; if not: --waive nesting",
        .0.destination_path, .0.source_path, .0.folder, .0.source_path, .0.folder
    )]
    Nesting(Nested),
    /// See [`Guard::Swapped`].
    #[error(
        "{written} of the {taken} entries that would be replaced or removed were written in the destination after the newest entry of the source: the two sides are probably swapped\n  look at them with --dry-run; if you mean it: --waive swapped"
    )]
    Swapped {
        /// Entries that were written in the destination.
        written: u64,
        /// Entries that would be replaced or removed.
        taken: u64,
    },
    /// See [`Guard::OtherRun`].
    #[error(
        "another run is working on '{destination_path}'\n  wait until it has ended; if you are sure that it does no harm: --waive other-run"
    )]
    OtherRun {
        /// As the user named it.
        destination_path: String,
    },
    /// See [`Guard::Loss`].
    #[error(
        "what goes from the source would be lost, since it does not arrive: {what}\n  copy it to a drive that holds that ('utter drives' shows what each holds); if you can do without it: --waive loss"
    )]
    Loss {
        /// In words.
        what: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{path}' is not the folder that the run changed: another drive is mounted there, or none\n  mount the drive that was there then; if it is the same folder after all: --waive drive"
    )]
    OtherPlace {
        /// As the run named it.
        path: String,
    },
    /// See [`Guard::OtherRun`].
    #[error(
        "'{path}' is in use: the run is still going on, or is being undone\n  wait until that has ended"
    )]
    RunInUse {
        /// As the user named it.
        path: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{path}' is where /etc/fstab mounts a drive, and none is mounted there\n  mount it; if you mean the folder itself: --waive drive"
    )]
    NotMounted {
        /// As the user named it.
        path: String,
    },
    /// See [`Guard::Drive`].
    #[error(
        "'{destination_path}' is not on the drive '{wanted}'{}\n  mount that drive there ('utter drives' lists what is mounted), or use another one with --waive drive",
        if found.is_empty() { String::new() } else { format!(", but on '{}'", found.join("', '")) }
    )]
    Drive {
        /// As the user named it.
        destination_path: String,
        /// Label or UUID.
        wanted: String,
        /// Label and UUID of the drive that is there, as far as they can be found out.
        found: Vec<String>,
    },
}

impl Refusal {
    /// The guard that refused.
    pub fn guard(&self) -> Guard {
        match self {
            Self::Overlap { .. } | Self::SetAsideWithin { .. } => Guard::Overlap,
            Self::EmptySource { .. } => Guard::EmptySource,
            Self::Removals { .. } => Guard::Removals,
            Self::Space { .. } => Guard::Space,
            Self::Nesting(_) => Guard::Nesting,
            Self::Loss { .. } => Guard::Loss,
            Self::Swapped { .. } => Guard::Swapped,
            Self::OtherRun { .. } | Self::RunInUse { .. } => Guard::OtherRun,
            Self::Drive { .. } | Self::NotMounted { .. } | Self::OtherPlace { .. } => Guard::Drive,
        }
    }
}

/// Checks a plan against every guard that is not waived; the first that refuses is the error.
/// Returns the locks of the destinations, to be held as long as the run lasts.
pub(crate) fn check(
    system: &dyn System,
    request: &Request,
    pairs: &[Pair],
    shelf: Option<&Shelf>,
    holds_holes: bool,
    (plan, answered): (&Plan, &[Guard]),
) -> Result<Vec<Lock>, Refusal> {
    let Request { task, safety, .. } = request;
    let on = |guard| !safety.waived.contains(&guard) && !answered.contains(&guard);
    if on(Guard::Drive) {
        mounted(system, request, pairs)?;
        if let Some(wanted) = &safety.drive {
            drive(system, pairs, wanted)?;
        }
    }
    let locks = lock(system, pairs, on(Guard::OtherRun))?;
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
        space(system, safety, (pairs, shelf), holds_holes, plan)?;
    }
    Ok(locks)
}

/// What goes from a source must all have arrived.
fn loss(request: &Request, plan: &Plan) -> Result<(), Refusal> {
    if plan.totals.vacate.entries == 0 {
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
fn mounted(system: &dyn System, request: &Request, pairs: &[Pair]) -> Result<(), Refusal> {
    // Where the system does not tell, nothing is known to be amiss.
    let (Ok(meant), Ok(mounts)) = (system.mounts_meant(), system.mounts()) else { return Ok(()) };
    let lacks = |folder: &OwnedFd| {
        let real = sides::real_path(folder).unwrap_or_else(|_| PathBuf::new());
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
fn drive(system: &dyn System, pairs: &[Pair], wanted: &str) -> Result<(), Refusal> {
    for pair in pairs {
        let real = sides::real_path(&pair.destination.anchor).unwrap_or_default();
        crate::drives::is_called(system, &real, wanted).map_err(|found| Refusal::Drive {
            destination_path: pair.destination_shown.clone(),
            wanted: wanted.to_owned(),
            found,
        })?;
    }
    Ok(())
}

/// Locks every destination that is there. One that the drive cannot lock is not locked.
fn lock(system: &dyn System, pairs: &[Pair], refuses: bool) -> Result<Vec<Lock>, Refusal> {
    let mut locks = Vec::new();
    let mut locked = Vec::new();
    for pair in pairs.iter().filter(|pair| pair.destination.exists()) {
        // Several single files go into one folder.
        let identity = pair.destination.anchor_stat.identity;
        if locked.contains(&identity) {
            continue;
        }
        match system.lock(pair.destination.anchor.as_fd()) {
            Ok(None) if refuses => {
                let destination_path = pair.destination_shown.clone();
                return Err(Refusal::OtherRun { destination_path });
            }
            Ok(lock) => locks.extend(lock),
            Err(_) => {}
        }
        locked.push(identity);
    }
    Ok(locks)
}

fn real_removals(plan: &Plan) -> u64 {
    plan.totals.remove.entries - plan.totals.leftovers
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

fn removals(plan: &Plan, limit: RemovalLimit) -> Result<(), Refusal> {
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
fn space(
    system: &dyn System,
    safety: &Safety,
    (pairs, shelf): (&[Pair], Option<&Shelf>),
    holds_holes: bool,
    plan: &Plan,
) -> Result<(), Refusal> {
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
    let need = Need::of(steps(), &space, holds_holes);
    let mut giving = if safety.remove_first { Giving::Removed } else { Giving::Shrinking };
    if let Some(shelf) = shelf {
        if shelf.drive() == pair.destination.anchor_stat.identity.drive {
            // What is displaced gives no room free.
            giving = Giving::Nothing;
        } else if let Ok(space) = system.space(shelf.anchor()) {
            let aside = Need::of_what_is_set_aside(steps(), &space);
            let drive = "the drive where things are set aside";
            refuse_unless(&aside, aside.bytes(false) <= space.bytes, &space, (drive, false))?;
        }
    }
    let fits = need.fits(space.bytes, giving);
    let would_fit = giving == Giving::Shrinking && need.fits(space.bytes, Giving::Removed);
    refuse_unless(&need, fits, &space, ("the destination's drive", would_fit))
}

fn refuse_unless(
    need: &Need,
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
