//! Station: every step a run would take, and why.

use std::collections::HashSet;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::aside::Memory;
use crate::aspect::{Aspect, Aspects};
use crate::os::{Flags, Kind, Stat, Time};
use crate::path::TreePath;
use crate::problem::Problem;
use crate::select::Decided;

/// One change to the destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verb {
    /// The entry is not there yet.
    Add,
    /// The entry is there with other content or of another kind.
    Replace,
    /// Only aspects other than the content differ.
    Retouch,
    /// The entry is there under another name, or in another folder.
    Rename,
    /// The source does not have it.
    Remove,
}

impl Verb {
    /// All of them.
    pub const ALL: [Self; 5] =
        [Self::Add, Self::Replace, Self::Retouch, Self::Rename, Self::Remove];

    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Add => "add",
            Self::Replace => "replace",
            Self::Retouch => "retouch",
            Self::Rename => "rename",
            Self::Remove => "remove",
        }
    }
}

/// Kinds of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Verbs(u8);

impl Verbs {
    /// All of them.
    pub const ALL: Self = Self(0b11111);

    /// True if steps of this kind are among them.
    pub fn has(self, verb: Verb) -> bool {
        self.0 >> verb as u8 & 1 == 1
    }
}

impl FromIterator<Verb> for Verbs {
    fn from_iter<I: IntoIterator<Item = Verb>>(verbs: I) -> Self {
        Self(verbs.into_iter().fold(0, |all, verb| all | 1 << verb as u8))
    }
}

/// Why a step is in the plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reason {
    /// Not in the destination.
    New,
    /// One is a folder, say, and the other a file.
    Kind,
    /// Size or modification time differ.
    Stamp,
    /// Same size, other bytes, the first of them at this offset.
    Content {
        /// Counted from 0.
        offset: u64,
    },
    /// A link leads elsewhere, or a device has another number.
    Reference,
    /// The source has it as a hard link of another name, the destination not.
    Linked,
    /// The destination shares it with another name, the source not.
    Apart,
    /// Only aspects differ; the step names them.
    Aspects,
    /// Not in the source.
    Extra,
    /// Left behind by an interrupted run of this program.
    Leftover,
    /// It was elsewhere in the destination, where the source does not have it any more.
    Moved,
    /// Left out by the selection, and such is to go.
    Unselected,
    /// A run that is taken back made it.
    Made,
    /// A run that is taken back displaced it.
    Before,
}

/// What a plan remembers of an entry: enough to explain a step and to recognise drift.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// Length in bytes; the device number for devices.
    pub size: u64,
    /// Bytes allocated on the drive.
    pub allocated: u64,
    /// Inode number.
    pub inode: u64,
    /// Modification time, in two parts to keep steps small.
    secs: i64,
    nanos: u32,
    /// Owner number.
    pub uid: u32,
    /// Group number.
    pub gid: u32,
    mode: u16,
    flags: u8,
    /// What it is.
    pub kind: Kind,
}

impl State {
    /// The carried flags that `statx` shows.
    pub fn flags(&self) -> Flags {
        Flags(self.flags.into())
    }

    /// Modification time.
    pub fn modified(&self) -> Time {
        Time { secs: self.secs, nanos: self.nanos }
    }

    /// Permission and special bits.
    pub fn mode(&self) -> u32 {
        self.mode.into()
    }

    /// What tells one state of an entry from another: size, object and time.
    pub(crate) fn fingerprint(&self) -> [u64; 4] {
        [self.size, self.inode, self.secs.cast_unsigned(), self.nanos.into()]
    }

    /// Bytes of content: a file's size, nothing for all other kinds.
    pub fn bytes(&self) -> u64 {
        if self.kind == Kind::File { self.size } else { 0 }
    }

    /// True if `stat` shows the same object with the same content as far as its stamp tells. A
    /// folder's own size and times change with what it holds, so they do not count.
    pub(crate) fn still(&self, stat: &Stat) -> bool {
        let same = self.kind == stat.kind && self.inode == stat.identity.inode;
        same && (self.kind == Kind::Folder
            || (self.size == stat.size && self.modified() == stat.modified))
    }
}

impl From<&Stat> for State {
    fn from(stat: &Stat) -> Self {
        Self {
            size: stat.size,
            allocated: stat.allocated,
            inode: stat.identity.inode,
            secs: stat.modified.secs,
            nanos: stat.modified.nanos,
            uid: stat.uid,
            gid: stat.gid,
            // Only the twelve lowest bits are ever set.
            mode: (stat.mode & 0o7777) as u16,
            // All carried flags fit into a byte.
            flags: u8::try_from(stat.flags.and(Flags::CARRIED).0).unwrap_or(0),
            kind: stat.kind,
        }
    }
}

/// One step. Its name and place are told by [`Plan::steps`].
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// What it does.
    pub verb: Verb,
    /// Why.
    pub reason: Reason,
    /// The aspects that differ, the content left out.
    pub aspects: Aspects,
    /// The source's side; `None` if it has none.
    pub source: Option<State>,
    /// The destination's side; `None` if it has none.
    pub destination: Option<State>,
    pub(crate) leader: Option<LeaderId>,
    pub(crate) name: NameRange,
}

impl Step {
    pub(crate) fn new(
        verb: Verb,
        reason: Reason,
        source: Option<State>,
        destination: Option<State>,
    ) -> Self {
        let (aspects, leader, name) = (Aspects::NONE, None, NameRange::default());
        Self { verb, reason, aspects, source, destination, leader, name }
    }

    /// The name that a hard link is made to.
    pub(crate) fn link(&self) -> Option<LeaderId> {
        self.leader.filter(|_| self.verb != Verb::Rename)
    }

    /// The kind of the entry once the step is done; of what goes, for a removal.
    pub fn kind(&self) -> Kind {
        self.source.or(self.destination).map_or(Kind::File, |state| state.kind)
    }

    /// Bytes of content that the step writes, keeps for a rename, or gives up for a removal.
    pub fn bytes(&self) -> u64 {
        let state = match self.verb {
            Verb::Add | Verb::Replace if self.link().is_none() => self.source,
            Verb::Remove | Verb::Rename => self.destination,
            _ => None,
        };
        state.map_or(0, |state| state.bytes())
    }
}

/// Where a step's name stands in its folder's names.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct NameRange {
    start: u32,
    length: u16,
}

/// Which entry of [`Part::leaders`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct LeaderId(pub(crate) u32);

/// The name that other names of the same file are linked to, or that a rename takes away.
#[derive(Debug)]
pub(crate) struct Leader {
    pub(crate) folder: u32,
    pub(crate) name: Box<[u8]>,
}

/// Names of the steps of one folder, end to end.
#[derive(Debug, Default)]
pub(crate) struct Names(Vec<u8>);

impl Names {
    /// Keeps a name. Names of one folder together stay far below 4 GiB, one below 64 KiB.
    pub(crate) fn add(&mut self, name: &[u8]) -> NameRange {
        let range = NameRange {
            start: u32::try_from(self.0.len()).unwrap_or(u32::MAX),
            length: u16::try_from(name.len()).unwrap_or(u16::MAX),
        };
        self.0.extend_from_slice(name);
        range
    }

    pub(crate) fn get(&self, range: NameRange) -> &[u8] {
        let start = range.start as usize;
        &self.0[start..start + usize::from(range.length)]
    }

    pub(crate) fn shrink(&mut self) {
        self.0.shrink_to_fit();
    }
}

/// A folder that holds steps, or leads to one that does.
#[derive(Debug)]
pub(crate) struct Folder {
    /// Position of the folder above; the root stands at 0 and is its own.
    pub(crate) parent: u32,
    pub(crate) name: Box<[u8]>,
    /// The folder itself as the source has it, to restore its times; `None` if it is not carried.
    pub(crate) source: Option<State>,
    pub(crate) names: Names,
    /// By name.
    pub(crate) steps: Box<[Step]>,
    /// Number of the first of these steps among all of the plan.
    pub(crate) first: usize,
}

/// The part of a plan that belongs to one pair of roots.
#[derive(Debug, Default)]
pub(crate) struct Part {
    /// What happens to the root folder itself; it is step number `first`.
    pub(crate) root: Option<Step>,
    pub(crate) first: usize,
    /// In tree order, so that each comes after the one above it.
    pub(crate) folders: Vec<Folder>,
    pub(crate) leaders: Vec<Leader>,
    /// Set if the part takes back what a run did: attributes of entries as they were before, by
    /// their paths. The source is then what that run set aside, and what can goes back by name.
    pub(crate) memory: Option<Memory>,
}

impl Part {
    /// The names that renames take away.
    pub(crate) fn renamed_from(&self) -> impl Iterator<Item = &Leader> {
        let steps = self.folders.iter().flat_map(|folder| &*folder.steps);
        let renames = steps.filter(|step| step.verb == Verb::Rename);
        renames.filter_map(|step| step.leader).map(|id| &self.leaders[id.0 as usize])
    }

    /// True if the attributes of this entry are known from the record of the run that is undone.
    pub(crate) fn remembers(&self, path: &[u8]) -> bool {
        self.memory.as_ref().is_some_and(|memory| memory.contains_key(path))
    }

    /// Path of a folder, relative to the part's root.
    pub(crate) fn folder_path(&self, folder: usize) -> TreePath {
        let mut at = folder;
        TreePath::from_deepest(std::iter::from_fn(|| {
            let here = &self.folders[at];
            (at != 0).then(|| {
                at = here.parent as usize;
                &*here.name
            })
        }))
    }
}

/// Entries and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Count {
    /// Entries of any kind.
    pub entries: u64,
    /// Bytes of content.
    pub bytes: u64,
}

impl Count {
    /// One more entry with so many bytes.
    pub fn add(&mut self, bytes: u64) {
        self.entries += 1;
        self.bytes += bytes;
    }
}

/// What one side holds, the root folder itself not counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Folders.
    pub folders: u64,
    /// Regular files; a name each, so hard links count separately.
    pub files: u64,
    /// Symbolic links.
    pub links: u64,
    /// FIFOs, sockets and devices.
    pub others: u64,
    /// Sum of the files' sizes.
    pub bytes: u64,
}

impl Tally {
    pub(crate) fn count(&mut self, kind: Kind, size: u64) {
        match kind {
            Kind::Folder => self.folders += 1,
            Kind::File => {
                self.files += 1;
                self.bytes += size;
            }
            Kind::Link => self.links += 1,
            _ => self.others += 1,
        }
    }

    /// All entries.
    pub fn entries(&self) -> u64 {
        self.folders + self.files + self.links + self.others
    }

    pub(crate) fn merge(&mut self, other: &Self) {
        self.folders += other.folders;
        self.files += other.files;
        self.links += other.links;
        self.others += other.others;
        self.bytes += other.bytes;
    }
}

/// Sums over a plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Totals {
    /// Steps that add, with the bytes they write.
    pub add: Count,
    /// Steps that replace, with the bytes they write.
    pub replace: Count,
    /// Steps that retouch.
    pub retouch: Count,
    /// Steps that rename, with the bytes that need not be written for that.
    pub rename: Count,
    /// Steps that remove, with the bytes they give up.
    pub remove: Count,
    /// Removals that only clear what an interrupted run left behind, counted in `remove` too.
    pub leftovers: u64,
    /// Entries that are as they should be.
    pub unchanged: Count,
    /// Entries that were left as they are though they differ, since the destination's is newer.
    pub kept_newer: u64,
    /// Entries that were left as they are since no step of the kind needed may be taken.
    pub held_back: u64,
    /// Files that were read on both sides since they were chosen by chance.
    pub sampled: Count,
    /// The source's side, as far as selected.
    pub source: Tally,
    /// The destination's side, as far as selected; a copy does not look at what it would leave.
    pub destination: Tally,
}

impl Totals {
    /// Number of steps.
    pub fn steps(&self) -> u64 {
        Verb::ALL.into_iter().map(|verb| self.of(verb).entries).sum()
    }

    /// The steps of one kind.
    pub fn of(&self, verb: Verb) -> Count {
        match verb {
            Verb::Add => self.add,
            Verb::Replace => self.replace,
            Verb::Retouch => self.retouch,
            Verb::Rename => self.rename,
            Verb::Remove => self.remove,
        }
    }

    /// Bytes of content that the run writes.
    pub fn bytes_to_write(&self) -> u64 {
        self.add.bytes + self.replace.bytes
    }
}

/// Something worth knowing that is neither a step nor a problem.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remark {
    /// A folder in the source where another drive is mounted.
    Mount(TreePath),
    /// The same, left out as was asked for.
    MountLeftOut(TreePath),
    /// Missing folders above the destination are made.
    MissingFolders(String),
    /// The caller may not give files away, and the source holds some of another owner.
    OwnerNotCarried,
    /// Files of the destination that differ from the source's, or that only it has, were changed
    /// in the future: so many, the newest so far ahead of this machine's clock.
    Ahead(u64, Duration),
    /// What the destination's drive cannot hold.
    NotHeld(NotHeld),
    /// A pattern, as it was given, decided about no entry.
    IdlePattern(String),
}

/// What was asked for and the destination's drive, or this caller on it, cannot hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NotHeld {
    /// Aspects it holds for no entry.
    pub aspects: Aspects,
    /// Unit of its times, in nanoseconds.
    pub grain: u64,
    /// Symbolic links that are left out.
    pub links: u64,
    /// FIFOs and sockets that are left out.
    pub fifos: u64,
    /// Devices that are left out.
    pub devices: u64,
    /// Entries with times outside of what it keeps.
    pub times: u64,
    /// Flags that some entry has and that cannot be set.
    pub flags: Flags,
}

impl Remark {
    /// In words, what was to be carried and is not; `None` for a remark on something else.
    pub(crate) fn not_carried(&self) -> Option<String> {
        match self {
            Self::OwnerNotCarried => Some("owner".to_owned()),
            Self::NotHeld(not_held) => not_held.not_carried(),
            _ => None,
        }
    }
}

impl NotHeld {
    fn not_carried(&self) -> Option<String> {
        let mut missed: Vec<&str> = self.aspects.iter().map(Aspect::name).collect();
        if self.grain > 1 || self.times > 0 {
            missed.push("times as they are");
        }
        if !self.flags.is_empty() {
            missed.push("some flags");
        }
        (!missed.is_empty()).then(|| missed.join(", "))
    }

    pub(crate) fn merge(&mut self, other: &Self) {
        self.aspects = self.aspects.iter().chain(other.aspects.iter()).collect();
        self.grain = self.grain.max(other.grain);
        self.links += other.links;
        self.fifos += other.fifos;
        self.devices += other.devices;
        self.times += other.times;
        self.flags = self.flags.or(other.flags);
    }

    /// True if all can be held. Times to less than a tenth of a microsecond are not missed.
    pub fn is_empty(&self) -> bool {
        self.aspects.is_empty()
            && self.grain <= 100
            && self.links + self.fifos + self.devices + self.times == 0
            && self.flags.is_empty()
    }
}

/// All steps of a run, with what is known of both sides.
#[derive(Debug, Default)]
pub struct Plan {
    pub(crate) parts: Vec<Part>,
    /// What display paths of each part begin with.
    pub(crate) prefixes: Vec<TreePath>,
    /// Entries that no step was planned for because of a fault, in tree order.
    pub problems: Vec<Problem>,
    /// In no particular order.
    pub remarks: Vec<Remark>,
    /// Sums.
    pub totals: Totals,
    /// What each rule of the selection decided.
    pub decided: Vec<Decided>,
}

/// A step with its place.
#[derive(Debug)]
pub struct PlacedStep<'a> {
    /// Number of the step, to find its outcome by.
    pub number: usize,
    /// Relative to the destination as the user named it; empty for that folder itself.
    pub path: TreePath,
    /// The step.
    pub step: &'a Step,
    /// For a hard link, the name it becomes another name of.
    pub linked_to: Option<TreePath>,
    /// For a rename, where the entry was.
    pub was: Option<TreePath>,
}

impl Plan {
    /// All steps in tree order: a folder before what it holds, names by their bytes.
    pub fn steps(&self) -> impl Iterator<Item = PlacedStep<'_>> {
        self.parts.iter().zip(&self.prefixes).flat_map(|(part, prefix)| {
            let top = TreePath::default();
            let root =
                part.root.iter().map(move |step| part.placed(prefix, part.first, &top, step));
            let below = InTreeOrder::new(part);
            root.chain(
                below.map(move |(number, path, step)| part.placed(prefix, number, &path, step)),
            )
        })
    }

    /// Takes steps out of the plan, by their numbers, and with them what cannot be done without
    /// them: the removal of a folder of which something stays, and hard links to what is not
    /// written. The others get new numbers.
    pub fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        for part in &mut self.parts {
            part.leave_out(unwanted);
        }
        crate::session::number(self);
    }

    /// True if there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.totals.steps() == 0
    }
}

impl Part {
    fn leave_out(&mut self, unwanted: &HashSet<usize>) {
        let is_unwanted = |folder: &Folder, at: usize| unwanted.contains(&(folder.first + at));
        // Names of steps that go, by their folders; a folder of which something stays is among them.
        let mut gone: HashSet<(usize, Box<[u8]>)> = HashSet::new();
        for (at, folder) in self.folders.iter().enumerate().rev() {
            let steps = folder.steps.iter().enumerate();
            let going = steps.filter(|(i, _)| is_unwanted(folder, *i));
            let going: Vec<(Box<[u8]>, bool)> = going
                .map(|(_, step)| (folder.names.get(step.name).into(), step.verb == Verb::Remove))
                .collect();
            if going.iter().any(|(_, removal)| *removal) {
                self.stays(at, &mut gone);
            }
            gone.extend(going.into_iter().map(|(name, _)| (at, name)));
        }
        let leader_is_gone = |step: &Step| {
            step.link().is_some_and(|id| {
                let leader = &self.leaders[id.0 as usize];
                gone.contains(&(leader.folder as usize, leader.name.clone()))
            })
        };
        let mut kept = Vec::new();
        for (at, folder) in self.folders.iter().enumerate() {
            let stays = |step: &&Step| {
                let name = folder.names.get(step.name);
                !gone.contains(&(at, name.into())) && !leader_is_gone(step)
            };
            kept.push(folder.steps.iter().filter(stays).copied().collect());
        }
        for (folder, steps) in self.folders.iter_mut().zip(kept) {
            folder.steps = steps;
        }
        self.root = self.root.filter(|_| !unwanted.contains(&self.first));
    }

    /// The steps that would take away a folder of which something stays, and those above it.
    fn stays(&self, mut at: usize, gone: &mut HashSet<(usize, Box<[u8]>)>) {
        while at != 0 {
            let folder = &self.folders[at];
            let parent = folder.parent as usize;
            let above = &self.folders[parent];
            let own = above.steps.iter().find(|step| above.names.get(step.name) == &*folder.name);
            let takes_away = own.is_some_and(|step| {
                step.verb == Verb::Remove
                    || step.verb == Verb::Replace && step.kind() != Kind::Folder
            });
            if !takes_away {
                return;
            }
            gone.insert((parent, folder.name.clone()));
            at = parent;
        }
    }

    fn placed<'a>(
        &self,
        prefix: &TreePath,
        number: usize,
        path: &TreePath,
        step: &'a Step,
    ) -> PlacedStep<'a> {
        let other = self.leader_of(step).map(|path| prefix.join(path.as_bytes()));
        let (linked_to, was) =
            if step.verb == Verb::Rename { (None, other) } else { (other, None) };
        PlacedStep { number, path: prefix.join(path.as_bytes()), step, linked_to, was }
    }

    pub(crate) fn leader_of(&self, step: &Step) -> Option<TreePath> {
        let leader = &self.leaders[step.leader?.0 as usize];
        Some(self.folder_path(leader.folder as usize).join(&leader.name))
    }
}

/// Merges each folder's steps with the folders in it, without a list of all paths.
struct InTreeOrder<'a> {
    part: &'a Part,
    next_folder: usize,
    /// Folders entered and not left: position, path, steps already given.
    open: Vec<(usize, TreePath, usize)>,
}

impl<'a> InTreeOrder<'a> {
    fn new(part: &'a Part) -> Self {
        Self { part, next_folder: 0, open: Vec::new() }
    }

    fn enter(&mut self) {
        let folder = &self.part.folders[self.next_folder];
        let path = self
            .open
            .last()
            .map_or_else(TreePath::default, |(_, above, _)| above.join(&folder.name));
        self.open.push((self.next_folder, path, 0));
        self.next_folder += 1;
    }
}

impl<'a> Iterator for InTreeOrder<'a> {
    type Item = (usize, TreePath, &'a Step);

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let Some((at, path, given)) = self.open.last_mut() else {
                if self.next_folder >= self.part.folders.len() {
                    return None;
                }
                self.enter();
                continue;
            };
            let folder = &self.part.folders[*at];
            let step = folder.steps.get(*given);
            let below = self.part.folders.get(self.next_folder);
            let below = below.filter(|below| below.parent as usize == *at);
            match (step, below) {
                (Some(step), below)
                    if below.is_none_or(|below| folder.names.get(step.name) <= &*below.name) =>
                {
                    let number = folder.first + *given;
                    *given += 1;
                    return Some((number, path.join(folder.names.get(step.name)), step));
                }
                (_, Some(_)) => self.enter(),
                (_, None) => {
                    self.open.pop();
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_leaves_room_for_its_name_within_the_budget() {
        // 160 bytes a step, of which a name of the usual length takes twenty.
        assert!(size_of::<Step>() <= 136, "{} bytes", size_of::<Step>());
        assert_eq!(size_of::<Option<Step>>(), size_of::<Step>());
    }
}
