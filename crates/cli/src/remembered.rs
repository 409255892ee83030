//! The set-aside folders of this user's runs, for `utter undo`.
//!
//! A file in the user's state folder holds the paths, each ended by a NUL. Losing it harms nothing: the folders are
//! still there and can be named.

use std::ffi::OsStr;
use std::fs::{self, DirBuilder, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};

use crate::user_folders::state_folder;

fn file() -> Option<PathBuf> {
    Some(state_folder()?.join("set-aside"))
}

/// The set-aside folders, the last used first.
pub(crate) fn folders() -> Vec<PathBuf> {
    let bytes = file().and_then(|file| fs::read(file).ok()).unwrap_or_default();
    let paths = bytes.split(|b| *b == 0).filter(|path| !path.is_empty());
    paths.rev().map(|path| PathBuf::from(OsStr::from_bytes(path))).collect()
}

/// Remembers a folder; errors are ignored, since a run does not depend on it.
pub(crate) fn add(folder: &Path) {
    let Ok(folder) = std::path::absolute(folder) else { return };
    if !folders().contains(&folder) {
        let _ = append(&folder);
    }
}

fn append(folder: &Path) -> io::Result<()> {
    let Some(file) = file() else { return Ok(()) };
    if let Some(above) = file.parent() {
        DirBuilder::new().recursive(true).mode(0o700).create(above)?;
    }
    // One append, so that two runs do not mix their lines.
    let line = [folder.as_os_str().as_bytes(), b"\0"].concat();
    OpenOptions::new().append(true).create(true).mode(0o600).open(file)?.write_all(&line)
}
