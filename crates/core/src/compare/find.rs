//! Recording what is found under a name: a difference, a hard link, or nothing.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::Arc;

use utter_echo_drives::capabilities::Capabilities;
use utter_echo_drives::features::Feature;
use utter_echo_drives::map::DriveBelow;
use utter_echo_drives::trial;
use utter_echo_files::hidden_names;
use utter_echo_model::note::Note;
use utter_echo_model::path::NameRange;
use utter_echo_model::problem::Operation;
use utter_echo_model::state::State;
use utter_echo_os::{Entry, Kind, Stat, Time};
use utter_echo_select::Verdict;

use crate::compare::dated_names;
use crate::compare::difference::{
    Difference, DifferenceKind, LinkedEntry, LinkedName, Obstacle, OnSide, Presence,
};
use crate::compare::entry::{self, BothEntries};
use crate::compare::found::Halt;
use crate::compare::look::{LookedAt, MergedEntry};
use crate::compare::node::{FolderSides, FolderStart, OpenFolder, WholeFolder};
use crate::compare::visit::{Visit, Walk};
use crate::request::{DriveCrossing, EqualEntries, ExtraFolders, LeftOutEntries, RenamePath};

/// No obstacle, and no rename.
const NOTHING_MORE: Placement = Placement { obstacle: None, rename_path: RenamePath::Impossible };

/// How an entry can come to its place, and what prevents it.
struct Placement {
    obstacle: Option<Obstacle>,
    rename_path: RenamePath,
}

/// An entry that takes part, with its verdict.
struct TakenEntry<'a>(&'a Stat, Verdict);

/// A folder to visit next.
#[derive(Clone, Copy)]
struct FolderBelow<'a> {
    presence: Presence,
    source: Option<&'a Stat>,
    destination: Option<&'a Stat>,
    verdict: Verdict,
    whole: Option<WholeFolder>,
    difference: Option<usize>,
    /// The destination's entry in its place that is not a folder, and takes part with it.
    instead: Option<&'a Stat>,
    /// The folder itself is equal on both sides.
    agrees: bool,
}

impl FolderBelow<'_> {
    /// Without either side yet.
    fn new(presence: Presence, verdict: Verdict) -> Self {
        Self {
            presence,
            source: None,
            destination: None,
            verdict,
            whole: None,
            difference: None,
            instead: None,
            agrees: false,
        }
    }
}

impl Walk<'_, '_> {
    /// Records the differences of one name.
    pub(super) fn find(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>) {
        if self.sides_overlap(merged) {
            let at = visit.listed.path.join(merged.name);
            visit.findings.halt = Some(Halt::Overlap(at));
            return;
        }
        if self.leaves_out_own_destination(visit, merged) || self.leaves_out_drive(visit, merged) {
            return;
        }
        if matches!(merged.source, LookedAt::LeftOut(_)) {
            visit.node.keep_source();
        }
        self.tally(visit, merged);
        visit.count_future_time(merged, self.context.terms.now);
        match (&merged.source, &merged.destination) {
            (LookedAt::Absent, LookedAt::Absent) => {}
            (LookedAt::LeftOut(_), LookedAt::Absent)
                if self.context.terms.scope.left_out == LeftOutEntries::Reported => {}
            (LookedAt::Absent | LookedAt::LeftOut(_), LookedAt::LeftOut(None))
            | (LookedAt::LeftOut(_), LookedAt::Absent) => {
                visit.node.keep_destination();
            }
            (LookedAt::Absent | LookedAt::LeftOut(_), LookedAt::LeftOut(Some(there))) => {
                self.find_left_out(visit, merged, there);
            }
            // If the source's is left out, so is the destination's.
            (LookedAt::LeftOut(_), LookedAt::Taken(..)) => visit.node.keep_destination(),
            (LookedAt::Taken(source, verdict, _), LookedAt::Absent | LookedAt::LeftOut(None)) => {
                self.find_new(visit, merged, source, *verdict);
            }
            // It is to be removed, whatever has its place.
            (LookedAt::Taken(source, verdict, _), LookedAt::LeftOut(Some(there))) => {
                let there = TakenEntry(there, Verdict::Take { all_below: true });
                self.find_on_both_sides(visit, merged, TakenEntry(source, *verdict), there);
            }
            (LookedAt::Taken(source, verdict, _), LookedAt::Taken(there, below, _)) => {
                self.find_on_both_sides(
                    visit,
                    merged,
                    TakenEntry(source, *verdict),
                    TakenEntry(there, *below),
                );
            }
            // A killed move may have it in its exit folder.
            (LookedAt::Absent, LookedAt::Taken(..)) if visit.listed.lacks_some => {
                visit.node.keep_destination();
            }
            (LookedAt::Absent, LookedAt::Taken(there, verdict, _)) => {
                self.find_extra(visit, merged, there, *verdict);
            }
        }
    }

    fn scans_extra(&self) -> bool {
        self.context.terms.scope.extra == ExtraFolders::WithContents
    }

    /// True for the folder of the destination that utter itself changes during the run. It is left alone, with the
    /// source's entry in its place.
    fn leaves_out_own_destination(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>) -> bool {
        let (LookedAt::Taken(there, ..) | LookedAt::LeftOut(Some(there))) = &merged.destination
        else {
            return false;
        };
        let leaves = self.is_own(there);
        if leaves {
            visit.findings.notes.push(Note::OwnLeftOut(visit.listed.path.join(merged.name)));
            visit.node.keep_destination();
            if !matches!(merged.source, LookedAt::Absent) {
                visit.node.keep_source();
            }
        }
        leaves
    }

    /// True for a folder of the destination only where another drive is mounted, unless that was requested. It is
    /// left alone, with a note.
    fn leaves_out_drive(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>) -> bool {
        let there = match (&merged.source, &merged.destination) {
            (LookedAt::Taken(..), _) => None,
            (_, LookedAt::Taken(there, ..) | LookedAt::LeftOut(Some(there))) => Some(there),
            _ => None,
        };
        let leaves = self.context.terms.scope.drives != DriveCrossing::All
            && there.is_some_and(|there| visit.is_destination_mount(there));
        if leaves {
            visit.findings.notes.push(Note::DriveLeftAlone(visit.listed.path.join(merged.name)));
            visit.node.keep_destination();
        }
        leaves
    }

    fn find_new(
        &self,
        visit: &mut Visit<'_>,
        merged: &MergedEntry<'_>,
        source: &Stat,
        verdict: Verdict,
    ) {
        let there = match merged.destination {
            LookedAt::LeftOut(_) => OnSide::LeftOut,
            _ => OnSide::Absent,
        };
        let obstacle = merged.obstacle.clone().or_else(|| self.obstacle(visit, merged, source));
        let stops = matches!(obstacle, Some(Obstacle::SameName(_)));
        let is_free = there == OnSide::Absent && obstacle.is_none();
        let rename_path =
            if is_free { self.rename_path(visit, merged, source) } else { RenamePath::Impossible };
        let difference = visit.note(
            merged,
            (visit.source_state(source), there),
            DifferenceKind::New,
            Placement { obstacle, rename_path },
        );
        if source.kind == Kind::Folder {
            if !stops && rename_path != RenamePath::WholeTree {
                let below = FolderBelow::new(Presence::Source, verdict);
                // If the folder turns out not to take part, this is left out with it.
                let destination = match &merged.destination {
                    LookedAt::LeftOut(there) => there.as_ref(),
                    _ => None,
                };
                let (source, difference) = (Some(source), Some(difference));
                self.visit_below(
                    visit,
                    merged,
                    FolderBelow { source, destination, difference, ..below },
                );
            }
        } else if source.links > 1 {
            visit.note_linked(merged.name, source, None, Some(difference));
        }
    }

    fn find_on_both_sides(
        &self,
        visit: &mut Visit<'_>,
        merged: &MergedEntry<'_>,
        source: TakenEntry<'_>,
        there: TakenEntry<'_>,
    ) {
        let (TakenEntry(source, verdict), TakenEntry(there, below)) = (source, there);
        let compared = self.retry(|| self.compare_entries(visit, merged, source, there));
        let what = match compared {
            Ok(what) => what,
            Err(cause) => {
                visit.problem(merged.name, Operation::Compare, cause);
                visit.node.keep_destination();
                visit.node.keep_source();
                return;
            }
        };
        let are_folders = source.kind == Kind::Folder && there.kind == Kind::Folder;
        let path = || visit.listed.path_there.join(merged.name);
        let keeps = self
            .context
            .terms
            .keeps_both
            .filter(|_| what != DifferenceKind::Nothing && !are_folders);
        if keeps.is_some_and(|keeps| keeps(&path()))
            && self.find_beside(visit, merged, (source, verdict))
        {
            return;
        }
        let makes = !matches!(what, DifferenceKind::Nothing | DifferenceKind::Attributes(_));
        let mut obstacle = makes.then(|| self.obstacle(visit, merged, source)).flatten();
        if what == DifferenceKind::Kind
            && there.kind == Kind::Folder
            && visit.is_destination_mount(there)
        {
            obstacle = Some(Obstacle::Mount);
        }
        let is_mount = obstacle == Some(Obstacle::Mount);
        let sides = (visit.source_state(source), visit.destination_state(there));
        let agrees = what == DifferenceKind::Nothing;
        let told = if agrees { DifferenceKind::Same } else { what };
        let is_reported = !agrees || self.context.terms.scope.same == EqualEntries::Reported;
        let difference = is_reported.then(|| {
            visit.note(
                merged,
                sides,
                told,
                Placement { obstacle, rename_path: RenamePath::Impossible },
            )
        });
        let down = match (source.kind, there.kind) {
            (Kind::Folder, Kind::Folder) => {
                let below = FolderBelow::new(Presence::Both, verdict);
                Some(FolderBelow { source: Some(source), destination: Some(there), ..below })
            }
            (Kind::Folder, _) => {
                let (here, there) = (Some(source), Some(there));
                let below = FolderBelow::new(Presence::Source, verdict);
                Some(FolderBelow { source: here, destination: there, instead: there, ..below })
            }
            (_, Kind::Folder) if !is_mount => {
                // It is counted once its entries are known.
                let is_counted = !matches!(below, Verdict::IfNeeded { .. });
                visit.findings.tallies.destination.folders -= u64::from(is_counted);
                let below = FolderBelow::new(Presence::Destination, below);
                Some(FolderBelow { destination: Some(there), ..below })
            }
            _ => None,
        };
        if let Some(down) = down {
            self.visit_below(visit, merged, FolderBelow { difference, agrees, ..down });
        }
        if source.kind == Kind::Folder {
            return;
        }
        let same_kind = (source.kind == there.kind).then_some(there);
        if source.links > 1 || same_kind.is_some_and(|there| there.links > 1) {
            visit.note_linked(merged.name, source, same_kind, difference.filter(|_| !agrees));
        } else if agrees {
            let bytes = if source.kind == Kind::File { source.size } else { 0 };
            visit.findings.tallies.unchanged.add(bytes);
        }
    }

    /// Gives the source's entry another name beside the destination's, unless it has arrived under one already.
    /// False if no such name is free.
    fn find_beside(
        &self,
        visit: &mut Visit<'_>,
        merged: &MergedEntry<'_>,
        (source, verdict): (&Stat, Verdict),
    ) -> bool {
        for name in dated_names::names(merged.name, source.modified) {
            if visit.listed.sides.listings.0.has(&name) {
                continue;
            }
            let mut other = MergedEntry {
                name: &name,
                source_name: merged.source_name,
                source: LookedAt::Taken(*source, verdict, None),
                destination: LookedAt::Absent,
                obstacle: None,
                beside: true,
            };
            if !visit.listed.sides.listings.1.has(&name) {
                self.find_new(visit, &other, source, verdict);
                return true;
            }
            let Some(folder) = visit.listed.sides.destination.as_ref() else { return false };
            let system = self.context.system;
            let Ok(there) = system.stat(Entry::Named(folder.as_fd(), &name)) else { continue };
            other.destination = LookedAt::Taken(there, verdict, None);
            if source.kind == Kind::Folder && there.kind == Kind::Folder {
                // An interrupted move may have begun to fill it.
                self.find_on_both_sides(
                    visit,
                    &other,
                    TakenEntry(source, verdict),
                    TakenEntry(&there, verdict),
                );
                return true;
            }
            let compared = self.compare_entries(visit, &other, source, &there);
            if compared.is_ok_and(|what| what == DifferenceKind::Nothing) {
                let sides = (visit.source_state(source), visit.destination_state(&there));
                visit.note(&other, sides, DifferenceKind::Same, NOTHING_MORE);
                if source.links > 1 || there.links > 1 {
                    visit.note_linked(&name, source, Some(&there), None);
                }
                return true;
            }
        }
        false
    }

    fn find_extra(
        &self,
        visit: &mut Visit<'_>,
        merged: &MergedEntry<'_>,
        there: &Stat,
        verdict: Verdict,
    ) {
        let leftover =
            hidden_names::is_leftover(merged.name, there) || merged.name == self.marker_name;
        let whole = visit.node.begun.whole.or(leftover.then_some(WholeFolder::Leftover));
        let what = whole.map_or(DifferenceKind::Extra, WholeFolder::what);
        let difference = visit.note(
            merged,
            (OnSide::Absent, visit.destination_state(there)),
            what,
            NOTHING_MORE,
        );
        let goes_on = self.scans_extra() || whole.is_some();
        if there.kind == Kind::Folder && goes_on {
            let below = FolderBelow::new(Presence::Destination, verdict);
            let (destination, difference) = (Some(there), Some(difference));
            self.visit_below(
                visit,
                merged,
                FolderBelow { destination, whole, difference, ..below },
            );
        }
    }

    /// Records an entry of the destination that the selection leaves out, if that is reported.
    fn find_left_out(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>, there: &Stat) {
        let source = match merged.source {
            LookedAt::LeftOut(_) => OnSide::LeftOut,
            _ => OnSide::Absent,
        };
        let there_seen = visit.destination_state(there);
        let difference =
            visit.note(merged, (source, there_seen), DifferenceKind::LeftOut, NOTHING_MORE);
        if there.kind == Kind::Folder {
            let below = FolderBelow::new(Presence::Destination, Verdict::Take { all_below: true });
            let (destination, difference) = (Some(there), Some(difference));
            let whole = Some(WholeFolder::LeftOut);
            self.visit_below(
                visit,
                merged,
                FolderBelow { destination, whole, difference, ..below },
            );
        }
    }

    /// Why the destination's drive cannot hold an entry.
    fn obstacle(
        &self,
        visit: &Visit<'_>,
        merged: &MergedEntry<'_>,
        source: &Stat,
    ) -> Option<Obstacle> {
        let capabilities = visit.capabilities();
        if !capabilities.can_hold(source.kind) {
            return Some(Obstacle::Kind);
        }
        if let Some(objection) = capabilities.drive.names.objection(merged.name) {
            return Some(Obstacle::Name(objection));
        }
        match capabilities.drive.largest_file {
            Some(longest) if source.kind == Kind::File && source.size > longest => {
                return Some(Obstacle::Size(longest));
            }
            _ => {}
        }
        let system = self.context.system;
        let anchor = self.context.pair.destination.anchor.as_fd();
        let open = || visit.node.begun.drive.open(system, anchor);
        let takes = capabilities.takes_reference(source, |kind, size| {
            let Ok(folder) = open() else { return true };
            trial::takes_reference(system, folder.as_fd(), kind, size)
        });
        match source.kind {
            _ if takes => None,
            Kind::Symlink => Some(Obstacle::LinkText),
            _ => Some(Obstacle::DeviceNumber),
        }
    }

    fn visit_below(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>, down: FolderBelow<'_>) {
        let FolderBelow {
            presence,
            source,
            destination,
            verdict,
            whole,
            difference,
            instead,
            agrees,
        } = down;
        let (all_below, conditional) = match verdict {
            Verdict::Take { all_below } => (all_below, false),
            Verdict::IfNeeded { all_below } => (all_below, true),
            Verdict::Leave => return,
        };
        if source.is_some_and(|source| visit.is_source_mount(source)) {
            visit.findings.notes.push(Note::Mount(visit.listed.path.join(merged.source_name)));
        }
        let Some(drive) = self.drive_below(visit, merged.name, presence, destination) else {
            return;
        };
        let crosses = drive.id != visit.node.begun.drive.id;
        let instead = instead.map(|there| (there.kind, there.size));
        let node = OpenFolder::new(
            Some(visit.node),
            (merged.name, merged.source_name()),
            FolderStart {
                presence,
                all_below,
                conditional,
                whole,
                difference,
                agrees,
                drive,
                instead,
                rename_path: visit.rename_path_below(source, destination),
                sides: FolderSides {
                    source: source.copied(),
                    destination: destination.copied(),
                    unflushed: visit.listed.unflushed,
                    numbers: visit.listed.numbers,
                },
            },
        );
        // A mount point stays.
        if crosses {
            node.keep_destination();
        }
        if source.is_some_and(|source| visit.is_source_mount(source) || source.mounted) {
            node.keep_source();
        }
        visit.below.push(Arc::new(node));
    }

    /// The destination's drive that a folder lies on, or will lie on; `None`, with a problem, if it cannot be
    /// opened.
    fn drive_below(
        &self,
        visit: &mut Visit<'_>,
        name: &[u8],
        presence: Presence,
        destination: Option<&Stat>,
    ) -> Option<Arc<DriveBelow>> {
        let here = &visit.node.begun.drive;
        let there = destination
            .filter(|there| presence != Presence::Source && visit.is_destination_mount(there));
        let Some(there) = there else { return Some(Arc::clone(here)) };
        let context = self.context;
        let path = visit.listed.path_there.join(name);
        let anchor = context.pair.destination.anchor.as_fd();
        match context.system.open_folder(anchor, path.as_bytes()) {
            Ok(folder) => {
                let capabilities =
                    || (context.capabilities_of)(folder.as_fd(), there.identity.drive);
                let drive = context.drives.add(&path, there.identity, capabilities);
                visit.findings.notes.push(Note::DriveWrittenTo(path));
                Some(drive)
            }
            Err(error) => {
                visit.problem(name, Operation::ListDestination, error.into());
                visit.node.keep_destination();
                visit.node.keep_source();
                None
            }
        }
    }

    /// True if one side was found within the other.
    fn sides_overlap(&self, merged: &MergedEntry<'_>) -> bool {
        let pair = self.context.pair;
        let identity = |side: &LookedAt| side.taken().map(|(stat, _)| stat.identity);
        let (source, there) = (identity(&merged.source), identity(&merged.destination));
        if pair.single.is_some() {
            return there.is_some() && source == there;
        }
        source == Some(pair.destination.anchor_stat.identity)
            || there == Some(pair.source_stat.identity)
    }

    fn compare_entries(
        &self,
        visit: &Visit<'_>,
        merged: &MergedEntry<'_>,
        source: &Stat,
        there: &Stat,
    ) -> io::Result<DifferenceKind> {
        let (Some(from), Some(to)) = (&visit.listed.sides.source, &visit.listed.sides.destination)
        else {
            return Ok(DifferenceKind::Nothing);
        };
        let sides = BothEntries {
            source: (entry_of(merged.source.handle(), from, merged.source_name), source),
            destination: (entry_of(merged.destination.handle(), to, merged.name), there),
            unflushed: visit.listed.unflushed,
            attributes: self.context.terms.scope.attributes,
            at: (merged.name == merged.source_name && !visit.node.is_elsewhere)
                .then_some((&visit.listed.path, merged.name)),
        };
        entry::compare(self.context, visit.capabilities(), &sides)
    }

    /// Counts entries that surely take part. Folders that may not be needed are counted once that is known.
    fn tally(&self, visit: &mut Visit<'_>, merged: &MergedEntry<'_>) {
        let told = self.context.terms.scope.left_out == LeftOutEntries::Reported;
        let tallies = &mut visit.findings.tallies;
        let is_sure = |verdict: Verdict| !matches!(verdict, Verdict::IfNeeded { .. });
        if let Some((stat, _)) = merged.source.taken().filter(|(_, verdict)| is_sure(*verdict)) {
            tallies.source.count(stat.kind, stat.size);
            if stat.kind != Kind::Folder {
                tallies.newest = tallies.newest.max(Some(stat.modified));
            }
            visit.taken.0 = true;
        }
        match &merged.destination {
            LookedAt::Taken(there, verdict, _) if is_sure(*verdict) => {
                // An entry in the place of a folder that may not be needed is counted with that folder. A folder of
                // the destination only is counted once its entries are known.
                let is_folder = there.kind == Kind::Folder;
                let source = merged.source.taken();
                let depends = !is_folder && source.is_some_and(|(_, verdict)| !is_sure(verdict));
                let is_counted_later = source.is_none() && is_folder && self.scans_extra();
                if !depends && !is_counted_later {
                    visit.taken.1 = true;
                    tallies.destination.count(there.kind, there.size);
                }
            }
            LookedAt::LeftOut(Some(there)) if told => {
                visit.taken.1 = true;
                tallies.destination.count(there.kind, there.size);
            }
            _ => {}
        }
    }
}

/// An entry by its handle, if it is open, or else by its name.
fn entry_of<'a>(open: Option<&'a OwnedFd>, folder: &'a OwnedFd, name: &'a [u8]) -> Entry<'a> {
    open.map_or(Entry::Named(folder.as_fd(), name), |open| Entry::Open(open.as_fd()))
}

impl Visit<'_> {
    /// The capabilities for the drive of the destination's folder.
    fn capabilities(&self) -> &Capabilities {
        &self.node.begun.drive.capabilities
    }

    fn source_state(&self, source: &Stat) -> OnSide {
        OnSide::There(State::seen(source, self.listed.numbers.0))
    }

    fn destination_state(&self, there: &Stat) -> OnSide {
        let state = State::seen(there, self.listed.numbers.1);
        let tells = self.capabilities().drive.holds(Feature::ChangeTimes);
        OnSide::There(if tells { state } else { state.of_unknown_origin() })
    }

    fn note(
        &self,
        merged: &MergedEntry<'_>,
        (source, destination): (OnSide, OnSide),
        what: DifferenceKind,
        Placement { obstacle, rename_path }: Placement,
    ) -> usize {
        let obstacle = obstacle.map(Box::new);
        let own = NameRange::default();
        let source_name = None;
        let difference =
            Difference { name: own, source, destination, what, obstacle, rename_path, source_name };
        self.node.note_difference(merged.name, merged.source_name(), difference)
    }

    fn note_linked(
        &self,
        name: &[u8],
        source: &Stat,
        destination: Option<&Stat>,
        difference: Option<usize>,
    ) {
        let numbers = self.listed.numbers;
        let source = LinkedEntry::seen(source, numbers.0);
        let destination = destination.map(|there| LinkedEntry::seen(there, numbers.1));
        let linked = LinkedName { name: NameRange::default(), source, destination, difference };
        self.node.note_linked(name, linked);
    }

    /// Counts a file of the destination with a time in the future, unless the source's has the same time: two
    /// clocks disagree.
    fn count_future_time(&mut self, merged: &MergedEntry<'_>, now: Time) {
        let Some((there, _)) = merged.destination.taken() else { return };
        let same =
            merged.source.taken().is_some_and(|(source, _)| source.modified == there.modified);
        if there.kind == Kind::File && there.modified > now && !same {
            let (count, newest) = self.findings.tallies.ahead;
            self.findings.tallies.ahead = (count + 1, newest.max(there.modified));
        }
    }
}
