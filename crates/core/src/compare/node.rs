//! A folder during the comparison.

use parking_lot::{Mutex, MutexGuard};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use utter_echo_drives::map::DriveBelow;
use utter_echo_files::dirty_marker::Unflushed;
use utter_echo_model::count::{Count, Tally};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::note::Note;
use utter_echo_model::path::{NameArena, TreePath};
use utter_echo_model::problem::Cause;
use utter_echo_model::state::{FolderIdentity, State};
use utter_echo_os::{Kind, Stat, Time};
use utter_echo_select::{CountedSide, RuleCounts, Selection};

use crate::compare::difference::{
    ComparedFolder, Difference, DifferenceKind, FolderDecision, FolderHead, FolderSink,
    FolderStays, LinkedName, OnSide, Presence,
};
use crate::request::RenamePath;
use crate::sides;

/// Counts of both sides, and of unchanged entries.
#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Tallies {
    pub(super) source: Tally,
    pub(super) destination: Tally,
    pub(super) unchanged: Count,
    /// The number of files of the destination with times in the future, and the newest of these times.
    pub(super) ahead: (u64, Time),
    /// The newest modification time in the source, folders excluded.
    pub(super) newest: Option<Time>,
}

impl Tallies {
    pub(super) fn merge(&mut self, other: &Self) {
        self.source.merge(&other.source);
        self.destination.merge(&other.destination);
        self.unchanged.merge(other.unchanged);
        self.newest = self.newest.max(other.newest);
        self.ahead = (self.ahead.0 + other.ahead.0, self.ahead.1.max(other.ahead.1));
    }

    /// Counts the root, which exists in the destination or not, and is equal there or not.
    pub(super) fn count_root(&mut self, in_destination: bool, is_equal: bool) {
        self.source.count(Kind::Folder, 0);
        if in_destination {
            self.destination.count(Kind::Folder, 0);
            self.unchanged.merge(Count { entries: is_equal.into(), bytes: 0 });
        }
    }

    pub(super) fn ahead(&self, now: Time) -> Option<Note> {
        let (count, newest) = self.ahead;
        let ahead = u64::try_from(newest.secs.saturating_sub(now.secs)).unwrap_or(0);
        (count > 0).then(|| Note::Ahead(count, Duration::from_secs(ahead)))
    }
}

/// How everything in a folder of the destination only counts, whatever the selection says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum WholeFolder {
    /// As leftovers of an interrupted run.
    Leftover,
    /// As left out by the selection.
    LeftOut,
}

impl WholeFolder {
    pub(super) fn what(self) -> DifferenceKind {
        match self {
            Self::Leftover => DifferenceKind::Leftover,
            Self::LeftOut => DifferenceKind::LeftOut,
        }
    }
}

/// A folder on both sides.
#[derive(Debug)]
pub(super) struct FolderSides {
    /// The source's folder, unless the source is a single entry.
    pub(super) source: Option<Stat>,
    pub(super) destination: Option<Stat>,
    /// What an interrupted run may have left unfinished, from a marker above the folder.
    pub(super) unflushed: Option<Unflushed>,
    /// For the drives of either side.
    pub(super) numbers: (InodeNumbers, InodeNumbers),
}

/// What is known about a folder before it is listed.
#[derive(Debug)]
pub(super) struct FolderStart {
    pub(super) presence: Presence,
    /// `--only` is not checked below it.
    pub(super) all_below: bool,
    /// It takes part only if something in it does.
    pub(super) conditional: bool,
    pub(super) whole: Option<WholeFolder>,
    /// The index of its difference in the folder above, if it has one.
    pub(super) difference: Option<usize>,
    /// The folder itself is equal on both sides.
    pub(super) agrees: bool,
    /// The destination's drive that it lies on, or will lie on.
    pub(super) drive: Arc<DriveBelow>,
    /// The destination's entry in its place that is not a folder, which is counted if it takes part.
    pub(super) instead: Option<(Kind, u64)>,
    /// Whether its entries can be renamed into their places.
    pub(super) rename_path: RenamePath,
    pub(super) sides: FolderSides,
}

/// A folder whose comparison has begun and not ended.
#[derive(Debug)]
pub(super) struct OpenFolder {
    parent: Option<Arc<OpenFolder>>,
    /// The destination's.
    name: Box<[u8]>,
    /// The source's, if that differs.
    source_name: Option<Box<[u8]>>,
    /// Its paths on the two sides differ.
    pub(super) is_elsewhere: bool,
    pub(super) begun: FolderStart,
    /// Levels below the root.
    pub(super) depth: u32,
    /// 1 while it is visited, plus the number of folders in it that are not closed.
    open: AtomicUsize,
    inner: Mutex<FolderContents>,
}

#[derive(Debug, Default)]
struct FolderContents {
    names: NameArena,
    differences: Vec<Difference>,
    linked: Vec<LinkedName>,
    below: Vec<(Option<usize>, FolderDecision)>,
    /// Whether something in it takes part, on the source's and on the destination's side.
    taken: (bool, bool),
    /// Something in the destination's folder stays in any case.
    destination_stays: bool,
    /// The same of the source's folder.
    source_stays: bool,
    locked: Option<Cause>,
    only_of: Option<u32>,
}

/// What closing a folder needs.
pub(super) struct FolderRules<'a> {
    pub(super) selection: &'a Selection,
    pub(super) counts: &'a RuleCounts<'a>,
    /// Left-out entries of the destination are reported.
    pub(super) reports_left_out: bool,
}

impl OpenFolder {
    /// `source_name` is the source's name, if that differs.
    pub(super) fn new(
        parent: Option<&Arc<OpenFolder>>,
        (name, source_name): (&[u8], Option<&[u8]>),
        begun: FolderStart,
    ) -> Self {
        Self {
            parent: parent.cloned(),
            name: name.into(),
            source_name: source_name.map(Into::into),
            is_elsewhere: source_name.is_some() || parent.is_some_and(|parent| parent.is_elsewhere),
            begun,
            depth: parent.map_or(0, |parent| parent.depth + 1),
            open: AtomicUsize::new(1),
            inner: Mutex::default(),
        }
    }

    fn inner(&self) -> MutexGuard<'_, FolderContents> {
        self.inner.lock()
    }

    pub(super) fn is_root(&self) -> bool {
        self.parent.is_none()
    }

    /// The inode number, by which the folders of a folder are sorted on a rotational disk.
    pub(super) fn inode(&self) -> u64 {
        let FolderSides { source, destination, .. } = &self.begun.sides;
        source.or(*destination).map_or(0, |stat| stat.identity.inode)
    }

    pub(super) fn above(&self) -> Option<Arc<OpenFolder>> {
        self.parent.clone()
    }

    /// Its path in the source.
    pub(super) fn path(&self) -> TreePath {
        self.path_by(|node| node.source_name.as_deref().unwrap_or(&node.name))
    }

    /// Its path in the destination.
    pub(super) fn path_there(&self) -> TreePath {
        self.path_by(|node| &node.name)
    }

    fn path_by(&self, name: impl Fn(&Self) -> &[u8]) -> TreePath {
        let mut at = Some(self);
        TreePath::from_deepest(std::iter::from_fn(|| {
            let here = at?;
            at = here.parent.as_deref();
            Some(name(here))
        }))
    }

    /// Notes a difference; returns its number.
    pub(super) fn note_difference(
        &self,
        name: &[u8],
        source_name: Option<&[u8]>,
        difference: Difference,
    ) -> usize {
        let mut inner = self.inner();
        let name = inner.names.add(name);
        let source_name = source_name.map(|source_name| inner.names.add(source_name));
        inner.differences.push(Difference { name, source_name, ..difference });
        inner.differences.len() - 1
    }

    pub(super) fn note_linked(&self, name: &[u8], linked: LinkedName) {
        let mut inner = self.inner();
        let name = inner.names.add(name);
        inner.linked.push(LinkedName { name, ..linked });
    }

    /// Something of the destination stays in it.
    pub(super) fn keep_destination(&self) {
        self.inner().destination_stays = true;
    }

    /// Something stays in the source's folder.
    pub(super) fn keep_source(&self) {
        self.inner().source_stays = true;
    }

    /// Nothing can go from the source's folder.
    pub(super) fn lock(&self, cause: Cause) {
        self.inner().locked = Some(cause);
    }

    /// Nothing can go from the source's folder but what this user owns.
    pub(super) fn lock_but_for(&self, owner: u32) {
        self.inner().only_of = Some(owner);
    }

    /// True if the flags of an entry of the source's folder, or its owner, keep it there.
    pub(super) fn is_held(&self, source: &Stat) -> bool {
        sides::why_kept(&State::from(source), self.inner().only_of).is_some()
    }

    pub(super) fn note_taken(&self, (source, destination): (bool, bool)) {
        let taken = &mut self.inner().taken;
        *taken = (taken.0 | source, taken.1 | destination);
    }

    pub(super) fn expect(&self, folders: usize) {
        self.open.fetch_add(folders, Ordering::Relaxed);
    }

    /// True if that was the last thing it waited for.
    pub(super) fn one_less(&self) -> bool {
        self.open.fetch_sub(1, Ordering::AcqRel) == 1
    }

    /// Settles what depended on its contents, and hands the rest to the sink.
    pub(super) fn close(
        &self,
        rules: &FolderRules<'_>,
        sink: &mut dyn FolderSink,
        tallies: &mut Tallies,
    ) {
        let FolderRules { selection, reports_left_out, .. } = *rules;
        let mut inner = std::mem::take(&mut *self.inner());
        // Where folders are not taken for themselves, none is taken away.
        let is_spared = !selection.takes_folders() && !reports_left_out;
        let is_alone = self.begun.presence == Presence::Destination && self.begun.whole.is_none();
        inner.destination_stays |= is_spared && is_alone && self.begun.conditional;
        let takes_part = !self.begun.conditional || inner.taken.0;
        self.count(&inner, takes_part, rules, tallies);
        let (mut taken, holds) = (inner.taken, inner.destination_stays);
        taken.1 |= self.counts_alone(&inner) || self.begun.whole.is_some();
        taken.1 |= self.begun.instead.is_some() && (takes_part || reports_left_out);
        // What the selection does not take is to go, also an empty folder.
        let for_what_it_holds = self.begun.conditional && !reports_left_out;
        let below = self.hand_over(inner, for_what_it_holds, sink);
        let Some(parent) = &self.parent else { return };
        let mut above = parent.inner();
        above.taken = (above.taken.0 | taken.0, above.taken.1 | taken.1);
        above.destination_stays |= holds && self.begun.presence == Presence::Destination;
        let mut own = self.begun.difference;
        above.source_stays |= !takes_part && self.begun.sides.source.is_some();
        if !takes_part && self.begun.presence != Presence::Destination {
            own = self.leave_out(&mut above, reports_left_out);
        }
        if below.number.is_some() || own.is_some() {
            above.below.push((own, below));
        } else if self.begun.presence != Presence::Source {
            // It is there, and nothing is said of it.
            above.destination_stays = true;
        }
    }

    /// A folder of the source that turned out not to take part: what the destination has in its place
    /// is left out with it. Returns the difference that is left of it.
    fn leave_out(&self, above: &mut FolderContents, reports_left_out: bool) -> Option<usize> {
        let numbers = self.begun.sides.numbers.1;
        let there = self.begun.sides.destination.as_ref().map(|there| State::seen(there, numbers));
        let told = there.filter(|_| reports_left_out);
        let own = match (self.begun.difference, told) {
            (Some(own), _) => own,
            (None, Some(_)) => {
                let name = above.names.add(&self.name);
                let nothing = Difference::nothing(name);
                above.differences.push(nothing);
                above.differences.len() - 1
            }
            (None, None) => {
                above.destination_stays |= there.is_some();
                return None;
            }
        };
        let difference = &mut above.differences[own];
        let name = difference.name;
        *difference = match told {
            Some(there) => Difference {
                source: OnSide::LeftOut,
                destination: OnSide::There(there),
                what: DifferenceKind::LeftOut,
                ..Difference::nothing(name)
            },
            None => Difference::nothing(name),
        };
        above.destination_stays |= there.is_some() && told.is_none();
        told.map(|_| own)
    }

    /// True for a folder that only the destination has, and that takes part. One that holds what is
    /// left out is there for that, and no part of the comparison.
    fn counts_alone(&self, inner: &FolderContents) -> bool {
        let FolderStart { presence, conditional, whole, .. } = self.begun;
        let alone = presence == Presence::Destination && whole.is_none() && !self.is_root();
        alone && !inner.destination_stays && (!conditional || inner.taken.1)
    }

    fn count(
        &self,
        inner: &FolderContents,
        takes_part: bool,
        rules: &FolderRules<'_>,
        tallies: &mut Tallies,
    ) {
        let FolderRules { selection, counts, reports_left_out } = *rules;
        let FolderStart { presence, conditional, .. } = self.begun;
        if self.is_root() {
            return;
        }
        if presence == Presence::Destination && self.begun.whole.is_none() {
            tallies.destination.folders += u64::from(self.counts_alone(inner));
            return;
        }
        if conditional {
            let source = presence != Presence::Destination && inner.taken.0;
            tallies.source.folders += u64::from(source);
            let counterpart = presence == Presence::Both && inner.taken.0;
            tallies.destination.folders += u64::from(counterpart || inner.taken.1);
            if let Some((kind, size)) =
                self.begun.instead.filter(|_| takes_part || reports_left_out)
            {
                tallies.destination.count(kind, size);
            }
            if presence != Presence::Destination && !takes_part {
                let rule = selection.rule_of_unneeded(self.begun.all_below);
                counts.add(rule, CountedSide::Source, false);
                if self.begun.sides.destination.is_some() {
                    counts.add(rule, CountedSide::DestinationAlone, false);
                }
            }
        }
        let as_it_should_be = presence == Presence::Both && self.begun.agrees;
        if as_it_should_be && takes_part {
            tallies.unchanged.add(0);
        }
    }

    fn hand_over(
        &self,
        mut inner: FolderContents,
        for_what_it_holds: bool,
        sink: &mut dyn FolderSink,
    ) -> FolderDecision {
        // What is kept until the run ends takes no more than it needs.
        inner.names.shrink();
        let FolderStart { presence, sides, .. } = &self.begun;
        let FolderSides { source, destination, numbers, .. } = sides;
        // In the place of a folder that is to be made there may be something else.
        let there = destination
            .as_ref()
            .filter(|stat| stat.kind == Kind::Folder && *presence != Presence::Source);
        let is_plain = inner.differences.is_empty();
        let folder = ComparedFolder {
            path: if is_plain { TreePath::default() } else { self.path() },
            path_there: if is_plain { TreePath::default() } else { self.path_there() },
            is_root: self.is_root(),
            presence: *presence,
            differences: inner.differences,
            linked: inner.linked,
            for_what_it_holds,
            below: inner.below,
            head: FolderHead {
                name: self.name.clone(),
                source_name: self.source_name.clone(),
                known: FolderIdentity {
                    source: source.map(|stat| numbers.0.of(&stat)),
                    destination: there.map(|stat| numbers.1.of(stat)),
                    drive: self.begun.drive.id,
                },
                before: there.map(|there| State::seen(there, numbers.1)),
                names: inner.names,
            },
            stays: FolderStays {
                destination_stays: inner.destination_stays,
                source_stays: inner.source_stays,
                locked: inner.locked,
                only_of: inner.only_of,
            },
        };
        sink.folder(folder)
    }
}
