//! Reading the attributes of a name on both sides, if the selection takes it.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_files::hidden_names;
use utter_echo_files::listing::{KindHint, MergedName};
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_os::{Entry, Kind, Stat};
use utter_echo_select::{CountedSide, Metadata, Query, Verdict};

use crate::compare::difference::Obstacle;
use crate::compare::node::{OpenFolder, WholeFolder};
use crate::compare::visit::{Visit, Walk};
use crate::request::{HiddenAttributes, LeftOutEntries};

/// A name on one side.
#[derive(Debug)]
pub(super) enum LookedAt {
    Absent,
    /// The selection leaves it out. Its attributes are known only if it is reported.
    LeftOut(Option<Stat>),
    /// It takes part; with its handle, if it was opened.
    Taken(Stat, Verdict, Option<OwnedFd>),
}

impl LookedAt {
    pub(super) fn taken(&self) -> Option<(&Stat, Verdict)> {
        match self {
            Self::Taken(stat, verdict, _) => Some((stat, *verdict)),
            Self::Absent | Self::LeftOut(_) => None,
        }
    }

    pub(super) fn handle(&self) -> Option<&OwnedFd> {
        match self {
            Self::Taken(_, _, handle) => handle.as_ref(),
            Self::Absent | Self::LeftOut(_) => None,
        }
    }
}

/// What is known of a name in the destination before it is read.
struct NameHint {
    hint: KindHint,
    opens: bool,
    counted: Option<CountedSide>,
}

/// An entry on both sides during a visit.
pub(super) struct MergedEntry<'a> {
    /// Its name in the destination.
    pub(super) name: &'a [u8],
    /// Its name in the source.
    pub(super) source_name: &'a [u8],
    pub(super) source: LookedAt,
    pub(super) destination: LookedAt,
    /// Why the destination's drive cannot hold it under its name.
    pub(super) obstacle: Option<Obstacle>,
    /// It gets another name than in the source, and is not a single entry.
    pub(super) beside: bool,
}

impl MergedEntry<'_> {
    /// The source's name, if that differs.
    pub(super) fn source_name(&self) -> Option<&[u8]> {
        self.beside.then_some(self.source_name)
    }
}

/// A name in an open folder of one side.
struct Lookup<'a> {
    folder: BorrowedFd<'a>,
    name: &'a [u8],
    /// Its kind, if the listing showed it.
    hint: KindHint,
    /// Whether to open it, if it is taken.
    opens: bool,
    /// The side to count it for; `None` for the counterpart of a source entry, which is decided by path and kind
    /// only.
    counted: Option<CountedSide>,
}

impl Walk<'_, '_> {
    /// Reads a name on both sides. `None` if it takes no part in this run.
    pub(super) fn look<'n>(
        &'n self,
        visit: &mut Visit<'_>,
        joined: &MergedName<'n>,
    ) -> Option<MergedEntry<'n>> {
        if self.is_no_part(visit, joined) {
            return None;
        }
        let single = self.context.pair.single.as_ref().filter(|_| visit.node.is_root());
        let name = single.map_or(joined.name, |single| &*single.destination);
        // Empty if no pattern needs it.
        let path = if self.context.terms.selection.looks_at_paths() {
            visit.listed.path.join(name)
        } else {
            TreePath::default()
        };
        let are_files = [joined.source, joined.destination]
            .into_iter()
            .all(|side| side.is_some_and(|KindHint(kind)| kind == Some(Kind::File)));
        let opens = are_files && self.context.terms.scope.attributes == HiddenAttributes::Always;
        let mut merged = MergedEntry {
            name,
            source_name: joined.name,
            source: LookedAt::Absent,
            destination: LookedAt::Absent,
            obstacle: None,
            beside: false,
        };
        if let Some(hint) = joined.source {
            self.look_here(visit, &path, (hint, opens), &mut merged)?;
        }
        if let Some(hint) = joined.destination.filter(|_| merged.obstacle.is_none()) {
            let counted = joined.source.is_none().then_some(CountedSide::DestinationAlone);
            self.look_there(visit, &path, NameHint { hint, opens, counted }, &mut merged)?;
        }
        Some(merged)
    }

    /// True for entries that belong to utter or to the drive itself.
    fn is_no_part(&self, visit: &mut Visit<'_>, joined: &MergedName<'_>) -> bool {
        // A quick test, since this is asked for every name.
        let may_be = hidden_names::begins_as_one(joined.name);
        if !may_be && !visit.listed.of_the_drive.contains(&joined.name) {
            return false;
        }
        let in_a_tree = visit.listed.sides.source.is_some();
        let is_marker = joined.name == self.marker_name;
        if is_marker && joined.source.is_some() {
            visit.findings.notes.push(Note::UnfinishedSource(visit.listed.path.clone()));
        }
        let is_exit = joined.name == self.exit_name;
        if is_exit || is_marker && in_a_tree || visit.listed.of_the_drive.contains(&joined.name) {
            visit.node.keep_destination();
            if joined.source.is_some() {
                visit.node.keep_source();
            }
            return true;
        }
        false
    }

    /// Reads the source's entry. `None` if that fails.
    fn look_here(
        &self,
        visit: &mut Visit<'_>,
        path: &TreePath,
        (hint, opens): (KindHint, bool),
        merged: &mut MergedEntry<'_>,
    ) -> Option<()> {
        let folder = visit.listed.sides.source.as_ref()?.as_fd();
        let counted = Some(CountedSide::Source);
        let place = Lookup { folder, name: merged.source_name, hint, opens, counted };
        let look = |side: &mut LookedAt| self.look_at(visit.node, path, &place, side);
        match self.retry_look(&mut merged.source, look) {
            Ok(()) => {}
            // It is gone since it was listed; nothing is concluded from that in this run.
            Err(cause) if cause.is_absence() => return unknown(visit),
            Err(cause) => {
                visit.problem(merged.name, Operation::LookAtSource, cause);
                return unknown(visit);
            }
        }
        if let (Some(interrupted), LookedAt::Taken(stat, ..)) =
            (self.context.terms.interrupted, &mut merged.source)
            && stat.kind == Kind::Folder
        {
            interrupted.correct(&visit.listed.path.join(merged.source_name), stat);
        }
        if let Some((stat, _)) = merged.source.taken() {
            if self.leaves_out_own_source(visit, merged.name, stat)
                || self.leaves_out_mount(visit, merged.name, stat)
            {
                merged.source = LookedAt::LeftOut(None);
            } else if let Some(first) = self.name_taken_by(visit, merged.name) {
                merged.obstacle = Some(Obstacle::SameName(first));
            }
        }
        Some(())
    }

    /// Reads the destination's entry. `None` if that fails.
    fn look_there(
        &self,
        visit: &mut Visit<'_>,
        path: &TreePath,
        NameHint { hint, opens, counted }: NameHint,
        merged: &mut MergedEntry<'_>,
    ) -> Option<()> {
        let folder = visit.listed.sides.destination.as_ref()?.as_fd();
        let place = Lookup { folder, name: merged.name, hint, opens, counted };
        let (source, node) = (&merged.source, visit.node);
        let look = |side: &mut LookedAt| self.look_at_destination(node, path, &place, source, side);
        match self.retry_look(&mut merged.destination, look) {
            Err(cause) if !cause.is_absence() => {
                visit.problem(merged.name, Operation::LookAtDestination, cause);
                unknown(visit)
            }
            _ => Some(()),
        }
    }

    /// Reads an entry, with retries after temporary errors. The result is written in place, since it is large.
    fn retry_look(
        &self,
        side: &mut LookedAt,
        look: impl Fn(&mut LookedAt) -> io::Result<()>,
    ) -> Result<(), Cause> {
        let Err(error) = look(side) else { return Ok(()) };
        *side = self.try_again(error, || {
            let mut side = LookedAt::Absent;
            look(&mut side).map(|()| side)
        })?;
        Ok(())
    }

    /// If the source's entry is left out, the destination's is left out with it, whatever its size, time or kind,
    /// which may only be out of date.
    fn look_at_destination(
        &self,
        node: &OpenFolder,
        path: &TreePath,
        place: &Lookup<'_>,
        source: &LookedAt,
        side: &mut LookedAt,
    ) -> io::Result<()> {
        match source {
            LookedAt::LeftOut(_) => *side = LookedAt::LeftOut(None),
            LookedAt::Absent | LookedAt::Taken(..) => self.look_at(node, path, place, side)?,
        }
        if self.context.terms.scope.left_out == LeftOutEntries::Reported
            && matches!(side, LookedAt::LeftOut(None))
        {
            let stat = self.context.system.stat(Entry::Named(place.folder, place.name))?;
            *side = LookedAt::LeftOut(Some(stat));
        }
        Ok(())
    }

    fn look_at(
        &self,
        node: &OpenFolder,
        path: &TreePath,
        place: &Lookup<'_>,
        side: &mut LookedAt,
    ) -> io::Result<()> {
        let system = self.context.system;
        let named = Entry::Named(place.folder, place.name);
        if let Some(whole) = node.begun.whole {
            let stat = system.stat(named)?;
            *side = match whole {
                WholeFolder::Leftover => {
                    LookedAt::Taken(stat, Verdict::Take { all_below: true }, None)
                }
                WholeFolder::LeftOut => LookedAt::LeftOut(Some(stat)),
            };
            return Ok(());
        }
        let selection = self.context.terms.selection;
        let asked = |kind| Query {
            path: path.as_bytes(),
            kind,
            depth: node.depth + 1,
            all_below: node.begun.all_below,
        };
        let count = |rule, taken| {
            if let (Some(rule), Some(side)) = (rule, place.counted) {
                self.context.counts.add(rule, side, taken);
            }
        };
        // The kind from the listing may be enough.
        if let Some(kind) = place.hint.0
            && let (Verdict::Leave, rule) = selection.judge(&asked(kind), None)?
        {
            count(rule, false);
            *side = LookedAt::LeftOut(None);
            return Ok(());
        }
        // Reading attributes by handle is cheaper than by name. A file that may not be opened is a problem only if
        // it must be read.
        let open = place.opens.then(|| system.open_file(place.folder, place.name));
        let open = open.and_then(Result::ok);
        let stat = system.stat(open.as_ref().map_or(named, |o| Entry::Open(o.as_fd())))?;
        let is_cache = || selection.is_cache(system, place.folder, place.name);
        let nature = Metadata { stat: &stat, is_cache: &is_cache };
        // The attributes of a counterpart do not matter, since the source's entry was taken.
        let nature = place.counted.is_some().then_some(nature);
        let (verdict, rule) = selection.judge(&asked(stat.kind), nature)?;
        count(rule, verdict != Verdict::Leave);
        *side = match verdict {
            Verdict::Leave => LookedAt::LeftOut(None),
            _ => LookedAt::Taken(stat, verdict, open),
        };
        Ok(())
    }

    /// Leaves out the folder of the source that utter itself changes during the run.
    fn leaves_out_own_source(&self, visit: &mut Visit<'_>, name: &[u8], source: &Stat) -> bool {
        let is_own = self.is_own(source);
        if is_own {
            visit.findings.notes.push(Note::OwnLeftOut(visit.listed.path.join(name)));
        }
        is_own
    }

    pub(super) fn is_own(&self, stat: &Stat) -> bool {
        let own = self.context.terms.own.filter(|_| stat.kind == Kind::Folder);
        own.is_some_and(|own| own.identity == stat.identity)
    }

    /// Leaves out a drive mounted in the source, if that was requested, with a note.
    fn leaves_out_mount(&self, visit: &mut Visit<'_>, name: &[u8], source: &Stat) -> bool {
        let leaves =
            self.context.terms.selection.stays_on_its_drive() && visit.is_source_mount(source);
        if leaves {
            visit.findings.notes.push(Note::MountLeftOut(visit.listed.path.join(name)));
        }
        leaves
    }

    /// The earlier name that the destination's drive takes for this one, if it takes part.
    fn name_taken_by(&self, visit: &Visit<'_>, name: &[u8]) -> Option<Vec<u8>> {
        let first = visit.listed.same_there.get(name)?;
        let path = visit.listed.path.join(first);
        let node = visit.node;
        let asked = Query {
            path: path.as_bytes(),
            kind: Kind::File,
            depth: node.depth + 1,
            all_below: node.begun.all_below,
        };
        match self.context.terms.selection.judge(&asked, None) {
            Ok((Verdict::Leave, _)) => None,
            _ => Some(first.clone()),
        }
    }
}

impl Visit<'_> {
    /// True for a folder of the source where a drive or subvolume is mounted.
    pub(super) fn is_source_mount(&self, stat: &Stat) -> bool {
        let above = self.node.begun.sides.source.as_ref();
        is_border(stat, above.map(|above| above.identity.drive))
    }

    /// The same for the destination.
    pub(super) fn is_destination_mount(&self, stat: &Stat) -> bool {
        is_border(stat, Some(self.node.begun.drive.identity.drive))
    }
}

fn is_border(stat: &Stat, above: Option<u64>) -> bool {
    let elsewhere = above.is_some_and(|drive| drive != stat.identity.drive);
    stat.kind == Kind::Folder && (stat.mounted || elsewhere)
}

/// Nothing is concluded from a name that could not be read.
fn unknown<T>(visit: &Visit<'_>) -> Option<T> {
    visit.node.keep_destination();
    visit.node.keep_source();
    None
}
