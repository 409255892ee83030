//! Labels and UUIDs of drives, from the device manager or from the drive's first blocks.

use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt;
use std::path::Path;

use utter_echo_os::System;

/// The type, label and UUID of a drive.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct DriveLabels {
    pub(crate) kind: Option<&'static str>,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
}

/// The end of the last block that is read below.
const HEAD: usize = 0x10000 + 0x1000;

/// Asks the device manager, and then reads the drive's first blocks if the caller may.
pub(crate) fn identify(system: &dyn System, device: &Path) -> DriveLabels {
    if let Some(told) = system.device_data(device).ok().and_then(|data| from_device_manager(&data))
    {
        return told;
    }
    let read = |offset, length| system.read_device(device, offset, length).unwrap_or_default();
    let head = read(0, HEAD);
    let mut written = read_head(&head).unwrap_or_default();
    let further = label_place(&head);
    written.label = written.label.or_else(|| further.and_then(|(at, find)| find(&read(at, 4096))));
    written.label = written.label.filter(|label| !label.is_empty());
    written
}

/// The data of the device manager; `None` if it knows no file system on the device.
fn from_device_manager(data: &[u8]) -> Option<DriveLabels> {
    let data = String::from_utf8_lossy(data);
    let value = |key: &str| {
        let line = |line: &str| Some(line.strip_prefix(key)?.strip_prefix('=')?.to_owned());
        data.lines().find_map(line).filter(|value| !value.is_empty())
    };
    let kind = match &*value("E:ID_FS_TYPE")? {
        "ext2" | "ext3" | "ext4" => Some("ext4"),
        "xfs" => Some("xfs"),
        "btrfs" => Some("btrfs"),
        "exfat" => Some("exFAT"),
        "ntfs" => Some("NTFS"),
        "vfat" => Some("FAT"),
        _ => None,
    };
    let label = value("E:ID_FS_LABEL_ENC").map(|label| spelled_out(&label));
    Some(DriveLabels { kind, label, uuid: value("E:ID_FS_UUID") })
}

/// Decodes `\xNN`, which the device manager writes for characters that are unusual in paths.
fn spelled_out(name: &str) -> String {
    let mut parts = name.split("\\x");
    let mut bytes = parts.next().unwrap_or_default().as_bytes().to_vec();
    for part in parts {
        match part.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(byte) => bytes.extend([&[byte], &part.as_bytes()[2..]].concat()),
            None => bytes.extend([b"\\x", part.as_bytes()].concat()),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Reads the first blocks of the most common file systems. Offsets are from the kernel's headers: `fs/ext4/ext4.h`,
/// `fs/xfs/libxfs/xfs_format.h`, `include/uapi/linux/btrfs_tree.h`, `include/uapi/linux/msdos_fs.h`, and of the
/// published descriptions of exFAT and NTFS.
fn read_head(head: &[u8]) -> Option<DriveLabels> {
    let at = |from: usize, length: usize| head.get(from..from + length);
    let is = |from: usize, magic: &[u8]| at(from, magic.len()) == Some(magic);
    let found = |kind, label: Option<&[u8]>, uuid| {
        Some(DriveLabels { kind: Some(kind), label: label.map(text), uuid })
    };
    if is(0x438, b"\x53\xef") {
        // Without extents it may be ext2 or ext3, which the system also calls ext4.
        return found("ext4", at(0x478, 16), at(0x468, 16).map(uuid));
    }
    if is(0, b"XFSB") {
        return found("xfs", at(108, 12), at(32, 16).map(uuid));
    }
    if is(0x10040, b"_BHRfS_M") {
        return found("btrfs", at(0x1_012b, 256), at(0x10020, 16).map(uuid));
    }
    if is(3, b"EXFAT   ") {
        return found("exFAT", None, at(100, 4).map(short_serial));
    }
    if is(3, b"NTFS    ") {
        return found("NTFS", None, at(72, 8).map(serial));
    }
    if is(82, b"FAT32   ") {
        return found("FAT", at(71, 11), at(67, 4).map(short_serial));
    }
    if is(54, b"FAT1") {
        return found("FAT", at(43, 11), at(39, 4).map(short_serial));
    }
    None
}

/// Finds a label in a block.
type FindLabel = fn(&[u8]) -> Option<String>;

/// The position of labels that are not in the first blocks, and how they are found there.
fn label_place(head: &[u8]) -> Option<(u64, FindLabel)> {
    let number = |at: usize, length: usize| {
        let bytes = head.get(at..at + length)?;
        Some(bytes.iter().rev().fold(0_u64, |number, b| number << 8 | u64::from(*b)))
    };
    let cluster = |first: u64, size: u64, at: u64| first.checked_add(size.checked_mul(at)?);
    match head.get(3..11)? {
        b"EXFAT   " => {
            // The first cluster of the topmost folder. Clusters are numbered from 2.
            let sector = 1_u64.checked_shl(u32::try_from(number(108, 1)?).ok()?)?;
            let size = sector.checked_shl(u32::try_from(number(109, 1)?).ok()?)?;
            let heap = number(88, 4)?.checked_mul(sector)?;
            Some((cluster(heap, size, number(96, 4)?.checked_sub(2)?)?, exfat_label))
        }
        b"NTFS    " => {
            // The fourth record of the table of files.
            let size = number(11, 2)?.checked_mul(number(13, 1)?)?;
            let record = match number(64, 1)? {
                small @ 0xe0..=0xff => 1_u64.checked_shl(u32::try_from(256 - small).ok()?)?,
                clusters => clusters.checked_mul(size)?,
            };
            Some((cluster(number(48, 8)?.checked_mul(size)?, record, 3)?, ntfs_label))
        }
        _ => None,
    }
}

/// Entries have 32 bytes. The entry of the label has type 0x83 and its length in the second byte.
fn exfat_label(folder: &[u8]) -> Option<String> {
    let entry = folder.chunks_exact(32).take_while(|e| e[0] != 0).find(|e| e[0] == 0x83)?;
    utf16(entry.get(2..2 + 2 * usize::from(entry[1]))?)
}

/// Attributes follow each other, each with its type and length in front. Type 0x60 is the label.
fn ntfs_label(record: &[u8]) -> Option<String> {
    let short =
        |at: usize| Some(usize::from(u16::from_le_bytes(record.get(at..at + 2)?.try_into().ok()?)));
    let long = |at: usize| {
        usize::try_from(u32::from_le_bytes(record.get(at..at + 4)?.try_into().ok()?)).ok()
    };
    let mut at = short(20)?;
    while long(at)? != 0x60 {
        let length = long(at + 4).filter(|length| *length > 0)?;
        at = at.checked_add(length)?;
    }
    let start = at.checked_add(short(at + 20)?)?;
    utf16(record.get(start..start.checked_add(long(at + 16)?)?)?)
}

fn utf16(bytes: &[u8]) -> Option<String> {
    let units: Vec<u16> = bytes.chunks_exact(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    String::from_utf16(&units).ok()
}

/// The text up to the first NUL, without trailing spaces.
fn text(bytes: &[u8]) -> String {
    let bytes: Vec<u8> = bytes.iter().copied().take_while(|b| *b != 0).collect();
    let text = OsString::from_vec(bytes).to_string_lossy().trim_end().to_owned();
    if text == "NO NAME" { String::new() } else { text }
}

/// The 16 bytes of a file system's id, in the usual groups of hexadecimal digits.
pub fn uuid(bytes: &[u8]) -> String {
    let digits = bytes.iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>().concat();
    let parts = [0..8, 8..12, 12..16, 16..20, 20..32];
    parts.map(|part| digits.get(part).unwrap_or_default().to_owned()).join("-")
}

fn short_serial(bytes: &[u8]) -> String {
    let digits = serial(bytes);
    let (first, second) = digits.split_at(digits.len() / 2);
    format!("{first}-{second}")
}

/// Stored with the lowest byte first.
fn serial(bytes: &[u8]) -> String {
    bytes.iter().rev().map(|b| format!("{b:02X}")).collect::<Vec<_>>().concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_label_and_uuid_of_a_drive_are_read() {
        let mut ext4 = vec![0; HEAD];
        ext4[0x438..0x43a].copy_from_slice(b"\x53\xef");
        ext4[0x468..0x478].copy_from_slice(&[0xab; 16]);
        ext4[0x478..0x47e].copy_from_slice(b"keeper");
        let written = read_head(&ext4).unwrap();
        assert_eq!(written.label.as_deref(), Some("keeper"));
        assert_eq!(written.uuid.as_deref(), Some("abababab-abab-abab-abab-abababababab"));
        let mut fat = vec![0; 512];
        fat[82..90].copy_from_slice(b"FAT32   ");
        fat[67..71].copy_from_slice(&[0x78, 0x56, 0x34, 0x12]);
        fat[71..82].copy_from_slice(b"NO NAME    ");
        let written = read_head(&fat).unwrap();
        assert_eq!(
            (written.label.as_deref(), written.uuid.as_deref()),
            (Some(""), Some("1234-5678"))
        );
        let mut folder = vec![0; 64];
        folder[0] = 0x81;
        folder[32..42].copy_from_slice(b"\x83\x04t\0i\0d\0e\0");
        assert_eq!(exfat_label(&folder).as_deref(), Some("tide"));
        let mut record = vec![0; 128];
        (record[20], record[40], record[44]) = (40, 0x10, 24);
        (record[64], record[68], record[80], record[84]) = (0x60, 40, 4, 24);
        record[88..92].copy_from_slice(b"f\0g\0");
        assert_eq!(ntfs_label(&record).as_deref(), Some("fg"));
        assert_eq!(spelled_out("harbour\\x20stick\\xc3\\xa9\\xz"), "harbour stick\u{e9}\\xz");
        let data = b"S:disk/by-label/x\nE:ID_FS_TYPE=vfat\nE:ID_FS_LABEL_ENC=tide\\x20log\nE:ID_FS_UUID=12-34\n";
        let told = from_device_manager(data).unwrap();
        assert_eq!((told.kind, told.label.as_deref()), (Some("FAT"), Some("tide log")));
        assert_eq!(
            (told.uuid.as_deref(), from_device_manager(b"E:ID_BUS=usb\n")),
            (Some("12-34"), None)
        );
        assert!(label_place(&ext4).is_none() && ntfs_label(&[]).is_none());
        assert_eq!(read_head(b""), None);
        assert_eq!(read_head(&vec![0; HEAD]), None);
    }
}
