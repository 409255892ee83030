//! What comes back from a move becomes a name of the file that it was one of, where another name of that stayed.

use crate::compare::Presence;
use crate::drives::DriveId;
use crate::path::TreePath;
use crate::select::Partner;
use crate::state::{Known, State};

use super::draft::{Draft, Drafted};
use super::step::{Reason, Relation, Step, Verb};

impl Draft<'_> {
    /// Makes links of steps that add what has a partner, instead of files of their own. Whether both hold the same is
    /// found out before the other one goes.
    pub(super) fn link_to_partners(&mut self) {
        let selection = self.policy.selection;
        for (path, partner) in selection.partners() {
            let Some((at, slot)) = self.place_of(path) else { continue };
            let is_near = self.folders[at].drive() == DriveId::default();
            let makes = |step: &Step| step.verb == Verb::Add && is_alike(step, &partner.state);
            if !is_near || !self.folders[at].steps[slot].as_ref().is_some_and(makes) {
                continue;
            }
            let folder = self.lead_to(partner);
            let id = self.name(folder, partner.name.clone());
            // What leads to the partner may have come before.
            let Some(place) = self.place_of(path) else { continue };
            if let Some(step) = self.step(place) {
                step.reason = Reason::New;
                step.relation = Some(Relation::LinkOf(id));
            }
        }
    }

    fn place_of(&self, path: &TreePath) -> Option<(usize, usize)> {
        let (above, name) = path.split_last();
        let mut at = 0;
        for part in above.split(|b| *b == b'/').filter(|part| !part.is_empty()) {
            at = self.child(at, part).ok()?;
        }
        let folder = self.folders.get(at)?;
        let is_it = |step: &Option<Step>| step.is_some_and(|s| folder.names.get(s.name) == name);
        Some((at, folder.steps.iter().position(is_it)?))
    }

    /// Where a folder in another stands, or would have to.
    fn child(&self, parent: usize, name: &[u8]) -> Result<usize, usize> {
        let mut next = parent + 1;
        // In tree order those in it come after it, by name, each before what is in it.
        while let Some(folder) = self.folders.get(next) {
            let above = folder.parent as usize;
            if above < parent {
                break;
            }
            if above == parent {
                match (*folder.name).cmp(name) {
                    std::cmp::Ordering::Less => {}
                    std::cmp::Ordering::Equal => return Ok(next),
                    std::cmp::Ordering::Greater => break,
                }
            }
            next += 1;
        }
        Err(next)
    }

    /// The folder of a partner, which need not have taken part so far.
    fn lead_to(&mut self, partner: &Partner) -> usize {
        let mut at = 0;
        for (name, inode) in &partner.folders {
            at = self.child(at, name).unwrap_or_else(|new| {
                let drive = DriveId::default();
                let known = Known { source: None, destination: Some(*inode), drive };
                let folder = Drafted::empty(name.clone(), Presence::Destination, known);
                self.insert(new, at, folder);
                new
            });
        }
        at
    }

    fn insert(&mut self, new: usize, parent: usize, mut folder: Drafted) {
        let new_number = u32::try_from(new).unwrap_or(u32::MAX);
        let numbers = self.folders.iter_mut().map(|folder| &mut folder.parent);
        let spoken_of = self.elsewhere.iter_mut().map(|named| &mut named.folder);
        for number in numbers.chain(spoken_of) {
            *number += u32::from(*number >= new_number);
        }
        folder.parent = u32::try_from(parent).unwrap_or(u32::MAX);
        self.folders.insert(new, folder);
    }
}

/// True if what comes back shows nothing that its partner does not.
fn is_alike(step: &Step, partner: &State) -> bool {
    let of = |state: &State| {
        (
            state.kind,
            state.size,
            state.modified(),
            state.mode(),
            state.uid,
            state.gid,
            state.flags(),
        )
    };
    step.source.is_some_and(|source| of(&source) == of(partner))
}
