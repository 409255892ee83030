//! The features of a drive, found by trying them out (`trial`), never by the name of its file system.

use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::names::NameRules;
use utter_echo_os::{Flags, Time};

/// Something that a drive may support or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u32)]
pub enum Feature {
    /// Symbolic links.
    Links,
    /// Hard links.
    Hardlinks,
    /// FIFOs and sockets.
    Fifos,
    /// Devices, if this caller makes them.
    Devices,
    /// Permission bits.
    Modes,
    /// Owner and group, if this caller sets them.
    Owners,
    /// Access control lists.
    Acl,
    /// Extended attributes named `user.`.
    UserXattrs,
    /// Extended attributes named `trusted.`, if this caller sets them.
    TrustedXattrs,
    /// Extended attributes named `security.`, if this caller sets them.
    SecurityXattrs,
    /// Parts of a sparse file that take no space.
    Holes,
    /// Files that share their content until one of them changes.
    Sharing,
    /// Setting the modification time alone; without this feature only together with an access time.
    TimesApart,
    /// Change times: without them nothing shows that an entry was written.
    ChangeTimes,
    /// Fractions of seconds before 1970, which some drivers get wrong.
    EarlyFractions,
    /// Keeping the contents of a folder that is renamed.
    RenamedFolders,
    /// Keeping the time of a file that is renamed.
    RenamedTimes,
    /// Replacing files with the longest names without leaving anything behind.
    LongNamesReplaced,
    /// Times of the folder that was tried: on some file systems the topmost folder has none.
    TopTimes,
}

impl Feature {
    /// All, in the order in which they are shown.
    pub const ALL: [Self; 19] = [
        Self::Links,
        Self::Hardlinks,
        Self::Fifos,
        Self::Devices,
        Self::Modes,
        Self::Owners,
        Self::Acl,
        Self::UserXattrs,
        Self::TrustedXattrs,
        Self::SecurityXattrs,
        Self::Holes,
        Self::Sharing,
        Self::TimesApart,
        Self::ChangeTimes,
        Self::EarlyFractions,
        Self::RenamedFolders,
        Self::RenamedTimes,
        Self::LongNamesReplaced,
        Self::TopTimes,
    ];

    const fn bit(self) -> u32 {
        1 << self as u32
    }
}

/// What a drive can hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Features {
    /// One bit for each [`Feature`] it has.
    pub held: u32,
    /// False if nothing could be tried, as on a read-only drive; then all features are assumed.
    pub tried: bool,
    /// The flags that this caller can set.
    pub flags: Flags,
    /// Unit of modification times in nanoseconds.
    pub grain: u64,
    /// First and last second that is kept, at least.
    pub seconds: (i64, i64),
    /// Rules for names.
    pub names: NameRules,
    /// Longest file in bytes, where it is known.
    pub largest_file: Option<u64>,
    /// Whether inode numbers stay the same between mounts.
    pub numbers: InodeNumbers,
}

impl Default for Features {
    /// Everything.
    fn default() -> Self {
        Self {
            held: u32::MAX,
            tried: false,
            flags: Flags::CARRIED,
            grain: 1,
            seconds: (i64::MIN, i64::MAX),
            names: NameRules::default(),
            largest_file: None,
            numbers: InodeNumbers::Stable,
        }
    }
}

impl Features {
    /// True if it holds this.
    pub fn holds(&self, ability: Feature) -> bool {
        self.held & ability.bit() != 0
    }

    pub(crate) fn lacks(&mut self, ability: Feature) {
        self.held &= !ability.bit();
    }

    /// True if a time is kept, to the grain.
    pub fn keeps(&self, time: Time) -> bool {
        (self.seconds.0..=self.seconds.1).contains(&time.secs)
    }

    /// The most, in nanoseconds, by which a time may differ from `time` and still be the same to the drive.
    pub fn blur(&self, time: Time) -> u64 {
        let whole = self.is_whole(time.secs);
        (if whole { self.grain.max(SECOND) } else { self.grain }).saturating_sub(1)
    }

    /// The time to set: the nearest that the drive keeps.
    pub fn nearest(&self, time: Time) -> Time {
        let (first, last) = self.seconds;
        let secs = time.secs.clamp(first, last);
        let whole = secs != time.secs || self.is_whole(secs);
        Time { secs, nanos: if whole { 0 } else { time.nanos } }
    }

    /// True if fractions of this second are not kept: the system drops those of the first and the last second of a
    /// drive.
    fn is_whole(&self, secs: i64) -> bool {
        let (first, last) = self.seconds;
        secs == first || secs == last || secs < 0 && !self.holds(Feature::EarlyFractions)
    }
}

/// A drive without modes that has this resolution, in nanoseconds, or a coarser one keeps times as FAT does.
pub const SECOND: u64 = 1_000_000_000;

/// Nanoseconds since 1970, negative before it.
pub fn nanos(time: Time) -> i128 {
    i128::from(time.secs) * 1_000_000_000 + i128::from(time.nanos)
}

/// The difference of two times in nanoseconds.
pub fn span(a: Time, b: Time) -> u128 {
    nanos(a).abs_diff(nanos(b))
}
