//! Drives mounted for one run by `mount` and `umount`.

use std::ffi::{OsStr, OsString};
use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use crate::exit::WrongCall;
use crate::options::drives_named_in;
use crate::terminal::{names, streams};

/// Where drives without an entry in the system's table are mounted.
const PLACE: &str = "/run/utter-echo";

/// Drives that are unmounted on drop.
#[derive(Default)]
pub(crate) struct Mounts(Vec<Mounted>);

struct Mounted {
    /// As `mount` and `umount` know it: `LABEL=…` or `UUID=…`.
    drive: OsString,
    /// The folder created for it.
    folder: Option<PathBuf>,
}

/// Mounts the drives that a call names, if it asks for that and they are not mounted.
pub(crate) fn for_call(words: &[OsString]) -> Result<Mounts, WrongCall> {
    let mut mounts = Mounts::default();
    let options = words.iter().take_while(|word| *word != "--");
    if !options.clone().any(|word| word == "--mount") {
        return Ok(mounts);
    }
    let only_reads = options.clone().any(|word| word == "--dry-run" || word == "-n");
    for drive in drives_named_in(words) {
        mounts.0.push(mount(drive, only_reads)?);
    }
    Ok(mounts)
}

fn mount(drive: OsString, only_reads: bool) -> Result<Mounted, WrongCall> {
    let options: &[&str] = if only_reads { &["-o", "ro"] } else { &[] };
    let call = |places: &[&OsStr]| {
        let output = Command::new("mount").args(options).args(places).stdin(Stdio::null()).output();
        match output {
            Ok(output) if output.status.success() => Ok(()),
            Ok(output) => Err(String::from_utf8_lossy(&output.stderr).trim().to_owned()),
            Err(error) => Err(format!("'mount' cannot be run: {error}")),
        }
    };
    // The system's table may list it, and let this user mount it.
    let Err(why) = call(&[&drive]) else { return Ok(Mounted { drive, folder: None }) };
    let shown = names::shown(drive.as_encoded_bytes());
    let wrong = |why: &str| {
        WrongCall(format!(
            "cannot mount {shown}: {why}\n  check with 'lsblk -f' that it is plugged in; nothing was touched"
        ))
    };
    if !rustix::process::geteuid().is_root() {
        return Err(wrong(&why));
    }
    let name: String = shown.chars().map(|c| if c == '/' { '-' } else { c }).collect();
    let folder = PathBuf::from(PLACE).join(name);
    fs::create_dir_all(&folder).map_err(|error| wrong(&error.to_string()))?;
    match call(&[&drive, folder.as_os_str()]) {
        Ok(()) => Ok(Mounted { drive, folder: Some(folder) }),
        Err(why) => {
            let _ = fs::remove_dir(&folder);
            Err(wrong(&why))
        }
    }
}

impl Drop for Mounts {
    fn drop(&mut self) {
        for Mounted { drive, folder } in self.0.drain(..).rev() {
            let what = folder.as_ref().map_or(drive.as_os_str(), |folder| folder.as_os_str());
            let umount = Command::new("umount").arg(what).stdin(Stdio::null()).output();
            let failed = match umount {
                Ok(output) if output.status.success() => None,
                Ok(output) => Some(String::from_utf8_lossy(&output.stderr).trim().to_owned()),
                Err(error) => Some(format!("'umount' cannot be run: {error}")),
            };
            if let Some(why) = failed {
                let shown = names::shown(drive.as_encoded_bytes());
                streams::print_wrong(&format!("{shown} is still mounted: {why}"));
            } else if let Some(folder) = folder {
                let _ = fs::remove_dir(folder);
            }
        }
    }
}
