//! Names of a file that stayed when other names of it were moved: what comes back becomes a hard link of the same
//! file again.

use std::collections::{HashMap, HashSet};
use std::io;
use std::os::fd::{AsFd as _, BorrowedFd, OwnedFd};

use utter_echo_files::hidden_names;
use utter_echo_files::listing::Listing;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::State;
use utter_echo_os::{Entry, Identity, Kind, Stat, System};

use crate::policy::LinkPartner;

/// Whether the name found at this path may be the partner.
pub(crate) type Accepts<'a> = &'a dyn Fn(&TreePath, &Stat) -> bool;

/// The first accepted name of each of these files. Unreadable folders are skipped.
pub(crate) fn find(
    system: &dyn System,
    root: &OwnedFd,
    (wanted, accepts): (&HashSet<Identity>, Accepts<'_>),
) -> HashMap<Identity, LinkPartner> {
    let numbers = wanted.iter().map(|file| file.inode).collect();
    let mut drives: HashSet<u64> = wanted.iter().map(|file| file.drive).collect();
    drives.extend(system.stat(Entry::Pinned(root.as_fd())).map(|root| root.identity.drive));
    let mut search =
        PartnerSearch { system, wanted, numbers, drives, accepts, found: HashMap::new() };
    // The path of a folder, and the inode numbers of the folders that lead there.
    let mut waiting = vec![(TreePath::default(), Folders::new())];
    while let Some((path, folders)) = waiting.pop() {
        if search.found.len() == wanted.len() {
            break;
        }
        let below = search.folder(root.as_fd(), (&path, &folders)).unwrap_or_default();
        waiting.extend(below.into_iter().rev());
    }
    search.found
}

/// The name at this path, if it has the file's former state, although it is another inode now.
pub(crate) fn at(
    system: &dyn System,
    root: &OwnedFd,
    (path, was): (&TreePath, &State),
) -> Option<LinkPartner> {
    let mut folders = Folders::new();
    let (above, name) = path.split_last();
    let mut folder = system.open_folder(root.as_fd(), b"").ok()?;
    for name in above.split(|b| *b == b'/').filter(|name| !name.is_empty()) {
        folder = system.open_folder(folder.as_fd(), name).ok()?;
        let inode = system.stat(Entry::Open(folder.as_fd())).ok()?.identity.inode;
        folders.push((name.into(), inode));
    }
    let now = system.stat(Entry::Named(folder.as_fd(), name)).ok()?;
    was.looks_like(&now).then(|| LinkPartner {
        folders,
        name: name.into(),
        state: State::from(&now),
    })
}

/// Names of folders from the root down, and their inode numbers.
type Folders = Vec<(Box<[u8]>, u64)>;

struct PartnerSearch<'a> {
    system: &'a dyn System,
    wanted: &'a HashSet<Identity>,
    /// Inode numbers, which a listing shows without further calls.
    numbers: HashSet<u64>,
    /// Their drives, and the root's, which leads there.
    drives: HashSet<u64>,
    accepts: Accepts<'a>,
    found: HashMap<Identity, LinkPartner>,
}

impl PartnerSearch<'_> {
    /// Examines the names in one folder; returns its subfolders.
    fn folder(
        &mut self,
        root: BorrowedFd<'_>,
        (path, folders): (&TreePath, &Folders),
    ) -> io::Result<Vec<(TreePath, Folders)>> {
        let folder = self.system.open_folder(root, path.as_bytes())?;
        let mut below = Vec::new();
        for name in self.names(folder.as_fd())? {
            let entry = Entry::Named(folder.as_fd(), &name);
            let Ok(stat) = self.system.stat(entry) else { continue };
            let path = path.join(&name);
            if stat.kind == Kind::Folder && self.drives.contains(&stat.identity.drive) {
                let mut folders = folders.clone();
                folders.push((name.into(), stat.identity.inode));
                below.push((path, folders));
            } else if self.wanted.contains(&stat.identity) && (self.accepts)(&path, &stat) {
                let state = State::from(&stat);
                let partner = LinkPartner { folders: folders.clone(), name: name.into(), state };
                self.found.entry(stat.identity).or_insert(partner);
            }
        }
        Ok(below)
    }

    /// Names of wanted files and of folders, as far as the listing shows.
    fn names(&self, folder: BorrowedFd<'_>) -> io::Result<Vec<Vec<u8>>> {
        let mut names = Vec::new();
        Listing::read_with(self.system, folder, &mut |name| {
            let leads_on = name.kind.is_none_or(|kind| kind == Kind::Folder);
            let is_wanted = leads_on || self.numbers.contains(&name.inode);
            if is_wanted && !hidden_names::is_hidden_name(name.bytes) {
                names.push(name.bytes.to_vec());
            }
        })?;
        names.sort_unstable();
        Ok(names)
    }
}
