//! The plan that takes a run back: what its steps made goes, what they displaced returns.

use std::collections::HashMap;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};

use crate::drift;
use crate::os::{Entry, Kind, Stat, System};
use crate::pair::{self, CallError, Pair};
use crate::plan::{Before, Folder, Leader, LeaderId, Names, Part, Reason, State, Step, Verb};
use crate::problem::{Operation, Problem};
use crate::reach::Reach;

use super::prune;
use super::record::{Recorded, RecordedPart};

impl Recorded {
    /// The destination as the source of a run back.
    pub(crate) fn pairs(&self, system: &dyn System) -> Result<Vec<Pair>, CallError> {
        self.parts.iter().map(|part| self.pair(system, part)).collect()
    }

    fn pair(&self, system: &dyn System, part: &RecordedPart) -> Result<Pair, CallError> {
        let shown = || part.root.to_string_lossy().into_owned();
        let destination = pair::find_place(system, &part.root)?;
        if !destination.exists() {
            return Err(CallError::NoDestination(shown()));
        }
        let closed = |cause| CallError::Closed { path: self.path.to_string_lossy().into(), cause };
        let source = system.open_folder(self.folder.as_fd(), &part.prefix).map_err(closed)?;
        let source_stat = system.stat(Entry::Open(source.as_fd())).map_err(closed)?;
        Ok(Pair {
            source,
            source_stat,
            destination,
            single: None,
            prefix: (&*part.prefix).into(),
            source_shown: self.path.to_string_lossy().into_owned(),
            destination_shown: shown(),
            destination_path: part.root.clone(),
        })
    }

    /// The steps that take back what one part of the run did, as far as that is still to be done.
    pub(crate) fn reversed(
        &self,
        system: &dyn System,
        at: usize,
        pair: &Pair,
        reach: &Reach,
    ) -> (Part, Vec<Problem>) {
        let memory = &self.parts[at];
        let reversal = Reversal { system, pair, reach, memory, part: &self.plan.parts[at] };
        reversal.go()
    }

    /// Removes what is left of the run's folder, and its record.
    pub fn discard(&self, system: &dyn System) -> io::Result<()> {
        self.remove_new_roots(system)?;
        prune::remove_run(system, self.above.as_fd(), &self.name)
    }

    /// A destination folder that the run made, and that holds nothing any more.
    fn remove_new_roots(&self, system: &dyn System) -> io::Result<()> {
        for (part, recorded) in self.plan.parts.iter().zip(&self.parts) {
            let is_new = part.root.is_some_and(|step| step.verb == Verb::Add);
            let (true, Some(name), Some(above)) =
                (is_new, recorded.root.file_name(), recorded.root.parent())
            else {
                continue;
            };
            let above = system.open_root(above)?;
            match system.remove_folder(above.as_fd(), name.as_encoded_bytes()) {
                // Somebody else put something into it.
                Err(e) if e.kind() == ErrorKind::DirectoryNotEmpty => {}
                other => other?,
            }
        }
        Ok(())
    }
}

struct Reversal<'a> {
    system: &'a dyn System,
    pair: &'a Pair,
    reach: &'a Reach,
    memory: &'a RecordedPart,
    part: &'a Part,
}

/// What is there of one entry now.
struct Now<'a> {
    there: Option<Stat>,
    aside: Option<Stat>,
    before: Option<&'a Before>,
    after: Option<State>,
}

impl Reversal<'_> {
    fn go(&self) -> (Part, Vec<Problem>) {
        let mut problems = Vec::new();
        let mut reversed = Part { root: self.root(), ..Part::default() };
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.folder_path(at);
            let open = |root: &OwnedFd| self.system.open_folder(root.as_fd(), path.as_bytes()).ok();
            let (there, aside) = (open(&self.pair.destination.anchor), open(&self.pair.source));
            let (mut names, mut steps) = (Names::default(), Vec::new());
            for step in folder.steps.iter().filter(|step| step.reason != Reason::Leftover) {
                let name = folder.names.get(step.name);
                let path = path.join(name);
                let look =
                    |folder: &Option<OwnedFd>| drift::state(self.system, folder.as_ref(), name);
                let looked = look(&there).and_then(|there| Ok((there, look(&aside)?)));
                let now = match looked {
                    Ok((there, aside)) => Now {
                        there,
                        aside,
                        before: self.memory.before.get(path.as_bytes()),
                        after: self.memory.after.get(path.as_bytes()).copied(),
                    },
                    Err(error) => {
                        let path = self.pair.prefix.join(path.as_bytes());
                        let operation = Operation::LookAtDestination;
                        problems.push(Problem { path, operation, cause: error.into() });
                        continue;
                    }
                };
                if let Some(back) = self.back(step, &now) {
                    let name = names.add(name);
                    steps.push(Step { name, aspects: step.aspects, ..back });
                }
            }
            reversed.folders.push(Folder {
                parent: folder.parent,
                name: folder.name.clone(),
                source: self.memory.before.get(path.as_bytes()).map(|before| before.state),
                names,
                steps: steps.into(),
                first: 0,
            });
        }
        self.rename_back(&mut reversed);
        reversed.memory = Some(self.memory.before.clone());
        (reversed, problems)
    }

    /// What the run renamed has its step where it was before.
    fn rename_back(&self, reversed: &mut Part) {
        let mut added: HashMap<usize, Vec<Step>> = HashMap::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.folder_path(at);
            let root = self.pair.destination.anchor.as_fd();
            let there = self.system.open_folder(root, path.as_bytes()).ok();
            for step in folder.steps.iter().filter(|step| step.verb == Verb::Rename) {
                let Some(leader) = step.leader else { continue };
                let was = &self.part.leaders[leader.0 as usize];
                let name = folder.names.get(step.name);
                // Never renamed, or renamed back.
                let Ok(Some(now)) = drift::state(self.system, there.as_ref(), name) else {
                    continue;
                };
                let after = self.memory.after.get(path.join(name).as_bytes()).copied();
                let seen =
                    step.destination.filter(|seen| seen.still(&now)).or(Some(State::from(&now)));
                let to = self.part.folder_path(was.folder as usize).join(&was.name);
                let before = self.memory.before.get(to.as_bytes()).map(|before| before.state);
                let mut back = Step::new(Verb::Rename, Reason::Before, before, after.or(seen));
                back.aspects = step.aspects;
                let id = u32::try_from(reversed.leaders.len()).unwrap_or(u32::MAX);
                back.leader = Some(LeaderId(id));
                let own = u32::try_from(at).unwrap_or(u32::MAX);
                reversed.leaders.push(Leader { folder: own, name: name.into() });
                let to = was.folder as usize;
                back.name = reversed.folders[to].names.add(&was.name);
                added.entry(to).or_default().push(back);
            }
        }
        for (at, more) in added {
            let Folder { names, steps, .. } = &mut reversed.folders[at];
            *steps = std::mem::take(steps).into_iter().chain(more).collect();
            steps.sort_by(|a, b| names.get(a.name).cmp(names.get(b.name)));
        }
    }

    /// The destination's own folder: if the run made it, it goes when all is done.
    fn root(&self) -> Option<Step> {
        let step = self.part.root.filter(|step| step.verb == Verb::Adjust)?;
        let stat = self.system.stat(Entry::Pinned(self.pair.destination.anchor.as_fd())).ok()?;
        let now = Now {
            there: Some(stat),
            aside: None,
            before: self.memory.before.get(&[][..]),
            after: self.memory.after.get(&[][..]).copied(),
        };
        self.back(&step, &now).map(|back| Step { aspects: step.aspects, ..back })
    }

    /// The step that takes one step back; `None` if it was never taken, or is taken back already.
    fn back(&self, step: &Step, now: &Now<'_>) -> Option<Step> {
        let made = self.made(step, now);
        let planned =
            |verb, reason, source, destination| Some(Step::new(verb, reason, source, destination));
        match step.verb {
            Verb::Add => {
                now.there?;
                planned(Verb::Remove, Reason::Made, None, made)
            }
            Verb::Remove | Verb::Replace => {
                let was = step.destination?;
                if self.is_back(&was, now) {
                    return None;
                }
                // Lost, if nothing is aside: the step says so when it comes up.
                let kept = now.before.map(|before| before.state);
                let kept = kept.or(now.aside.as_ref().map(State::from)).or(Some(was));
                match now.there {
                    Some(_) if step.verb == Verb::Replace => {
                        planned(Verb::Replace, Reason::Before, kept, made)
                    }
                    _ => planned(Verb::Add, Reason::Before, kept, None),
                }
            }
            // Told by the folder it was in: see `renamed_back`.
            Verb::Rename => None,
            Verb::Adjust => {
                let before = now.before?;
                let there = now.there.as_ref();
                let stays = there.is_some_and(|there| State::from(there) == before.state);
                // Where only what a state does not show was changed, it is put back in any case.
                if stays && now.after.is_some_and(|after| after != before.state) {
                    return None;
                }
                let after = now.after.or(there.map(State::from));
                planned(Verb::Adjust, Reason::Aspects, Some(before.state), after)
            }
        }
    }

    /// What the step left. The run may have been killed before it could write that down; then what
    /// is there counts as made by it if it is as the plan wanted it.
    fn made(&self, step: &Step, now: &Now<'_>) -> Option<State> {
        let as_planned =
            |there: &&Stat| step.source.is_some_and(|wanted| self.alike(&wanted, there));
        now.after.or_else(|| now.there.as_ref().filter(as_planned).map(State::from)).or(step.source)
    }

    /// True if what the run displaced is in its place: it was never displaced, or was brought back.
    fn is_back(&self, was: &State, now: &Now<'_>) -> bool {
        let Some(there) = &now.there else { return false };
        let is_made = now.after.is_some_and(|after| after.still(there));
        was.still(there) || !is_made && self.alike(was, there)
    }

    fn alike(&self, wanted: &State, there: &Stat) -> bool {
        wanted.kind == there.kind
            && (there.kind == Kind::Folder
                || wanted.size == there.size
                    && self.reach.same_time(wanted.modified(), there.modified))
    }
}
