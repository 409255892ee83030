//! A selection by what a run put there: for taking it back.

use std::collections::{HashMap, HashSet};

use utter_echo_files::hidden_names;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::State;
use utter_echo_os::Identity;

use crate::query::{Query, Verdict};

/// Paths that take part, and no others.
#[derive(Debug, Default)]
pub struct RestoreSet {
    paths: HashMap<Vec<u8>, RestoreExtent>,
    /// Folders that lead to them.
    above: HashSet<Vec<u8>>,
    /// Of the paths, those that stay where they are.
    kept: HashSet<Vec<u8>>,
    /// Of the paths, the names that they have on the other side, where those are others.
    old_names: HashMap<Vec<u8>, Vec<u8>>,
    /// What folders on the other side need of their counterparts.
    needs: HashMap<Vec<u8>, FolderNeeds>,
    /// By paths on the other side, the files there that these were names of, where they may have had several.
    files: HashMap<Vec<u8>, Identity>,
    /// Paths on the other side that are to be names of one file again.
    groups: Vec<RestoredLinks>,
}

/// Names of one file that come back.
#[derive(Clone, Debug)]
pub struct RestoredLinks {
    /// All their paths.
    pub paths: Vec<TreePath>,
    /// The name that is there already, if one is.
    pub partner: Option<LinkPartner>,
}

/// A name that stayed where it was when another of the same file went.
#[derive(Clone, Debug)]
pub struct LinkPartner {
    /// The folders that lead to it, from the root down, and their numbers.
    pub folders: Vec<(Box<[u8]>, u64)>,
    /// Its name, without a folder.
    pub name: Box<[u8]>,
    /// The file as it is now.
    pub state: State,
}

/// How much of a path takes part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RestoreExtent {
    /// The entry.
    Itself,
    /// A folder with all that is in it by now.
    WithContents,
}

/// What a folder on the other side needs of its counterpart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FolderNeeds {
    /// It was never changed.
    Nothing,
    /// What went from it, or comes back, changes its time.
    Time,
    /// It went, and was made anew.
    All,
}

impl LinkPartner {
    /// Its path, relative to the root.
    pub fn path(&self) -> TreePath {
        let mut path = TreePath::default();
        self.folders.iter().for_each(|(name, _)| path.push(name));
        path.join(&self.name)
    }
}

impl RestoreSet {
    /// Adds `path` and as much below it as `extent` says.
    pub fn add(&mut self, path: Vec<u8>, extent: RestoreExtent) {
        let ends = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| at);
        self.above.extend(ends.map(|end| path[..end].to_vec()));
        self.paths.insert(path, extent);
    }

    /// The root was there before.
    pub fn keep_root(&mut self) {
        self.kept.insert(Vec::new());
    }

    /// It takes part, and stays where it is.
    pub fn add_kept(&mut self, path: Vec<u8>) {
        self.kept.insert(path.clone());
        self.add(path, RestoreExtent::Itself);
    }

    /// True unless the run put it there.
    pub fn keeps(&self, path: &[u8]) -> bool {
        if self.paths.contains_key(path) || path.is_empty() {
            return self.kept.contains(path);
        }
        let above = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| &path[..at]);
        let mut above = above.filter_map(|above| self.paths.get(above));
        !above.any(|extent| *extent == RestoreExtent::WithContents)
    }

    /// What a move gave this name had another.
    pub fn set_old_name(&mut self, path: Vec<u8>, name: Vec<u8>) {
        self.old_names.insert(path, name);
    }

    /// The path it had before, if a rename is taken back.
    pub fn old_name(&self, path: &[u8]) -> Option<&[u8]> {
        self.old_names.get(path).map(|name| &**name)
    }

    /// What comes back to this path was a name of this file.
    pub fn was_of(&mut self, path: &TreePath, file: Identity) {
        self.files.insert(path.as_bytes().to_vec(), file);
    }

    /// Adds names of one file that are restored together.
    pub fn add_group(&mut self, group: RestoredLinks) {
        self.groups.push(group);
    }

    /// Names of one file that are restored together.
    pub fn groups(&self) -> &[RestoredLinks] {
        &self.groups
    }

    /// False for what comes back and is known to have been no name of the other's file.
    pub fn may_share(&self, path: &TreePath, other: &TreePath) -> bool {
        let file = |path: &TreePath| self.files.get(path.as_bytes());
        let is_known = self.paths.contains_key(path.as_bytes());
        !is_known || file(path).is_some() && file(path) == file(other)
    }

    /// Tells what a folder that is there on the other side needs.
    pub fn needs(&mut self, path: Vec<u8>, needs: FolderNeeds) {
        self.needs.insert(path, needs);
    }

    /// Whether the folder at `path` is made only because something below it is restored.
    pub fn needs_of(&self, path: &[u8]) -> FolderNeeds {
        self.needs.get(path).copied().unwrap_or(FolderNeeds::Nothing)
    }

    /// Whether an entry is restored.
    pub fn judge(&self, asked: &Query<'_>) -> Verdict {
        match self.paths.get(asked.path) {
            _ if asked.all_below => Verdict::Take { all_below: true },
            Some(extent) => Verdict::Take { all_below: *extent == RestoreExtent::WithContents },
            // What an earlier try to take the run back left is cleared.
            None if hidden_names::is_hidden_name(
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
