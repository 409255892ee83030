//! What an error of the system means.

use std::io;

use rustix::io::Errno;

/// The most tries of a call that signals interrupt. Some drivers report an interruption for whatever they cannot
/// do.
const TRIES: u32 = 20;

/// Makes a call, and repeats it if a signal interrupted it.
#[inline]
pub(super) fn retry_on_intr<T>(
    mut call: impl FnMut() -> rustix::io::Result<T>,
) -> rustix::io::Result<T> {
    for _ in 1..TRIES {
        match call() {
            Err(Errno::INTR) => {}
            other => return other,
        }
    }
    call()
}

/// True if an entry lacks an attribute, or its file system has no attributes of that sort.
pub fn is_absent(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::NODATA.raw_os_error()) || is_unsupported(error)
}

/// True if the file system does not support the call at all.
pub fn is_unsupported(error: &io::Error) -> bool {
    let said = [Errno::OPNOTSUPP, Errno::NOSYS, Errno::NOTTY].map(Errno::raw_os_error);
    error.raw_os_error().is_some_and(|number| said.contains(&number))
}

/// True if permissions, or a read-only drive, forbid the call.
pub fn is_forbidden(error: &io::Error) -> bool {
    use io::ErrorKind::{PermissionDenied, ReadOnlyFilesystem};
    matches!(error.kind(), PermissionDenied | ReadOnlyFilesystem)
}
