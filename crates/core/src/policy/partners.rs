//! What comes back becomes a name of the file that it was one of, where another name of that is there: as a link, and
//! not as a file of its own.

use std::cmp::Ordering;
use std::collections::HashMap;

use crate::drives::DriveId;
use crate::path::TreePath;
use crate::select::Partner;
use crate::state::{Known, State};

use super::draft::Draft;
use super::part::{Elsewhere, Folder, NameId, Part};
use super::step::{Reason, Relation, Step, Verb};

/// Where a step stands: its folder, and its number in it.
type Place = (usize, usize);

impl Draft<'_> {
    /// What is to be a link cannot be renamed to where it goes.
    pub(super) fn copy_what_has_partners(&mut self) {
        let partners = self.policy.selection.partners();
        if partners.is_empty() {
            return;
        }
        let paths = (0..self.folders.len()).map(|at| (self.path(at), at));
        let places: HashMap<TreePath, usize> = paths.collect();
        for (path, partner) in partners {
            let (above, name) = path.split_last();
            let folder = places.get(&TreePath::from(above)).map(|at| &mut self.folders[*at]);
            let Some(folder) = folder else { continue };
            let names = &folder.names;
            let steps = folder.steps.iter_mut().flatten();
            for step in steps.filter(|step| names.get(step.name) == name) {
                if comes_back(step, partner) && step.reason == Reason::TakenOver {
                    step.reason = Reason::New;
                }
            }
        }
    }
}

/// True for a step that adds what shows nothing that its partner does not. Whether both hold the same is found out
/// before the one that it comes from goes.
fn comes_back(step: &Step, partner: &Partner) -> bool {
    let of = |state: &State| {
        let owner = (state.uid, state.gid);
        (state.kind, state.size, state.modified(), state.mode(), owner, state.flags())
    };
    step.verb == Verb::Add && step.source.is_some_and(|source| of(&source) == of(&partner.state))
}

impl Part {
    /// Makes a link of the step that moves a name back.
    pub(super) fn link_back(&mut self, path: &TreePath, partner: &Partner) {
        let is_near = |at: usize| self.folders[at].known.drive == DriveId::default();
        let place = self.place_of(path).filter(|(at, _)| is_near(*at));
        if place.is_some_and(|(at, slot)| comes_back(&self.folders[at].steps[slot], partner)) {
            let partner = self.name_of(partner);
            self.link(path, partner);
        }
    }

    /// Makes a link of the step for this path.
    pub(crate) fn link(&mut self, path: &TreePath, partner: NameId) {
        if let Some((at, slot)) = self.place_of(path) {
            self.folders[at].steps[slot].relation = Some(Relation::LinkOf(partner));
        }
    }

    /// The name of a partner, for steps to speak of.
    pub(crate) fn name_of(&mut self, partner: &Partner) -> NameId {
        let folder = self.lead_to(partner);
        self.remember(folder, partner.name.clone())
    }

    /// The same of a path; `None` if its folder takes no part.
    pub(crate) fn name_at(&mut self, path: &TreePath) -> Option<NameId> {
        let (above, name) = path.split_last();
        let folder = self.folder_at(above)?;
        Some(self.remember(folder, name.into()))
    }

    fn remember(&mut self, folder: usize, name: Box<[u8]>) -> NameId {
        let id = NameId(number(self.elsewhere.len()));
        self.elsewhere.push(Elsewhere { folder: number(folder), name });
        id
    }

    /// The step for a path.
    pub(crate) fn step_at(&self, path: &TreePath) -> Option<&Step> {
        self.place_of(path).map(|(at, slot)| &self.folders[at].steps[slot])
    }

    fn place_of(&self, path: &TreePath) -> Option<Place> {
        let (above, name) = path.split_last();
        let at = self.folder_at(above)?;
        Some((at, self.folders[at].find(name)?))
    }

    fn folder_at(&self, path: &[u8]) -> Option<usize> {
        let names = path.split(|b| *b == b'/').filter(|name| !name.is_empty());
        let at = names.into_iter().try_fold(0, |at, name| self.child(at, name).ok())?;
        (at < self.folders.len()).then_some(at)
    }

    /// Where a folder in another stands, or would have to.
    fn child(&self, parent: usize, name: &[u8]) -> Result<usize, usize> {
        let mut next = parent + 1;
        // In tree order those in it come after it, by name, each before what is in it.
        while let Some(folder) = self.folders.get(next) {
            let above = folder.parent as usize;
            let order = if above == parent { (*folder.name).cmp(name) } else { Ordering::Less };
            match order {
                _ if above < parent => break,
                Ordering::Less => next += 1,
                Ordering::Equal => return Ok(next),
                Ordering::Greater => break,
            }
        }
        Err(next)
    }

    /// The folder that a partner is in, which need not have taken part so far.
    fn lead_to(&mut self, partner: &Partner) -> usize {
        let mut at = 0;
        for (name, inode) in &partner.folders {
            at = self.child(at, name).unwrap_or_else(|new| {
                let drive = DriveId::default();
                let known = Known { source: None, destination: Some(*inode), drive };
                self.insert(new, at, Folder { name: name.clone(), known, ..Folder::default() });
                new
            });
        }
        at
    }

    fn insert(&mut self, new: usize, parent: usize, folder: Folder) {
        let parents = self.folders.iter_mut().map(|folder| &mut folder.parent);
        let spoken_of = self.elsewhere.iter_mut().map(|named| &mut named.folder);
        for at in parents.chain(spoken_of) {
            *at += u32::from(*at >= number(new));
        }
        self.folders.insert(new, Folder { parent: number(parent), ..folder });
    }
}

fn number(at: usize) -> u32 {
    u32::try_from(at).unwrap_or(u32::MAX)
}
