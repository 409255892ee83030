//! What a move between drives would drop, since no run carries it.

use std::collections::BTreeSet;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_files::uncarried::Uncarried;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Entry, System};

use crate::plan::Plan;
use crate::policy::Part;
use crate::sides::Pair;

/// In words, what entries that leave the source have and their copies will not. The project and the way of writing
/// are asked of folders alone, from which their files have them; the last look before each removal asks every entry.
pub(crate) fn lost(system: &dyn System, pairs: &[Pair], plan: &Plan) -> BTreeSet<&'static str> {
    let parts = pairs.iter().zip(&plan.parts);
    parts.flat_map(|(pair, part)| Look { system, pair, part }.lost()).collect()
}

struct Look<'p> {
    system: &'p dyn System,
    pair: &'p Pair,
    part: &'p Part,
}

/// A folder on one side; without a handle if it is not there.
struct FolderSide {
    handle: Option<OwnedFd>,
    has: Uncarried,
}

impl Look<'_> {
    fn lost(&self) -> BTreeSet<&'static str> {
        let Pair { source, destination, .. } = self.pair;
        let anchor = destination.anchor.as_fd();
        let above = self.side(Some(anchor), &TreePath::default(), Uncarried::default()).has;
        let root = Some(anchor).filter(|_| destination.exists());
        let mut there: Vec<Uncarried> = Vec::new();
        let mut lost = BTreeSet::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            let gets = there.get(folder.parent as usize).copied().unwrap_or(above).handed_down();
            let copy = self.side(root, &self.part.folder_path(at), gets);
            there.push(copy.has);
            if folder.source_removals.is_empty() {
                continue;
            }
            let path = self.part.source_path(at);
            let source = self.side(Some(source.as_fd()), &path, Uncarried::default());
            // A folder below the root is among the entries of the one above it.
            let goes_itself = at == 0 && self.part.root_source_removal.is_some();
            let has = if goes_itself { source.has } else { source.has.without_dos_flags() };
            lost.extend(has.lost_in(copy.has));
            if !source.has.shows_dos_flags() {
                continue;
            }
            let flags = |side: &FolderSide, name: &[u8]| {
                let handle = side.handle.as_ref();
                handle.map_or_else(Uncarried::default, |folder| {
                    Uncarried::of(self.system, Entry::Named(folder.as_fd(), name))
                })
            };
            for step in &folder.source_removals {
                let (name, copy_name) = (folder.name_in_source(step), folder.name(step));
                lost.extend(flags(&source, name).lost_in(flags(&copy, copy_name)));
            }
        }
        lost
    }

    fn side(
        &self,
        root: Option<BorrowedFd<'_>>,
        path: &TreePath,
        otherwise: Uncarried,
    ) -> FolderSide {
        let opened = root.and_then(|root| self.system.open_folder(root, path.as_bytes()).ok());
        let has = opened.as_ref().map(|folder| Uncarried::of_open(self.system, folder.as_fd()));
        FolderSide { handle: opened, has: has.unwrap_or(otherwise) }
    }
}
