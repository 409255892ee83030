//! Paths without links, to tell places apart.

use std::path::{Path, PathBuf};

/// Without links, as far as it is there.
pub(crate) fn real(path: &Path) -> PathBuf {
    // Above a bare name there is nothing, which is here.
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let real = path.ancestors().find_map(|above| {
        let below = path.strip_prefix(above).ok()?;
        above.canonicalize().ok().map(|real| real.join(below))
    });
    // What was joined may end in a slash.
    real.unwrap_or(path).components().collect()
}

/// The same of one side of a run: a folder may be named by a link to it, and any other entry is what it is.
pub(crate) fn real_side(path: &Path) -> PathBuf {
    match (path.is_dir(), path.parent(), path.file_name()) {
        (false, Some(above), Some(name)) => real(above).join(name),
        _ => real(path),
    }
}
