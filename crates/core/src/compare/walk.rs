//! Going through both trees, folder by folder, with all workers.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use crate::abilities::Folding;
use crate::os::{Entry, Kind, Stat};
use crate::path::TreePath;
use crate::patience::Patience;
use crate::plan::{Note, Reason, State};
use crate::pool::{self, Stack};
use crate::problem::{Cause, Operation, Problem};
use crate::request::Task;
use crate::select::{Rule, Side, Verdict};
use crate::temporary;
use crate::tree::{self, Hint, Joined, Listing};

use super::links::Linked;
use super::node::{Closed, Node, Presence, Tallies};
use super::{Comparison, Halt};

/// What tasks find, beyond the steps that their nodes hold.
#[derive(Debug, Default)]
pub(super) struct Findings {
    pub(super) problems: Vec<Problem>,
    pub(super) notes: Vec<Note>,
    pub(super) tallies: Tallies,
    pub(super) linked: Vec<Linked>,
    pub(super) closed: Vec<Closed>,
    pub(super) halt: Option<Halt>,
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
    let all_below = context.selection.all_below_root();
    let drive = pair.source_stat.identity.drive;
    let root = Arc::new(Node::root(presence, source, drive, all_below));
    pool::run(context.running.workers, vec![Work::Folder(root)], |work, stack| {
        walk.work(work, stack);
    });
    walk.findings.into_inner().unwrap_or_else(PoisonError::into_inner)
}

pub(super) struct Walk<'a> {
    pub(super) context: &'a Comparison<'a>,
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
pub(super) struct Listed {
    pub(super) node: Arc<Node>,
    pub(super) path: TreePath,
    pub(super) source: Option<OwnedFd>,
    pub(super) destination: Option<OwnedFd>,
    pub(super) listings: (Listing, Listing),
    /// Names of the source that the destination's drive takes for another, and that one.
    pub(super) fallen: HashMap<Vec<u8>, Vec<u8>>,
}

/// Some entries of a folder while they are gone through.
pub(super) struct Visit<'a> {
    pub(super) node: &'a Arc<Node>,
    pub(super) listed: &'a Listed,
    /// Folders found, to be visited next.
    pub(super) below: Vec<Arc<Node>>,
    /// Something takes part, on the source's and on the destination's side.
    pub(super) taken: (bool, bool),
    pub(super) findings: Findings,
}

/// What a side shows of a name.
enum Looked {
    /// It takes part; its handle, if it was opened.
    Taken(Stat, Verdict, Option<OwnedFd>),
    /// It is left out for its path or its kind.
    LeftOut,
    /// It is left out for what it is, which its counterpart may not be.
    LeftOutAsItIs,
}

/// A name in an open folder of one side.
struct Place<'a> {
    folder: BorrowedFd<'a>,
    name: &'a [u8],
    /// Its kind, where the file system told it with the name.
    hint: Hint,
    /// Open it, if it is taken.
    opens: bool,
    /// The side to count it for; `None` for a counterpart of what the source has.
    side: Option<Side>,
}

/// An entry's place on both sides of a visit.
pub(super) struct Seen<'a> {
    /// Its name in the destination.
    pub(super) name: &'a [u8],
    /// The same but for a single file that gets a new name.
    pub(super) source_name: &'a [u8],
    /// Empty if no pattern asks for it.
    pub(super) path: TreePath,
    pub(super) source: Option<(Stat, Verdict)>,
    pub(super) destination: Option<(Stat, Verdict)>,
    /// Both sides opened, where more than their stat will be needed.
    pub(super) open: (Option<OwnedFd>, Option<OwnedFd>),
    /// The destination has it, but the selection leaves it out.
    pub(super) hidden: bool,
    /// The destination has it, and it goes for being left out.
    pub(super) dropped: bool,
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
        all.notes.append(&mut new.notes);
        all.linked.append(&mut new.linked);
        all.tallies.merge(&new.tallies);
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
            dropped: false,
        };
        let are_files = [joined.source, joined.destination]
            .into_iter()
            .all(|side| side.is_some_and(|Hint(kind)| kind == Some(Kind::File)));
        let opens = are_files && self.context.distrusts();
        let mut source_left_out = None;
        if let Some(hint) = joined.source {
            let folder = visit.listed.source.as_ref()?.as_fd();
            let side = Some(Side::Source);
            let place = Place { folder, name: joined.name, hint, opens, side };
            match self.see_side(visit.node, &seen, &place) {
                Ok(Looked::Taken(stat, verdict, open)) => {
                    (seen.source, seen.open.0) = (Some((stat, verdict)), open);
                }
                Ok(left_out) => source_left_out = Some(left_out),
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
        if let Some(hint) = joined.destination {
            let folder = visit.listed.destination.as_ref()?.as_fd();
            let side = joined.source.is_none().then_some(Side::DestinationAlone);
            let place = Place { folder, name, hint, opens, side };
            let source_is_left_out_as_it_is =
                matches!(source_left_out, Some(Looked::LeftOutAsItIs));
            match self.see_side(visit.node, &seen, &place) {
                Ok(Looked::Taken(stat, verdict, open)) if !source_is_left_out_as_it_is => {
                    (seen.destination, seen.open.1) = (Some((stat, verdict)), open);
                }
                Ok(_) if self.drops(visit.node) => {
                    let stat = self.context.system.stat(Entry::Named(folder, name)).ok()?;
                    seen.dropped = seen.source.is_none();
                    seen.destination = Some((stat, Verdict::Take { all_below: true }));
                }
                Ok(_) => seen.hidden = true,
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
            visit.findings.notes.push(Note::MountLeftOut(visit.listed.path.join(name)));
        }
        leaves
    }

    /// True, and a problem, if the destination's drive takes this name for one that came before.
    fn falls_together(&self, visit: &mut Visit<'_>, name: &[u8]) -> bool {
        let Some(first) = visit.listed.fallen.get(name) else { return false };
        let path = visit.listed.path.join(first);
        let node = visit.node;
        let selection = self.context.selection;
        let decided = selection.decide(path.as_bytes(), Kind::File, node.depth + 1, node.all_below);
        if decided.0 == Verdict::Leave {
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

    /// True if what is left out goes from the destination.
    pub(super) fn drops(&self, node: &Node) -> bool {
        let Comparison { selection, task, .. } = self.context;
        *task == Task::Mirror && selection.drops_unselected() && node.goes.is_none()
    }

    fn see_side(&self, node: &Node, seen: &Seen<'_>, place: &Place<'_>) -> io::Result<Looked> {
        let Comparison { system, selection, .. } = *self.context;
        let decide = |kind| {
            if node.goes == Some(Reason::Unselected) {
                return (Verdict::Take { all_below: true }, None);
            }
            selection.decide(seen.path.as_bytes(), kind, node.depth + 1, node.all_below)
        };
        let count = |rule: Option<Rule>, taken| {
            if let (Some(rule), Some(side)) = (rule, place.side) {
                selection.count(rule, side, taken);
            }
        };
        let early = place.hint.0.map(decide);
        if let Some((Verdict::Leave, rule)) = early {
            count(rule, false);
            return Ok(Looked::LeftOut);
        }
        // By its handle a file is looked at for less than by its name. One that may not be opened
        // is a problem only if it must be read.
        let open = place.opens.then(|| system.open_file(place.folder, place.name));
        let open = open.and_then(Result::ok);
        let named = Entry::Named(place.folder, place.name);
        let stat = system.stat(open.as_ref().map_or(named, |o| Entry::Open(o.as_fd())))?;
        let (verdict, rule) = early.unwrap_or_else(|| decide(stat.kind));
        if verdict == Verdict::Leave {
            count(rule, false);
            return Ok(Looked::LeftOut);
        }
        // What a counterpart is does not matter: the source's entry was taken.
        if place.side.is_some() && node.goes != Some(Reason::Unselected) {
            let cache = || selection.is_cache(system, place.folder, place.name);
            let left_out = match selection.leaves_out(&stat) {
                None if stat.kind == Kind::Folder && cache()? => Some(Rule::Cache),
                other => other,
            };
            if left_out.is_some() {
                count(left_out, false);
                return Ok(Looked::LeftOutAsItIs);
            }
        }
        count(rule, true);
        Ok(Looked::Taken(stat, verdict, open))
    }
}

/// True for a folder of the source where a drive, or a part of one, is mounted.
pub(super) fn is_border(above: &Node, stat: &Stat) -> bool {
    stat.kind == Kind::Folder && (stat.mounted || stat.identity.drive != above.drive)
}

impl Findings {
    fn problem(&mut self, path: TreePath, operation: Operation, cause: Cause) {
        self.problems.push(Problem { path, operation, cause });
    }
}

impl Visit<'_> {
    pub(super) fn problem(&mut self, name: &[u8], operation: Operation, cause: Cause) {
        self.findings.problem(self.listed.path.join(name), operation, cause);
    }
}
