//! Which aspects this caller can carry to this destination, and which of them an entry differs in.

use std::io;
use std::os::fd::BorrowedFd;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::abilities::{self, Abilities, Ability};
use crate::aspect::{Aspect, Aspects};
use crate::os::{
    ACCESS_LIST, Caller, DEFAULT_LIST, Entry, Flags, Kind, Stat, System, Time, Xattrs, is_absent,
    is_unsupported,
};
use crate::plan::{NotHeld, Note};
use crate::sides::Pair;
use crate::state::State;

/// What was asked for, cut down to what can be done.
#[derive(Debug)]
pub(crate) struct Reach {
    /// What is carried: asked for and held.
    pub(crate) carry: Aspects,
    pub(crate) drive: Abilities,
    pub(crate) caller: Caller,
    /// Times no further apart than this many nanoseconds count as equal, whatever the drive keeps.
    slack: u64,
    /// Asked for, but not held by the drive.
    not_held: Aspects,
    /// What turned up on the way that cannot be carried.
    missed: Missed,
    /// Link texts and device numbers that are out of the common, as far as they were tried out.
    references: Mutex<References>,
}

/// What a drive is known to hold, and not to hold.
#[derive(Debug)]
struct References {
    /// Bytes of the longest link text that was held, and of the shortest that was not.
    links: (u64, u64),
    /// Whether a device with a large number was.
    devices: Option<bool>,
}

/// Link texts up to this length, in bytes, and device numbers up to these, are held by whatever holds
/// links and devices at all.
const SHORT_TEXT: u64 = 255;
const SMALL_NUMBERS: (u32, u32) = (255, 255);

#[derive(Debug, Default)]
struct Missed {
    owners: AtomicU64,
    flags: AtomicU32,
    times: AtomicU64,
    privileges: AtomicU64,
    links: AtomicU64,
    fifos: AtomicU64,
    devices: AtomicU64,
}

/// Mode bits that lend the rights of the owner, and of the group.
const SET_USER: u32 = 0o4000;
const SET_GROUP: u32 = 0o2000;
/// The attribute that lends a program single rights of root's; see `capabilities(7)`.
const CAPABILITIES: &[u8] = b"security.capability";

/// What an aspect needs of the drive; any one of them will do.
const NEEDS: [(Aspect, &[Ability]); 6] = [
    (Aspect::Mode, &[Ability::Modes]),
    (Aspect::Owner, &[Ability::Owners]),
    (Aspect::Acl, &[Ability::Acl]),
    (Aspect::Xattr, &[Ability::UserXattrs, Ability::TrustedXattrs, Ability::SecurityXattrs]),
    (Aspect::Hardlinks, &[Ability::Hardlinks]),
    (Aspect::Holes, &[Ability::Holes]),
];

impl Reach {
    /// `slack` is the most, in nanoseconds, by which times may differ that count as equal.
    pub(crate) fn new(asked: Aspects, drive: Abilities, caller: &Caller, slack: u64) -> Self {
        let held = |needs: &[Ability]| needs.iter().any(|ability| drive.holds(*ability));
        let lacking = NEEDS.iter().filter(|(_, needs)| !held(needs)).map(|(aspect, _)| *aspect);
        let no_flags = drive.flags.is_empty().then_some(Aspect::Flags);
        let lacking: Aspects = lacking.chain(no_flags).collect();
        Self {
            carry: asked.iter().filter(|aspect| !lacking.has(*aspect)).collect(),
            slack,
            drive,
            caller: caller.clone(),
            not_held: asked.iter().filter(|aspect| lacking.has(*aspect)).collect(),
            missed: Missed::default(),
            references: Mutex::new(References { links: (SHORT_TEXT, u64::MAX), devices: None }),
        }
    }

    /// True if the root of a pair can have times; a new folder always can.
    pub(crate) fn keeps_top_times(&self, pair: &Pair) -> bool {
        !pair.destination.exists() || self.drive.holds(Ability::TopTimes)
    }

    pub(crate) fn notes(&self) -> Vec<Note> {
        let mut notes = Vec::new();
        let count = |of: &AtomicU64| of.load(Ordering::Relaxed);
        let not_held = NotHeld {
            aspects: self.not_held,
            grain: self.drive.grain,
            links: count(&self.missed.links),
            fifos: count(&self.missed.fifos),
            devices: count(&self.missed.devices),
            times: count(&self.missed.times),
            flags: Flags(self.missed.flags.load(Ordering::Relaxed)),
        };
        if !not_held.is_empty() {
            notes.push(Note::NotHeld(not_held));
        }
        if count(&self.missed.owners) > 0 {
            notes.push(Note::OwnerNotCarried);
        }
        if count(&self.missed.privileges) > 0 {
            notes.push(Note::PrivilegesLeftOut(count(&self.missed.privileges)));
        }
        notes
    }

    /// True if an entry of this kind can be made there by this caller.
    pub(crate) fn can_hold(&self, kind: Kind) -> bool {
        match kind {
            Kind::File | Kind::Folder => true,
            Kind::Symlink => self.drive.holds(Ability::Links),
            Kind::Fifo | Kind::Socket => self.drive.holds(Ability::Fifos),
            Kind::CharDevice | Kind::BlockDevice => {
                self.caller.makes_devices && self.drive.holds(Ability::Devices)
            }
        }
    }

    /// True if the drive holds what a link or device refers to; what is out of the common is tried out,
    /// once for all of its like.
    pub(crate) fn takes_reference(&self, source: &Stat, tries: impl Fn(Kind, u64) -> bool) -> bool {
        let known = || self.references.lock().unwrap_or_else(PoisonError::into_inner);
        match source.kind {
            Kind::Symlink => {
                let (held, refused) = known().links;
                if source.size <= held || source.size >= refused {
                    return source.size <= held;
                }
                let takes = tries(source.kind, source.size);
                let links = &mut known().links;
                *links = if takes {
                    (links.0.max(source.size), links.1)
                } else {
                    (links.0, links.1.min(source.size))
                };
                takes
            }
            Kind::CharDevice | Kind::BlockDevice => {
                let (major, minor) =
                    (rustix::fs::major(source.size), rustix::fs::minor(source.size));
                if major <= SMALL_NUMBERS.0 && minor <= SMALL_NUMBERS.1 {
                    return true;
                }
                let tried = known().devices;
                let takes = tried.unwrap_or_else(|| tries(source.kind, source.size));
                known().devices = Some(takes);
                takes
            }
            _ => true,
        }
    }

    /// True if the source's entry `now` must have appeared since the plan found the destination's of
    /// kind `extra` to be extra. One that the drive cannot hold may have been there; so may a folder
    /// where a file goes, or the reverse, since patterns tell these apart.
    pub(crate) fn has_appeared(&self, now: Kind, extra: Kind) -> bool {
        self.can_hold(now) && (now == Kind::Folder) == (extra == Kind::Folder)
    }

    /// Counts an entry that is left out for its kind.
    pub(crate) fn leave_out(&self, kind: Kind) {
        let count = match kind {
            Kind::Symlink => &self.missed.links,
            Kind::CharDevice | Kind::BlockDevice => &self.missed.devices,
            _ => &self.missed.fifos,
        };
        count.fetch_add(1, Ordering::Relaxed);
    }

    /// Counts an entry whose time the drive cannot keep.
    pub(crate) fn count_time(&self, source: Time) {
        if self.carry.has(Aspect::Times) && !self.drive.keeps(source) {
            self.missed.times.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// True if two modification times are the same as far as the drive can tell, or the source's is
    /// one that it cannot keep at all.
    pub(crate) fn agree(&self, source: Time, destination: Time) -> bool {
        let blur = || self.slack.max(self.drive.blur(source));
        source == destination
            || !self.drive.keeps(source)
            || abilities::span(source, destination) <= blur().into()
    }

    /// True if two times lie whole hours apart, on a drive that may keep local time: the clock was
    /// put forward or back, or the drive was carried to another zone.
    pub(crate) fn hours_apart(&self, source: Time, destination: Time) -> bool {
        const HOUR: u128 = 3_600_000_000_000;
        const SECOND: u64 = 1_000_000_000;
        let span = abilities::span(source, destination);
        if self.drive.grain < SECOND || span < HOUR / 2 {
            return false;
        }
        let beyond = (span + HOUR / 2) % HOUR;
        let blur = u128::from(self.slack.max(self.drive.blur(source)));
        // All zones lie within 26 hours.
        span <= 26 * HOUR + blur && beyond.abs_diff(HOUR / 2) <= blur
    }

    /// The flags an entry should get, of those the source's has.
    pub(crate) fn flags_to_carry(&self, source: Flags) -> Flags {
        let wanted = source.and(Flags::CARRIED);
        let missed = wanted.without(self.drive.flags);
        if !missed.is_empty() && self.carry.has(Aspect::Flags) {
            self.missed.flags.fetch_or(missed.0, Ordering::Relaxed);
        }
        wanted.and(self.drive.flags)
    }

    /// Counts what an entry that will be made has and cannot be carried; of what is on both sides,
    /// comparing finds it.
    pub(crate) fn foresee(&self, source: &State) {
        let born = (self.caller.uid, self.caller.gid);
        let owner = self.owner_to_set((source.uid, source.gid), born).unwrap_or(born);
        if self.carry.has(Aspect::Mode) {
            self.mode_with(source.mode(), (source.uid, source.gid), owner);
        }
        self.flags_to_carry(source.flags());
        self.count_time(source.modified());
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
            self.missed.owners.fetch_add(1, Ordering::Relaxed);
        }
        (reachable != has).then_some(reachable)
    }

    /// The mode for an entry that will have this owner: bits that lend the owner's or the group's
    /// rights are good only for the one they were given for.
    pub(crate) fn mode_with(&self, mode: u32, wanted: (u32, u32), owner: (u32, u32)) -> u32 {
        let lost_user = if wanted.0 == owner.0 { 0 } else { SET_USER };
        let lost_group = if wanted.1 == owner.1 { 0 } else { SET_GROUP };
        let lost = mode & (lost_user | lost_group);
        if lost != 0 {
            self.missed.privileges.fetch_add(1, Ordering::Relaxed);
        }
        mode & !lost
    }

    pub(crate) fn mode_for(&self, source: &Stat, owner: (u32, u32)) -> u32 {
        self.mode_with(source.mode, (source.uid, source.gid), owner)
    }

    /// Attributes without those that lend rights, where the owner is not the one they were given for.
    pub(crate) fn xattrs_for(
        &self,
        xattrs: Xattrs,
        wanted: (u32, u32),
        owner: (u32, u32),
    ) -> Xattrs {
        if wanted == owner || xattrs.iter().all(|(name, _)| name != CAPABILITIES) {
            return xattrs;
        }
        self.missed.privileges.fetch_add(1, Ordering::Relaxed);
        xattrs.into_iter().filter(|(name, _)| name != CAPABILITIES).collect()
    }

    /// True if attributes beyond `stat` are carried at all.
    pub(crate) fn carries_hidden(&self) -> bool {
        [Aspect::Xattr, Aspect::Acl, Aspect::Flags].into_iter().any(|a| self.carry.has(a))
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
            Err(e) if is_unsupported(&e) => return Ok(xattrs),
            other => other?,
        };
        for name in names {
            if self.aspect_of(&name).is_some_and(|aspect| aspects.has(aspect)) {
                let value = system.get_xattr(entry, &name)?;
                xattrs.push((name, value));
            }
        }
        xattrs.sort();
        Ok(xattrs)
    }

    fn aspect_of(&self, name: &[u8]) -> Option<Aspect> {
        let needed = match aspect_of(name)? {
            Aspect::Acl => Ability::Acl,
            _ if name.starts_with(b"trusted.") => Ability::TrustedXattrs,
            _ if name.starts_with(b"security.") => Ability::SecurityXattrs,
            _ => Ability::UserXattrs,
        };
        let own = matches!(needed, Ability::Acl | Ability::UserXattrs);
        let reached = (own || self.caller.administers) && self.drive.holds(needed);
        aspect_of(name).filter(|_| reached)
    }
}

/// The extended attributes of an entry that its drive shows this caller and that mean the same everywhere,
/// whatever is carried.
pub(crate) fn shown_xattrs(
    system: &dyn System,
    entry: Entry<'_>,
    caller: &Caller,
) -> io::Result<Xattrs> {
    let names = match system.list_xattrs(entry) {
        Err(e) if is_unsupported(&e) => return Ok(Xattrs::new()),
        other => other?,
    };
    let for_all = |name: &[u8]| aspect_of(name) == Some(Aspect::Acl) || name.starts_with(b"user.");
    let is_shown =
        |name: &Vec<u8>| aspect_of(name).is_some() && (for_all(name) || caller.administers);
    let shown = names.into_iter().filter(is_shown);
    let read = |name: Vec<u8>| Ok((name.clone(), system.get_xattr(entry, &name)?));
    let mut xattrs = shown.map(read).collect::<io::Result<Xattrs>>()?;
    xattrs.sort();
    Ok(xattrs)
}

/// The aspects in which two sets of extended attributes differ.
pub(crate) fn differing(source: &Xattrs, destination: &Xattrs) -> Aspects {
    let only_in = |a: &Xattrs, b: &Xattrs| {
        let missing = a.iter().filter(|x| !b.contains(x));
        missing.filter_map(|(name, _)| aspect_of(name)).collect::<Vec<_>>()
    };
    only_in(source, destination).into_iter().chain(only_in(destination, source)).collect()
}

/// What other attributes of the system's own mean differs from drive to drive.
fn aspect_of(name: &[u8]) -> Option<Aspect> {
    if name == ACCESS_LIST || name == DEFAULT_LIST {
        return Some(Aspect::Acl);
    }
    // XFS shows its access lists to root a second time, as what it keeps them in.
    if name.starts_with(b"trusted.SGI_ACL_") {
        return None;
    }
    let spaces: [&[u8]; 3] = [b"user.", b"trusted.", b"security."];
    spaces.iter().any(|space| name.starts_with(space)).then_some(Aspect::Xattr)
}

/// True if what is made in this folder is born with access lists of its own.
pub(crate) fn has_default_list(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<bool> {
    match system.get_xattr(Entry::Open(folder), DEFAULT_LIST) {
        Err(e) if is_absent(&e) => Ok(false),
        other => other.map(|_| true),
    }
}

/// The carried flags of an open file or folder; `None` where they cannot be told. Drivers that have no
/// such thing say so with many an error; one that came by chance does not come twice.
pub(crate) fn flags(system: &dyn System, entry: BorrowedFd<'_>) -> Option<Flags> {
    let told = match system.flags(entry) {
        Err(e) if is_unsupported(&e) => return None,
        other => other.or_else(|_| system.flags(entry)),
    };
    told.ok().map(|flags| flags.and(Flags::CARRIED))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reach(drive: Abilities, slack: u64) -> Reach {
        let caller = Caller {
            uid: 1000,
            gid: 1000,
            groups: vec![1000],
            umask: 0o22,
            gives_files: false,
            makes_devices: false,
            administers: false,
            acts_for_owners: false,
        };
        Reach::new(Aspects::ALL, drive, &caller, slack)
    }

    #[test]
    fn times_are_the_same_within_the_grain_or_the_slack() {
        let coarse = Abilities { grain: 2_000_000_000, ..Abilities::default() };
        let at = |secs, nanos| Time { secs, nanos };
        let stick = reach(coarse.clone(), 0);
        assert!(stick.agree(at(13, 999_999_999), at(12, 0)));
        assert!(!stick.agree(at(14, 0), at(12, 0)));
        assert!(!reach(Abilities::default(), 0).agree(at(12, 1), at(12, 0)));
        assert!(reach(Abilities::default(), 3_000_000_000).agree(at(15, 0), at(12, 0)));
        let since_1980 = Abilities { seconds: (315_619_200, i64::MAX), ..coarse };
        let stick = reach(since_1980, 0);
        assert!(stick.agree(at(0, 0), at(315_619_200, 0)));
        let narrow = Abilities { seconds: (-9, 9), ..Abilities::default() };
        let narrow = reach(narrow, 0);
        assert!(narrow.agree(at(-9, 5), at(-9, 0)) && narrow.agree(at(9, 5), at(9, 0)));
        assert!(!narrow.agree(at(-8, 5), at(-8, 0)) && !narrow.agree(at(9, 5), at(8, 5)));
        stick.count_time(at(0, 0));
        assert_eq!(stick.drive.nearest(at(-5, 7)), at(315_619_200, 0));
        assert!(matches!(stick.notes()[..], [Note::NotHeld(NotHeld { times: 1, .. })]));
    }

    #[test]
    fn whole_hours_count_only_on_coarse_drives() {
        let coarse = Abilities { grain: 2_000_000_000, ..Abilities::default() };
        let at = |secs| Time { secs, nanos: 0 };
        let stick = reach(coarse, 0);
        assert!(stick.hours_apart(at(3600), at(0)) && stick.hours_apart(at(0), at(7201)));
        assert!(!stick.hours_apart(at(1800), at(0)) && !stick.hours_apart(at(3603), at(0)));
        assert!(!stick.hours_apart(at(27 * 3600), at(0)) && !stick.hours_apart(at(9), at(9)));
        assert!(!reach(Abilities::default(), 0).hours_apart(at(3600), at(0)));
    }
}
