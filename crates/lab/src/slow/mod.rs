//! Slow drives: a rotational disk, a USB stick. Each is a file whose requests take as long as they would there,
//! with a file system on it.

mod device;
mod model;

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use crate::drives::{attach, run, unmount};

use device::Device;
pub use model::{Done, Model};

/// A mounted ext4 on a slow drive; it is unmounted when this value is dropped.
#[derive(Debug)]
pub struct SlowDrive {
    base: PathBuf,
    node: String,
    device: Option<Device>,
}

impl SlowDrive {
    /// Makes one of so many bytes in `room`. `fill` fills it at full speed; then it is slow and nothing is cached.
    /// The error says what is missing.
    pub fn make(
        model: Model,
        room: &Path,
        bytes: u64,
        fill: impl FnOnce(&Path),
    ) -> Result<Self, String> {
        let mut drive = Self { base: room.to_path_buf(), node: String::new(), device: None };
        let (folder, below) = (drive.folder(), drive.base.join("below"));
        for path in [&folder, &below] {
            fs::create_dir_all(path).map_err(|e| format!("{}: {e}", path.display()))?;
        }
        let image = drive.image();
        File::create(&image).and_then(|file| file.set_len(bytes)).map_err(|e| e.to_string())?;
        // With a journal, ext4 would skip blocks that were freed a moment ago.
        let all = "lazy_itable_init=0";
        run(&["mkfs.ext4", "-q", "-F", "-O", "^has_journal", "-E", all], &[&image])?;
        run(&["mount", "-o", "loop,noatime"], &[&image, &folder])?;
        fill(&folder);
        unmount(&folder)?;
        run(&["tune2fs", "-O", "has_journal"], &[&image])?;
        let device = Device::mount(model, &image, &below).map_err(|e| e.to_string())?;
        drive.node = attach(&device.path(), &["--direct-io=on"])?;
        drive.device = Some(device);
        if let Model::Rotating { .. } = model {
            let name = drive.node.trim_start_matches("/dev/");
            let says = PathBuf::from(format!("/sys/block/{name}/queue/rotational"));
            fs::write(&says, "1").map_err(|e| format!("{}: {e}", says.display()))?;
        }
        drive.mount()?;
        Ok(drive)
    }

    fn mount(&self) -> Result<(), String> {
        run(&["mount", "-o", "noatime"], &[Path::new(&self.node), &self.folder()])
    }

    /// Where it is mounted.
    pub fn folder(&self) -> PathBuf {
        self.base.join("drive")
    }

    /// Its raw content, below the file system.
    pub fn image(&self) -> PathBuf {
        self.base.join("image")
    }

    /// Drops all its cached content.
    pub fn cool(&self) -> Result<(), String> {
        unmount(&self.folder())?;
        self.mount()
    }

    /// Its work so far.
    pub fn done(&self) -> Done {
        self.device.as_ref().map(Device::done).unwrap_or_default()
    }

    /// Makes all writes fail from now on, or succeed again.
    pub fn fail_writes(&self, fails: bool) {
        if let Some(device) = &self.device {
            device.fail_writes(fails);
        }
    }

    /// Makes it hang for this long.
    pub fn hang(&self, time: Duration) {
        if let Some(device) = &self.device {
            device.hang(time);
        }
    }
}

impl Drop for SlowDrive {
    fn drop(&mut self) {
        // What is left shows in the list of mounts; a test that failed has said enough.
        let _ = unmount(&self.folder());
        if !self.node.is_empty() {
            let _ = run(&["losetup", "-d"], &[Path::new(&self.node)]);
        }
        drop(self.device.take());
        let below = self.base.join("below");
        let _ = Command::new("fusermount3").args(["-u", "-z", "-q"]).arg(below).status();
    }
}
