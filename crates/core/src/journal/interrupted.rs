//! Journals of interrupted moves, which hold the former times of source folders, and what was verified already.

use std::collections::HashSet;
use std::io::{self, ErrorKind};
use std::os::fd::AsFd as _;
use std::path::PathBuf;

use utter_echo_drives::mounted;
use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Kind, Stat, System};

use crate::journal::frame::JournalMark;
use crate::journal::lines::{self, PastPart, SourcePlace};
use crate::journal::lock::RunLock;
use crate::journal::origin;
use crate::journal::reader::Standing;
use crate::journal::store::open_store;
use crate::plan::Purpose;
use crate::policy::{Part, Step};
use crate::request::{Places, Task};
use crate::sides::{self, Pair, SetAsidePlace};

/// Adds the journal of one run, the newest first.
fn take_in(known: &mut InterruptedMove, (past, part): (PastPart, &Part), standing: Standing) {
    // A run that ended restored the times of folders. The newest journal comes first, but the oldest has the former
    // times.
    if standing == Standing::CutShort {
        known.here.extend(past.moved.here);
        for (at, folder) in part.folders.iter().enumerate() {
            let above = part.folder_path(at);
            let added = folder.steps.iter().filter(|step| step.verb == Verb::Add);
            let path =
                |step: &Step| above.join(folder.head.names.get(step.name)).as_bytes().to_vec();
            known.made.extend(added.map(path));
        }
    }
    past.moved.proven.into_iter().for_each(|(path, both)| {
        known.proven.entry(path).or_insert(both);
    });
}

/// Called with the name of a run, its state, and what its journal holds.
type EachRun<'e> =
    dyn FnMut((&str, Standing), &Purpose, Vec<(PastPart, Part)>) -> io::Result<()> + 'e;

/// Whether the newest run counts.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Newest {
    /// Like the others: if it was interrupted.
    IfCutShort,
    /// Also if it ended, maybe with problems.
    Too,
}

/// The most journals to read for interrupted moves, the newest first.
const LOOKED_AT: usize = 16;

impl SetAsidePlace {
    /// What interrupted moves between the same places left, for each pair. Unreadable journals are ignored.
    pub(crate) fn interrupted(&self, system: &dyn System, pairs: &[Pair]) -> Vec<InterruptedMove> {
        let mut interrupted: Vec<InterruptedMove> =
            pairs.iter().map(|_| InterruptedMove::default()).collect();
        // A missing store is empty.
        let _ = self.each_unfinished(system, Newest::Too, &mut |(_, standing), _, parts| {
            let parts = of_pairs(system, parts, pairs).unwrap_or_default();
            let both = interrupted.iter_mut().zip(parts);
            both.for_each(|(interrupted, (past, part))| {
                take_in(interrupted, (past, &part), standing);
            });
            Ok(())
        });
        interrupted
    }

    /// Sources that interrupted moves between the same places took as a whole.
    pub(crate) fn taken(&self, system: &dyn System, places: &Places) -> HashSet<PathBuf> {
        let of = |places: &Places| -> Vec<_> {
            let all = places.sources.iter().chain([&places.destination]);
            all.map(|path| std::path::absolute(path).ok()).collect()
        };
        let mut taken = HashSet::new();
        let _ = self.each_unfinished(system, Newest::IfCutShort, &mut |_, purpose, parts| {
            let parts = parts.into_iter().filter(|_| of(&purpose.places) == of(places));
            let gone = parts.filter(|(past, part)| past.was_taken(system, part));
            taken.extend(gone.filter_map(|(past, _)| Some(past.moved.origin?.path())));
            Ok(())
        });
        taken
    }

    /// Marks interrupted moves as ended, once this one has ended.
    pub(crate) fn end_earlier(&self, system: &dyn System, pairs: &[Pair]) -> io::Result<()> {
        self.each_unfinished(system, Newest::IfCutShort, &mut |(run, standing), _, parts| {
            if standing != Standing::CutShort || of_pairs(system, parts, pairs).is_none() {
                return Ok(());
            }
            let store = open_store(system, &self.path)?;
            let Ok(journal) = store.read(run) else { return Ok(()) };
            store.resume(run, &journal)?.mark(JournalMark::Ended)
        })
    }

    /// Calls `each` for the interrupted moves, and for the newest one if wanted.
    fn each_unfinished(
        &self,
        system: &dyn System,
        newest: Newest,
        each: &mut EachRun<'_>,
    ) -> io::Result<()> {
        let store = open_store(system, &self.path)?;
        for (at, run) in store.names()?.iter().rev().take(LOOKED_AT).enumerate() {
            let is_wanted = at == 0 && newest == Newest::Too;
            if !is_wanted && store.has_ended(run) {
                continue;
            }
            let Ok(journal) = store.read(run) else { continue };
            let moves = lines::about(&journal).is_some_and(|about| about.task == Task::Move);
            let is_due = journal.standing == Standing::CutShort
                || is_wanted && journal.standing == Standing::Complete;
            if !moves || !is_due || matches!(store.hold(run), RunLock::InUse) {
                continue;
            }
            let standing = journal.standing;
            let Ok((purpose, plan, parts)) = lines::read(&journal) else { continue };
            each((run, standing), &purpose, parts.into_iter().zip(plan.parts).collect())?;
        }
        Ok(())
    }
}

/// The parts of an earlier move of these pairs, in their order. `None` if it lacks one, or had another whose source is
/// still there.
fn of_pairs(
    system: &dyn System,
    parts: Vec<(PastPart, Part)>,
    pairs: &[Pair],
) -> Option<Vec<(PastPart, Part)>> {
    let mut found: Vec<Option<(PastPart, Part)>> = pairs.iter().map(|_| None).collect();
    for (past, part) in parts {
        match pairs.iter().position(|pair| is_of(system, &past, pair)) {
            Some(at) => found[at] = Some((past, part)),
            None if past.was_taken(system, &part) => {}
            None => return None,
        }
    }
    found.into_iter().collect()
}

impl PastPart {
    /// True if the source itself was to go, is gone, and all that it held is in the destination. A source on a drive that
    /// is away, or that somebody removed before all of it was copied, was not taken.
    fn was_taken(&self, system: &dyn System, part: &Part) -> bool {
        let Some(origin) = &self.moved.origin else { return false };
        let takes_root = part.root.is_some_and(|step| step.is_taken_over());
        let takes_single = origin.single.is_some() && part.has_steps();
        let takes_source = takes_root || takes_single || part.root_source_removal.is_some();
        takes_source && origin.is_gone(system) && self.has_arrived(system, part).unwrap_or(false)
    }

    /// Fails if the destination cannot be looked at.
    fn has_arrived(&self, system: &dyn System, part: &Part) -> io::Result<bool> {
        let root = system.open_root(&self.root)?;
        if let Some(step) = part.root.filter(Step::is_taken_over) {
            let now = system.stat(Entry::Pinned(root.as_fd()))?;
            return Ok(step.source.is_some_and(|was| was.still(&now)));
        }
        for (at, folder) in part.folders.iter().enumerate() {
            let path = part.folder_path(at);
            let renamed = folder.steps.iter().filter(|step| step.is_taken_over());
            let copied = folder.source_removals.iter().filter(|step| step.kind() != Kind::Folder);
            let mut gone = renamed.chain(copied).peekable();
            if gone.peek().is_none() {
                continue;
            }
            let there = system.open_folder(root.as_fd(), path.as_bytes())?;
            for step in gone {
                let name = folder.name(step);
                let now = system.stat(Entry::Named(there.as_fd(), name))?;
                let is_it = |was: &State| {
                    if step.is_taken_over() {
                        was.still(&now)
                    } else {
                        // What was proven may not be in the journal yet, but a copy gets its name and its time last.
                        is_whole_copy(was, &now)
                    }
                };
                if !step.source.as_ref().is_some_and(is_it) {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }
}

/// True for what has the kind, the size and, as far as any drive keeps it, the time of its source.
fn is_whole_copy(was: &State, now: &Stat) -> bool {
    const COARSEST: u64 = 2;
    let apart = was.modified().secs.abs_diff(now.modified.secs);
    (was.kind, was.size) == (now.kind, now.size) && apart <= COARSEST
}

impl SourcePlace {
    /// True if the source is missing from its drive.
    fn is_gone(&self, system: &dyn System) -> bool {
        let Some((above, name)) = sides::split(&self.path()) else { return false };
        let Ok(folder) = system.open_root(&above) else { return false };
        let now = system.stat(Entry::Named(folder.as_fd(), &name));
        now.is_err_and(|error| error.kind() == ErrorKind::NotFound)
            && self.drive == mounted::uuid_of(system, &above)
    }
}

fn is_of(system: &dyn System, part: &PastPart, pair: &Pair) -> bool {
    let destination = std::path::absolute(&pair.destination_path);
    let same_place = destination.is_ok_and(|destination| destination == part.root);
    let origin = origin::of(system, pair);
    same_place && part.moved.origin.as_ref().zip(origin.ok().as_ref()).is_some_and(|(a, b)| a == b)
}
