//! Which aspects this caller can carry to this destination, and which of them an entry differs in.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicBool, Ordering};

use rustix::io::Errno;

use crate::aspect::{Aspect, Aspects};
use crate::os::{Caller, Entry, System};
use crate::pair::Pair;
use crate::plan::Remark;

pub(crate) const ACCESS_LIST: &[u8] = b"system.posix_acl_access";
pub(crate) const DEFAULT_LIST: &[u8] = b"system.posix_acl_default";

/// What was asked for, cut down to what can be done.
#[derive(Debug)]
pub(crate) struct Reach {
    pub(crate) carry: Aspects,
    pub(crate) caller: Caller,
    remarks: Vec<Remark>,
    /// An owner differed that the caller may not set.
    foreign_owner: AtomicBool,
}

/// Extended attributes that count, by name: sorted, so that two can be compared.
pub(crate) type Xattrs = Vec<(Vec<u8>, Vec<u8>)>;

impl Reach {
    /// Finds out by reading alone, so that a dry run touches nothing.
    pub(crate) fn find(
        system: &dyn System,
        pair: &Pair,
        mut carry: Aspects,
        caller: &Caller,
    ) -> Self {
        let mut remarks = Vec::new();
        let destination = Entry::Pinned(pair.destination.anchor.as_fd());
        if carry.has(Aspect::Xattr) && unsupported(&system.list_xattrs(destination)) {
            carry = carry.without(Aspect::Xattr);
            remarks.push(Remark::XattrNotCarried);
        }
        if carry.has(Aspect::Acl) && unsupported(&system.get_xattr(destination, ACCESS_LIST)) {
            carry = carry.without(Aspect::Acl);
            remarks.push(Remark::AclNotCarried);
        }
        Self { carry, caller: caller.clone(), remarks, foreign_owner: AtomicBool::new(false) }
    }

    pub(crate) fn remarks(&self) -> Vec<Remark> {
        let mut remarks = self.remarks.clone();
        if self.foreign_owner.load(Ordering::Relaxed) {
            remarks.push(Remark::OwnerNotCarried);
        }
        remarks
    }

    /// The owner an entry should get, given the one wanted and the one it has or will have:
    /// without the right to give files away only the group can change, to one of the caller's.
    pub(crate) fn owner_to_set(&self, wanted: (u32, u32), has: (u32, u32)) -> Option<(u32, u32)> {
        if !self.carry.has(Aspect::Owner) || wanted == has {
            return None;
        }
        if self.caller.gives_files {
            return Some(wanted);
        }
        let own = has.0 == self.caller.uid;
        let joins = wanted.1 == self.caller.gid || self.caller.groups.contains(&wanted.1);
        let reachable = (has.0, if own && joins { wanted.1 } else { has.1 });
        if reachable != wanted {
            self.foreign_owner.store(true, Ordering::Relaxed);
        }
        (reachable != has).then_some(reachable)
    }

    /// True if attributes beyond `stat` are carried at all.
    pub(crate) fn carries_xattrs(&self) -> bool {
        self.carry.has(Aspect::Xattr) || self.carry.has(Aspect::Acl)
    }

    /// The carried extended attributes of an entry.
    pub(crate) fn xattrs(&self, system: &dyn System, entry: Entry<'_>) -> io::Result<Xattrs> {
        self.xattrs_of(system, entry, self.carry)
    }

    /// The extended attributes of an entry that belong to some aspects.
    pub(crate) fn xattrs_of(
        &self,
        system: &dyn System,
        entry: Entry<'_>,
        aspects: Aspects,
    ) -> io::Result<Xattrs> {
        let mut xattrs = Vec::new();
        if !aspects.has(Aspect::Xattr) && !aspects.has(Aspect::Acl) {
            return Ok(xattrs);
        }
        let names = match system.list_xattrs(entry) {
            result if unsupported(&result) => return Ok(xattrs),
            other => other?,
        };
        for name in names {
            if aspect_of(&name, self.caller.administers).is_some_and(|a| aspects.has(a)) {
                let value = system.get_xattr(entry, &name)?;
                xattrs.push((name, value));
            }
        }
        xattrs.sort();
        Ok(xattrs)
    }
}

/// The aspects in which two sets of extended attributes differ.
pub(crate) fn differing(source: &Xattrs, destination: &Xattrs) -> Aspects {
    let only_in = |a: &Xattrs, b: &Xattrs| {
        let missing = a.iter().filter(|x| !b.contains(x));
        missing.filter_map(|(name, _)| aspect_of(name, true)).collect::<Vec<_>>()
    };
    only_in(source, destination).into_iter().chain(only_in(destination, source)).collect()
}

fn aspect_of(name: &[u8], administers: bool) -> Option<Aspect> {
    if name == ACCESS_LIST || name == DEFAULT_LIST {
        return Some(Aspect::Acl);
    }
    let privileged = name.starts_with(b"trusted.") || name.starts_with(b"security.");
    (name.starts_with(b"user.") || (privileged && administers)).then_some(Aspect::Xattr)
}

/// True if what is made in this folder is born with access lists of its own.
pub(crate) fn has_default_list(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<bool> {
    match system.get_xattr(Entry::Open(folder), DEFAULT_LIST) {
        Err(e) if is_absent(&e) => Ok(false),
        other => other.map(|_| true),
    }
}

/// True if an entry lacks an attribute, or its file system all of that sort.
pub(crate) fn is_absent(error: &io::Error) -> bool {
    let [absent, unknown] = [Errno::NODATA, Errno::OPNOTSUPP].map(Errno::raw_os_error);
    error.raw_os_error().is_some_and(|number| number == absent || number == unknown)
}

/// True if the file system, and not this entry, lacks what was asked for.
fn unsupported<T>(result: &io::Result<T>) -> bool {
    let said = |e: &io::Error| e.raw_os_error() == Some(Errno::OPNOTSUPP.raw_os_error());
    result.as_ref().is_err_and(said)
}
