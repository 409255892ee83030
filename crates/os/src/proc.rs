//! What the kernel shows in files below `/proc`.

use std::ffi::OsString;
use std::fs::File;
use std::io::{self, Read as _};
use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

use crate::caller::Caller;
use crate::mount::Mount;
use crate::stat::Identity;

/// Reads a line of `/proc/self/mountinfo`, see `proc_pid_mountinfo(5)`:
/// `36 35 98:0 /part /where rw,noatime master:1 - ext3 /dev/root rw`.
pub(super) fn mount_of(line: &[u8]) -> Option<Mount> {
    let mut fields = line.split(|b| *b == b' ');
    let numbers = std::str::from_utf8(fields.nth(2)?).ok()?;
    let (major, minor) = numbers.split_once(':')?;
    let part = unescaped(fields.next()?);
    let point = unescaped(fields.next()?);
    let options = fields.next()?;
    let mut rest = fields.skip_while(|field| *field != b"-").skip(1);
    let kind = String::from_utf8_lossy(rest.next()?).into_owned();
    let device = unescaped(rest.next()?);
    let whole_options = rest.next()?;
    let writable = [options, whole_options]
        .into_iter()
        .all(|list| list.split(|b| *b == b',').all(|option| option != b"ro"));
    Some(Mount {
        point,
        kind,
        device,
        drive: rustix::fs::makedev(major.parse().ok()?, minor.parse().ok()?),
        part,
        writable,
    })
}

/// Reads a line of `/etc/fstab`, see `fstab(5)`: where something is to be mounted.
pub(super) fn mount_meant(line: &[u8]) -> Option<PathBuf> {
    let mut fields = line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty());
    let device = fields.next()?;
    let point = unescaped(fields.next()?);
    (!device.starts_with(b"#") && point.is_absolute()).then_some(point)
}

/// Reads a line of `/proc/locks`, see `proc_locks(5)`: `1: FLOCK  ADVISORY  WRITE 1234 08:01:5678 0 EOF`. The process
/// that has a lock of this entry, if the line is about one. Some file systems have other numbers of their drives
/// there, so only the entry's own number is compared: at worst one process more is asked about.
pub(super) fn lock_of(line: &str, of: Identity) -> Option<u32> {
    let mut fields = line.split_ascii_whitespace().skip(1);
    if fields.next()? != "FLOCK" {
        return None;
    }
    let process = fields.nth(2)?.parse().ok()?;
    let inode = fields.next()?.rsplit(':').next()?;
    (inode.parse() == Ok(of.inode)).then_some(process)
}

/// Decodes white space and backslashes, which are written as three octal digits.
fn unescaped(field: &[u8]) -> PathBuf {
    let mut bytes = Vec::with_capacity(field.len());
    let mut rest = field;
    while let Some((first, tail)) = rest.split_first() {
        let digits = tail.get(..3).filter(|_| *first == b'\\');
        let octal = digits.and_then(|digits| std::str::from_utf8(digits).ok());
        if let Some(byte) = octal.and_then(|octal| u8::from_str_radix(octal, 8).ok()) {
            bytes.push(byte);
            rest = &tail[3..];
        } else {
            bytes.push(*first);
            rest = tail;
        }
    }
    OsString::from_vec(bytes).into()
}

/// Reads a file of the kernel's, whose size is not known beforehand, with few calls.
pub(crate) fn read(path: &str) -> io::Result<Vec<u8>> {
    const MOST: usize = 16 * 1024;
    let mut bytes = Vec::with_capacity(MOST);
    File::open(path)?.read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Reads `/proc/self/status`, see `proc_pid_status(5)`: the one source that shows the umask
/// without changing it.
pub(super) fn caller_of(status: &str) -> Option<Caller> {
    let field = |name: &str| {
        status.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':')).map(str::trim)
    };
    let effective = |name| field(name)?.split_whitespace().nth(1)?.parse().ok();
    let capabilities = u64::from_str_radix(field("CapEff")?, 16).ok()?;
    let holds = |bit: u32| capabilities >> bit & 1 == 1;
    Some(Caller {
        uid: effective("Uid")?,
        gid: effective("Gid")?,
        groups: field("Groups")?.split_whitespace().filter_map(|g| g.parse().ok()).collect(),
        umask: u32::from_str_radix(field("Umask")?, 8).ok()?,
        gives_files: holds(0),
        makes_devices: holds(27),
        administers: holds(21),
        acts_for_owners: holds(3),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn a_line_of_the_list_of_mounts_is_read() {
        let line =
            br"36 35 98:0 /part /mnt/tide\040tables rw,noatime master:1 - ext4 /dev/sd\134b ro";
        let mount = mount_of(line).unwrap();
        assert_eq!(mount.point, Path::new("/mnt/tide tables"));
        assert_eq!((mount.kind.as_str(), mount.device.to_str()), ("ext4", Some(r"/dev/sd\b")));
        assert_eq!((&*mount.part, mount.writable), (Path::new("/part"), false));
        assert_eq!(mount.drive, rustix::fs::makedev(98, 0));
        assert_eq!(mount_of(b""), None);
    }

    #[test]
    fn who_has_a_lock_is_read_and_who_waits_for_it_is_not() {
        let of = Identity { drive: 1, inode: 5678 };
        assert_eq!(lock_of("1: FLOCK  ADVISORY  WRITE 1234 08:01:5678 0 EOF", of), Some(1234));
        for other in [
            "1: FLOCK  ADVISORY  WRITE 1234 08:01:5679 0 EOF",
            "2: -> FLOCK  ADVISORY  READ 1234 08:01:5678 0 EOF",
            "3: POSIX  ADVISORY  WRITE 1234 08:01:5678 0 EOF",
            "",
        ] {
            assert_eq!(lock_of(other, of), None, "{other}");
        }
    }

    #[test]
    fn the_caller_is_read_from_its_status() {
        let status = "Name:\tutter\nUmask:\t0027\nUid:\t10\t11\t12\t13\nGid:\t20\t21\t22\t23\n\
                      Groups:\t4 24 \nCapEff:\t0000000000000001\n";
        let caller = caller_of(status).unwrap();
        assert_eq!((caller.uid, caller.gid, caller.umask), (11, 21, 0o27));
        assert_eq!(caller.groups, [4, 24]);
        assert!(caller.gives_files && !caller.administers);
        assert_eq!(caller_of("Umask:\t0027\n"), None);
    }
}
