//! Going through both trees, folder by folder, with all workers.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use crate::abilities::Folding;
use crate::aspect::Aspect;
use crate::os::{Entry, Kind, Stat};
use crate::path::TreePath;
use crate::patience::Patience;
use crate::plan::{Count, Reason, Remark, State, Step, Tally, Verb};
use crate::pool::{self, Stack};
use crate::problem::{Cause, Operation, Problem};
use crate::request::Task;
use crate::select::Verdict;
use crate::temporary;
use crate::tree::{self, Hint, Joined, Listing};

use super::links::Linked;
use super::node::{Closed, Node, Presence};
use super::{Comparison, Halt, entry, step};

/// What tasks find, beyond the steps that their nodes hold.
#[derive(Debug, Default)]
pub(super) struct Findings {
    pub(super) problems: Vec<Problem>,
    pub(super) remarks: Vec<Remark>,
    pub(super) tallies: Tallies,
    pub(super) linked: Vec<Linked>,
    pub(super) closed: Vec<Closed>,
    pub(super) halt: Option<Halt>,
}

#[derive(Debug, Default, Clone, Copy)]
pub(super) struct Tallies {
    pub(super) source: Tally,
    pub(super) destination: Tally,
    pub(super) unchanged: Count,
}

/// Goes through both trees from their roots.
pub(super) fn go(context: &Comparison<'_>) -> Findings {
    let pair = context.pair;
    let walk = Walk {
        context,
        patience: Patience::new(context.running.retries),
        mark: temporary::name_of_mark(),
        findings: Mutex::default(),
        halted: AtomicBool::new(false),
    };
    let presence = if pair.destination.exists() { Presence::Both } else { Presence::Source };
    let source = pair.single.is_none().then(|| State::from(&pair.source_stat));
    let all_below = context.selection.takes_all_below(b"", false);
    let drive = pair.source_stat.identity.drive;
    let root = Arc::new(Node::root(presence, source, drive, all_below));
    pool::run(context.running.workers, vec![Work::Folder(root)], |work, stack| {
        walk.work(work, stack);
    });
    walk.findings.into_inner().unwrap_or_else(PoisonError::into_inner)
}

struct Walk<'a> {
    context: &'a Comparison<'a>,
    patience: Patience,
    /// Neither an entry nor a leftover.
    mark: Vec<u8>,
    findings: Mutex<Findings>,
    /// The findings hold a halt; asked for every folder, so without their lock.
    halted: AtomicBool,
}

/// What a worker takes on at a time.
enum Work {
    /// A folder, to be listed.
    Folder(Arc<Node>),
    /// Some entries of a wide folder that was listed.
    Stretch(Arc<Listed>, tree::Stretch),
}

/// Entries gone through at a time, on the side that has more: so a folder of a million keeps all
/// workers busy.
const STRETCH: usize = 8192;

/// A folder with both sides open and listed; an absent side is empty.
struct Listed {
    node: Arc<Node>,
    path: TreePath,
    source: Option<OwnedFd>,
    destination: Option<OwnedFd>,
    listings: (Listing, Listing),
    /// Names of the source that the destination's drive takes for another, and that one.
    fallen: HashMap<Vec<u8>, Vec<u8>>,
}

/// Some entries of a folder while they are gone through.
struct Visit<'a> {
    node: &'a Arc<Node>,
    listed: &'a Listed,
    /// Folders found, to be visited next.
    below: Vec<Arc<Node>>,
    /// Something takes part, on the source's and on the destination's side.
    taken: (bool, bool),
    findings: Findings,
}

/// What a side shows of a name, if it takes part, and its handle, if it was opened.
type Looked = (Option<(Stat, Verdict)>, Option<OwnedFd>);

/// An entry's place on both sides of a visit.
struct Seen<'a> {
    /// Its name in the destination.
    name: &'a [u8],
    /// The same but for a single file that gets a new name.
    source_name: &'a [u8],
    /// Empty if no pattern asks for it.
    path: TreePath,
    source: Option<(Stat, Verdict)>,
    destination: Option<(Stat, Verdict)>,
    /// Both sides opened, where more than their stat will be needed.
    open: (Option<OwnedFd>, Option<OwnedFd>),
    /// The destination has it, but the selection leaves it out.
    hidden: bool,
}

impl Walk<'_> {
    fn work(&self, work: Work, stack: &Stack<Work>) {
        match work {
            Work::Folder(node) => self.open(&node, stack),
            Work::Stretch(listed, stretch) => self.visit(&listed, stretch, stack),
        }
    }

    /// Lists a folder, and goes through it or has it gone through.
    fn open(&self, node: &Arc<Node>, stack: &Stack<Work>) {
        let mut findings = Findings::default();
        let listed = if self.must_halt() { None } else { self.list_both(node, &mut findings) };
        let Some(listed) = listed else {
            self.keep(findings);
            node.keep_all();
            self.settle(node);
            return;
        };
        let (source, destination) = &listed.listings;
        self.context.observer.scanned((source.len() + destination.len()) as u64);
        let mut stretches = tree::cut(source, destination, STRETCH);
        let first = stretches.swap_remove(0);
        node.expect(stretches.len());
        let listed = Arc::new(listed);
        stack.push(stretches.into_iter().map(|rest| Work::Stretch(Arc::clone(&listed), rest)));
        self.visit(&listed, first, stack);
    }

    fn visit(&self, listed: &Listed, stretch: tree::Stretch, stack: &Stack<Work>) {
        let node = &listed.node;
        let (below, taken) = (Vec::new(), (false, false));
        let mut visit = Visit { node, listed, below, taken, findings: Findings::default() };
        if !self.must_halt() {
            for joined in tree::join(&listed.listings.0, &listed.listings.1, stretch) {
                if let Some(seen) = self.see(&mut visit, &joined) {
                    self.weigh(&mut visit, &seen);
                }
            }
        }
        let Visit { below, taken, findings, .. } = visit;
        node.note_taken(taken);
        node.expect(below.len());
        self.keep(findings);
        stack.push(below.into_iter().map(Work::Folder));
        self.settle(node);
    }

    fn must_halt(&self) -> bool {
        self.halted.load(Ordering::Relaxed) || self.context.observer.stop_requested()
    }

    fn keep(&self, mut new: Findings) {
        let mut all = self.findings.lock().unwrap_or_else(PoisonError::into_inner);
        all.problems.append(&mut new.problems);
        all.remarks.append(&mut new.remarks);
        all.linked.append(&mut new.linked);
        all.tallies.source.merge(&new.tallies.source);
        all.tallies.destination.merge(&new.tallies.destination);
        all.tallies.unchanged.entries += new.tallies.unchanged.entries;
        all.tallies.unchanged.bytes += new.tallies.unchanged.bytes;
        if new.halt.is_some() {
            self.halted.store(true, Ordering::Relaxed);
        }
        all.halt = all.halt.take().or(new.halt);
    }

    /// Ends this folder if nothing below it is left, and then, in turn, those above.
    fn settle(&self, node: &Arc<Node>) {
        let mut at = Some(Arc::clone(node));
        while let Some(node) = at.take_if(|node| node.one_less()) {
            let mut findings = self.findings.lock().unwrap_or_else(PoisonError::into_inner);
            let Findings { closed, tallies, problems, .. } = &mut *findings;
            node.close(self.context.task, closed, tallies, problems);
            at = node.above();
        }
    }

    /// Opens and lists both sides. `None` if one cannot be had: nothing may then be concluded from
    /// what the other lacks.
    fn list_both(&self, node: &Arc<Node>, findings: &mut Findings) -> Option<Listed> {
        let pair = self.context.pair;
        let mut listed = Listed {
            node: Arc::clone(node),
            path: node.path(),
            source: None,
            destination: None,
            listings: (Listing::default(), Listing::default()),
            fallen: HashMap::new(),
        };
        if node.presence != Presence::Destination {
            match self.list(pair.source.as_fd(), &listed.path) {
                Ok((handle, listing)) => {
                    listed.source = Some(handle);
                    listed.listings.0 = listing;
                }
                Err(cause) if node.is_root() => {
                    findings.halt = Some(Halt::SourceClosed(cause));
                    return None;
                }
                Err(cause) => {
                    findings.problem(listed.path, Operation::ListSource, cause);
                    return None;
                }
            }
        }
        if node.presence != Presence::Source {
            match self.list(pair.destination.anchor.as_fd(), &listed.path) {
                Ok((handle, listing)) => {
                    listed.destination = Some(handle);
                    listed.listings.1 = listing;
                }
                Err(cause) => {
                    findings.problem(listed.path, Operation::ListDestination, cause);
                    return None;
                }
            }
        }
        let names = &self.context.reach.drive.names;
        if names.folding != Folding::Never && pair.single.is_none() {
            let (source, destination) = &mut listed.listings;
            match tree::fold_together(names, source, destination) {
                Ok(fallen) => listed.fallen = fallen,
                Err(cause) => {
                    findings.problem(listed.path, Operation::ListDestination, cause.into());
                    return None;
                }
            }
        }
        Some(listed)
    }

    fn list(&self, root: BorrowedFd<'_>, path: &TreePath) -> Result<(OwnedFd, Listing), Cause> {
        let list = || -> Result<_, Cause> {
            let handle = self.context.system.open_folder(root, path.as_bytes())?;
            let listing = match &self.context.pair.single {
                // Both sides by the source's name: they are one entry.
                Some(single) => Listing::single(&single.source)?,
                None => Listing::read(self.context.system, handle.as_fd())?,
            };
            Ok((handle, listing))
        };
        self.patience.try_hard(self.context.observer, |cause| cause, list)
    }

    /// Looks at one name on both sides, as far as the selection takes it. `None` if it plays no
    /// part in this run.
    fn see<'n>(&'n self, visit: &mut Visit<'_>, joined: &Joined<'n>) -> Option<Seen<'n>> {
        if visit.node.is_root() && joined.name == self.mark {
            return None;
        }
        let single = self.context.pair.single.as_ref();
        let name = single.map_or(joined.name, |single| &*single.destination);
        let mut seen = Seen {
            name,
            source_name: joined.name,
            path: if self.context.selection.looks_at_paths() {
                visit.listed.path.join(name)
            } else {
                TreePath::default()
            },
            source: None,
            destination: None,
            open: (None, None),
            hidden: false,
        };
        let are_files = [joined.source, joined.destination]
            .into_iter()
            .all(|side| side.is_some_and(|Hint(kind)| kind == Some(Kind::File)));
        let opens = are_files && self.context.distrusts();
        if let Some(kind) = joined.source {
            let handle = visit.listed.source.as_ref()?.as_fd();
            match self.see_side(visit.node, &seen, handle, joined.name, kind, opens) {
                Ok(found) => (seen.source, seen.open.0) = found,
                // Gone since it was listed: nothing may be concluded from that in this run.
                Err(e) if e.kind() == io::ErrorKind::NotFound => return self.protect(visit),
                Err(e) => {
                    visit.problem(name, Operation::LookAtSource, e.into());
                    return self.protect(visit);
                }
            }
        }
        if let Some((source, _)) = &seen.source
            && (self.leaves_mount(visit, name, source) || self.falls_together(visit, name))
        {
            return self.protect(visit);
        }
        if let Some(kind) = joined.destination {
            let handle = visit.listed.destination.as_ref()?.as_fd();
            match self.see_side(visit.node, &seen, handle, name, kind, opens) {
                Ok((found, open)) => {
                    seen.hidden = found.is_none();
                    (seen.destination, seen.open.1) = (found, open);
                }
                Err(e) if e.kind() == io::ErrorKind::NotFound => {}
                Err(e) => {
                    visit.problem(name, Operation::LookAtDestination, e.into());
                    return self.protect(visit);
                }
            }
        }
        Some(seen)
    }

    /// A drive mounted in the source is left out if that was asked for, and never passed over in
    /// silence.
    fn leaves_mount(&self, visit: &mut Visit<'_>, name: &[u8], source: &Stat) -> bool {
        let leaves = self.context.selection.stays_on_its_drive() && is_border(visit.node, source);
        if leaves {
            visit.findings.remarks.push(Remark::MountLeftOut(visit.listed.path.join(name)));
        }
        leaves
    }

    /// True, and a problem, if the destination's drive takes this name for one that came before.
    fn falls_together(&self, visit: &mut Visit<'_>, name: &[u8]) -> bool {
        let Some(first) = visit.listed.fallen.get(name) else { return false };
        let path = visit.listed.path.join(first);
        let node = visit.node;
        let decided =
            self.context.selection.decide(path.as_bytes(), false, node.depth + 1, node.all_below);
        if decided == Verdict::Leave {
            return false;
        }
        visit.problem(name, Operation::Write, Cause::SameNameThere(first.clone()));
        true
    }

    #[allow(clippy::unused_self, reason = "reads as a step of the walk")]
    fn protect<T>(&self, visit: &Visit<'_>) -> Option<T> {
        visit.node.keep_all();
        None
    }

    fn see_side(
        &self,
        node: &Node,
        seen: &Seen<'_>,
        folder: BorrowedFd<'_>,
        name: &[u8],
        Hint(kind): Hint,
        opens: bool,
    ) -> io::Result<Looked> {
        let system = self.context.system;
        let decide = |kind| {
            let folder = kind == Kind::Folder;
            self.context.selection.decide(
                seen.path.as_bytes(),
                folder,
                node.depth + 1,
                node.all_below,
            )
        };
        let early = kind.map(decide);
        if early == Some(Verdict::Leave) {
            return Ok((None, None));
        }
        // By its handle a file is looked at for less than by its name. One that may not be opened
        // is a problem only if it must be read.
        let open = opens.then(|| system.open_file(folder, name)).and_then(Result::ok);
        let entry = open.as_ref().map_or(Entry::Named(folder, name), |o| Entry::Open(o.as_fd()));
        let stat = system.stat(entry)?;
        let verdict = early.unwrap_or_else(|| decide(stat.kind));
        Ok(((verdict != Verdict::Leave).then_some((stat, verdict)), open))
    }

    /// Turns what was seen of one name into a step, a problem, a folder to visit, or nothing.
    fn weigh(&self, visit: &mut Visit<'_>, seen: &Seen<'_>) {
        self.watch_borders(visit, seen);
        visit.tally(seen);
        match (&seen.source, &seen.destination) {
            (None, None) => {
                if seen.hidden {
                    visit.node.keep_all();
                }
            }
            (Some(_), None) if seen.hidden => {
                visit.problem(seen.name, Operation::Write, Cause::LeftOutInTheWay);
                visit.node.keep_all();
            }
            (Some((source, verdict)), None) => self.weigh_new(visit, seen, source, *verdict),
            (Some((source, verdict)), Some((destination, below))) => {
                self.weigh_both(visit, seen, (source, *verdict), (destination, *below));
            }
            (None, Some((destination, verdict))) => {
                self.weigh_extra(visit, seen, destination, *verdict);
            }
        }
    }

    fn weigh_new(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, source: &Stat, verdict: Verdict) {
        if !self.context.reach.carry.has(Aspect::Content) {
            return;
        }
        if self.cannot_hold(visit, seen, source) {
            return;
        }
        self.context.reach.foresee(source);
        let add = step(Verb::Add, Reason::New, Some(source), None);
        let slot = visit.node.add(seen.name, add);
        match source.kind {
            Kind::Folder => {
                self.go_below(visit, seen, Presence::Source, Some(slot), verdict, false);
            }
            Kind::File => self.weigh_file(visit, seen, source, None, Some(slot)),
            _ => {}
        }
    }

    fn weigh_both(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        (source, verdict): (&Stat, Verdict),
        (destination, destination_verdict): (&Stat, Verdict),
    ) {
        let planned = match self.compare_entries(visit, seen, source, destination) {
            Ok(planned) => planned,
            Err(cause) => {
                visit.problem(seen.name, Operation::Compare, cause.into());
                visit.node.keep_all();
                return;
            }
        };
        let replaced = planned.is_some_and(|step| step.verb == Verb::Replace);
        if replaced && self.cannot_hold(visit, seen, source) {
            // Left out, it is not there: what was there before is no longer the source's.
            if source.kind != destination.kind && !self.context.reach.can_hold(source.kind) {
                self.weigh_extra(visit, seen, destination, destination_verdict);
            } else {
                visit.node.keep_all();
            }
            return;
        }
        if replaced {
            self.context.reach.foresee(source);
        }
        let slot = planned.map(|step| visit.node.add(seen.name, step));
        match (source.kind, destination.kind) {
            (Kind::Folder, Kind::Folder) => {
                self.go_below(visit, seen, Presence::Both, slot, verdict, false);
            }
            (Kind::Folder, _) if replaced => {
                self.go_below(visit, seen, Presence::Source, slot, verdict, false);
            }
            (_, Kind::Folder) if replaced => {
                self.go_below(visit, seen, Presence::Destination, slot, destination_verdict, false);
            }
            _ => {}
        }
        if source.kind == Kind::File {
            self.weigh_file(visit, seen, source, Some(destination), slot);
        } else if planned.is_none() && source.kind != Kind::Folder {
            visit.findings.tallies.unchanged.add(0);
        }
    }

    /// True if the destination's drive has no way of holding this entry. That is a problem, unless
    /// it is of a kind that is left out there.
    fn cannot_hold(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, source: &Stat) -> bool {
        let Comparison { reach, strictly, .. } = self.context;
        if !reach.can_hold(source.kind) {
            reach.leave_out(source.kind);
            if *strictly {
                visit.problem(seen.name, Operation::Write, Cause::KindNotHeld);
            }
            return true;
        }
        let cause = if let Some(objection) = reach.drive.names.objection(seen.name) {
            Cause::NameNotHeld(objection)
        } else if let Some(longest) = reach.drive.largest_file.filter(|_| source.kind == Kind::File)
            && source.size > longest
        {
            Cause::TooLarge(longest)
        } else {
            return false;
        };
        visit.problem(seen.name, Operation::Write, cause);
        true
    }

    fn weigh_extra(&self, visit: &mut Visit<'_>, seen: &Seen<'_>, stat: &Stat, verdict: Verdict) {
        let leftover = visit.node.leftover || temporary::is_leftover(seen.name, stat);
        if self.context.task == Task::Copy && !leftover {
            visit.node.keep_all();
            return;
        }
        let reason = if leftover { Reason::Leftover } else { Reason::Extra };
        let slot = visit.node.add(seen.name, step(Verb::Remove, reason, None, Some(stat)));
        if stat.kind == Kind::Folder {
            self.go_below(visit, seen, Presence::Destination, Some(slot), verdict, leftover);
        } else {
            visit.node.note_removal();
        }
    }

    fn go_below(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        presence: Presence,
        slot: Option<usize>,
        verdict: Verdict,
        leftover: bool,
    ) {
        let all_below = match verdict {
            Verdict::Take { all_below } => all_below,
            _ => self.context.selection.takes_all_below(seen.path.as_bytes(), visit.node.all_below),
        };
        let stat = match presence {
            Presence::Destination => seen.destination,
            _ => seen.source,
        };
        let Some((stat, _)) = stat else { return };
        let below = Node::below(visit.node, seen.name, presence, &stat, all_below);
        visit.below.push(Arc::new(below.owning(slot, verdict == Verdict::IfNeeded, leftover)));
    }

    /// Notices other drives mounted in the source, and one side within the other.
    fn watch_borders(&self, visit: &mut Visit<'_>, seen: &Seen<'_>) {
        let pair = self.context.pair;
        let is_folder =
            |side: &Option<(Stat, Verdict)>| side.filter(|(stat, _)| stat.kind == Kind::Folder);
        if let Some((stat, _)) = is_folder(&seen.source) {
            if stat.identity == pair.destination.anchor_stat.identity && pair.single.is_none() {
                visit.findings.halt = Some(Halt::Overlap(visit.listed.path.join(seen.name)));
            }
            if is_border(visit.node, &stat) {
                visit.findings.remarks.push(Remark::Mount(visit.listed.path.join(seen.name)));
            }
        }
        let identity = |side: &Option<(Stat, Verdict)>| side.map(|(stat, _)| stat.identity);
        let same_file =
            pair.single.is_some() && identity(&seen.source) == identity(&seen.destination);
        let source_within = identity(&seen.destination) == Some(pair.source_stat.identity);
        if seen.destination.is_some() && (same_file || source_within) {
            visit.findings.halt = Some(Halt::Overlap(visit.listed.path.join(seen.name)));
        }
    }

    fn compare_entries(
        &self,
        visit: &Visit<'_>,
        seen: &Seen<'_>,
        source: &Stat,
        destination: &Stat,
    ) -> io::Result<Option<Step>> {
        let (Some(from), Some(to)) = (&visit.listed.source, &visit.listed.destination) else {
            return Ok(None);
        };
        let sides = entry::Sides {
            source: (reached(seen.open.0.as_ref(), from, seen.source_name), source),
            destination: (reached(seen.open.1.as_ref(), to, seen.name), destination),
        };
        entry::compare(self.context, &sides)
    }

    /// A file with more than one name is remembered; its step is settled when all names are known.
    fn weigh_file(
        &self,
        visit: &mut Visit<'_>,
        seen: &Seen<'_>,
        source: &Stat,
        destination: Option<&Stat>,
        slot: Option<usize>,
    ) {
        let destination = destination.filter(|d| d.kind == Kind::File);
        let several = source.links > 1 || destination.is_some_and(|d| d.links > 1);
        if several && self.context.reach.carry.has(Aspect::Content) {
            visit.findings.linked.push(Linked {
                node: Arc::clone(visit.node),
                name: seen.name.into(),
                source: *source,
                destination: destination.copied(),
                slot,
                grouped: self.context.reach.carry.has(Aspect::Hardlinks),
            });
            visit.node.must_stay();
        } else if slot.is_none() {
            visit.findings.tallies.unchanged.add(source.size);
        }
    }
}

/// True for a folder of the source where a drive, or a part of one, is mounted.
fn is_border(above: &Node, stat: &Stat) -> bool {
    stat.kind == Kind::Folder && (stat.mounted || stat.identity.drive != above.drive)
}

/// By its handle, if it is open, else by its name.
fn reached<'a>(open: Option<&'a OwnedFd>, folder: &'a OwnedFd, name: &'a [u8]) -> Entry<'a> {
    open.map_or(Entry::Named(folder.as_fd(), name), |open| Entry::Open(open.as_fd()))
}

impl Findings {
    fn problem(&mut self, path: TreePath, operation: Operation, cause: Cause) {
        self.problems.push(Problem { path, operation, cause });
    }
}

impl Visit<'_> {
    fn problem(&mut self, name: &[u8], operation: Operation, cause: Cause) {
        self.findings.problem(self.listed.path.join(name), operation, cause);
    }

    /// Counts what is surely taken; a folder that may not be needed is counted when that is known.
    fn tally(&mut self, seen: &Seen<'_>) {
        let tallies = &mut self.findings.tallies;
        let sides = [
            (&seen.source, &mut tallies.source, &mut self.taken.0),
            (&seen.destination, &mut tallies.destination, &mut self.taken.1),
        ];
        for (side, tally, taken) in sides {
            if let Some((stat, verdict)) = side
                && *verdict != Verdict::IfNeeded
            {
                tally.count(stat.kind, stat.size);
                *taken = true;
            }
        }
    }
}
