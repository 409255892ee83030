//! A selection by what a run put there: for taking it back.

use std::collections::{HashMap, HashSet};

use crate::os::Identity;
use crate::path::TreePath;
use crate::state::State;
use crate::temporary;

use super::{Asked, Verdict};

/// Paths that take part, and no others.
#[derive(Debug, Default)]
pub(crate) struct Chosen {
    paths: HashMap<Vec<u8>, Reach>,
    /// Folders that lead to them.
    above: HashSet<Vec<u8>>,
    /// Of the paths, those that stay where they are.
    kept: HashSet<Vec<u8>>,
    /// Of the paths, the names that they have on the other side, where those are others.
    old_names: HashMap<Vec<u8>, Vec<u8>>,
    /// What folders on the other side need of their counterparts.
    needs: HashMap<Vec<u8>, Needs>,
    /// By paths on the other side, the files there that these were names of, where they may have had several.
    files: HashMap<Vec<u8>, Identity>,
    /// Paths on the other side that are to be names of one file again.
    groups: Vec<Group>,
}

/// Names of one file that come back.
#[derive(Clone, Debug)]
pub(crate) struct Group {
    pub(crate) paths: Vec<TreePath>,
    pub(crate) partner: Option<Partner>,
}

/// A name that stayed where it was when another of the same file went.
#[derive(Clone, Debug)]
pub(crate) struct Partner {
    /// The folders that lead to it, from the root down, and their numbers.
    pub(crate) folders: Vec<(Box<[u8]>, u64)>,
    pub(crate) name: Box<[u8]>,
    /// The file as it is now.
    pub(crate) state: State,
}

/// How much of a path takes part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Reach {
    /// The entry.
    Itself,
    /// A folder with all that is in it by now.
    WithContents,
}

/// What a folder on the other side needs of its counterpart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Needs {
    /// It was never changed.
    Nothing,
    /// What went from it, or comes back, changes its time.
    Time,
    /// It went, and was made anew.
    All,
}

impl Partner {
    pub(crate) fn path(&self) -> TreePath {
        let mut path = TreePath::default();
        self.folders.iter().for_each(|(name, _)| path.push(name));
        path.join(&self.name)
    }
}

impl Chosen {
    pub(crate) fn add(&mut self, path: Vec<u8>, reach: Reach) {
        let ends = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| at);
        self.above.extend(ends.map(|end| path[..end].to_vec()));
        self.paths.insert(path, reach);
    }

    /// The root was there before.
    pub(crate) fn keep_root(&mut self) {
        self.kept.insert(Vec::new());
    }

    /// It takes part, and stays where it is.
    pub(crate) fn add_kept(&mut self, path: Vec<u8>) {
        self.kept.insert(path.clone());
        self.add(path, Reach::Itself);
    }

    /// True unless the run put it there.
    pub(super) fn keeps(&self, path: &[u8]) -> bool {
        if self.paths.contains_key(path) || path.is_empty() {
            return self.kept.contains(path);
        }
        let above = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| &path[..at]);
        let mut above = above.filter_map(|above| self.paths.get(above));
        !above.any(|reach| *reach == Reach::WithContents)
    }

    /// What a move gave this name had another.
    pub(crate) fn gets_back(&mut self, path: Vec<u8>, name: Vec<u8>) {
        self.old_names.insert(path, name);
    }

    pub(super) fn old_name(&self, path: &[u8]) -> Option<&[u8]> {
        self.old_names.get(path).map(|name| &**name)
    }

    /// What comes back to this path was a name of this file.
    pub(crate) fn was_of(&mut self, path: &TreePath, file: Identity) {
        self.files.insert(path.as_bytes().to_vec(), file);
    }

    pub(crate) fn add_group(&mut self, group: Group) {
        self.groups.push(group);
    }

    pub(super) fn groups(&self) -> &[Group] {
        &self.groups
    }

    /// False for what comes back and is known to have been no name of the other's file.
    pub(super) fn may_share(&self, path: &TreePath, other: &TreePath) -> bool {
        let file = |path: &TreePath| self.files.get(path.as_bytes());
        let is_known = self.paths.contains_key(path.as_bytes());
        !is_known || file(path).is_some() && file(path) == file(other)
    }

    /// Tells what a folder that is there on the other side needs.
    pub(crate) fn needs(&mut self, path: Vec<u8>, needs: Needs) {
        self.needs.insert(path, needs);
    }

    pub(super) fn needs_of(&self, path: &[u8]) -> Needs {
        self.needs.get(path).copied().unwrap_or(Needs::Nothing)
    }

    pub(super) fn judge(&self, asked: &Asked<'_>) -> Verdict {
        match self.paths.get(asked.path) {
            _ if asked.all_below => Verdict::Take { all_below: true },
            Some(reach) => Verdict::Take { all_below: *reach == Reach::WithContents },
            // What an earlier try to take the run back left is cleared.
            None if temporary::is_ours(
                asked.path.rsplit(|b| *b == b'/').next().unwrap_or_default(),
            ) =>
            {
                Verdict::Take { all_below: true }
            }
            None if self.above.contains(asked.path) => Verdict::IfNeeded { all_below: false },
            None => Verdict::Leave,
        }
    }
}
