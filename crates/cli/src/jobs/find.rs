//! Finding the job file, and whether it can be trusted.

use std::fs::{self, File};
use std::io::{self, ErrorKind, Read as _};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use toml_edit::Document;

use crate::exit::WrongCall;
use crate::jobs::spot::{Source, wrong_file};
use crate::user_folders::config_folder;

/// Its path below a configuration folder.
const NAME: &str = "utter-echo/utter.toml";

/// The given file, else the user's own, else for root the machine's.
pub(super) fn path(given: Option<&Path>) -> PathBuf {
    if let Some(given) = given {
        return given.to_owned();
    }
    let own = config_folder().map(|folder| folder.join(NAME));
    let machine = Path::new("/etc").join(NAME);
    match own {
        Some(own) if own.exists() || !is_root() || !machine.exists() => own,
        _ => machine,
    }
}

pub(super) fn read(path: PathBuf) -> Result<Source, WrongCall> {
    let opened = File::open(&path).and_then(|file| Ok((file.metadata()?, file)));
    let (meta, mut file) = opened.map_err(|error| cannot_read(&path, &error))?;
    // Anybody who can write to it could have root run any command.
    let is_others = meta.uid() != 0 || meta.mode() & 0o022 != 0;
    if is_root() && is_others {
        let what = "can be changed by other users, so root does not use it";
        let advice = "check what it contains, then run 'chown root' and 'chmod go-w' on it";
        return Err(wrong_file(&path, what, advice));
    }
    let mut text = Vec::new();
    file.read_to_end(&mut text).map_err(|error| cannot_read(&path, &error))?;
    match String::from_utf8(text) {
        Ok(text) => Ok(Source { path, text }),
        Err(error) => {
            let (valid, bytes) = (error.utf8_error().valid_up_to(), error.as_bytes());
            let line = String::from_utf8_lossy(&bytes[..valid]).matches('\n').count() + 1;
            let what = format!("is not UTF-8 in line {line}");
            Err(wrong_file(&path, &what, "save it as UTF-8"))
        }
    }
}

/// The names of the jobs in the file; none if it cannot be read.
pub(crate) fn names() -> Vec<String> {
    let document = read(path(None)).ok().and_then(|source| Document::parse(source.text).ok());
    let jobs = document.as_ref().and_then(|document| document.get("job")?.as_table_like());
    jobs.into_iter().flat_map(|jobs| jobs.iter().map(|(name, _)| name.to_owned())).collect()
}

fn cannot_read(path: &Path, error: &io::Error) -> WrongCall {
    if error.kind() == ErrorKind::NotFound {
        let advice = "create one as 'utter help job-file' shows, or name another with --jobs FILE";
        return wrong_file(path, "does not exist", advice);
    }
    let what = format!("cannot be read: {error}");
    wrong_file(path, &what, "name one that you may read with --jobs FILE")
}

fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The folder that relative paths of the file start from.
pub(super) fn folder(path: &Path) -> PathBuf {
    let above = path.parent().filter(|above| !above.as_os_str().is_empty());
    let above = above.unwrap_or(Path::new("."));
    fs::canonicalize(above).unwrap_or_else(|_| above.to_owned())
}
