//! Journals of interrupted moves, which hold the former times of source folders, and what was verified already.

use std::collections::HashSet;
use std::io::{self, ErrorKind};
use std::os::fd::AsFd as _;
use std::path::PathBuf;

use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, System};

use crate::journal::frame::JournalMark;
use crate::journal::lines::{self, MovedNotes, PastPart, SourcePlace};
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

    /// Sources that interrupted moves between the same places were to take as a whole. One of these that is not there
    /// any more was taken.
    pub(crate) fn taken(&self, system: &dyn System, places: &Places) -> HashSet<PathBuf> {
        let of = |places: &Places| -> Vec<_> {
            let all = places.sources.iter().chain([&places.destination]);
            all.map(|path| std::path::absolute(path).ok()).collect()
        };
        let mut taken = HashSet::new();
        let _ = self.each_unfinished(system, Newest::IfCutShort, &mut |_, purpose, parts| {
            let parts = parts.into_iter().filter(|_| of(&purpose.places) == of(places));
            let goes = parts.filter(|(past, part)| past.takes_source(part));
            taken.extend(goes.filter_map(|(past, _)| Some(past.moved.origin?.path())));
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
            None if past.takes_source(&part) && past.moved.is_source_gone(system) => {}
            None => return None,
        }
    }
    found.into_iter().collect()
}

impl PastPart {
    /// True if the source itself was to go, and not only what it holds.
    fn takes_source(&self, part: &Part) -> bool {
        let takes_root = part.root.is_some_and(|step| step.is_taken_over());
        let is_single = self.moved.origin.as_ref().is_some_and(|origin| origin.single.is_some());
        let leaves = |step: &Step| step.verb == Verb::RemoveSource || step.is_taken_over();
        let takes_single = is_single && part.all_steps().any(leaves);
        takes_root || takes_single || part.root_source_removal.is_some()
    }
}

impl MovedNotes {
    fn is_source_gone(&self, system: &dyn System) -> bool {
        let source = self.origin.as_ref().map(SourcePlace::path);
        let source = source.as_deref().and_then(sides::split);
        source.is_some_and(|(above, name)| {
            let above = system.open_root(&above);
            let now = above.and_then(|above| system.stat(Entry::Named(above.as_fd(), &name)));
            now.is_err_and(|error| error.kind() == ErrorKind::NotFound)
        })
    }
}

fn is_of(system: &dyn System, part: &PastPart, pair: &Pair) -> bool {
    let destination = std::path::absolute(&pair.destination_path);
    let same_place = destination.is_ok_and(|destination| destination == part.root);
    let origin = origin::of(system, pair);
    same_place && part.moved.origin.as_ref().zip(origin.ok().as_ref()).is_some_and(|(a, b)| a == b)
}
