//! Dependencies of steps on a step that is dropped: nothing happens in a folder that is not made, nothing is
//! removed for a replacement that is dropped, a folder in which something stays is neither removed nor replaced,
//! and no link is made to a file that is not written.

use std::collections::HashSet;

use utter_echo_model::verb::{Reason, Side, Verb};
use utter_echo_os::Kind;

use crate::policy::part::Part;
use crate::policy::step::Step;
use crate::policy::step_id::StepId;

/// Removes steps that are not possible in the present part. Returns their number.
pub(super) fn prune(part: &mut Part) -> u64 {
    part.number_from(0);
    DependencyGraph::of(part).prune(part, |_| false)
}

/// Removes steps from a part, by their numbers in the plan, and steps that depend on them. Returns their number.
pub(crate) fn withdraw(part: &mut Part, unwanted: &HashSet<usize>) -> u64 {
    let steps = DependencyGraph::of(part).prune(part, |number| unwanted.contains(&number));
    let source_removals = settle_source_removals(part, |number| unwanted.contains(&number));
    steps + source_removals
}

/// Removes source removals that are not possible in the present part: of entries that do not arrive, and of folders
/// in which something stays. `unwanted` selects more, by their numbers in the plan. Returns their number.
pub(super) fn settle_source_removals(part: &mut Part, unwanted: impl Fn(usize) -> bool) -> u64 {
    let mut stay: HashSet<(u32, Box<[u8]>)> = HashSet::new();
    let mut gone = 0;
    for at in (0..part.folders.len()).rev() {
        let folder = &part.folders[at];
        let kept: Vec<Step> = part
            .steps_of(at, Side::Source)
            .filter_map(|(id, step)| {
                let name = folder.name(step);
                // An attribute change made by another name of the same file counts for this name, too.
                let is_there = step.reason == Reason::Arrived || step.destination.is_some();
                let arrives = is_there || folder.find(name).is_some();
                let is_held = step.kind() == Kind::Folder
                    && stay.contains(&(u32::try_from(at).unwrap_or(u32::MAX), name.into()));
                (arrives && !is_held && !unwanted(part.number(id))).then_some(*step)
            })
            .collect();
        let lost = folder.source_removals.len() - kept.len();
        let folder = &mut part.folders[at];
        folder.source_removals = kept.into();
        folder.source_stays |= lost > 0;
        gone += lost as u64;
        if folder.source_stays {
            stay.insert((folder.parent, folder.head.name.clone()));
        }
    }
    let top_stays = part.folders.first().is_some_and(|top| top.source_stays);
    if part.root_source_removal.is_some() && top_stays {
        part.root_source_removal = None;
        gone += 1;
    }
    gone
}

/// The dependencies of the steps that change the destination.
struct DependencyGraph {
    /// Each folder's own step.
    own: Vec<Option<StepId>>,
    /// Whether each step is dropped, from the first step of the part on.
    gone: Vec<bool>,
}

impl DependencyGraph {
    fn of(part: &Part) -> Self {
        let own = (0..part.folders.len()).map(|at| part.own_step(at).map(|(id, _)| id));
        let below: usize = part.folders.iter().map(|folder| folder.steps.len()).sum();
        let gone = vec![false; usize::from(part.root.is_some()) + below];
        Self { own: own.collect(), gone }
    }

    fn is_gone(&self, part: &Part, id: StepId) -> bool {
        self.gone[part.number(id) - part.first]
    }

    fn lose(&mut self, part: &Part, id: StepId) {
        self.gone[part.number(id) - part.first] = true;
    }

    fn count(&self) -> usize {
        self.gone.iter().filter(|gone| **gone).count()
    }

    /// `unwanted` gets numbers in the plan.
    fn prune(mut self, part: &mut Part, unwanted: impl Fn(usize) -> bool) -> u64 {
        let first = part.first;
        self.gone.iter_mut().enumerate().for_each(|(at, gone)| *gone = unwanted(first + at));
        loop {
            let before = self.count();
            self.go_down(part);
            self.go_along_links(part);
            self.go_up(part);
            if self.count() == before {
                break;
            }
        }
        self.take_out(part)
    }

    /// Drops steps in folders that are not made, and removals for a replacement that is dropped.
    fn go_down(&mut self, part: &Part) {
        let (mut missing, mut spared) = (Vec::new(), Vec::new());
        for (at, folder) in part.folders.iter().enumerate() {
            let lost = self.own[at].filter(|id| self.is_gone(part, *id));
            let lost = lost.and_then(|id| part.step(id));
            let is_missing = match self.own[at] {
                Some(_) => lost.is_some_and(Step::makes_folder),
                None => at != 0 && folder.head.known.destination.is_none(),
            };
            let is_spared = lost.is_some_and(Step::takes_a_folders_place);
            let parent = folder.parent as usize;
            missing.push(is_missing || at != 0 && missing[parent]);
            spared.push(is_spared || at != 0 && spared[parent]);
            for (id, step) in part.steps_of(at, Side::Destination) {
                if missing[at] || spared[at] && step.verb == Verb::Remove {
                    self.lose(part, id);
                }
            }
        }
    }

    fn go_along_links(&mut self, part: &Part) {
        for (id, step) in part.steps_on(Side::Destination) {
            let Some(leader) = step.link().map(|name| part.name(name)) else { continue };
            let leads = part.find(leader.folder as usize, &leader.name);
            if leads.is_some_and(|leads| self.is_gone(part, leads)) {
                self.lose(part, id);
            }
        }
    }

    /// Drops steps that would remove or replace a folder in which something stays.
    fn go_up(&mut self, part: &Part) {
        let takes_away = |step: &Step| step.verb == Verb::Remove || step.takes_a_folders_place();
        let mut holds: HashSet<usize> = HashSet::new();
        for (id, step) in part.steps_on(Side::Destination).filter(|(id, _)| self.is_gone(part, *id))
        {
            if takes_away(step) {
                holds.insert(id.folder());
            }
            holds.extend(step.renamed_from().map(|name| part.name(name).folder as usize));
        }
        for at in (1..part.folders.len()).rev() {
            let Some(id) = self.own[at].filter(|_| holds.contains(&at)) else { continue };
            if part.step(id).is_some_and(takes_away) {
                self.lose(part, id);
                holds.insert(part.folders[at].parent as usize);
            }
        }
    }

    fn take_out(&self, part: &mut Part) -> u64 {
        let count = self.count() as u64;
        if count == 0 {
            return 0;
        }
        let stays = |id| !self.is_gone(part, id);
        let root = part.root.filter(|_| stays(StepId::of_root(Side::Destination)));
        let kept = |at| part.steps_of(at, Side::Destination).filter(|(id, _)| stays(*id));
        let kept = (0..part.folders.len()).map(|at| kept(at).map(|(_, step)| *step).collect());
        let kept: Vec<Box<[Step]>> = kept.collect();
        part.root = root;
        for (folder, steps) in part.folders.iter_mut().zip(kept) {
            folder.steps = steps;
        }
        count
    }
}
