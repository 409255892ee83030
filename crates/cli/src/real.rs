//! Paths with links resolved, to compare places.

use std::path::{Path, PathBuf};

/// Links resolved as far as the path exists.
pub(crate) fn real(path: &Path) -> PathBuf {
    // A bare name has an empty parent: the working folder.
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let real = path.ancestors().find_map(|above| {
        let below = path.strip_prefix(above).ok()?;
        above.canonicalize().ok().map(|real| real.join(below))
    });
    // Joining may leave a trailing slash.
    real.unwrap_or(path).components().collect()
}

/// The same for one side of a run: a link to a folder is followed, any other entry is taken as it is.
pub(crate) fn real_side(path: &Path) -> PathBuf {
    match (path.is_dir(), path.parent(), path.file_name()) {
        (false, Some(above), Some(name)) => real(above).join(name),
        _ => real(path),
    }
}
