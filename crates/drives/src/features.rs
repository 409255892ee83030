//! What a drive can hold: found by trying it out (`trial`), never by the name of its kind.

use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::names::NameRules;
use utter_echo_os::{Flags, Time};

/// One thing that a drive may hold or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u32)]
pub enum Feature {
    /// Symbolic links.
    Links,
    /// Several names for one file.
    Hardlinks,
    /// FIFOs and sockets.
    Fifos,
    /// Devices, made by this caller.
    Devices,
    /// Permission bits.
    Modes,
    /// Owner and group, given by this caller.
    Owners,
    /// Access control lists.
    Acl,
    /// Extended attributes named `user.`.
    UserXattrs,
    /// Extended attributes named `trusted.`, set by this caller.
    TrustedXattrs,
    /// Extended attributes named `security.`, set by this caller.
    SecurityXattrs,
    /// Parts of a sparse file that take no space.
    Holes,
    /// Files that share their content until one of them changes.
    Sharing,
    /// A modification time given alone; without this one only together with an access time.
    TimesApart,
    /// Change times of their own: without them nothing shows that an entry was written.
    ChangeTimes,
    /// Fractions of seconds before 1970, which not every driver counts right.
    EarlyFractions,
    /// What a folder holds, when it is renamed.
    RenamedFolders,
    /// The time of a file, when it is renamed.
    RenamedTimes,
    /// Files with the longest names, when others take their place.
    LongNamesReplaced,
    /// Times of the folder that was tried itself: on some kinds the topmost one has none.
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
    /// False if nothing could be tried, as on a drive that is not to be written: all is assumed.
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

    /// The longest span, in nanoseconds, by which two times may differ that are the same to it,
    /// if one of them is `time`.
    pub fn blur(&self, time: Time) -> u64 {
        let whole = self.is_whole(time.secs);
        (if whole { self.grain.max(SECOND) } else { self.grain }).saturating_sub(1)
    }

    /// The time to ask the drive to keep: the nearest that it can.
    pub fn nearest(&self, time: Time) -> Time {
        let (first, last) = self.seconds;
        let secs = time.secs.clamp(first, last);
        let whole = secs != time.secs || self.is_whole(secs);
        Time { secs, nanos: if whole { 0 } else { time.nanos } }
    }

    /// True if of this second no fractions are kept: the system drops those of the first and of the
    /// last that a drive can hold.
    fn is_whole(&self, secs: i64) -> bool {
        let (first, last) = self.seconds;
        secs == first || secs == last || secs < 0 && !self.holds(Feature::EarlyFractions)
    }
}

/// From this grain on, in nanoseconds, a drive without modes keeps its times in the way of FAT.
pub const SECOND: u64 = 1_000_000_000;

/// Nanoseconds since 1970, negative before it.
pub fn nanos(time: Time) -> i128 {
    i128::from(time.secs) * 1_000_000_000 + i128::from(time.nanos)
}

/// How far two times lie apart, in nanoseconds.
pub fn span(a: Time, b: Time) -> u128 {
    nanos(a).abs_diff(nanos(b))
}
