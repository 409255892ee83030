//! The drives below one root (mounts, bind mounts and subvolumes), found during the scan.

use parking_lot::{Mutex, MutexGuard};
use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::sync::Arc;

use utter_echo_model::identity::DriveId;
use utter_echo_model::path::TreePath;
use utter_echo_os::{Identity, System};

use crate::capabilities::Capabilities;

/// A drive, or a part of one, that is mounted at or below a root.
#[derive(Debug)]
pub struct DriveBelow {
    /// Its number in this map.
    pub id: DriveId,
    /// Its mount point relative to the root; empty for the drive of the root.
    pub path: TreePath,
    /// The identity of its mount point, or of the root.
    pub identity: Identity,
    /// What can be carried to it.
    pub capabilities: Capabilities,
}

/// The drives below a root that a run deals with.
#[derive(Debug)]
pub struct DriveMap(Mutex<Vec<Arc<DriveBelow>>>);

impl DriveMap {
    /// A map of the root's own drive alone.
    pub fn of_root(identity: Identity, capabilities: Capabilities) -> Self {
        let (id, path) = (DriveId::default(), TreePath::default());
        Self(Mutex::new(vec![Arc::new(DriveBelow { id, path, identity, capabilities })]))
    }

    fn drives(&self) -> MutexGuard<'_, Vec<Arc<DriveBelow>>> {
        self.0.lock()
    }

    /// All drives met so far, the root's first.
    pub fn all(&self) -> Vec<Arc<DriveBelow>> {
        self.drives().clone()
    }

    /// The drive of the root.
    pub fn root(&self) -> Arc<DriveBelow> {
        Arc::clone(&self.drives()[0])
    }

    /// The drive with a number; that of the root if the number is not known.
    pub fn get(&self, DriveId(number): DriveId) -> Arc<DriveBelow> {
        let drives = self.drives();
        Arc::clone(drives.get(usize::from(number)).unwrap_or(&drives[0]))
    }

    /// Adds the drive mounted at a path, unless it is known.
    pub fn add(
        &self,
        path: &TreePath,
        identity: Identity,
        capabilities: impl FnOnce() -> Capabilities,
    ) -> Arc<DriveBelow> {
        let mut drives = self.drives();
        let same = |drive: &&Arc<DriveBelow>| drive.path == *path && drive.identity == identity;
        if let Some(known) = drives.iter().find(same) {
            return Arc::clone(known);
        }
        let id = DriveId(u16::try_from(drives.len()).unwrap_or(u16::MAX));
        let drive =
            Arc::new(DriveBelow { id, path: path.clone(), identity, capabilities: capabilities() });
        drives.push(Arc::clone(&drive));
        drive
    }
}

impl DriveBelow {
    /// Opens the mount point of the drive, or the root.
    pub fn open(&self, system: &dyn System, root: BorrowedFd<'_>) -> io::Result<OwnedFd> {
        system.open_folder(root, self.path.as_bytes())
    }
}
