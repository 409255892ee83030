//! What cannot be done without a step that is not taken: nothing happens in a folder that is not made,
//! nothing gives way to what does not come, a folder of which something stays is neither removed nor
//! replaced, and nothing becomes a name of what is not written.

use std::collections::HashSet;

use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::Kind;

use crate::policy::part::Part;
use crate::policy::step::Step;

/// Takes out what cannot be done as the part stands. Returns how many steps that were.
pub(super) fn prune(part: &mut Part) -> u64 {
    DependencyGraph::of(part).tear(part, |_| false)
}

/// Takes steps out of a part, by their numbers in the plan, and with them what cannot be done without
/// them. Returns how many steps that were.
pub(crate) fn withdraw(part: &mut Part, unwanted: &HashSet<usize>) -> u64 {
    let first = part.first;
    let steps = DependencyGraph::of(part).tear(part, |number| unwanted.contains(&(first + number)));
    let vacates = settle_vacates(part, |number| unwanted.contains(&number));
    steps + vacates
}

/// Takes out what cannot go from the source as the part stands: what does not arrive, and folders of which
/// something stays. `unwanted` tells of more, by their numbers in the plan. Returns how many that were.
pub(super) fn settle_vacates(part: &mut Part, unwanted: impl Fn(usize) -> bool) -> u64 {
    let mut stay: HashSet<(u32, Box<[u8]>)> = HashSet::new();
    let mut gone = 0;
    for at in (0..part.folders.len()).rev() {
        let folder = &part.folders[at];
        let kept: Vec<Step> = folder
            .vacates
            .iter()
            .enumerate()
            .filter_map(|(slot, step)| {
                let name = folder.head.names.get(step.name);
                // What another name of the same file is given, this one has as well.
                let is_there = step.reason == Reason::Arrived || step.destination.is_some();
                let arrives = is_there || folder.find(name).is_some();
                let is_held = step.kind() == Kind::Folder
                    && stay.contains(&(u32::try_from(at).unwrap_or(u32::MAX), name.into()));
                (arrives && !is_held && !unwanted(folder.first_vacate + slot)).then_some(*step)
            })
            .collect();
        let lost = folder.vacates.len() - kept.len();
        let folder = &mut part.folders[at];
        folder.vacates = kept.into();
        folder.stays_here |= lost > 0;
        gone += lost as u64;
        if folder.stays_here {
            stay.insert((folder.parent, folder.head.name.clone()));
        }
    }
    let top_stays = part.folders.first().is_some_and(|top| top.stays_here);
    if part.root_vacate.is_some() && top_stays {
        part.root_vacate = None;
        gone += 1;
    }
    gone
}

/// How the steps of a part hang together; they are counted from 0, the root's first.
struct DependencyGraph {
    /// The number of each folder's first step.
    firsts: Vec<usize>,
    /// The number of each folder's own step.
    own: Vec<Option<usize>>,
    count: usize,
}

impl DependencyGraph {
    fn of(part: &Part) -> Self {
        let mut next = usize::from(part.root.is_some());
        let mut firsts = Vec::with_capacity(part.folders.len());
        for folder in &part.folders {
            firsts.push(next);
            next += folder.steps.len();
        }
        let own = (0..part.folders.len()).map(|at| {
            if at == 0 {
                return part.root.map(|_| 0);
            }
            let folder = &part.folders[at];
            let parent = folder.parent as usize;
            Some(firsts[parent] + part.folders[parent].find(&folder.head.name)?)
        });
        Self { own: own.collect(), firsts, count: next }
    }

    fn step<'p>(&self, part: &'p Part, at: usize, number: usize) -> Option<&'p Step> {
        if at == 0 {
            return part.root.as_ref();
        }
        let parent = part.folders[at].parent as usize;
        part.folders[parent].steps.get(number - self.firsts[parent])
    }

    fn tear(&self, part: &mut Part, unwanted: impl Fn(usize) -> bool) -> u64 {
        let mut gone: Vec<bool> = (0..self.count).map(unwanted).collect();
        loop {
            let before = gone.iter().filter(|gone| **gone).count();
            self.go_down(part, &mut gone);
            self.go_along_links(part, &mut gone);
            self.go_up(part, &mut gone);
            if gone.iter().filter(|gone| **gone).count() == before {
                break;
            }
        }
        self.take_out(part, &gone)
    }

    /// What is in a folder that is not made, and what would give way to something that does not come.
    fn go_down(&self, part: &Part, gone: &mut [bool]) {
        let (mut missing, mut spared) = (Vec::new(), Vec::new());
        for (at, folder) in part.folders.iter().enumerate() {
            let own =
                self.own[at].and_then(|number| Some((self.step(part, at, number)?, gone[number])));
            let is_missing = match own {
                Some((step, gone)) => gone && step.makes_folder(),
                None => at != 0 && folder.head.known.destination.is_none(),
            };
            let is_spared = own.is_some_and(|(step, gone)| gone && step.takes_a_folders_place());
            let parent = folder.parent as usize;
            missing.push(is_missing || at != 0 && missing[parent]);
            spared.push(is_spared || at != 0 && spared[parent]);
            for (slot, step) in folder.steps.iter().enumerate() {
                let is_undone = missing[at] || spared[at] && step.verb == Verb::Remove;
                gone[self.firsts[at] + slot] |= is_undone;
            }
        }
    }

    fn go_along_links(&self, part: &Part, gone: &mut [bool]) {
        for (at, folder) in part.folders.iter().enumerate() {
            for (slot, step) in folder.steps.iter().enumerate() {
                let Some(leader) = step.link().map(|id| part.name(id)) else { continue };
                let there = leader.folder as usize;
                let leads = part.folders[there].find(&leader.name);
                let lost = leads.is_some_and(|leads| gone[self.firsts[there] + leads]);
                gone[self.firsts[at] + slot] |= lost;
            }
        }
    }

    /// The steps that would take away a folder of which something stays.
    fn go_up(&self, part: &Part, gone: &mut [bool]) {
        let mut holds: HashSet<usize> = HashSet::new();
        for (at, folder) in part.folders.iter().enumerate() {
            for (slot, step) in folder.steps.iter().enumerate() {
                if !gone[self.firsts[at] + slot] {
                    continue;
                }
                if step.verb == Verb::Remove || step.takes_a_folders_place() {
                    holds.insert(at);
                }
                holds.extend(step.renamed_from().map(|id| part.name(id).folder as usize));
            }
        }
        for at in (1..part.folders.len()).rev().filter(|at| self.own[*at].is_some()) {
            let Some(number) = self.own[at].filter(|_| holds.contains(&at)) else { continue };
            let takes_away = self
                .step(part, at, number)
                .is_some_and(|step| step.verb == Verb::Remove || step.takes_a_folders_place());
            if takes_away {
                gone[number] = true;
                holds.insert(part.folders[at].parent as usize);
            }
        }
    }

    fn take_out(&self, part: &mut Part, gone: &[bool]) -> u64 {
        let count = gone.iter().filter(|gone| **gone).count() as u64;
        if count == 0 {
            return 0;
        }
        part.root = part.root.filter(|_| !gone[0]);
        for (folder, first) in part.folders.iter_mut().zip(&self.firsts) {
            let steps = folder.steps.iter().enumerate();
            let kept = steps.filter(|(slot, _)| !gone[first + slot]).map(|(_, step)| *step);
            folder.steps = kept.collect();
        }
        count
    }
}
