//! Hard links set aside on another drive are separate files there. When they come back, they become hard links
//! again.

use std::collections::{HashMap, HashSet};
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_drives::map::DriveMap;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Identity, Stat};

use crate::policy::{LinkPartner, Linker, Part, RestoredLinks, Step};
use crate::sides::Pair;
use crate::undo::partners;
use crate::undo::past_run::PastRun;
use crate::undo::same_content::same_content;

/// Its names in tree order, with their former states.
type NamesOfFile = Vec<(TreePath, State)>;

impl PastRun<'_> {
    /// Turns steps that put back names of one file from another drive into hard links.
    pub(crate) fn regroup(&self, at: usize, (pair, map): (&Pair, &DriveMap), part: &mut Part) {
        let mut linker = Linker::new(part);
        let displaced = self.copied_aside(at, (pair, map), &linker);
        if displaced.is_empty() {
            return;
        }
        let anchor = &pair.destination.anchor;
        let mut stayed = self.stayed(at, pair, (&displaced, &linker));
        let mut files: Vec<(Identity, NamesOfFile)> = displaced.into_iter().collect();
        files.sort_by(|(_, a), (_, b)| a[0].0.as_bytes().cmp(b[0].0.as_bytes()));
        for (file, names) in files {
            // Some may be back already.
            let is_back =
                |(path, _): &&(TreePath, State)| !linker.step_at(path).is_some_and(puts_back);
            let mut back = names.iter().filter(is_back);
            let partner = stayed.remove(&file).or_else(|| {
                back.find_map(|(path, was)| partners::at(self.system, anchor, (path, was)))
            });
            let kinds: HashMap<&TreePath, State> =
                names.iter().map(|(path, was)| (path, *was)).collect();
            // The set-aside file may be the only copy.
            let holds_the_same =
                |partner: Option<&LinkPartner>, first: &TreePath, path: &TreePath| {
                    let held = match partner {
                        Some(partner) => (anchor, partner.path()),
                        None => (&pair.source, first.clone()),
                    };
                    let was = kinds[path];
                    self.hold_the_same((held.0, &held.1), (&pair.source, path), &was)
                };
            let paths = names.iter().map(|(path, _)| path.clone()).collect();
            linker.restore(&RestoredLinks { paths, partner }, Some(&holds_the_same));
        }
    }

    /// True if both places hold the same content.
    fn hold_the_same(
        &self,
        one: (&OwnedFd, &TreePath),
        other: (&OwnedFd, &TreePath),
        was: &State,
    ) -> bool {
        let above = |(root, path): (&OwnedFd, &TreePath)| {
            self.system.open_folder(root.as_fd(), path.split_last().0)
        };
        let (Ok(here), Ok(there)) = (above(one), above(other)) else { return false };
        let one = (here.as_fd(), one.1.split_last().1);
        let other = (there.as_fd(), other.1.split_last().1);
        same_content(self.system, one, other, (was.kind, was.size))
    }

    /// Files with names that steps put back, and of which other names were set aside.
    fn copied_aside(
        &self,
        at: usize,
        (pair, map): (&Pair, &DriveMap),
        linker: &Linker<'_>,
    ) -> HashMap<Identity, NamesOfFile> {
        let mut displaced: HashMap<Identity, NamesOfFile> = HashMap::new();
        let past = &self.plan.parts[at];
        for (number, folder) in past.folders.iter().enumerate() {
            let drive = map.get(folder.head.known.drive).identity.drive;
            let path = past.folder_path(number);
            let aside = self.system.open_folder(pair.source.as_fd(), path.as_bytes());
            // The same inode comes back with all its names.
            let is_kept = |file: Identity, name: &[u8]| {
                let folder = aside.as_ref().ok()?;
                let kept = self.system.stat(Entry::Named(folder.as_fd(), name)).ok()?;
                Some(kept.identity == file)
            };
            for step in folder.steps.iter().filter(|step| step.displaces()) {
                let Some(was) = step.destination.filter(|was| was.inode != 0) else { continue };
                let name = folder.head.names.get(step.name);
                let now = self.parts[at].number_now(was.inode);
                let is_kept = is_kept(Identity { drive, inode: was.inode }, name) == Some(true);
                if !is_kept || now != was.inode {
                    let file = Identity { drive, inode: now };
                    displaced.entry(file).or_default().push((path.join(name), was));
                }
            }
        }
        let has_step = |(path, _): &(TreePath, State)| linker.step_at(path).is_some_and(puts_back);
        displaced.retain(|_, names| names.iter().any(has_step));
        displaced
    }

    /// Names of these files that the run left alone or only renamed.
    fn stayed(
        &self,
        at: usize,
        pair: &Pair,
        (displaced, linker): (&HashMap<Identity, NamesOfFile>, &Linker<'_>),
    ) -> HashMap<Identity, LinkPartner> {
        let wanted: HashSet<Identity> = displaced.keys().copied().collect();
        let after = &self.parts[at].after;
        let accepts = |path: &TreePath, now: &Stat| {
            let goes = linker.step_at(path).is_some_and(|step| step.verb != Verb::Adjust);
            let left = after.get(path.as_bytes()).is_some_and(|left| left.state.still(now));
            let is_as_it_was = displaced[&now.identity][0].1.looks_like(now);
            !goes && (left || is_as_it_was)
        };
        partners::find(self.system, &pair.destination.anchor, (&wanted, &accepts))
    }
}

fn puts_back(step: &Step) -> bool {
    step.reason == Reason::Before && matches!(step.verb, Verb::Add | Verb::Replace)
}
