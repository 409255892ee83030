//! Journals of interrupted moves, which hold the former times of source folders, and what was verified already.

use std::io;

use utter_echo_model::interrupted::InterruptedMove;
use utter_echo_model::verb::Verb;
use utter_echo_os::System;

use crate::journal::frame::JournalMark;
use crate::journal::lines::{self, PastPart};
use crate::journal::lock::RunLock;
use crate::journal::origin;
use crate::journal::reader::Standing;
use crate::journal::store::open_store;
use crate::policy::{Part, Step};
use crate::request::Task;
use crate::sides::{Pair, SetAsidePlace};

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

/// Called with the name of a run, its state, and its parts.
type EachRun<'e> = dyn FnMut((&str, Standing), Vec<(PastPart, Part)>) -> io::Result<()> + 'e;

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
        let _ = self.each_unfinished(system, pairs, Newest::Too, &mut |(_, standing), parts| {
            let both = interrupted.iter_mut().zip(parts);
            both.for_each(|(interrupted, (past, part))| {
                take_in(interrupted, (past, &part), standing);
            });
            Ok(())
        });
        interrupted
    }

    /// Marks interrupted moves as ended, once this one has ended.
    pub(crate) fn end_earlier(&self, system: &dyn System, pairs: &[Pair]) -> io::Result<()> {
        self.each_unfinished(system, pairs, Newest::IfCutShort, &mut |(run, standing), _| {
            if standing != Standing::CutShort {
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
        pairs: &[Pair],
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
            let Ok((_, plan, parts)) = lines::read(&journal) else { continue };
            let same = parts.len() == pairs.len()
                && parts.iter().zip(pairs).all(|(part, pair)| is_of(system, part, pair));
            if same {
                each((run, standing), parts.into_iter().zip(plan.parts).collect())?;
            }
        }
        Ok(())
    }
}

fn is_of(system: &dyn System, part: &PastPart, pair: &Pair) -> bool {
    let destination = std::path::absolute(&pair.destination_path);
    let same_place = destination.is_ok_and(|destination| destination == part.root);
    let origin = origin::of(system, pair);
    same_place && part.moved.origin.as_ref().zip(origin.ok().as_ref()).is_some_and(|(a, b)| a == b)
}
