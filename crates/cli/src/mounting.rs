//! Drives mounted for one run by `mount` and `umount`. Of several runs that use such a drive the last one unmounts it:
//! each holds a lock on a file, in which the number of the mount stands that one of them made.

use std::ffi::OsStr;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Read as _, Seek as _, Write as _};
use std::os::fd::AsFd as _;
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::Result;
use rustix::fs::{FlockOperation, flock};
use utter_echo_core::os::{Linux, System as _};

use crate::exit::DriveMissing;
use crate::location::DriveName;
use crate::report::events::Event;
use crate::terminal::names;
use crate::user_folders::state_folder;

/// Where drives without an entry in the system's table are mounted, and where root's locks are.
const PLACE: &str = "/run/utter-echo";

/// Drives that are unmounted at the end.
#[derive(Default)]
pub(crate) struct Mounts(Vec<Mounted>);

struct Mounted {
    drive: DriveName,
    /// Locked by every run that uses the mount; holds the number of the mount.
    lock: File,
    at: PathBuf,
}

impl Mounts {
    /// Mounts the drives of these names that are not mounted.
    pub(crate) fn of<'d>(
        drives: impl IntoIterator<Item = &'d DriveName>,
        only_reads: bool,
    ) -> Result<Self> {
        let mut mounts = Self::default();
        for drive in drives {
            if mounts.0.iter().all(|mounted| mounted.drive != *drive) {
                mounts.0.extend(mount(drive, only_reads)?);
            }
        }
        Ok(mounts)
    }

    /// Unmounts them, and says for each whether it may be unplugged.
    pub(crate) fn end(mut self) -> Vec<Event> {
        self.0.drain(..).rev().filter_map(Mounted::end).collect()
    }
}

impl Drop for Mounts {
    fn drop(&mut self) {
        for mounted in self.0.drain(..).rev() {
            // The error that ended the run is the one to report.
            let _ = mounted.end();
        }
    }
}

/// `None` for a drive that somebody else mounted.
fn mount(drive: &DriveName, only_reads: bool) -> Result<Option<Mounted>> {
    let shown = names::shown(drive.for_mount().as_encoded_bytes());
    let missing = |why: &str| {
        DriveMissing(format!(
            "cannot mount {shown}: {why}\n  check with 'lsblk -f' that it is plugged in; nothing was touched"
        ))
    };
    let name: String = shown.chars().map(|c| if c == '/' { '-' } else { c }).collect();
    let _turn = turn().map_err(|error| missing(&error.to_string()))?;
    let mut lock = open_lock(&name).map_err(|error| missing(&error.to_string()))?;
    if let Some(at) = drive.mounted_at() {
        let mut number = Vec::new();
        lock.read_to_end(&mut number)?;
        // A run that was killed has left it, or another run uses it.
        let is_ours = number_of(&at).is_ok_and(|now| now == number);
        return Ok(is_ours.then(|| Mounted { drive: drive.clone(), lock, at }));
    }
    call_mount(drive, &name, only_reads).map_err(|why| missing(&why))?;
    let at = drive.mounted_at().ok_or_else(|| missing("nothing of that name is mounted now"))?;
    let noted = number_of(&at).and_then(|number| {
        lock.set_len(0)?;
        lock.write_all(&number)
    });
    if let Err(error) = noted {
        // Nobody would unmount it.
        let _ = told(Command::new("umount").arg(&at));
        return Err(missing(&error.to_string()).into());
    }
    Ok(Some(Mounted { drive: drive.clone(), lock, at }))
}

/// The folder of the locks.
fn locks() -> io::Result<PathBuf> {
    let folder = if rustix::process::geteuid().is_root() {
        PathBuf::from(PLACE)
    } else {
        state_folder().ok_or(io::ErrorKind::NotFound)?.join("mounts")
    };
    DirBuilder::new().recursive(true).mode(0o755).create(&folder)?;
    Ok(folder)
}

/// One run at a time mounts or unmounts: waits for its turn, which ends when this is closed.
fn turn() -> io::Result<File> {
    // Not the folder itself, which every run locks that works below it.
    let turn = open_file("turn")?;
    flock(&turn, FlockOperation::LockExclusive)?;
    Ok(turn)
}

/// The lock on a drive, shared by all who use it.
fn open_lock(name: &str) -> io::Result<File> {
    let lock = open_file(&format!("{name}.lock"))?;
    flock(&lock, FlockOperation::LockShared)?;
    Ok(lock)
}

fn open_file(name: &str) -> io::Result<File> {
    let mut options = OpenOptions::new();
    options.read(true).write(true).create(true).truncate(false).mode(0o600);
    options.open(locks()?.join(name))
}

/// No later mount of this machine has the same.
fn number_of(at: &Path) -> io::Result<Vec<u8>> {
    Linux.mount_session(Linux.open_root(at)?.as_fd())
}

/// By the system's table, which may let this user mount it, or else in a folder of our own.
fn call_mount(drive: &DriveName, name: &str, only_reads: bool) -> Result<(), String> {
    let options: &[&str] = if only_reads { &["-o", "ro"] } else { &[] };
    let call = |places: &[&OsStr]| told(Command::new("mount").args(options).args(places));
    let drive = drive.for_mount();
    let Err(why) = call(&[&drive]) else { return Ok(()) };
    if !rustix::process::geteuid().is_root() {
        return Err(why);
    }
    let folder = PathBuf::from(PLACE).join(name);
    fs::create_dir_all(&folder).map_err(|error| error.to_string())?;
    call(&[&drive, folder.as_os_str()]).inspect_err(|_| {
        let _ = fs::remove_dir(&folder);
    })
}

/// Why a command failed.
fn told(command: &mut Command) -> Result<(), String> {
    match command.stdin(Stdio::null()).output() {
        Ok(output) if output.status.success() => Ok(()),
        Ok(output) => Err(String::from_utf8_lossy(&output.stderr).trim().to_owned()),
        Err(error) => {
            let program = command.get_program().to_string_lossy().into_owned();
            Err(format!("'{program}' cannot be run: {error}"))
        }
    }
}

impl Mounted {
    fn end(self) -> Option<Event> {
        let Self { drive, mut lock, at } = self;
        let shown = names::shown(drive.for_mount().as_encoded_bytes());
        let stays = |why: &str| {
            Some(Event::note("still-mounted", format!("{shown} is still mounted: {why}")))
        };
        let _turn = turn();
        if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            return stays("another run uses it, and unmounts it at its end");
        }
        let mut number = Vec::new();
        let known = lock.rewind().and_then(|()| lock.read_to_end(&mut number));
        if known.is_err() || number_of(&at).ok() != Some(number) {
            // Somebody else has unmounted it, and may have mounted it again.
            return None;
        }
        if let Err(why) = told(Command::new("umount").arg(&at)) {
            return stays(&why);
        }
        let _ = lock.set_len(0);
        if at.starts_with(PLACE) {
            let _ = fs::remove_dir(&at);
        }
        let text = format!("{shown} was flushed and unmounted; it is safe to unplug");
        Some(Event::note("unmounted", text))
    }
}
