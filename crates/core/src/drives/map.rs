//! The drives below one root: mounts, bind mounts and subvolumes, found while it is scanned.

use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};

use crate::os::{Identity, System};
use crate::path::TreePath;
use crate::reach::Reach;

/// Which of a [`DriveMap`]; the root's own is the first.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
pub(crate) struct DriveId(pub(crate) u16);

/// A drive, or a part of one, that is mounted at or below a root.
#[derive(Debug)]
pub(crate) struct Mounted {
    pub(crate) id: DriveId,
    /// Where, relative to the root; empty for the one that the root lies on.
    pub(crate) path: TreePath,
    /// Of its topmost folder there, or of the root.
    pub(crate) identity: Identity,
    /// What can be carried to it.
    pub(crate) reach: Reach,
}

/// All drives below a root, as far as a run has to do with them.
#[derive(Debug)]
pub(crate) struct DriveMap(Mutex<Vec<Arc<Mounted>>>);

impl DriveMap {
    /// A map of the root's own drive alone.
    pub(crate) fn of_root(identity: Identity, reach: Reach) -> Self {
        let (id, path) = (DriveId::default(), TreePath::default());
        Self(Mutex::new(vec![Arc::new(Mounted { id, path, identity, reach })]))
    }

    fn drives(&self) -> std::sync::MutexGuard<'_, Vec<Arc<Mounted>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn all(&self) -> Vec<Arc<Mounted>> {
        self.drives().clone()
    }

    pub(crate) fn root(&self) -> Arc<Mounted> {
        Arc::clone(&self.drives()[0])
    }

    /// The root's own, for a number that is not known.
    pub(crate) fn get(&self, DriveId(number): DriveId) -> Arc<Mounted> {
        let drives = self.drives();
        Arc::clone(drives.get(usize::from(number)).unwrap_or(&drives[0]))
    }

    /// Adds what is mounted at this path, unless it is known.
    pub(crate) fn add(
        &self,
        path: &TreePath,
        identity: Identity,
        reach: impl FnOnce() -> Reach,
    ) -> Arc<Mounted> {
        let mut drives = self.drives();
        let same = |drive: &&Arc<Mounted>| drive.path == *path && drive.identity == identity;
        if let Some(known) = drives.iter().find(same) {
            return Arc::clone(known);
        }
        let id = DriveId(u16::try_from(drives.len()).unwrap_or(u16::MAX));
        let drive = Arc::new(Mounted { id, path: path.clone(), identity, reach: reach() });
        drives.push(Arc::clone(&drive));
        drive
    }
}

impl Mounted {
    /// The topmost folder of the drive that belongs to the tree.
    pub(crate) fn open(&self, system: &dyn System, root: BorrowedFd<'_>) -> io::Result<OwnedFd> {
        system.open_folder(root, self.path.as_bytes())
    }
}
