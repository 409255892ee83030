//! Attributes that `statx` does not show: flags, access lists, extended attributes.

use std::io;
use std::os::fd::BorrowedFd;

use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_os::{
    ACCESS_LIST, Caller, DEFAULT_LIST, Entry, Flags, System, Xattrs, is_absent, is_unsupported,
};

/// The extended attributes of an entry that its drive shows this caller and that mean the same everywhere,
/// whatever is carried.
pub fn shown_xattrs(system: &dyn System, entry: Entry<'_>, caller: &Caller) -> io::Result<Xattrs> {
    let names = match system.list_xattrs(entry) {
        Err(e) if is_unsupported(&e) => return Ok(Xattrs::new()),
        other => other?,
    };
    let for_all =
        |name: &[u8]| attribute_of(name) == Some(Attribute::Acl) || name.starts_with(b"user.");
    let is_shown =
        |name: &Vec<u8>| attribute_of(name).is_some() && (for_all(name) || caller.administers);
    let shown = names.into_iter().filter(is_shown);
    let read = |name: Vec<u8>| Ok((name.clone(), system.get_xattr(entry, &name)?));
    let mut xattrs = shown.map(read).collect::<io::Result<Xattrs>>()?;
    xattrs.sort();
    Ok(xattrs)
}

/// The attributes in which two sets of extended attributes differ.
pub fn differing(source: &Xattrs, destination: &Xattrs) -> Attributes {
    let only_in = |a: &Xattrs, b: &Xattrs| {
        let missing = a.iter().filter(|x| !b.contains(x));
        missing.filter_map(|(name, _)| attribute_of(name)).collect::<Vec<_>>()
    };
    only_in(source, destination).into_iter().chain(only_in(destination, source)).collect()
}

/// What other attributes of the system's own mean differs from drive to drive.
pub fn attribute_of(name: &[u8]) -> Option<Attribute> {
    if name == ACCESS_LIST || name == DEFAULT_LIST {
        return Some(Attribute::Acl);
    }
    // XFS shows its access lists to root a second time, as what it keeps them in.
    if name.starts_with(b"trusted.SGI_ACL_") {
        return None;
    }
    let spaces: [&[u8]; 3] = [b"user.", b"trusted.", b"security."];
    spaces.iter().any(|space| name.starts_with(space)).then_some(Attribute::Xattr)
}

/// True if what is made in this folder is born with access lists of its own.
pub fn has_default_list(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<bool> {
    match system.get_xattr(Entry::Open(folder), DEFAULT_LIST) {
        Err(e) if is_absent(&e) => Ok(false),
        other => other.map(|_| true),
    }
}

/// The carried flags of an open file or folder; `None` where they cannot be read. Drivers that have no
/// such thing say so with many an error; one that came by chance does not come twice.
pub fn flags(system: &dyn System, entry: BorrowedFd<'_>) -> Option<Flags> {
    let told = match system.flags(entry) {
        Err(e) if is_unsupported(&e) => return None,
        other => other.or_else(|_| system.flags(entry)),
    };
    told.ok().map(|flags| flags.and(Flags::CARRIED))
}
