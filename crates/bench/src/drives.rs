//! A new file system for every run that creates files: on a used one, skipping inodes that were freed a moment ago
//! would dominate the result.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::{Context as _, Result, ensure};

/// A folder on its own drive if the caller can mount, else on the drive of the room.
#[derive(Debug)]
pub(crate) struct Drive {
    folder: PathBuf,
    image: Option<PathBuf>,
}

/// The kind of drive for the rows that create files.
pub(crate) fn kind() -> &'static str {
    if rustix::process::geteuid().is_root() {
        "a new ext4 image on a loop device"
    } else {
        "a new folder"
    }
}

impl Drive {
    /// Makes one in `room` with space for so many bytes and entries.
    pub(crate) fn fresh(room: &Path, bytes: u64, entries: u64) -> Result<Self> {
        let folder = room.join("drive");
        std::fs::create_dir_all(&folder)?;
        if !rustix::process::geteuid().is_root() {
            return Ok(Self { folder, image: None });
        }
        let image = room.join("drive.img");
        File::create(&image)?.set_len(bytes * 5 / 4 + entries * 6144 + (256 << 20))?;
        let inodes = (entries + entries / 10 + 1000).to_string();
        let options = "lazy_itable_init=0,lazy_journal_init=0";
        quiet(
            Command::new("mkfs.ext4").args(["-q", "-F", "-E", options, "-N", &inodes]).arg(&image),
        )?;
        quiet(Command::new("mount").args(["-o", "loop,noatime"]).arg(&image).arg(&folder))?;
        Ok(Self { folder, image: Some(image) })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }
}

impl Drop for Drive {
    fn drop(&mut self) {
        // A failure here shows in the next `fresh`.
        if let Some(image) = &self.image {
            let _ = quiet(Command::new("umount").arg(&self.folder));
            let _ = std::fs::remove_file(image);
        } else {
            let _ = std::fs::remove_dir_all(&self.folder);
        }
    }
}

fn quiet(command: &mut Command) -> Result<()> {
    let status = command.stdout(Stdio::null()).status().with_context(|| format!("{command:?}"))?;
    ensure!(status.success(), "{command:?} failed");
    Ok(())
}
