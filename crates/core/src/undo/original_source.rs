//! The original source when a move is undone: what is still there, and which names were hard links of one file.

use std::collections::{HashMap, HashSet};
use std::os::fd::{AsFd as _, OwnedFd};

use utter_echo_model::bytes::Bytes;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::State;
use utter_echo_model::verb::Verb;
use utter_echo_os::{Entry, Identity, Kind, Stat, System};

use crate::journal::PastPart;
use crate::policy::{LinkPartner, Linker, Part, RestoredLinks, Step};
use crate::sides::Pair;
use crate::undo::partners;
use crate::undo::past_run::PastRun;

/// Files of which names were removed from a source: their states, and those names.
type RemovedNames = HashMap<Identity, (State, Vec<TreePath>)>;

/// The source of one part of a move.
pub(crate) struct OriginalSource<'a> {
    system: &'a dyn System,
    root: Option<OwnedFd>,
    single: Option<Vec<u8>>,
}

impl PastPart {
    pub(crate) fn home<'a>(&self, system: &'a dyn System) -> OriginalSource<'a> {
        let origin = self.moved.origin.as_ref();
        let root = origin.and_then(|origin| system.open_root(&origin.folder.clone().path()).ok());
        let single = origin.and_then(|origin| Some(origin.single.clone()?.into_vec()));
        OriginalSource { system, root, single }
    }
}

impl OriginalSource<'_> {
    /// True for what never left the source, or looks as if it had not.
    pub(crate) fn still_has(&self, path: &TreePath, step: &Step) -> bool {
        // A new folder serves as well: its entries are checked one by one.
        let is_it = |was: State, now: Stat| {
            was.still(&now) || was.kind == Kind::Folder && now.kind == was.kind
        };
        step.source.zip(self.stat(path)).is_some_and(|(was, now)| is_it(was, now))
    }

    /// True if the source exists.
    pub(crate) fn is_there(&self) -> bool {
        if self.single.is_some() { self.has(&TreePath::default()) } else { self.root.is_some() }
    }

    /// True if something has this path.
    pub(crate) fn has(&self, path: &TreePath) -> bool {
        self.stat(path).is_some()
    }

    fn stat(&self, path: &TreePath) -> Option<Stat> {
        let (above, name) = path.split_last();
        let name = self.single.as_deref().unwrap_or(name);
        let above = self.system.open_folder(self.root.as_ref()?.as_fd(), above).ok()?;
        self.system.stat(Entry::Named(above.as_fd(), name)).ok()
    }

    /// The returning entries that were hard links of one file, with a name of it that stayed or is back.
    pub(crate) fn groups(&self, of: (&Part, &PastPart, &Pair)) -> Vec<RestoredLinks> {
        let went = self.what_went(of);
        let mut stayed = self.names_that_stayed(&went, (of.0, of.2));
        let groups = went.into_iter().map(|(file, (was, paths))| {
            // Some may be back already.
            let back = || {
                let root = self.root.as_ref()?;
                paths.iter().find_map(|path| partners::at(self.system, root, (path, &was)))
            };
            let partner = stayed.remove(&file).or_else(back);
            RestoredLinks { paths, partner }
        });
        groups.filter(|group| group.partner.is_some() || group.paths.len() > 1).collect()
    }

    /// Files that may have had several names, and of which at least one was copied.
    fn what_went(&self, (part, past, pair): (&Part, &PastPart, &Pair)) -> RemovedNames {
        let (mut went, mut copied) = (RemovedNames::new(), HashSet::new());
        for (at, folder) in part.folders.iter().enumerate() {
            let drive = self.drive_of(pair, &part.source_path(at));
            let moved = folder
                .source_removals
                .iter()
                .chain(folder.steps.iter().filter(|s| s.is_taken_over()));
            for step in moved.filter(|step| step.kind() != Kind::Folder) {
                let there = part.folder_path(at).join(folder.head.names.get(step.name));
                let proven = past.moved.proven.get(there.as_bytes());
                let is_alone = proven.is_some_and(|(here, _)| here.is_alone());
                let Some(was) = step.source.filter(|was| was.inode != 0 && !is_alone) else {
                    continue;
                };
                let own = part.source_path(at).join(folder.name_in_source(step));
                let own = self.single.as_deref().map_or(own, TreePath::from);
                let file = Identity { drive, inode: was.inode };
                went.entry(file).or_insert((was, Vec::new())).1.push(own);
                if step.verb == Verb::RemoveSource {
                    copied.insert(file);
                }
            }
        }
        // A file renamed with all its names is unchanged.
        went.retain(|file, _| copied.contains(file));
        went
    }

    /// The first name of each of these files that is unchanged, also one that was renamed with its folder and is
    /// renamed back with it.
    fn names_that_stayed(
        &self,
        went: &RemovedNames,
        (part, pair): (&Part, &Pair),
    ) -> HashMap<Identity, LinkPartner> {
        if went.is_empty() {
            return HashMap::new();
        }
        let wanted = went.keys().copied().collect();
        let is_as_it_was =
            |now: &Stat| went.get(&now.identity).is_some_and(|(was, _)| was.is_alike(now));
        let stayed = |_: &TreePath, now: &Stat| is_as_it_was(now);
        let renamed: Vec<TreePath> = folders_taken_over(part).collect();
        let comes_back = |path: &TreePath, now: &Stat| {
            renamed.iter().any(|folder| path.is_below(folder)) && is_as_it_was(now)
        };
        let mut found = if renamed.is_empty() {
            HashMap::new()
        } else {
            partners::find(self.system, &pair.source, (&wanted, &comes_back))
        };
        let here = self.root.as_ref();
        found.extend(
            here.iter().flat_map(|root| partners::find(self.system, root, (&wanted, &stayed))),
        );
        found
    }

    /// The drive of the entries of this folder. What is gone by now was on the drive of the nearest folder above
    /// that is left.
    fn drive_of(&self, pair: &Pair, folder: &TreePath) -> u64 {
        let left = self.root.as_ref().and_then(|root| {
            let mut path = folder.as_bytes();
            loop {
                match self.system.open_folder(root.as_fd(), path) {
                    Ok(left) => break self.system.stat(Entry::Open(left.as_fd())).ok(),
                    Err(_) if path.is_empty() => break None,
                    Err(_) => path = &path[..path.iter().rposition(|b| *b == b'/').unwrap_or(0)],
                }
            }
        });
        left.unwrap_or(pair.destination.anchor_stat).identity.drive
    }
}

impl PastRun<'_> {
    /// Names of one file that were sources of their own become hard links again, each in a part of its own.
    pub(crate) fn link_single_sources(&self, parts: &mut [Part]) {
        let mut known: HashMap<(Bytes, u64), LinkPartner> = HashMap::new();
        for (past, old) in self.left() {
            let home = past.home(self.system);
            if let (Some((key, name, was)), Some(root)) = (single_source(past, old), &home.root) {
                // It never left, or is back already.
                let back = partners::at(self.system, root, (&name, &was));
                back.map(|partner| known.entry(key).or_insert(partner));
            }
        }
        for ((past, old), part) in self.left().zip(parts) {
            let Some((key, name, _)) = single_source(past, old) else { continue };
            let step = part.folders.first().and_then(|top| top.steps.first());
            let Some(state) = step.and_then(|step| step.source) else { continue };
            if let Some(partner) = known.remove(&key) {
                let group = RestoredLinks { paths: vec![name], partner: Some(partner) };
                Linker::new(part).restore(&group, None);
                known.extend(group.partner.map(|partner| (key, partner)));
            } else {
                let partner =
                    LinkPartner { folders: Vec::new(), name: name.as_bytes().into(), state };
                known.insert(key, partner);
            }
        }
    }
}

/// Of a single entry other than a folder that left its source: its folder and inode number, its name, and its state.
fn single_source(past: &PastPart, part: &Part) -> Option<((Bytes, u64), TreePath, State)> {
    let origin = past.moved.origin.as_ref()?;
    let name = origin.single.clone()?.into_vec();
    let leaves = |step: &&Step| step.verb == Verb::RemoveSource || step.is_taken_over();
    let was = part.all_steps().find(leaves)?.source.filter(|was| was.inode != 0)?;
    Some(((origin.folder.clone(), was.inode), TreePath::from(&*name), was))
}

/// Folders renamed as a whole, by their former names.
fn folders_taken_over(part: &Part) -> impl Iterator<Item = TreePath> {
    part.folders.iter().enumerate().flat_map(|(at, folder)| {
        let whole = folder.steps.iter().filter(|step| step.takes_a_folder_over());
        let whole = whole.filter(|step| folder.other_name_in_source(step).is_none());
        let above = part.folder_path(at);
        let is_near = above == part.source_path(at);
        whole.filter(move |_| is_near).map(move |step| above.join(folder.head.names.get(step.name)))
    })
}
