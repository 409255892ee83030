//! Real file systems, each made afresh in an image and mounted.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

/// A kind of file system.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DriveKind {
    /// The usual one of Linux.
    Ext4,
    /// With shared content.
    Xfs,
    /// With shared content.
    Btrfs,
    /// As on sticks, by way of `fusefat`.
    Fat,
    /// As on large sticks, by way of `exfat-fuse`.
    ExFat,
    /// By way of `ntfs-3g`.
    Ntfs,
    /// In memory.
    Tmpfs,
    /// One laid over another.
    Overlay,
}

impl DriveKind {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Ext4,
        Self::Xfs,
        Self::Btrfs,
        Self::Tmpfs,
        Self::Overlay,
        Self::Ntfs,
        Self::ExFat,
        Self::Fat,
    ];

    /// As people call it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Ext4 => "ext4",
            Self::Xfs => "xfs",
            Self::Btrfs => "btrfs",
            Self::Fat => "FAT",
            Self::ExFat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Tmpfs => "tmpfs",
            Self::Overlay => "overlay",
        }
    }

    /// Unit of its times, in nanoseconds.
    pub fn grain(self) -> u64 {
        match self {
            Self::Fat => 2_000_000_000,
            Self::ExFat => 1_000_000_000,
            Self::Ntfs => 100,
            _ => 1,
        }
    }

    /// True for those that hold all there is.
    pub fn holds_everything(self) -> bool {
        !matches!(self, Self::Fat | Self::ExFat | Self::Ntfs)
    }
}

/// Bytes of each of two drives in one image.
const HALF: u64 = 400 << 20;

/// A mounted file system; it goes with this value.
#[derive(Debug)]
pub struct MountedDrive {
    base: PathBuf,
    device: Option<String>,
    bytes: u64,
}

impl MountedDrive {
    /// Makes and mounts one in `room`, with 400 MiB of space. Says what is missing if it cannot.
    pub fn make(kind: DriveKind, room: &Path) -> Result<Self, String> {
        Self::make_sized(kind, room, 400 << 20)
    }

    /// The same with 8 GiB, which take room only where something lies.
    pub fn make_large(kind: DriveKind, room: &Path) -> Result<Self, String> {
        Self::make_sized(kind, room, 8 << 30)
    }

    fn make_sized(kind: DriveKind, room: &Path, bytes: u64) -> Result<Self, String> {
        let base = room.join(kind.name());
        let mut drive = Self { base, device: None, bytes };
        let folder = drive.folder();
        fs::create_dir_all(&folder).map_err(|e| format!("{}: {e}", folder.display()))?;
        let image = drive.image();
        let on_loop: &[&str] = &["mount", "-o", "loop"];
        match kind {
            DriveKind::Ext4 => {
                drive.format(&["mkfs.ext4", "-q", "-F", "-L", "lantern"])?;
                run(on_loop, &[&image, &folder])?;
            }
            DriveKind::Xfs => {
                drive.format(&["mkfs.xfs", "-q", "-f"])?;
                run(on_loop, &[&image, &folder])?;
            }
            DriveKind::Btrfs => {
                drive.format(&["mkfs.btrfs", "-q", "-f"])?;
                run(on_loop, &[&image, &folder])?;
            }
            DriveKind::Fat => {
                drive.format(&["mkfs.vfat", "-F", "32"])?;
                run(&["fusefat", "-o", "rw+"], &[&image, &folder])?;
            }
            DriveKind::ExFat => {
                drive.format(&["mkfs.exfat"])?;
                let device = drive.attach()?;
                run(&["mount.exfat-fuse"], &[Path::new(&device), &folder])?;
            }
            DriveKind::Ntfs => {
                drive.format(&["mkntfs", "-q", "-F", "-f"])?;
                let device = drive.attach()?;
                run(&["ntfs-3g"], &[Path::new(&device), &folder])?;
            }
            DriveKind::Tmpfs => run(&["mount", "-t", "tmpfs", "tmpfs"], &[&folder])?,
            DriveKind::Overlay => {
                // In memory, since an overlay does not lie over another.
                let inner = drive.base.join("inner");
                fs::create_dir_all(&inner).map_err(|e| e.to_string())?;
                run(&["mount", "-t", "tmpfs", "tmpfs"], &[&inner])?;
                let layers = ["lower", "upper", "work"].map(|name| inner.join(name));
                for layer in &layers {
                    fs::create_dir(layer).map_err(|e| e.to_string())?;
                }
                let [lower, upper, work] = layers.map(|layer| layer.display().to_string());
                let options = format!("lowerdir={lower},upperdir={upper},workdir={work}");
                run(&["mount", "-t", "overlay", "overlay", "-o", &options], &[&folder])?;
            }
        }
        Ok(drive)
    }

    /// Mounts a file system that lies in an image, with what its kind needs to recover it.
    pub fn mount_image(image: &Path, room: &Path) -> Result<Self, String> {
        let drive = Self { base: room.to_path_buf(), device: None, bytes: 0 };
        let folder = drive.folder();
        fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
        run(&["mount", "-o", "loop"], &[image, &folder])?;
        Ok(drive)
    }

    /// Makes and mounts two of 400 MiB that lie in one image, so that both can be cloned at one moment.
    pub fn make_pair(kind: DriveKind, image: &Path, room: &Path) -> Result<[Self; 2], String> {
        let made = File::create(image).and_then(|file| file.set_len(2 * HALF));
        made.map_err(|e| format!("{}: {e}", image.display()))?;
        let make = |half: u64| {
            let mut drive = Self { base: room.join(half.to_string()), device: None, bytes: HALF };
            let folder = drive.folder();
            fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
            let (offset, limit) = ((half * HALF).to_string(), HALF.to_string());
            let device = drive.attach_file(image, &["-o", &offset, "--sizelimit", &limit])?;
            let program: &[&str] = match kind {
                DriveKind::Ext4 => &["mkfs.ext4", "-q", "-F"],
                DriveKind::Xfs => &["mkfs.xfs", "-q", "-f"],
                _ => &["mkfs.btrfs", "-q", "-f"],
            };
            run(program, &[Path::new(&device)])?;
            Ok::<_, String>(drive)
        };
        let drives = [make(0)?, make(1)?];
        // Where one is mounted the other cannot be made: they are taken for one.
        for drive in &drives {
            let device = drive.device.as_deref().unwrap_or_default();
            run(&["mount"], &[Path::new(device), &drive.folder()])?;
        }
        Ok(drives)
    }

    /// Mounts two that lie in one image, with what their kind needs to recover them.
    pub fn mount_pair(image: &Path, room: &Path) -> Result<[Self; 2], String> {
        let mount = |half: u64| {
            let drive = Self { base: room.join(half.to_string()), device: None, bytes: HALF };
            let folder = drive.folder();
            fs::create_dir_all(&folder).map_err(|e| e.to_string())?;
            let options = format!("loop,offset={},sizelimit={HALF}", half * HALF);
            run(&["mount", "-o", &options], &[image, &folder])?;
            Ok::<_, String>(drive)
        };
        Ok([mount(0)?, mount(1)?])
    }

    /// The image that the file system lies in.
    pub fn image(&self) -> PathBuf {
        self.base.join("image")
    }

    /// Takes a drive away that a program in user space drives, as if it had been pulled out.
    pub fn pull(&self) -> bool {
        let folder = self.folder();
        let Ok(processes) = fs::read_dir("/proc") else { return false };
        let drives_it = |process: &Path| {
            let call = fs::read(process.join("cmdline")).unwrap_or_default();
            call.split(|b| *b == 0).any(|word| word == folder.as_os_str().as_encoded_bytes())
        };
        let paths = processes.flatten().map(|process| process.path());
        let Some(process) = paths.into_iter().find(|process| drives_it(process)) else {
            return false;
        };
        let number = process.file_name().unwrap_or_default().to_owned();
        let killed = Command::new("kill").arg("-KILL").arg(number).status();
        killed.is_ok_and(|status| status.success())
    }

    /// Mounts it for reading only, which fails while a file on it is open for writing, or for
    /// writing again.
    pub fn remount(&self, writable: bool) -> Result<(), String> {
        let how = if writable { "remount,rw" } else { "remount,ro" };
        run(&["mount", "-o", how], &[&self.folder()])
    }

    /// Makes every access from now on fail, as when a drive is pulled out: nothing more reaches it.
    pub fn shut_down(&self) -> Result<(), String> {
        run(&["xfs_io", "-x", "-c", "shutdown"], &[&self.folder()])
    }

    /// Leaves nothing of the device below a mounted file system.
    pub fn take_device(&self) -> Result<(), String> {
        let listed = Command::new("losetup").arg("-j").arg(self.image()).output();
        let listed = listed.map_err(|e| e.to_string())?.stdout;
        let listed = String::from_utf8_lossy(&listed).into_owned();
        let device = Path::new(listed.split(':').next().ok_or("the image is on no device")?);
        let size = Path::new("/sys/class/block")
            .join(device.file_name().ok_or("the image is on no device")?)
            .join("size");
        // What is written out before the device learns of it makes the image longer again.
        for _ in 0..100 {
            let image = File::options().write(true).open(self.image());
            image.and_then(|image| image.set_len(0)).map_err(|e| e.to_string())?;
            run(&["losetup", "-c"], &[device])?;
            let left = fs::read_to_string(&size).map_err(|e| e.to_string())?;
            if left.trim() == "0" {
                return Ok(());
            }
        }
        Err(format!("{} grows again and again", device.display()))
    }

    /// Mounts it again after that, with what its kind needs to recover.
    pub fn mount_again(&self) -> Result<(), String> {
        unmount(&self.folder())?;
        run(&["mount", "-o", "loop"], &[&self.image(), &self.folder()])
    }

    /// Where it is mounted.
    pub fn folder(&self) -> PathBuf {
        self.base.join("drive")
    }

    fn format(&self, command: &[&str]) -> Result<(), String> {
        let image = self.image();
        let made = File::create(&image).and_then(|file| file.set_len(self.bytes));
        made.map_err(|e| format!("{}: {e}", image.display()))?;
        run(command, &[&image])
    }

    fn attach(&mut self) -> Result<String, String> {
        let image = self.image();
        self.attach_file(&image, &[])
    }

    fn attach_file(&mut self, image: &Path, options: &[&str]) -> Result<String, String> {
        let device = attach(image, options)?;
        self.device = Some(device.clone());
        Ok(device)
    }
}

/// Makes a device of a file; returns its path.
pub(crate) fn attach(file: &Path, options: &[&str]) -> Result<String, String> {
    let mut command = Command::new("losetup");
    let output = command.args(["-f", "--show"]).args(options).arg(file).output();
    let output = output.map_err(|e| format!("losetup: {e}"))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned());
    }
    Err(format!("losetup: {}", String::from_utf8_lossy(&output.stderr).trim()))
}

impl Drop for MountedDrive {
    fn drop(&mut self) {
        // What is left shows in the list of mounts; a test that failed has said enough.
        let _ = unmount(&self.folder());
        let _ = run(&["umount", "-q"], &[&self.base.join("inner")]);
        if let Some(device) = &self.device {
            let _ = run(&["losetup", "-d"], &[Path::new(device)]);
        }
    }
}

/// Another thread may be starting a process, which holds all that is open until it runs its program: for so
/// long a drive that nobody uses counts as busy.
pub(crate) fn unmount(folder: &Path) -> Result<(), String> {
    let mut left = 100;
    loop {
        match run(&["umount"], &[folder]) {
            Err(said) if said.contains("busy") && left > 0 => left -= 1,
            other => return other,
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

pub(crate) fn run(command: &[&str], paths: &[&Path]) -> Result<(), String> {
    let output = Command::new(command[0])
        .args(&command[1..])
        .args(paths)
        // Some kinds keep local time, and their drivers do not agree with themselves west of UTC.
        .env("TZ", "UTC")
        .stdin(Stdio::null())
        .output()
        .map_err(|e| format!("{}: {e}", command[0]))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(format!("{} failed: {said}", command.join(" ")))
}
