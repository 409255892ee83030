//! What this caller can carry to the drive of the destination.

use parking_lot::Mutex;
use std::io;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

use utter_echo_files::attributes::attribute_of;
use utter_echo_model::attribute::{Attribute, Attributes};
use utter_echo_model::note::{NotHeld, Note};
use utter_echo_model::state::State;
use utter_echo_os::{Caller, Entry, Flags, Kind, Stat, System, Time, Xattrs, is_unsupported};

use crate::features::{self, Feature, Features};

/// The requested attributes that can be carried, with the features of the drive and the rights of the caller.
#[derive(Debug)]
pub struct Capabilities {
    /// Attributes that are carried: requested, and supported by the drive.
    pub carry: Attributes,
    /// The features of the drive.
    pub drive: Features,
    /// The rights of the caller.
    pub caller: Caller,
    /// Times that differ by at most this many nanoseconds count as equal on any drive.
    slack: u64,
    /// Requested, but not supported by the drive.
    not_held: Attributes,
    /// Counts of what cannot be carried.
    missed: UncarriedCounts,
    /// Results for unusual link texts and device numbers.
    references: Mutex<TriedReferences>,
}

/// Link texts and device numbers that a drive is known to accept, and not to accept.
#[derive(Debug)]
struct TriedReferences {
    /// Lengths in bytes of the longest link text that was accepted, and of the shortest that was not.
    links: (u64, u64),
    /// Whether a device with a large number was accepted.
    devices: Option<bool>,
}

/// Every drive with links and devices accepts link texts up to this length in bytes, and device numbers up to
/// these.
const SHORT_TEXT: u64 = 255;

const SMALL_NUMBERS: (u32, u32) = (255, 255);

#[derive(Debug, Default)]
struct UncarriedCounts {
    owners: AtomicU64,
    flags: AtomicU32,
    times: AtomicU64,
    privileges: AtomicU64,
    links: AtomicU64,
    fifos: AtomicU64,
    devices: AtomicU64,
}

/// The set-user-id and set-group-id bits.
const SET_USER: u32 = 0o4000;

const SET_GROUP: u32 = 0o2000;

/// The attribute with the capabilities of a program; see `capabilities(7)`.
const CAPABILITIES: &[u8] = b"security.capability";

/// The features that an attribute needs, any one of them.
const NEEDS: [(Attribute, &[Feature]); 6] = [
    (Attribute::Mode, &[Feature::Modes]),
    (Attribute::Owner, &[Feature::Owners]),
    (Attribute::Acl, &[Feature::Acl]),
    (Attribute::Xattr, &[Feature::UserXattrs, Feature::TrustedXattrs, Feature::SecurityXattrs]),
    (Attribute::Hardlinks, &[Feature::Hardlinks]),
    (Attribute::Holes, &[Feature::Holes]),
];

impl Capabilities {
    /// `slack`, in nanoseconds, is the largest difference of times that count as equal.
    pub fn new(asked: Attributes, drive: Features, caller: &Caller, slack: u64) -> Self {
        let held = |needs: &[Feature]| needs.iter().any(|ability| drive.holds(*ability));
        let lacking =
            NEEDS.iter().filter(|(_, needs)| !held(needs)).map(|(attribute, _)| *attribute);
        let no_flags = drive.flags.is_empty().then_some(Attribute::Flags);
        let lacking: Attributes = lacking.chain(no_flags).collect();
        Self {
            carry: asked.iter().filter(|attribute| !lacking.has(*attribute)).collect(),
            slack,
            drive,
            caller: caller.clone(),
            not_held: asked.iter().filter(|attribute| lacking.has(*attribute)).collect(),
            missed: UncarriedCounts::default(),
            references: Mutex::new(TriedReferences {
                links: (SHORT_TEXT, u64::MAX),
                devices: None,
            }),
        }
    }

    /// True if the root of a side can have times. A new folder always can.
    pub fn keeps_top_times(&self, is_there: bool) -> bool {
        !is_there || self.drive.holds(Feature::TopTimes)
    }

    /// Notes on what is not carried to the destination.
    pub fn notes(&self) -> Vec<Note> {
        let mut notes = Vec::new();
        let count = |of: &AtomicU64| of.load(Ordering::Relaxed);
        let not_held = NotHeld {
            attributes: self.not_held,
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
    pub fn can_hold(&self, kind: Kind) -> bool {
        match kind {
            Kind::File | Kind::Folder => true,
            Kind::Symlink => self.drive.holds(Feature::Links),
            Kind::Fifo | Kind::Socket => self.drive.holds(Feature::Fifos),
            Kind::CharDevice | Kind::BlockDevice => {
                self.caller.makes_devices && self.drive.holds(Feature::Devices)
            }
        }
    }

    /// True if the drive accepts the text of a link or the number of a device. Unusual ones are tried out once.
    pub fn takes_reference(&self, source: &Stat, tries: impl Fn(Kind, u64) -> bool) -> bool {
        let known = || self.references.lock();
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

    /// True if a source entry of kind `now` must be newer than the plan, which found the destination's entry of
    /// kind `extra` to be extra. An entry that the drive cannot hold may have been there before, and so may a
    /// folder in the place of a file, since patterns may exclude only one of them.
    pub fn has_appeared(&self, now: Kind, extra: Kind) -> bool {
        self.can_hold(now) && (now == Kind::Folder) == (extra == Kind::Folder)
    }

    /// Counts an entry whose kind the drive cannot hold.
    pub fn leave_out(&self, kind: Kind) {
        let count = match kind {
            Kind::Symlink => &self.missed.links,
            Kind::CharDevice | Kind::BlockDevice => &self.missed.devices,
            _ => &self.missed.fifos,
        };
        count.fetch_add(1, Ordering::Relaxed);
    }

    /// Counts an entry whose time the drive cannot keep.
    pub fn count_time(&self, source: Time) {
        if self.carry.has(Attribute::Times) && !self.drive.keeps(source) {
            self.missed.times.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// True if two modification times are equal within the resolution of the drive, or the drive cannot keep the
    /// source's at all.
    pub fn agree(&self, source: Time, destination: Time) -> bool {
        let blur = || self.slack.max(self.drive.blur(source));
        source == destination
            || !self.drive.keeps(source)
            || features::span(source, destination) <= blur().into()
    }

    /// True if the source's time is later than that of a copy that keeps its own, by more than the user lets count as
    /// equal.
    pub fn is_later(&self, source: Time, destination: Time) -> bool {
        destination < source && features::span(source, destination) > self.slack.into()
    }

    /// True if two times differ by whole hours on a drive that may keep local time: after a change of the clock or
    /// the time zone.
    pub fn hours_apart(&self, source: Time, destination: Time) -> bool {
        const HOUR: u128 = 3_600_000_000_000;
        const SECOND: u64 = 1_000_000_000;
        let span = features::span(source, destination);
        if self.drive.grain < SECOND || span < HOUR / 2 {
            return false;
        }
        let beyond = (span + HOUR / 2) % HOUR;
        let blur = u128::from(self.slack.max(self.drive.blur(source)));
        // All time zones lie within 26 hours.
        span <= 26 * HOUR + blur && beyond.abs_diff(HOUR / 2) <= blur
    }

    /// The flags of the source's entry that its copy gets.
    pub fn flags_to_carry(&self, source: Flags) -> Flags {
        let wanted = source.and(Flags::CARRIED);
        let missed = wanted.without(self.drive.flags);
        if !missed.is_empty() && self.carry.has(Attribute::Flags) {
            self.missed.flags.fetch_or(missed.0, Ordering::Relaxed);
        }
        wanted.and(self.drive.flags)
    }

    /// Counts the attributes of a new entry that cannot be carried. For entries on both sides the comparison counts
    /// them.
    pub fn count_not_carried(&self, source: &State) {
        let born = (self.caller.uid, self.caller.gid);
        let owner = self.owner_to_set((source.uid, source.gid), born).unwrap_or(born);
        if self.carry.has(Attribute::Mode) {
            self.mode_with(source.mode(), (source.uid, source.gid), owner);
        }
        self.flags_to_carry(source.flags());
        self.count_time(source.modified());
    }

    /// The owner that an entry gets, from the wanted one and the one that it has. Without the right to give files
    /// away only the group can change, to a group of the caller.
    pub fn owner_to_set(&self, wanted: (u32, u32), has: (u32, u32)) -> Option<(u32, u32)> {
        if !self.carry.has(Attribute::Owner) || wanted == has {
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

    /// The mode of an entry with this owner. The set-user-id and set-group-id bits are kept only for the owner and
    /// group that they were set for.
    pub fn mode_with(&self, mode: u32, wanted: (u32, u32), owner: (u32, u32)) -> u32 {
        let lost_user = if wanted.0 == owner.0 { 0 } else { SET_USER };
        let lost_group = if wanted.1 == owner.1 { 0 } else { SET_GROUP };
        let lost = mode & (lost_user | lost_group);
        if lost != 0 {
            self.missed.privileges.fetch_add(1, Ordering::Relaxed);
        }
        mode & !lost
    }

    /// The mode of a copy of `source` that `owner` (user, group) will own.
    pub fn mode_for(&self, source: &Stat, owner: (u32, u32)) -> u32 {
        self.mode_with(source.mode, (source.uid, source.gid), owner)
    }

    /// Extended attributes, without file capabilities if the owner is another.
    pub fn xattrs_for(&self, xattrs: Xattrs, wanted: (u32, u32), owner: (u32, u32)) -> Xattrs {
        if wanted == owner || xattrs.iter().all(|(name, _)| name != CAPABILITIES) {
            return xattrs;
        }
        self.missed.privileges.fetch_add(1, Ordering::Relaxed);
        xattrs.into_iter().filter(|(name, _)| name != CAPABILITIES).collect()
    }

    /// True if attributes beyond `stat` are carried at all.
    pub fn carries_hidden(&self) -> bool {
        [Attribute::Xattr, Attribute::Acl, Attribute::Flags].into_iter().any(|a| self.carry.has(a))
    }

    /// The carried extended attributes of an entry.
    pub fn xattrs(&self, system: &dyn System, entry: Entry<'_>) -> io::Result<Xattrs> {
        self.xattrs_of(system, entry, self.carry)
    }

    /// The extended attributes of an entry that belong to some attributes.
    pub fn xattrs_of(
        &self,
        system: &dyn System,
        entry: Entry<'_>,
        attributes: Attributes,
    ) -> io::Result<Xattrs> {
        let mut xattrs = Vec::new();
        if !attributes.has(Attribute::Xattr) && !attributes.has(Attribute::Acl) {
            return Ok(xattrs);
        }
        let names = match system.list_xattrs(entry) {
            Err(e) if is_unsupported(&e) => return Ok(xattrs),
            other => other?,
        };
        for name in names {
            if self.attribute_of(&name).is_some_and(|attribute| attributes.has(attribute)) {
                let value = system.get_xattr(entry, &name)?;
                xattrs.push((name, value));
            }
        }
        xattrs.sort();
        Ok(xattrs)
    }

    fn attribute_of(&self, name: &[u8]) -> Option<Attribute> {
        let needed = match attribute_of(name)? {
            Attribute::Acl => Feature::Acl,
            _ if name.starts_with(b"trusted.") => Feature::TrustedXattrs,
            _ if name.starts_with(b"security.") => Feature::SecurityXattrs,
            _ => Feature::UserXattrs,
        };
        let own = matches!(needed, Feature::Acl | Feature::UserXattrs);
        let reached = (own || self.caller.administers) && self.drive.holds(needed);
        attribute_of(name).filter(|_| reached)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn capabilities(drive: Features, slack: u64) -> Capabilities {
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
        Capabilities::new(Attributes::ALL, drive, &caller, slack)
    }

    #[test]
    fn times_are_equal_within_the_resolution_or_the_slack() {
        let coarse = Features { grain: 2_000_000_000, ..Features::default() };
        let at = |secs, nanos| Time { secs, nanos };
        let stick = capabilities(coarse.clone(), 0);
        assert!(stick.agree(at(13, 999_999_999), at(12, 0)));
        assert!(!stick.agree(at(14, 0), at(12, 0)));
        assert!(!capabilities(Features::default(), 0).agree(at(12, 1), at(12, 0)));
        assert!(capabilities(Features::default(), 3_000_000_000).agree(at(15, 0), at(12, 0)));
        let since_1980 = Features { seconds: (315_619_200, i64::MAX), ..coarse };
        let stick = capabilities(since_1980, 0);
        assert!(stick.agree(at(0, 0), at(315_619_200, 0)));
        let narrow = Features { seconds: (-9, 9), ..Features::default() };
        let narrow = capabilities(narrow, 0);
        assert!(narrow.agree(at(-9, 5), at(-9, 0)) && narrow.agree(at(9, 5), at(9, 0)));
        assert!(!narrow.agree(at(-8, 5), at(-8, 0)) && !narrow.agree(at(9, 5), at(8, 5)));
        stick.count_time(at(0, 0));
        assert_eq!(stick.drive.nearest(at(-5, 7)), at(315_619_200, 0));
        assert!(matches!(stick.notes()[..], [Note::NotHeld(NotHeld { times: 1, .. })]));
    }

    #[test]
    fn whole_hours_count_only_on_coarse_drives() {
        let coarse = Features { grain: 2_000_000_000, ..Features::default() };
        let at = |secs| Time { secs, nanos: 0 };
        let stick = capabilities(coarse, 0);
        assert!(stick.hours_apart(at(3600), at(0)) && stick.hours_apart(at(0), at(7201)));
        assert!(!stick.hours_apart(at(1800), at(0)) && !stick.hours_apart(at(3603), at(0)));
        assert!(!stick.hours_apart(at(27 * 3600), at(0)) && !stick.hours_apart(at(9), at(9)));
        assert!(!capabilities(Features::default(), 0).hours_apart(at(3600), at(0)));
    }
}
