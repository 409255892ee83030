//! What an error of the system says.

use std::io;

use rustix::io::Errno;

/// How often a call that a signal interrupted is made in all. Some drivers say so of whatever they cannot do.
const TRIES: u32 = 20;

/// Makes a call, and again if a signal interrupted it.
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

/// True if an entry lacks an attribute, or its file system all of that sort.
pub fn is_absent(error: &io::Error) -> bool {
    error.raw_os_error() == Some(Errno::NODATA.raw_os_error()) || is_unsupported(error)
}

/// True if the file system, and not this entry, lacks what was asked for.
pub fn is_unsupported(error: &io::Error) -> bool {
    let said = [Errno::OPNOTSUPP, Errno::NOSYS, Errno::NOTTY].map(Errno::raw_os_error);
    error.raw_os_error().is_some_and(|number| said.contains(&number))
}

/// True if an error says that the caller, or nobody, may do that there.
pub fn is_forbidden(error: &io::Error) -> bool {
    use io::ErrorKind::{PermissionDenied, ReadOnlyFilesystem};
    matches!(error.kind(), PermissionDenied | ReadOnlyFilesystem)
}
