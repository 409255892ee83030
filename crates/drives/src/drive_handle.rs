//! Handles of drives, opened before the first write, and dropping the system's cache of a drive.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_os::{Advice, System, is_unsupported};

/// A handle of a folder of a drive, and of the device below a driver in user space.
///
/// The system reports a failed write once to each handle that was open before. So all flushes use handles from
/// before the first write, whichever other process flushed first, and each error they return must be reported.
#[derive(Debug)]
pub struct DriveHandle {
    folder: OwnedFd,
    /// An error if there is a device that this user may not open.
    device: io::Result<Option<OwnedFd>>,
}

impl DriveHandle {
    /// For the drive of a folder, which must be open for reading.
    pub fn new(system: &dyn System, folder: OwnedFd) -> Self {
        let device = system.driver_device(folder.as_fd());
        Self { folder, device }
    }

    /// Flushes everything that was written to the drive.
    pub fn flush(&self, system: &dyn System) -> io::Result<()> {
        let driver = system.flush_drive(self.folder.as_fd());
        match self.device().map(|device| system.flush_file(device.as_fd())) {
            Some(Err(error)) if !is_unsupported(&error) => driver.and(Err(error)),
            _ => driver,
        }
    }

    fn device(&self) -> Option<&OwnedFd> {
        self.device.as_ref().ok().and_then(Option::as_ref)
    }

    /// As [`drop_device_cache`], for this drive.
    pub fn forget(&self, system: &dyn System) -> bool {
        forget(system, &self.device)
    }
}

/// Drops the cache of the device below a driver in user space. Returns true if reads come from the drive from now
/// on, except for what is in the cache of the files themselves.
pub fn drop_device_cache(system: &dyn System, entry: BorrowedFd<'_>) -> bool {
    forget(system, &system.driver_device(entry))
}

fn forget(system: &dyn System, device: &io::Result<Option<OwnedFd>>) -> bool {
    let forget = |device: &OwnedFd| system.drop_device_cache(device.as_fd()).is_ok();
    device.as_ref().is_ok_and(|device| device.as_ref().is_none_or(forget))
}

/// Drops a file from the cache, all of which must be on the drive. Returns true if reads come from the drive from
/// now on, except for what is in the cache of [the device](drop_device_cache).
pub fn drop_file_cache(system: &dyn System, file: BorrowedFd<'_>) -> bool {
    // If the advice fails, the file only stays in the cache.
    let _ = system.advise(file, Advice::Drop, 0, 0);
    // If this cannot be asked, the advice is taken to have worked.
    !system.is_cached(file, 0).unwrap_or(false)
}

impl AsFd for DriveHandle {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.folder.as_fd()
    }
}
