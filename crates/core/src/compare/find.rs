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
    Difference, LinkedEntry, LinkedName, Obstacle, OnSide, Presence, What,
};
use crate::compare::entry::{self, BothEntries};
use crate::compare::found::Halt;
use crate::compare::look::{LookedAt, MergedEntry};
use crate::compare::node::{FolderSides, FolderStart, OpenFolder, WholeFolder};
use crate::compare::visit::{Visit, Walk};
use crate::request::{DriveCrossing, EqualEntries, ExtraFolders, LeftOutEntries, RenamePath};

/// No obstacle, and no rename.
const NOTHING_MORE: Way = Way { obstacle: None, rename_path: RenamePath::Impossible };

/// How an entry can come to its place, and what prevents it.
struct Way {
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
    pub(super) fn find(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>) {
        if self.has_met_itself(met) {
            let at = visit.listed.path.join(met.name);
            visit.findings.halt = Some(Halt::Overlap(at));
            return;
        }
        if self.leaves_own(visit, met) || self.leaves_drive(visit, met) {
            return;
        }
        if matches!(met.source, LookedAt::LeftOut(_)) {
            visit.node.stays_here();
        }
        self.tally(visit, met);
        visit.note_ahead(met, self.context.terms.now);
        match (&met.source, &met.destination) {
            (LookedAt::Absent, LookedAt::Absent) => {}
            (LookedAt::Absent | LookedAt::LeftOut(_), LookedAt::LeftOut(None))
            | (LookedAt::LeftOut(_), LookedAt::Absent) => {
                visit.node.holds();
            }
            (LookedAt::Absent | LookedAt::LeftOut(_), LookedAt::LeftOut(Some(there))) => {
                self.find_left_out(visit, met, there);
            }
            // If the source's is left out, so is the destination's.
            (LookedAt::LeftOut(_), LookedAt::Taken(..)) => visit.node.holds(),
            (LookedAt::Taken(source, verdict, _), LookedAt::Absent | LookedAt::LeftOut(_)) => {
                self.find_new(visit, met, source, *verdict);
            }
            (LookedAt::Taken(source, verdict, _), LookedAt::Taken(there, below, _)) => {
                self.find_on_both_sides(
                    visit,
                    met,
                    TakenEntry(source, *verdict),
                    TakenEntry(there, *below),
                );
            }
            // A killed move may have it in its exit folder.
            (LookedAt::Absent, LookedAt::Taken(..)) if visit.listed.lacks_some => {
                visit.node.holds();
            }
            (LookedAt::Absent, LookedAt::Taken(there, verdict, _)) => {
                self.find_extra(visit, met, there, *verdict);
            }
        }
    }

    fn goes_below_extra(&self) -> bool {
        self.context.terms.scope.extra == ExtraFolders::WithContents
    }

    /// True for the folder of the destination that utter itself changes during the run. It is left alone, with the
    /// source's entry in its place.
    fn leaves_own(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>) -> bool {
        let (LookedAt::Taken(there, ..) | LookedAt::LeftOut(Some(there))) = &met.destination else {
            return false;
        };
        let leaves = self.is_own(there);
        if leaves {
            visit.findings.notes.push(Note::OwnLeftOut(visit.listed.path.join(met.name)));
            visit.node.holds();
            if !matches!(met.source, LookedAt::Absent) {
                visit.node.stays_here();
            }
        }
        leaves
    }

    /// True for a folder of the destination only where another drive is mounted, unless that was requested. It is
    /// left alone, with a note.
    fn leaves_drive(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>) -> bool {
        let there = match (&met.source, &met.destination) {
            (LookedAt::Taken(..), _) => None,
            (_, LookedAt::Taken(there, ..) | LookedAt::LeftOut(Some(there))) => Some(there),
            _ => None,
        };
        let leaves = self.context.terms.scope.drives != DriveCrossing::All
            && there.is_some_and(|there| visit.leaves_destination(there));
        if leaves {
            visit.findings.notes.push(Note::DriveLeftAlone(visit.listed.path.join(met.name)));
            visit.node.holds();
        }
        leaves
    }

    fn find_new(
        &self,
        visit: &mut Visit<'_>,
        met: &MergedEntry<'_>,
        source: &Stat,
        verdict: Verdict,
    ) {
        let there = match met.destination {
            LookedAt::LeftOut(_) => OnSide::LeftOut,
            _ => OnSide::Absent,
        };
        let obstacle = met.obstacle.clone().or_else(|| self.obstacle(visit, met, source));
        let stops = matches!(obstacle, Some(Obstacle::SameName(_)));
        let is_free = there == OnSide::Absent && obstacle.is_none();
        let rename_path =
            if is_free { self.rename_path(visit, met, source) } else { RenamePath::Impossible };
        let difference = visit.note(
            met,
            (visit.seen_here(source), there),
            What::New,
            Way { obstacle, rename_path },
        );
        if source.kind == Kind::Folder {
            if !stops && rename_path != RenamePath::WholeTree {
                let below = FolderBelow::new(Presence::Source, verdict);
                // If the folder turns out not to take part, this is left out with it.
                let destination = match &met.destination {
                    LookedAt::LeftOut(there) => there.as_ref(),
                    _ => None,
                };
                let (source, difference) = (Some(source), Some(difference));
                self.go_below(visit, met, FolderBelow { source, destination, difference, ..below });
            }
        } else if source.links > 1 {
            visit.note_linked(met.name, source, None, Some(difference));
        }
    }

    fn find_on_both_sides(
        &self,
        visit: &mut Visit<'_>,
        met: &MergedEntry<'_>,
        source: TakenEntry<'_>,
        there: TakenEntry<'_>,
    ) {
        let (TakenEntry(source, verdict), TakenEntry(there, below)) = (source, there);
        let compared = self.retry(|| self.compare_entries(visit, met, source, there));
        let what = match compared {
            Ok(what) => what,
            Err(cause) => {
                visit.problem(met.name, Operation::Compare, cause);
                visit.node.holds();
                visit.node.stays_here();
                return;
            }
        };
        let are_folders = source.kind == Kind::Folder && there.kind == Kind::Folder;
        let path = || visit.listed.path_there.join(met.name);
        let keeps = self.context.terms.keeps_both.filter(|_| what != What::Nothing && !are_folders);
        if keeps.is_some_and(|keeps| keeps(&path()))
            && self.find_beside(visit, met, (source, verdict))
        {
            return;
        }
        let makes = !matches!(what, What::Nothing | What::Aspects(_));
        let mut obstacle = makes.then(|| self.obstacle(visit, met, source)).flatten();
        if what == What::Kind && there.kind == Kind::Folder && visit.leaves_destination(there) {
            obstacle = Some(Obstacle::Mount);
        }
        let is_mount = obstacle == Some(Obstacle::Mount);
        let sides = (visit.seen_here(source), visit.seen_there(there));
        let agrees = what == What::Nothing;
        let told = if agrees { What::Same } else { what };
        let is_told = !agrees || self.context.terms.scope.same == EqualEntries::Told;
        let difference = is_told.then(|| {
            visit.note(met, sides, told, Way { obstacle, rename_path: RenamePath::Impossible })
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
                let below = FolderBelow::new(Presence::Destination, below);
                Some(FolderBelow { destination: Some(there), ..below })
            }
            _ => None,
        };
        if let Some(down) = down {
            self.go_below(visit, met, FolderBelow { difference, agrees, ..down });
        }
        if source.kind == Kind::Folder {
            return;
        }
        let same_kind = (source.kind == there.kind).then_some(there);
        if source.links > 1 || same_kind.is_some_and(|there| there.links > 1) {
            visit.note_linked(met.name, source, same_kind, difference.filter(|_| !agrees));
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
        met: &MergedEntry<'_>,
        (source, verdict): (&Stat, Verdict),
    ) -> bool {
        for name in dated_names::names(met.name, source.modified) {
            if visit.listed.sides.listings.0.has(&name) {
                continue;
            }
            let mut other = MergedEntry {
                name: &name,
                source_name: met.source_name,
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
            if compared.is_ok_and(|what| what == What::Nothing) {
                let sides = (visit.seen_here(source), visit.seen_there(&there));
                visit.note(&other, sides, What::Same, NOTHING_MORE);
                return true;
            }
        }
        false
    }

    fn find_extra(
        &self,
        visit: &mut Visit<'_>,
        met: &MergedEntry<'_>,
        there: &Stat,
        verdict: Verdict,
    ) {
        let leftover = hidden_names::is_leftover(met.name, there) || met.name == self.mark;
        let whole = visit.node.begun.whole.or(leftover.then_some(WholeFolder::Leftover));
        let what = whole.map_or(What::Extra, WholeFolder::what);
        let difference =
            visit.note(met, (OnSide::Absent, visit.seen_there(there)), what, NOTHING_MORE);
        let goes_on = self.goes_below_extra() || whole.is_some();
        if there.kind == Kind::Folder && goes_on {
            let below = FolderBelow::new(Presence::Destination, verdict);
            let (destination, difference) = (Some(there), Some(difference));
            self.go_below(visit, met, FolderBelow { destination, whole, difference, ..below });
        }
    }

    /// Records an entry of the destination that the selection leaves out, if that is reported.
    fn find_left_out(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>, there: &Stat) {
        let source = match met.source {
            LookedAt::LeftOut(_) => OnSide::LeftOut,
            _ => OnSide::Absent,
        };
        let there_seen = visit.seen_there(there);
        let difference = visit.note(met, (source, there_seen), What::LeftOut, NOTHING_MORE);
        if there.kind == Kind::Folder {
            let below = FolderBelow::new(Presence::Destination, Verdict::Take { all_below: true });
            let (destination, difference) = (Some(there), Some(difference));
            let whole = Some(WholeFolder::LeftOut);
            self.go_below(visit, met, FolderBelow { destination, whole, difference, ..below });
        }
    }

    /// Why the destination's drive cannot hold an entry.
    fn obstacle(
        &self,
        visit: &Visit<'_>,
        met: &MergedEntry<'_>,
        source: &Stat,
    ) -> Option<Obstacle> {
        let capabilities = visit.capabilities();
        if !capabilities.can_hold(source.kind) {
            return Some(Obstacle::Kind);
        }
        if let Some(objection) = capabilities.drive.names.objection(met.name) {
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

    fn go_below(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>, down: FolderBelow<'_>) {
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
        if source.is_some_and(|source| visit.leaves_source(source)) {
            visit.findings.notes.push(Note::Mount(visit.listed.path.join(met.source_name)));
        }
        let Some(drive) = self.drive_below(visit, met.name, presence, destination) else { return };
        let crosses = drive.id != visit.node.begun.drive.id;
        let instead = instead.map(|there| (there.kind, there.size));
        let node = OpenFolder::new(
            Some(visit.node),
            (met.name, met.source_name()),
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
            node.holds();
        }
        if source.is_some_and(|source| visit.leaves_source(source) || source.mounted) {
            node.stays_here();
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
            .filter(|there| presence != Presence::Source && visit.leaves_destination(there));
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
                visit.node.holds();
                visit.node.stays_here();
                None
            }
        }
    }

    /// True if one side was found within the other.
    fn has_met_itself(&self, met: &MergedEntry<'_>) -> bool {
        let pair = self.context.pair;
        let identity = |side: &LookedAt| side.taken().map(|(stat, _)| stat.identity);
        let (source, there) = (identity(&met.source), identity(&met.destination));
        if pair.single.is_some() {
            return there.is_some() && source == there;
        }
        source == Some(pair.destination.anchor_stat.identity)
            || there == Some(pair.source_stat.identity)
    }

    fn compare_entries(
        &self,
        visit: &Visit<'_>,
        met: &MergedEntry<'_>,
        source: &Stat,
        there: &Stat,
    ) -> io::Result<What> {
        let (Some(from), Some(to)) = (&visit.listed.sides.source, &visit.listed.sides.destination)
        else {
            return Ok(What::Nothing);
        };
        let sides = BothEntries {
            source: (reached(met.source.handle(), from, met.source_name), source),
            destination: (reached(met.destination.handle(), to, met.name), there),
            unflushed: visit.listed.unflushed,
            attributes: self.context.terms.scope.attributes,
            at: (met.name == met.source_name && !visit.node.is_elsewhere)
                .then_some((&visit.listed.path, met.name)),
        };
        entry::compare(self.context, visit.capabilities(), &sides)
    }

    /// Counts entries that surely take part. Folders that may not be needed are counted once that is known.
    fn tally(&self, visit: &mut Visit<'_>, met: &MergedEntry<'_>) {
        let told = self.context.terms.scope.left_out == LeftOutEntries::Told;
        let tallies = &mut visit.findings.tallies;
        let is_sure = |verdict: Verdict| !matches!(verdict, Verdict::IfNeeded { .. });
        if let Some((stat, _)) = met.source.taken().filter(|(_, verdict)| is_sure(*verdict)) {
            tallies.source.count(stat.kind, stat.size);
            if stat.kind != Kind::Folder {
                tallies.newest = tallies.newest.max(Some(stat.modified));
            }
            visit.taken.0 = true;
        }
        match &met.destination {
            LookedAt::Taken(there, verdict, _) if is_sure(*verdict) => {
                // An entry in the place of a folder that may not be needed is counted with that folder. A folder of
                // the destination only is counted once its entries are known.
                let is_folder = there.kind == Kind::Folder;
                let source = met.source.taken();
                let depends = !is_folder && source.is_some_and(|(_, verdict)| !is_sure(verdict));
                let is_counted_later = source.is_none() && is_folder && self.goes_below_extra();
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
fn reached<'a>(open: Option<&'a OwnedFd>, folder: &'a OwnedFd, name: &'a [u8]) -> Entry<'a> {
    open.map_or(Entry::Named(folder.as_fd(), name), |open| Entry::Open(open.as_fd()))
}

impl Visit<'_> {
    /// The capabilities for the drive of the destination's folder.
    fn capabilities(&self) -> &Capabilities {
        &self.node.begun.drive.capabilities
    }

    fn seen_here(&self, source: &Stat) -> OnSide {
        OnSide::There(State::seen(source, self.listed.numbers.0))
    }

    fn seen_there(&self, there: &Stat) -> OnSide {
        let state = State::seen(there, self.listed.numbers.1);
        let tells = self.capabilities().drive.holds(Feature::ChangeTimes);
        OnSide::There(if tells { state } else { state.of_unknown_origin() })
    }

    fn note(
        &self,
        met: &MergedEntry<'_>,
        (source, destination): (OnSide, OnSide),
        what: What,
        Way { obstacle, rename_path }: Way,
    ) -> usize {
        let obstacle = obstacle.map(Box::new);
        let own = NameRange::default();
        let source_name = None;
        let difference =
            Difference { name: own, source, destination, what, obstacle, rename_path, source_name };
        self.node.note_difference(met.name, met.source_name(), difference)
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
    fn note_ahead(&mut self, met: &MergedEntry<'_>, now: Time) {
        let Some((there, _)) = met.destination.taken() else { return };
        let same = met.source.taken().is_some_and(|(source, _)| source.modified == there.modified);
        if there.kind == Kind::File && there.modified > now && !same {
            let (count, newest) = self.findings.tallies.ahead;
            self.findings.tallies.ahead = (count + 1, newest.max(there.modified));
        }
    }
}
