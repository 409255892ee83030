//! A selection of the entries that a run put in place, for its undo.

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
    /// Those of the paths that stay where they are.
    kept: HashSet<Vec<u8>>,
    /// The names of the paths on the other side, where they differ.
    old_names: HashMap<Vec<u8>, Vec<u8>>,
    /// What folders on the other side need from their counterparts.
    needs: HashMap<Vec<u8>, FolderNeeds>,
    /// The files, by paths on the other side, of which the paths were names, where a file may have had several.
    files: HashMap<Vec<u8>, Identity>,
    /// Paths on the other side that become hard links again.
    groups: Vec<RestoredLinks>,
}

/// Hard links of one file that come back.
#[derive(Clone, Debug)]
pub struct RestoredLinks {
    /// All their paths.
    pub paths: Vec<TreePath>,
    /// The name that exists already, if any.
    pub partner: Option<LinkPartner>,
}

/// A name that stayed when other names of the same file were moved.
#[derive(Clone, Debug)]
pub struct LinkPartner {
    /// The folders that lead to it, from the root down, with their inode numbers.
    pub folders: Vec<(Box<[u8]>, u64)>,
    /// Its name, without a folder.
    pub name: Box<[u8]>,
    /// The file as it is now.
    pub state: State,
}

/// How much of a path is restored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RestoreExtent {
    /// The entry.
    Itself,
    /// A folder with all its present entries.
    WithContents,
}

/// What a folder on the other side needs from its counterpart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FolderNeeds {
    /// It was never changed.
    Nothing,
    /// Its time, which entries that leave or come back change.
    Time,
    /// All its attributes, since it was removed and made again.
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
    /// Adds `path`, and everything below it if `extent` says so.
    pub fn add(&mut self, path: Vec<u8>, extent: RestoreExtent) {
        let ends = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| at);
        self.above.extend(ends.map(|end| path[..end].to_vec()));
        self.paths.insert(path, extent);
    }

    /// The root existed before.
    pub fn keep_root(&mut self) {
        self.kept.insert(Vec::new());
    }

    /// The entry takes part and stays where it is.
    pub fn add_kept(&mut self, path: Vec<u8>) {
        self.kept.insert(path.clone());
        self.add(path, RestoreExtent::Itself);
    }

    /// True unless the run put the entry there.
    pub fn keeps(&self, path: &[u8]) -> bool {
        if self.paths.contains_key(path) || path.is_empty() {
            return self.kept.contains(path);
        }
        let above = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| &path[..at]);
        let mut above = above.filter_map(|above| self.paths.get(above));
        !above.any(|extent| *extent == RestoreExtent::WithContents)
    }

    /// A move renamed the entry to this name.
    pub fn set_old_name(&mut self, path: Vec<u8>, name: Vec<u8>) {
        self.old_names.insert(path, name);
    }

    /// The path before a rename that is undone.
    pub fn old_name(&self, path: &[u8]) -> Option<&[u8]> {
        self.old_names.get(path).map(|name| &**name)
    }

    /// The entry of this path was a name of this file.
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

    /// False if two restored entries are known to have been different files.
    pub fn may_share(&self, path: &TreePath, other: &TreePath) -> bool {
        let file = |path: &TreePath| self.files.get(path.as_bytes());
        let is_known = self.paths.contains_key(path.as_bytes());
        !is_known || file(path).is_some() && file(path) == file(other)
    }

    /// Sets what a folder on the other side needs.
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
            // Leftovers of an earlier undo are cleared.
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
