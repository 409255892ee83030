//! Who this process is.

use crate::stat::Stat;

/// Who this process is, as far as it decides what can be carried.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "capabilities, each by itself")]
pub struct Caller {
    /// Effective user.
    pub uid: u32,
    /// Effective group.
    pub gid: u32,
    /// Supplementary groups.
    pub groups: Vec<u32>,
    /// Bits that the system takes away from the mode given at creation.
    pub umask: u32,
    /// May give files to others (`CAP_CHOWN`).
    pub gives_files: bool,
    /// May make devices (`CAP_MKNOD`).
    pub makes_devices: bool,
    /// May read and write the `trusted` and `security` attributes (`CAP_SYS_ADMIN`).
    pub administers: bool,
    /// May do with the entries of others what their owners may (`CAP_FOWNER`).
    pub acts_for_owners: bool,
}

impl Caller {
    /// True if the mode of a folder lets this user change what is in it, or the user can make it so.
    pub fn may_write_into(&self, folder: &Stat) -> bool {
        let is_of_group = self.gid == folder.gid || self.groups.contains(&folder.gid);
        let bit = if is_of_group { 0o020 } else { 0o002 };
        self.uid == 0 || self.acts_for_owners || self.uid == folder.uid || folder.mode & bit != 0
    }

    /// The user whose entries alone this one may take away from a folder, or rename; `None` if all. That is
    /// what the sticky bit of a shared folder says.
    pub fn bound_to(&self, folder: &Stat) -> Option<u32> {
        let is_sticky = folder.mode & 0o1000 != 0;
        (is_sticky && folder.uid != self.uid && !self.acts_for_owners).then_some(self.uid)
    }
}
