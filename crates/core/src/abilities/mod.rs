//! What a drive can hold: found by trying it out (`trial`), never by the name of its kind.

mod trial;

use std::os::fd::BorrowedFd;

use trial::Trial;

use crate::drives::{self, Numbers};
use crate::os::{Caller, Flags, Kind, System, Time};

/// One thing that a drive may hold or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u32)]
pub enum Ability {
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
    /// Stretches of a file that take no room.
    Holes,
    /// Files that share their content until one of them changes.
    Sharing,
    /// A modification time given alone; without this one only together with an access time.
    TimesApart,
    /// Change times of their own: without them nothing tells where an entry was written.
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

impl Ability {
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

    /// True for what matters to a run, and not to whom it is shown.
    pub fn is_inner(self) -> bool {
        matches!(
            self,
            Self::TimesApart
                | Self::ChangeTimes
                | Self::EarlyFractions
                | Self::RenamedFolders
                | Self::RenamedTimes
                | Self::LongNamesReplaced
                | Self::TopTimes
        )
    }

    const fn bit(self) -> u32 {
        1 << self as u32
    }
}

/// How a drive tells names apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Folding {
    /// By their bytes.
    #[default]
    Never,
    /// Letters of the Latin alphabet count the same, large or small.
    Latin,
    /// All letters do.
    All,
}

/// What the names of a drive are made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Letters {
    /// Any bytes.
    #[default]
    Any,
    /// UTF-8.
    Utf8,
    /// ASCII.
    Ascii,
}

/// Which names a drive takes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Names {
    /// Characters that no name may hold, beyond `/`.
    pub forbidden: Vec<char>,
    /// No control characters.
    pub no_control: bool,
    /// Which bytes may stand in a name.
    pub letters: Letters,
    /// No dot or space at the end.
    pub firm_end: bool,
    /// Up to 255 characters instead of 255 bytes.
    pub counts_characters: bool,
    /// What counts as one name.
    pub folding: Folding,
}

/// What a drive can hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Abilities {
    pub(crate) held: u32,
    /// False if nothing could be tried, as on a drive that is not to be written: all is assumed.
    pub tried: bool,
    /// The flags that this caller can set.
    pub flags: Flags,
    /// Unit of modification times in nanoseconds.
    pub grain: u64,
    /// First and last second that is kept, at least.
    pub seconds: (i64, i64),
    /// Names.
    pub names: Names,
    /// Longest file in bytes, where it can be told.
    pub largest_file: Option<u64>,
    pub(crate) numbers: Numbers,
}

impl Default for Abilities {
    /// Everything.
    fn default() -> Self {
        Self {
            held: u32::MAX,
            tried: false,
            flags: Flags::CARRIED,
            grain: 1,
            seconds: (i64::MIN, i64::MAX),
            names: Names::default(),
            largest_file: None,
            numbers: Numbers::Last,
        }
    }
}

/// Why a drive cannot take a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Objection {
    /// It holds this character.
    Character(char),
    /// It is not UTF-8.
    NotUtf8,
    /// It is not ASCII.
    NotAscii,
    /// It ends with a dot or a space.
    LooseEnd,
    /// It is too long.
    TooLong,
}

impl Names {
    /// What speaks against a name; `None` if the drive takes it.
    pub fn objection(&self, name: &[u8]) -> Option<Objection> {
        let text = match std::str::from_utf8(name) {
            Ok(text) => text,
            Err(_) if self.letters != Letters::Any => return Some(Objection::NotUtf8),
            Err(_) => return (name.len() > 255).then_some(Objection::TooLong),
        };
        if let Some(character) = text.chars().find(|c| self.forbids(*c)) {
            return Some(Objection::Character(character));
        }
        if self.letters == Letters::Ascii && !text.is_ascii() {
            return Some(Objection::NotAscii);
        }
        if self.firm_end && text.ends_with(['.', ' ']) {
            return Some(Objection::LooseEnd);
        }
        let length = if self.counts_characters { text.encode_utf16().count() } else { name.len() };
        (length > 255).then_some(Objection::TooLong)
    }

    fn forbids(&self, character: char) -> bool {
        self.forbidden.contains(&character) || self.no_control && character < ' '
    }

    /// The same for all names that fall together.
    pub fn fold(&self, name: &[u8]) -> Vec<u8> {
        match (self.folding, std::str::from_utf8(name)) {
            (Folding::Never, _) => name.to_vec(),
            (Folding::All, Ok(text)) => text.to_lowercase().into_bytes(),
            (Folding::Latin | Folding::All, _) => name.to_ascii_lowercase(),
        }
    }
}

impl Abilities {
    /// True if it holds this.
    pub fn holds(&self, ability: Ability) -> bool {
        self.held & ability.bit() != 0
    }

    fn lacks(&mut self, ability: Ability) {
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
        secs == first || secs == last || secs < 0 && !self.holds(Ability::EarlyFractions)
    }

    /// Tries out the drive that holds `folder`.
    pub fn try_out(system: &dyn System, caller: &Caller, folder: BorrowedFd<'_>) -> Self {
        let numbers = drives::numbers(system, folder);
        let mut found = Self { numbers, ..Self::default() };
        let mut trial = Trial { system, caller, found: &mut found };
        // What ends a trial early leaves standing what was not tried.
        let _ = trial.run(folder);
        if system.flags(folder).is_ok_and(|flags| !flags.and(Flags::FOLDS_CASE).is_empty()) {
            found.names.folding = Folding::All;
        }
        found
    }
}

/// Tries out whether the drive that holds `folder` takes a link with a text this long, or a device of this
/// number. What cannot be tried counts as taken, and is found out by its step.
pub(crate) fn takes_reference(
    system: &dyn System,
    folder: BorrowedFd<'_>,
    kind: Kind,
    size: u64,
) -> bool {
    trial::takes_reference(system, folder, kind, size).unwrap_or(true)
}

/// From this grain on, in nanoseconds, a drive without modes keeps its times in the way of FAT.
const SECOND: u64 = 1_000_000_000;

fn nanos(time: Time) -> i128 {
    i128::from(time.secs) * 1_000_000_000 + i128::from(time.nanos)
}

/// How far two times lie apart, in nanoseconds.
pub(crate) fn span(a: Time, b: Time) -> u128 {
    nanos(a).abs_diff(nanos(b))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_are_objected_to_for_what_is_wrong_with_them() {
        let strict = Names {
            forbidden: vec![':'],
            no_control: true,
            letters: Letters::Utf8,
            firm_end: true,
            counts_characters: true,
            folding: Folding::All,
        };
        assert_eq!(strict.objection(b"tide:12"), Some(Objection::Character(':')));
        assert_eq!(strict.objection(b"tide\x1b"), Some(Objection::Character('\x1b')));
        assert_eq!(strict.objection(b"tide\xff"), Some(Objection::NotUtf8));
        assert_eq!(strict.objection(b"tide."), Some(Objection::LooseEnd));
        assert_eq!(strict.objection("é".repeat(255).as_bytes()), None);
        assert_eq!(strict.objection("é".repeat(256).as_bytes()), Some(Objection::TooLong));
        let plain = Names { letters: Letters::Ascii, ..Names::default() };
        assert_eq!(plain.objection("tidé".as_bytes()), Some(Objection::NotAscii));
        let lenient = Names::default();
        assert_eq!(lenient.objection(b"tide:\xff."), None);
        assert_eq!(lenient.objection("é".repeat(128).as_bytes()), Some(Objection::TooLong));
    }

    proptest! {
        #[test]
        fn folding_joins_what_differs_by_case_alone(name in "[a-zA-Z0-9äÄ]{1,12}") {
            let all = Names { folding: Folding::All, ..Names::default() };
            let latin = Names { folding: Folding::Latin, ..Names::default() };
            prop_assert_eq!(all.fold(name.as_bytes()), all.fold(name.to_uppercase().as_bytes()));
            let upper = name.to_ascii_uppercase();
            prop_assert_eq!(latin.fold(name.as_bytes()), latin.fold(upper.as_bytes()));
            prop_assert_eq!(Names::default().fold(name.as_bytes()), name.as_bytes());
        }
    }
}
