//! Trying out what a drive can hold.
//!
//! On drives with unnamed files, such a file is used: nobody sees it, and no folder changes. These drives also
//! support links and all names, which cannot be tried without making names. On other drives a temporary folder is
//! made, filled and removed, and the folder above gets its time back. The result of a call means nothing, since
//! some drives accept a mode and forget it. So everything is read back.
//!
//! After a temporary error, such as a full drive, a feature counts as supported; the step that needs it then
//! reports the error.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::time::Duration;

use rustix::io::Errno;
use utter_echo_files::hidden_names::HiddenNames;
use utter_echo_model::names::{CaseFolding, NameBytes, NameRules};
use utter_echo_os::{
    ACCESS_LIST, Caller, Entry, Flags, IfExists, Kind, Name, System, Time, is_unsupported,
};

use crate::features::{Feature, Features, SECOND, nanos, span};
use crate::kinds;

impl Features {
    /// Tries out the drive that holds `folder`.
    pub fn try_out(system: &dyn System, caller: &Caller, folder: BorrowedFd<'_>) -> Self {
        let numbers = kinds::numbers(system, folder);
        let mut found = Self { numbers, ..Self::default() };
        let mut trial = Trial { system, caller, found: &mut found };
        // If the trial ends early, what was not tried counts as supported.
        let _ = trial.run(folder);
        if system.flags(folder).is_ok_and(|flags| !flags.and(Flags::FOLDS_CASE).is_empty()) {
            found.names.folding = CaseFolding::All;
        }
        found
    }
}

/// Tries out whether the drive of `folder` accepts a link text of this length, or a device of this number. What
/// cannot be tried counts as accepted; its step then reports the error.
pub fn takes_reference(system: &dyn System, folder: BorrowedFd<'_>, kind: Kind, size: u64) -> bool {
    try_reference(system, folder, kind, size).unwrap_or(true)
}

/// A mode, an owner and an access list that no file has by chance.
const MODES: [u32; 2] = [0o751, 0o604];

const OWNER: (u32, u32) = (54_321, 54_322);

/// Owner, user 1, group, mask and others, in the kernel's form: see `acl(5)`.
const LIST: [u8; 44] = *b"\x02\0\0\0\x01\0\x06\0\xff\xff\xff\xff\x02\0\x04\0\x01\0\0\0\x04\0\x04\0\xff\xff\xff\xff\x10\0\x04\0\xff\xff\xff\xff\x20\0\0\0\xff\xff\xff\xff";

/// An odd second, with nanoseconds that show every coarser resolution.
const MOMENT: Time = Time { secs: 1_000_000_001, nanos: 123_456_789 };

/// Units of time that are tried, in nanoseconds.
const GRAINS: [u64; 8] =
    [1, 100, 1000, 1_000_000, 10_000_000, 1_000_000_000, 2_000_000_000, 86_400_000_000_000];

/// Ends of the times that are tried, the widest first: years 36812 and before, 1601, 1901, 1970,
/// 1980; and 2446, 2107, 2106, 2038.
const FIRST_SECONDS: [i64; 5] =
    [-1_099_511_627_776, -11_644_473_599, -2_147_483_648, 0, 315_619_200];

const LAST_SECONDS: [i64; 5] =
    [1_099_511_627_776, 15_032_385_535, 4_354_732_799, 4_294_967_295, 2_147_483_647];

/// Characters that some drives do not accept in names.
const DOUBTFUL: [char; 8] = ['\\', ':', '*', '?', '"', '<', '>', '|'];

/// The first length in bytes that some drives do not support.
const LONG: u64 = 1 << 32;

/// Large enough for a hole on every drive.
const HOLLOW: u64 = 1 << 20;

/// In a temporary folder; the folder above is left as it was.
fn try_reference(
    system: &dyn System,
    above: BorrowedFd<'_>,
    kind: Kind,
    size: u64,
) -> io::Result<bool> {
    let before = system.stat(Entry::Open(above))?;
    let name = HiddenNames::default().name();
    system.create_folder(above, &name, 0o700)?;
    let made = system.open_folder(above, &name).map(|own| {
        let text = vec![b'l'; usize::try_from(size).unwrap_or(0)];
        let made = match kind {
            Kind::Symlink => system.create_link(own.as_fd(), b"trial", &text),
            _ => system.create_special(own.as_fd(), b"trial", kind, 0o600, size),
        };
        let _ = system.remove_file(own.as_fd(), b"trial");
        made
    });
    system.remove_folder(above, &name)?;
    system.set_times(Entry::Open(above), before.modified, Some(before.accessed))?;
    let refused = [Errno::NAMETOOLONG, Errno::INVAL, Errno::OVERFLOW];
    Ok(!made?.is_err_and(|error| refused.iter().any(|errno| is(&error, *errno))))
}

/// A trial of the drive of a folder.
pub struct Trial<'a> {
    /// The system that is called.
    pub system: &'a dyn System,
    /// The user who tries.
    pub caller: &'a Caller,
    /// The features found so far.
    pub found: &'a mut Features,
}

impl Trial<'_> {
    /// Tries everything in `folder`, and removes what it made.
    ///
    /// # Errors
    ///
    /// If nothing can be written there.
    pub fn run(&mut self, folder: BorrowedFd<'_>) -> io::Result<()> {
        let folder = self.system.open_folder(folder, b"")?;
        let folder = folder.as_fd();
        match self.system.create_nameless(folder, 0o600) {
            Ok(file) => {
                self.found.tried = true;
                let other = self.system.create_nameless(folder, 0o600)?;
                self.try_file(file.as_fd(), other.as_fd())
            }
            Err(e) if is_unsupported(&e) || is(&e, Errno::ISDIR) => self.try_named(folder),
            Err(e) => Err(e),
        }
    }

    /// In a temporary folder; the folder above is left as it was.
    fn try_named(&mut self, above: BorrowedFd<'_>) -> io::Result<()> {
        let system = self.system;
        let before = system.stat(Entry::Open(above))?;
        let name = HiddenNames::default().name();
        system.create_folder(above, &name, 0o700)?;
        self.found.tried = true;
        let tried = system.open_folder(above, &name).and_then(|own| {
            let file = system.create_file(own.as_fd(), b"trial", 0o600)?;
            let other = system.create_file(own.as_fd(), b"other", 0o600)?;
            let result = self.try_file(file.as_fd(), other.as_fd());
            drop((file, other));
            result?;
            self.try_kinds(own.as_fd());
            self.try_renames(own.as_fd())?;
            self.try_names(own.as_fd())
        });
        let removed = self.remove_own(above, &name);
        if before.mounted && self.counts_from_1980() {
            // There the topmost folder has no times, and setting them made a driver crash.
            self.found.lacks(Feature::TopTimes);
        } else {
            system.set_times(Entry::Open(above), before.modified, Some(before.accessed))?;
        }
        tried.and(removed)
    }

    /// True for drives that keep times as FAT does.
    fn counts_from_1980(&self) -> bool {
        !self.found.holds(Feature::Modes) && self.found.grain >= SECOND
    }

    /// Some drivers release a closed file only a moment later and keep it under a name of their own until then.
    /// Whatever stays has a hidden name, so the next run clears it.
    fn remove_own(&self, above: BorrowedFd<'_>, name: &[u8]) -> io::Result<()> {
        let system = self.system;
        let mut tries = 0;
        loop {
            let own = system.open_folder(above, name)?;
            for name in self.names_in(own.as_fd())? {
                let _ = system.remove_file(own.as_fd(), &name);
            }
            drop(own);
            tries += 1;
            match system.remove_folder(above, name) {
                Err(e) if tries < 20 && e.kind() == io::ErrorKind::DirectoryNotEmpty => {
                    std::thread::sleep(Duration::from_millis(10));
                }
                other => return other,
            }
        }
    }

    fn names_in(&self, own: BorrowedFd<'_>) -> io::Result<Vec<Vec<u8>>> {
        let mut names = Vec::new();
        // A handle can be listed only once.
        let handle = self.system.open_folder(own, b"")?;
        self.system.list(handle.as_fd(), &mut |Name { bytes: name, .. }| {
            names.push(name.to_vec());
            Ok(())
        })?;
        Ok(names)
    }

    fn try_file(&mut self, file: BorrowedFd<'_>, other: BorrowedFd<'_>) -> io::Result<()> {
        let (entry, system) = (Entry::Open(file), self.system);
        self.try_times(entry)?;
        let holds_modes = MODES.iter().all(|mode| {
            let set = system.set_mode(entry, *mode).and_then(|()| system.stat(entry));
            stands(set, |now| now.mode == *mode)
        });
        self.note(Feature::Modes, holds_modes);
        if self.counts_from_1980() {
            // These kinds count from 1980, whatever they say until they are mounted again.
            let (first, last) = self.found.seconds;
            self.found.seconds = (first.max(FIRST_SECONDS[4]), last.min(LAST_SECONDS[2]));
        }
        if self.counts_from_1980() && self.found.grain == 2 * SECOND {
            // Two seconds are FAT's alone, and so is this limit; to try it would take as much room.
            self.found.largest_file = Some(LONG - 1);
        }
        let (uid, gid) = OWNER;
        if self.caller.gives_files {
            let set = system.set_owner(entry, uid, gid).and_then(|()| system.stat(entry));
            self.note(Feature::Owners, stands(set, |now| (now.uid, now.gid) == OWNER));
            // Back to the caller, for what only an owner may do.
            let _ = system.set_owner(entry, self.caller.uid, self.caller.gid);
        }
        self.try_xattrs(entry);
        self.try_holes(file, other)?;
        self.try_flags(file);
        Ok(())
    }

    fn note(&mut self, ability: Feature, held: bool) {
        if !held {
            self.found.lacks(ability);
        }
    }

    fn try_times(&mut self, entry: Entry<'_>) -> io::Result<()> {
        let system = self.system;
        system.set_times(entry, MOMENT, None)?;
        // Some kinds say yes to a modification time alone and forget it.
        if span(system.stat(entry)?.modified, MOMENT) >= GRAINS[7].into() {
            self.found.lacks(Feature::TimesApart);
        }
        system.set_times(entry, MOMENT, Some(MOMENT))?;
        let now = system.stat(entry)?;
        self.note(Feature::ChangeTimes, span(now.changed, now.modified) >= GRAINS[7].into());
        let kept = |time: Time| {
            system.set_times(entry, time, Some(time))?;
            Ok::<_, io::Error>(system.stat(entry)?.modified)
        };
        let read = kept(MOMENT)?;
        let is_unit = |unit: &&u64| {
            span(read, MOMENT) < u128::from(**unit) && nanos(read) % i128::from(**unit) == 0
        };
        self.found.grain = GRAINS.iter().find(is_unit).copied().unwrap_or(GRAINS[7]);
        let blur = u128::from(self.found.grain - 1);
        let holds = |secs: &&i64| {
            let time = Time { secs: **secs, nanos: 0 };
            stands(kept(time), |read| span(*read, time) <= blur)
        };
        let early = Time { secs: -MOMENT.secs, ..MOMENT };
        self.note(Feature::EarlyFractions, stands(kept(early), |read| span(*read, early) <= blur));
        let [first, .., narrow] = FIRST_SECONDS;
        let earliest = FIRST_SECONDS.iter().find(holds).copied().unwrap_or(narrow);
        let [last, .., soon] = LAST_SECONDS;
        let latest = LAST_SECONDS.iter().find(holds).copied().unwrap_or(soon);
        // The widest that was tried is no limit.
        self.found.seconds = (
            if earliest == first { i64::MIN } else { earliest },
            if latest == last { i64::MAX } else { latest },
        );
        Ok(())
    }

    fn try_xattrs(&mut self, entry: Entry<'_>) {
        let system = self.system;
        let holds = |name: &[u8], value: &[u8]| {
            let set = system
                .set_xattr(entry, name, value)
                .and_then(|()| Ok((system.get_xattr(entry, name)?, system.list_xattrs(entry)?)));
            // One that is not listed cannot be found again.
            stands(set, |(read, names)| read == value && names.iter().any(|n| n == name))
        };
        self.note(Feature::UserXattrs, holds(b"user.utter", b"trial"));
        self.note(Feature::TrustedXattrs, holds(b"trusted.utter", b"trial"));
        self.note(Feature::SecurityXattrs, holds(b"security.utter", b"trial"));
        self.note(Feature::Acl, holds(ACCESS_LIST, &LIST));
    }

    fn try_holes(&mut self, file: BorrowedFd<'_>, other: BorrowedFd<'_>) -> io::Result<()> {
        let system = self.system;
        if !system.may_reach(file, LONG)? {
            self.found.largest_file = Some(LONG - 1);
        }
        let set = system.set_length(file, HOLLOW).and_then(|()| {
            system.write_at(file, b"end", HOLLOW - 4096)?;
            system.stat(Entry::Open(file))
        });
        self.note(Feature::Holes, stands(set, |now| now.allocated < HOLLOW));
        let shares = system.share_content(file, other);
        self.note(Feature::Sharing, shares.is_ok());
        Ok(())
    }

    /// One by one, the locking ones last, each lifted again.
    fn try_flags(&mut self, file: BorrowedFd<'_>) {
        let system = self.system;
        let order = [Flags::SYNC, Flags::NODUMP, Flags::NOATIME, Flags::APPEND, Flags::IMMUTABLE];
        for flag in order {
            let set = system.set_flags(file, flag).and_then(|()| system.flags(file));
            let held = match set {
                Err(e) if is(&e, Errno::NOTTY) => false,
                set => stands(set, |now| now.and(Flags::CARRIED) == flag),
            };
            if !held {
                self.found.flags = self.found.flags.without(flag);
            }
            let _ = system.set_flags(file, Flags::default());
        }
    }

    fn try_kinds(&mut self, own: BorrowedFd<'_>) {
        let system = self.system;
        let kind_of = |name: &[u8]| system.stat(Entry::Named(own, name)).map(|stat| stat.kind);
        let made = system.create_link(own, b"link", b"trial").and_then(|()| kind_of(b"link"));
        self.note(Feature::Links, stands(made, |kind| *kind == Kind::Symlink));
        let made = system.add_name(own, b"trial", own, b"second");
        let made = made.and_then(|()| system.stat(Entry::Named(own, b"second")));
        self.note(Feature::Hardlinks, stands(made, |stat| stat.links == 2));
        let made = system.create_special(own, b"fifo", Kind::Fifo, 0o600, 0);
        let made = made.and_then(|()| kind_of(b"fifo"));
        self.note(Feature::Fifos, was_made(made, Kind::Fifo));
        if self.caller.makes_devices {
            // The null device, which does no harm.
            let null = rustix::fs::makedev(1, 3);
            let made = system.create_special(own, b"device", Kind::CharDevice, 0o600, null);
            let made = made.and_then(|()| kind_of(b"device"));
            self.note(Feature::Devices, was_made(made, Kind::CharDevice));
        }
    }

    /// Drivers were seen that make a new, empty folder of a renamed one.
    fn try_renames(&mut self, own: BorrowedFd<'_>) -> io::Result<()> {
        let system = self.system;
        let keeps = keeps_renamed_time(system, own, (b"other", b"moved"))?;
        self.note(Feature::RenamedTimes, keeps);
        system.create_folder(own, b"room", 0o700)?;
        let room = system.open_folder(own, b"room")?;
        drop(system.create_file(room.as_fd(), b"lamp", 0o600)?);
        system.rename((own, b"room"), (own, b"hall"), IfExists::Replace)?;
        let hall = system.open_folder(own, b"hall")?;
        // Listed, since looked up by its name the system may only remember it.
        let moved = self.names_in(hall.as_fd())?;
        self.note(Feature::RenamedFolders, moved.iter().any(|name| name == b"lamp"));
        let _ = system.remove_file(hall.as_fd(), b"lamp");
        system.remove_folder(own, b"hall")?;
        let long = [b'n'; 255];
        for name in [&long[..], b"spare"] {
            drop(system.create_file(own, name, 0o600)?);
        }
        let replaced = system.rename((own, b"spare"), (own, &long), IfExists::Replace);
        let names = self.names_in(own)?;
        let is_clean = names.iter().filter(|name| name.starts_with(b"nnn")).count() == 1;
        self.note(Feature::LongNamesReplaced, replaced.is_ok() && is_clean);
        Ok(())
    }

    fn try_names(&mut self, own: BorrowedFd<'_>) -> io::Result<()> {
        let held = |name: &[u8]| self.holds_name(own, name);
        let mut names = NameRules {
            forbidden: Vec::new(),
            no_control: !held(b"a\x01b")? || !held(b"a\nb")?,
            letters: if !held("tide-é".as_bytes())? {
                NameBytes::Ascii
            } else if held(b"byte-\xff")? {
                NameBytes::Any
            } else {
                NameBytes::Utf8
            },
            firm_end: !held(b"dot.")? || !held(b"space ")?,
            counts_characters: held("é".repeat(255).as_bytes())?,
            folding: CaseFolding::Never,
        };
        for character in DOUBTFUL {
            if !held(format!("a{character}b").as_bytes())? {
                names.forbidden.push(character);
            }
        }
        let meet = |one: &str, other: &str| {
            drop(self.system.create_file(own, one.as_bytes(), 0o600)?);
            Ok::<_, io::Error>(self.system.stat(Entry::Named(own, other.as_bytes())).is_ok())
        };
        names.folding = match (meet("lens", "LENS")?, names.letters) {
            (false, _) => CaseFolding::Never,
            (true, NameBytes::Any | NameBytes::Utf8) if meet("tidé", "tidÉ")? => CaseFolding::All,
            (true, _) => CaseFolding::Latin,
        };
        self.found.names = names;
        Ok(())
    }

    /// Makes a file of this name; the drive may refuse it or silently give it another.
    fn holds_name(&self, own: BorrowedFd<'_>, name: &[u8]) -> io::Result<bool> {
        match self.system.create_file(own, name, 0o600) {
            Ok(_) => {}
            Err(e) if is_passing(&e) => return Err(e),
            Err(_) => return Ok(false),
        }
        let found = self.names_in(own)?.iter().any(|listed| listed == name);
        self.system.remove_file(own, name)?;
        Ok(found)
    }
}

/// What a trial shows: a value that was read back counts by what it is, an error only if it says that this drive
/// cannot. True if a file keeps its time when it is renamed within a folder. It has the second name then.
pub fn keeps_renamed_time(
    system: &dyn System,
    folder: BorrowedFd<'_>,
    (from, to): (&[u8], &[u8]),
) -> io::Result<bool> {
    let whole = Time { nanos: 0, ..MOMENT };
    system.set_times(Entry::Named(folder, from), whole, Some(whole))?;
    system.rename((folder, from), (folder, to), IfExists::Replace)?;
    let time = system.stat(Entry::Named(folder, to))?.modified;
    // A time of long ago differs from now on any drive.
    Ok(span(time, whole) < DAY)
}

/// In nanoseconds.
const DAY: u128 = 24 * 60 * 60 * 1_000_000_000;

fn stands<T>(tried: io::Result<T>, is_right: impl Fn(&T) -> bool) -> bool {
    match tried {
        Ok(read) => is_right(&read),
        Err(e) => is_passing(&e),
    }
}

/// As [`stands`]; but some kinds know no better answer than `EIO` to a wish for a special file.
fn was_made(made: io::Result<Kind>, wanted: Kind) -> bool {
    let refused = made.as_ref().is_err_and(|e| is(e, Errno::IO));
    !refused && stands(made, |kind| *kind == wanted)
}

/// True for what says nothing about the kind of drive.
fn is_passing(error: &io::Error) -> bool {
    const PASSING: [Errno; 12] = [
        Errno::IO,
        Errno::BUSY,
        Errno::AGAIN,
        Errno::NOSPC,
        Errno::DQUOT,
        Errno::ROFS,
        Errno::ACCESS,
        Errno::STALE,
        Errno::NOMEM,
        Errno::MFILE,
        Errno::NFILE,
        Errno::NODEV,
    ];
    // An error without a number does not come from the system.
    error.raw_os_error().is_none_or(|number| PASSING.iter().any(|e| e.raw_os_error() == number))
}

fn is(error: &io::Error, errno: Errno) -> bool {
    error.raw_os_error() == Some(errno.raw_os_error())
}
