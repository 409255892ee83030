//! The plan that takes a run back: what its steps made goes, what they displaced returns.

use std::collections::HashMap;
use std::io::{self, ErrorKind};
use std::os::fd::{AsFd, OwnedFd};

use crate::drives::{DriveId, DriveMap};
use crate::os::{Entry, Kind, Stat, System};
use crate::overtaken;
use crate::path::{NameRange, Names, TreePath};
use crate::policy::{self, Elsewhere, Folder, NameId, Part, Reason, Reversal, Step, Taken, Verb};
use crate::problem::{Operation, Problem};
use crate::sides::{self, CallError, Pair};
use crate::state::{Known, State};

use super::prune;
use super::record::{Recorded, RecordedPart};

impl Recorded {
    /// The destination as the source of a run back.
    pub(crate) fn pairs(&self, system: &dyn System) -> Result<Vec<Pair>, CallError> {
        self.parts.iter().map(|part| self.pair(system, part)).collect()
    }

    fn pair(&self, system: &dyn System, part: &RecordedPart) -> Result<Pair, CallError> {
        let shown = || part.root.to_string_lossy().into_owned();
        let destination = sides::find_place(system, &part.root)?;
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
        map: &DriveMap,
    ) -> (Part, Vec<Problem>) {
        let memory = &self.parts[at];
        Back { system, pair, map, memory, part: &self.plan.parts[at] }.go()
    }

    /// Where below the destination of a part another drive was mounted that the run went onto.
    pub(crate) fn drives(&self, at: usize) -> &[TreePath] {
        self.plan.drives.get(at).map_or(&[], Vec::as_slice)
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

struct Back<'a> {
    system: &'a dyn System,
    pair: &'a Pair,
    map: &'a DriveMap,
    memory: &'a RecordedPart,
    part: &'a Part,
}

impl Back<'_> {
    fn go(&self) -> (Part, Vec<Problem>) {
        let mut problems = Vec::new();
        let mut reversed = Part { root: self.root(), ..Part::default() };
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.folder_path(at);
            let open = |root: &OwnedFd| self.system.open_folder(root.as_fd(), path.as_bytes()).ok();
            let (there, aside) = (open(&self.pair.destination.anchor), open(&self.pair.source));
            let alike =
                |wanted: &State, there: &Stat| self.alike(folder.known.drive, wanted, there);
            let (mut names, mut steps) = (Names::default(), Vec::new());
            for step in folder.steps.iter().filter(|step| step.reason != Reason::Leftover) {
                let name = folder.names.get(step.name);
                match self.look(&path.join(name), (&there, &aside), name) {
                    Ok(taken) => {
                        let own = names.add(name);
                        steps.extend(policy::reverse(step, own, &taken, &alike));
                    }
                    Err(error) => {
                        let path = self.pair.prefix.join(path.join(name).as_bytes());
                        let operation = Operation::LookAtDestination;
                        problems.push(Problem { path, operation, cause: error.into() });
                    }
                }
            }
            reversed.folders.push(Folder {
                parent: folder.parent,
                name: folder.name.clone(),
                known: self.known(folder.known.drive, there.as_ref()),
                before: self.memory.before.get(path.as_bytes()).map(|before| before.state),
                names,
                steps: steps.into(),
                first: 0,
            });
        }
        self.rename_back(&mut reversed);
        reversed.memory = Some(self.memory.before.clone());
        (reversed, problems)
    }

    /// What the folder that something goes back into is now.
    fn known(&self, drive: DriveId, there: Option<&OwnedFd>) -> Known {
        let inode = there.and_then(|there| {
            let stat = self.system.stat(Entry::Open(there.as_fd())).ok()?;
            Some(stat.identity.inode)
        });
        Known { source: None, destination: inode, drive }
    }

    fn look<'m>(
        &'m self,
        path: &TreePath,
        (there, aside): (&Option<OwnedFd>, &Option<OwnedFd>),
        name: &[u8],
    ) -> io::Result<Taken<'m>> {
        let look = |folder: &Option<OwnedFd>| overtaken::state(self.system, folder.as_ref(), name);
        Ok(Taken {
            there: look(there)?,
            aside: look(aside)?,
            before: self.memory.before.get(path.as_bytes()),
            after: self.memory.after.get(path.as_bytes()).copied(),
        })
    }

    /// What the run renamed has its step where it was before.
    fn rename_back(&self, reversed: &mut Part) {
        let mut added: HashMap<usize, Vec<Step>> = HashMap::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let path = self.part.folder_path(at);
            let root = self.pair.destination.anchor.as_fd();
            let there = self.system.open_folder(root, path.as_bytes()).ok();
            for step in &folder.steps {
                let Some(was) = step.renamed_from().map(|id| self.part.name(id)) else { continue };
                let name = folder.names.get(step.name);
                // Never renamed, or renamed back.
                let Ok(Some(now)) = overtaken::state(self.system, there.as_ref(), name) else {
                    continue;
                };
                let after = self.memory.after.get(path.join(name).as_bytes()).copied();
                let seen = step.destination.filter(|seen| seen.still(&now));
                let now = after.or(seen).unwrap_or_else(|| State::from(&now));
                let to = self.part.folder_path(was.folder as usize).join(&was.name);
                let before = self.memory.before.get(to.as_bytes()).map(|before| before.state);
                let id = u32::try_from(reversed.elsewhere.len()).unwrap_or(u32::MAX);
                let own = u32::try_from(at).unwrap_or(u32::MAX);
                reversed.elsewhere.push(Elsewhere { folder: own, name: name.into() });
                let to = was.folder as usize;
                let name = reversed.folders[to].names.add(&was.name);
                let back = Reversal { from: NameId(id), name, before, now };
                added.entry(to).or_default().push(back.step(step));
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
        let taken = Taken {
            there: Some(stat),
            aside: None,
            before: self.memory.before.get(&[][..]),
            after: self.memory.after.get(&[][..]).copied(),
        };
        let alike = |wanted: &State, there: &Stat| self.alike(DriveId::default(), wanted, there);
        policy::reverse(&step, NameRange::default(), &taken, &alike)
    }

    fn alike(&self, drive: DriveId, wanted: &State, there: &Stat) -> bool {
        let same_time = || self.map.get(drive).reach.agree(wanted.modified(), there.modified);
        wanted.kind == there.kind
            && (there.kind == Kind::Folder || wanted.size == there.size && same_time())
    }
}
