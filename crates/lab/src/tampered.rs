//! A system that counts the calls of a run and makes chosen ones fail.

use std::io;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rustix::io::Errno;
use utter_echo_core::os::{
    Advice, Caller, EachName, Entry, Flags, IfExists, Kind, Lease, Linux, Lock, LockHolder,
    LockMode, Mount, Space, Stat, System, Time,
};

/// What to do to which call; calls are counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tampering {
    /// Only count.
    Nothing,
    /// Fail the call with this number, with this system error.
    FailOne(usize, i32),
    /// Fail each call of this name, with this system error.
    FailAll(&'static str, i32),
    /// Fail this call and all after it, as if the process had been killed: nothing has an effect
    /// any more.
    KillAt(usize),
}

/// By any error by which a driver reports that a call is unsupported.
pub const ERRORS: [Errno; 20] = [
    Errno::PERM,
    Errno::NOENT,
    Errno::INTR,
    Errno::IO,
    Errno::NXIO,
    Errno::BADF,
    Errno::AGAIN,
    Errno::NOMEM,
    Errno::ACCESS,
    Errno::FAULT,
    Errno::BUSY,
    Errno::XDEV,
    Errno::NODEV,
    Errno::INVAL,
    Errno::NOTTY,
    Errno::NOSPC,
    Errno::ROFS,
    Errno::NOSYS,
    Errno::OPNOTSUPP,
    Errno::STALE,
];

/// The real system, tampered with.
pub struct Tampered<'a> {
    tampering: Tampering,
    /// The drives are rotational, and nothing is cached. Otherwise they are not, whatever the machine has: on such
    /// disks the number of calls depends on how long they take, so that calls could not be counted.
    disks: bool,
    calls: Mutex<Vec<&'static str>>,
    before_each: Box<dyn Fn(&'static str) + Sync + 'a>,
}

impl<'a> Tampered<'a> {
    /// A system that does this.
    pub fn new(tampering: Tampering) -> Self {
        Self { tampering, disks: false, calls: Mutex::default(), before_each: Box::new(|_| {}) }
    }

    /// A system that runs a function before each call, with the name of the call.
    pub fn before_each(happens: impl Fn(&'static str) + Sync + 'a) -> Self {
        Self { before_each: Box::new(happens), ..Self::new(Tampering::Nothing) }
    }

    /// The same on rotational disks with nothing cached.
    #[must_use]
    pub fn with_rotational_disks(self) -> Self {
        Self { disks: true, ..self }
    }

    /// The names of all calls so far, in order, failed ones among them.
    ///
    /// # Panics
    /// If a call panicked before.
    pub fn calls(&self) -> Vec<&'static str> {
        self.calls.lock().expect("no call panics").clone()
    }

    fn pass(&self, name: &'static str) -> io::Result<()> {
        (self.before_each)(name);
        let mut calls = self.calls.lock().expect("no call panics");
        let number = calls.len();
        calls.push(name);
        match self.tampering {
            Tampering::FailOne(at, error) if at == number => {
                Err(io::Error::from_raw_os_error(error))
            }
            Tampering::FailAll(always, error) if always == name => {
                Err(io::Error::from_raw_os_error(error))
            }
            Tampering::KillAt(at) if number >= at => Err(io::Error::other("killed")),
            _ => Ok(()),
        }
    }
}

/// Defines each call of the trait: count it, then fail it or pass it on.
macro_rules! tampered {
    ($($name:ident($($argument:ident: $type:ty),*) -> $result:ty;)*) => {
        impl System for Tampered<'_> {
            fn rotational_disk_of(&self, drive: u64) -> io::Result<Option<u64>> {
                self.pass("rotational_disk_of").map(|()| self.disks.then_some(drive))
            }

            fn is_cached(&self, file: BorrowedFd<'_>, bytes: u64) -> io::Result<bool> {
                self.pass("is_cached")?;
                Ok(!self.disks && Linux.is_cached(file, bytes)?)
            }

            $(fn $name(&self, $($argument: $type),*) -> io::Result<$result> {
                self.pass(stringify!($name))?;
                Linux.$name($($argument),*)
            })*
        }
    };
}

tampered! {
    open_root(path: &Path) -> OwnedFd;
    open_folder(root: BorrowedFd<'_>, path: &[u8]) -> OwnedFd;
    open_file(folder: BorrowedFd<'_>, name: &[u8]) -> OwnedFd;
    pin(folder: BorrowedFd<'_>, name: &[u8]) -> OwnedFd;
    list(folder: BorrowedFd<'_>, each: &mut EachName<'_>) -> ();
    may_change(folder: BorrowedFd<'_>) -> ();
    stat(entry: Entry<'_>) -> Stat;
    read_link(folder: BorrowedFd<'_>, name: &[u8]) -> Vec<u8>;
    read_at(file: BorrowedFd<'_>, buffer: &mut [u8], offset: u64) -> usize;
    next_data(file: BorrowedFd<'_>, offset: u64) -> Option<(u64, u64)>;
    create_file(folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> OwnedFd;
    open_to_write(folder: BorrowedFd<'_>, name: &[u8]) -> OwnedFd;
    create_nameless(folder: BorrowedFd<'_>, mode: u32) -> OwnedFd;
    give_name(file: BorrowedFd<'_>, folder: BorrowedFd<'_>, name: &[u8]) -> ();
    write_at(file: BorrowedFd<'_>, bytes: &[u8], offset: u64) -> ();
    copy_range(source: BorrowedFd<'_>, destination: BorrowedFd<'_>, offset: u64, length: u64) -> u64;
    share_content(source: BorrowedFd<'_>, destination: BorrowedFd<'_>) -> ();
    may_reach(file: BorrowedFd<'_>, length: u64) -> bool;
    set_length(file: BorrowedFd<'_>, length: u64) -> ();
    reserve(file: BorrowedFd<'_>, length: u64) -> ();
    advise(file: BorrowedFd<'_>, advice: Advice, offset: u64, length: u64) -> ();
    create_folder(folder: BorrowedFd<'_>, name: &[u8], mode: u32) -> ();
    create_link(folder: BorrowedFd<'_>, name: &[u8], text: &[u8]) -> ();
    create_special(folder: BorrowedFd<'_>, name: &[u8], kind: Kind, mode: u32, device: u64) -> ();
    add_name(from_folder: BorrowedFd<'_>, from: &[u8], folder: BorrowedFd<'_>, name: &[u8]) -> ();
    rename(from: (BorrowedFd<'_>, &[u8]), to: (BorrowedFd<'_>, &[u8]), onto: IfExists) -> ();
    remove_file(folder: BorrowedFd<'_>, name: &[u8]) -> ();
    remove_folder(folder: BorrowedFd<'_>, name: &[u8]) -> ();
    set_owner(entry: Entry<'_>, uid: u32, gid: u32) -> ();
    set_mode(entry: Entry<'_>, mode: u32) -> ();
    set_times(entry: Entry<'_>, modified: Time, accessed: Option<Time>) -> ();
    flags(entry: BorrowedFd<'_>) -> Flags;
    set_flags(entry: BorrowedFd<'_>, flags: Flags) -> ();
    project(entry: BorrowedFd<'_>) -> u32;
    list_xattrs(entry: Entry<'_>) -> Vec<Vec<u8>>;
    get_xattr(entry: Entry<'_>, name: &[u8]) -> Vec<u8>;
    set_xattr(entry: Entry<'_>, name: &[u8], value: &[u8]) -> ();
    remove_xattr(entry: Entry<'_>, name: &[u8]) -> ();
    lock(folder: BorrowedFd<'_>, mode: LockMode) -> Option<Lock>;
    driver_device(folder: BorrowedFd<'_>) -> Option<OwnedFd>;
    drop_device_cache(device: BorrowedFd<'_>) -> ();
    lock_file(file: BorrowedFd<'_>) -> Option<Lock>;
    lock_holders(folder: BorrowedFd<'_>) -> Vec<LockHolder>;
    take_lease(file: BorrowedFd<'_>) -> Option<Lease>;
    flush_file(file: BorrowedFd<'_>) -> ();
    write_back(file: BorrowedFd<'_>) -> ();
    flush_drive(folder: BorrowedFd<'_>) -> ();
    kind_of_drive(folder: BorrowedFd<'_>) -> u64;
    space(folder: BorrowedFd<'_>) -> Space;
    mount_session(folder: BorrowedFd<'_>) -> Vec<u8>;
    born(entry: BorrowedFd<'_>) -> Option<Time>;
    mounts() -> Vec<Mount>;
    device_data(device: &Path) -> Vec<u8>;
    real_path(folder: BorrowedFd<'_>) -> PathBuf;
    mounts_meant() -> Vec<PathBuf>;
    lies_at(file: BorrowedFd<'_>) -> Option<u64>;
    read_device(device: &Path, offset: u64, length: usize) -> Vec<u8>;
    caller() -> Caller;
}
