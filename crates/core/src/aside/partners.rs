//! Names of a file that stayed in a source when others of it were moved: what comes back becomes a name of the same
//! file again.

use std::collections::HashMap;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use crate::os::{Entry, Kind, Stat, System};
use crate::select::Partner;
use crate::state::State;
use crate::temporary;
use crate::tree::Listing;

/// What a file was like when one of its names was moved, by its number.
pub(super) type Wanted = HashMap<u64, State>;

/// The first name of each of these files, in folders of one drive; `deep` if not only in the topmost. What cannot be
/// looked at has none.
pub(super) fn find(
    system: &dyn System,
    root: &OwnedFd,
    wanted: &Wanted,
    deep: bool,
) -> HashMap<u64, Partner> {
    let mut search = Search { system, wanted, found: HashMap::new() };
    if wanted.is_empty() {
        return search.found;
    }
    let Ok(top) = system.stat(Entry::Pinned(root.as_fd())) else { return search.found };
    // The path of a folder, and the numbers of those that lead there.
    let mut waiting = vec![(Vec::new(), Vec::new())];
    while let Some((path, folders)) = waiting.pop() {
        if search.found.len() == wanted.len() {
            break;
        }
        let below = search.folder(root.as_fd(), &top, (&path, &folders)).unwrap_or_default();
        if deep {
            waiting.extend(below.into_iter().rev());
        }
    }
    search.found
}

/// Names of folders from the root down, and their numbers.
type Folders = Vec<(Box<[u8]>, u64)>;

struct Search<'a> {
    system: &'a dyn System,
    wanted: &'a Wanted,
    found: HashMap<u64, Partner>,
}

impl Search<'_> {
    /// Looks at the names in one folder; returns the folders in it.
    fn folder(
        &mut self,
        root: BorrowedFd<'_>,
        top: &Stat,
        (path, folders): (&[u8], &Folders),
    ) -> std::io::Result<Vec<(Vec<u8>, Folders)>> {
        let system = self.system;
        let folder = system.open_folder(root, path)?;
        let mut maybe = Vec::new();
        Listing::read_telling(system, folder.as_fd(), &mut |name| {
            let is_wanted = self.wanted.contains_key(&name.inode);
            let leads_on = name.kind.is_none_or(|kind| kind == Kind::Folder);
            if (is_wanted || leads_on) && !temporary::is_ours(name.bytes) {
                maybe.push(name.bytes.to_vec());
            }
        })?;
        maybe.sort_unstable();
        let mut below = Vec::new();
        for name in maybe {
            let Ok(stat) = system.stat(Entry::Named(folder.as_fd(), &name)) else { continue };
            let inode = stat.identity.inode;
            if stat.identity.drive != top.identity.drive || stat.mounted {
                continue;
            }
            if stat.kind == Kind::Folder {
                let path =
                    if path.is_empty() { name.clone() } else { [path, b"/", &*name].concat() };
                let mut folders = folders.clone();
                folders.push((name.into(), inode));
                below.push((path, folders));
            } else if self.wanted.get(&inode).is_some_and(|was| was.is_alike(&stat)) {
                let partner = || Partner {
                    folders: folders.clone(),
                    name: name.into(),
                    state: State::from(&stat),
                };
                self.found.entry(inode).or_insert_with(partner);
            }
        }
        Ok(below)
    }
}
