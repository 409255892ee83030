//! The position of a file's content on its drive.

use std::io;
use std::os::fd::{AsRawFd as _, BorrowedFd};

/// `FS_IOC_FIEMAP`, see `fiemap.txt` of the kernel's documentation.
const FIEMAP: libc::Ioctl = 0xC020_660B_u32 as libc::Ioctl;

/// The content has no position yet, or none that the system knows.
const UNPLACED: u32 = 0x2 | 0x4;

/// The question, and the one extent of the answer.
#[repr(C)]
#[derive(Default)]
struct Fiemap {
    start: u64,
    length: u64,
    flags: u32,
    mapped: u32,
    room: u32,
    reserved: u32,
    logical: u64,
    physical: u64,
    extent_length: u64,
    reserved64: [u64; 2],
    extent_flags: u32,
    reserved32: [u32; 3],
}

/// The offset in bytes, on its drive, of the first byte of a file's content; `None` if it has no position.
#[allow(unsafe_code, reason = "the layer over the system's calls does not have this one")]
pub(super) fn first_byte(file: BorrowedFd<'_>) -> io::Result<Option<u64>> {
    let mut asked = Fiemap { length: u64::MAX, room: 1, ..Fiemap::default() };
    // SAFETY: the handle is open as long as it is borrowed, and the kernel writes at most the one extent that fits.
    let done = unsafe { libc::ioctl(file.as_raw_fd(), FIEMAP, &raw mut asked) };
    if done != 0 {
        return Err(io::Error::last_os_error());
    }
    Ok((asked.mapped > 0 && asked.extent_flags & UNPLACED == 0).then_some(asked.physical))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs::File;
    use std::io::Write as _;
    use std::os::fd::AsFd as _;

    #[test]
    fn written_content_has_an_offset_on_the_drive_and_no_content_has_none() {
        let room = tempfile::tempdir().unwrap();
        let at = |name: &str, content: &[u8]| {
            let mut file = File::create(room.path().join(name)).unwrap();
            file.write_all(content).and_then(|()| file.sync_all()).unwrap();
            first_byte(file.as_fd())
        };
        // Drives in memory have no places.
        let Ok(first) = at("logbook", &[7; 8192]) else { return };
        let second = at("tide-table", &[8; 8192]).unwrap();
        assert!(first.is_some() && second.is_some() && first != second, "{first:?}, {second:?}");
        assert_eq!(at("empty", &[]).unwrap(), None);
    }
}
