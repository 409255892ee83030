//! A drive held open from before the first writing to it, and what the system remembers of drives.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_os::{Advice, System, is_unsupported};

/// A drive by one of its folders, and the device below its driver if that runs in user space.
///
/// The system reports a write that failed once by each handle, and only by those that were open before. So what is
/// flushed is flushed by handles from before the first writing, whoever else heard of the error first; and
/// whoever flushes must report what comes back.
#[derive(Debug)]
pub struct DriveHandle {
    folder: OwnedFd,
    /// An error where there is one that this user may not read.
    device: io::Result<Option<OwnedFd>>,
}

impl DriveHandle {
    /// Of the drive that this folder lies on; it must be open for reading.
    pub fn new(system: &dyn System, folder: OwnedFd) -> Self {
        let device = system.driver_device(folder.as_fd());
        Self { folder, device }
    }

    /// Brings everything that was written to the drive onto it.
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

    /// As [`forget_device`], of this drive.
    pub fn forget(&self, system: &dyn System) -> bool {
        forget(system, &self.device)
    }
}

/// What the system keeps in memory of the device below a driver goes. True if what is read from the driver after
/// that comes from the drive, as far as it is not in the cache of the files themselves.
pub fn forget_device(system: &dyn System, entry: BorrowedFd<'_>) -> bool {
    forget(system, &system.driver_device(entry))
}

fn forget(system: &dyn System, device: &io::Result<Option<OwnedFd>>) -> bool {
    let forget = |device: &OwnedFd| system.forget_device(device.as_fd()).is_ok();
    device.as_ref().is_ok_and(|device| device.as_ref().is_none_or(forget))
}

/// Takes a file out of the cache, of which all is on the drive. True if it then is read from the drive, as far as
/// [the device](forget_device) is not in memory.
pub fn forget_file(system: &dyn System, file: BorrowedFd<'_>) -> bool {
    // Advice that is not taken changes nothing but what stays in the cache.
    let _ = system.advise(file, Advice::Drop, 0, 0);
    // Where it cannot be asked, the advice was taken as far as is known.
    !system.is_cached(file, 0).unwrap_or(false)
}

impl AsFd for DriveHandle {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.folder.as_fd()
    }
}
