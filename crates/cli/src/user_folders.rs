//! The folders of the calling user.

use std::path::PathBuf;

/// The user's configuration folder: `XDG_CONFIG_HOME`, else `~/.config`.
pub(crate) fn config_folder() -> Option<PathBuf> {
    named_folder("XDG_CONFIG_HOME").or_else(|| below_home(".config"))
}

/// The state folder of utter, which may be lost: `utter-echo` in `XDG_STATE_HOME`, else for root in `/var/lib`,
/// else in `~/.local/state`.
pub(crate) fn state_folder() -> Option<PathBuf> {
    let root = || rustix::process::geteuid().is_root().then(|| PathBuf::from("/var/lib"));
    let above = named_folder("XDG_STATE_HOME").or_else(root);
    Some(above.or_else(|| below_home(".local/state"))?.join("utter-echo"))
}

fn named_folder(name: &str) -> Option<PathBuf> {
    std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute())
}

fn below_home(folder: &str) -> Option<PathBuf> {
    Some(named_folder("HOME")?.join(folder))
}
