//! Attributes that some drives have and no run carries. A move between drives would drop them.

use std::os::fd::BorrowedFd;

use utter_echo_os::{Entry, Flags, System};

/// What an entry has of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Uncarried {
    /// The bits of [`DOS_FLAGS`]; `None` where the drive has none.
    dos_flags: Option<u8>,
    /// The quota project that it counts for; 0 for none.
    project: u32,
    /// Written in place on a drive that otherwise writes every change elsewhere.
    writes_in_place: bool,
    /// Whatever comes into this folder counts for its project.
    hands_project_on: bool,
}

/// The attribute in which drivers of NTFS show the flags of an entry, as a number with the lowest byte first.
const OF_NTFS: &[u8] = b"system.ntfs_attrib";

/// Read-only, hidden and system.
const DOS_FLAGS: u8 = 0b111;

impl Uncarried {
    /// What an open file or folder has. What a drive does not tell counts as not there.
    pub fn of_open(system: &dyn System, entry: BorrowedFd<'_>) -> Self {
        let flags = system.flags(entry).unwrap_or_default();
        Self {
            project: system.project(entry).unwrap_or_default(),
            writes_in_place: !flags.and(Flags::NO_COPY_ON_WRITE).is_empty(),
            hands_project_on: !flags.and(Flags::ONE_ACCOUNT).is_empty(),
            ..Self::of(system, Entry::Open(entry))
        }
    }

    /// What an entry shows that is not opened: its flags alone.
    pub fn of(system: &dyn System, entry: Entry<'_>) -> Self {
        let number = system.get_xattr(entry, OF_NTFS).ok();
        let lowest = number.and_then(|number| number.first().copied());
        Self { dos_flags: lowest.map(|flags| flags & DOS_FLAGS), ..Self::default() }
    }

    /// True if the entry has any of them.
    pub fn is_some(self) -> bool {
        self.lost_in(Self::default()).next().is_some()
    }

    /// True if the drive shows such flags of its entries.
    pub fn shows_dos_flags(self) -> bool {
        self.dos_flags.is_some()
    }

    /// The same but for those flags, which an entry has for itself.
    #[must_use]
    pub fn without_dos_flags(self) -> Self {
        Self { dos_flags: None, ..self }
    }

    /// What an entry gets that is made in this folder.
    #[must_use]
    pub fn handed_down(self) -> Self {
        let project = if self.hands_project_on { self.project } else { 0 };
        Self { project, ..self.without_dos_flags() }
    }

    /// In words, what of this the copy does not have.
    pub fn lost_in(self, copy: Self) -> impl Iterator<Item = &'static str> {
        let (flags, of_copy) = (self.dos_flags.unwrap_or(0), copy.dos_flags.unwrap_or(0));
        let lost = [
            (flags & !of_copy != 0, "hidden, system or read-only flags"),
            (self.project != 0 && self.project != copy.project, "project numbers"),
            (self.writes_in_place && !copy.writes_in_place, "no-copy-on-write flags"),
        ];
        lost.into_iter().filter_map(|(is_lost, words)| is_lost.then_some(words))
    }
}
