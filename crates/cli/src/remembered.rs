//! Where this user's runs set things aside, so that the way back is found again.
//!
//! A file in the user's state folder holds the paths, each ended by
//! a NUL. Losing it harms nothing: what was set aside is where it was, and can be named.

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

/// The folders that runs set aside in, the last used first.
pub(crate) fn folders() -> Vec<PathBuf> {
    let bytes = file().and_then(|file| fs::read(file).ok()).unwrap_or_default();
    let paths = bytes.split(|b| *b == 0).filter(|path| !path.is_empty());
    paths.rev().map(|path| PathBuf::from(OsStr::from_bytes(path))).collect()
}

/// Remembers a folder, if it can: a run is not worse for being forgotten here.
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
    // One write at the end of the file, so that two runs do not mix theirs.
    let line = [folder.as_os_str().as_bytes(), b"\0"].concat();
    OpenOptions::new().append(true).create(true).mode(0o600).open(file)?.write_all(&line)
}
