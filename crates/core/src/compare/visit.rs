//! The walk through both trees, and the visit of one folder.

use parking_lot::Mutex;
use std::cell::Cell;
use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use utter_echo_drives::disk_order::RotationalDisk;
use utter_echo_drives::kinds;
use utter_echo_files::dirty_marker::{self, Unflushed};
use utter_echo_files::listing::{self, Listing, NameRanges};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::names::CaseFolding;
use utter_echo_model::note::Note;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation, Problem};
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Flags, Stat, is_forbidden};
use utter_echo_workers::pool::TaskStack;
use utter_echo_workers::retry::Retrying;

use crate::compare::comparison::{Comparison, ComparisonTerms};
use crate::compare::difference::{FolderSink, Presence};
use crate::compare::found::{Halt, LeftBehind};
use crate::compare::node::{FolderRules, OpenFolder, Tallies};
use crate::request::{EqualEntries, LeftOutEntries, RenamePath};

/// Entries per task, on the side that has more, so that a folder with a million entries keeps all workers busy.
const STRETCH: usize = 512;

/// Entries that are reported at a time.
const TOLD: usize = 4;

/// Results of tasks besides the differences in folders.
#[derive(Debug, Default)]
pub(super) struct Findings {
    pub(super) problems: Vec<Problem>,
    pub(super) notes: Vec<Note>,
    pub(super) tallies: Tallies,
    pub(super) left_behind: LeftBehind,
    pub(super) halt: Option<Halt>,
}

/// Shared state for closing folders, from any worker.
pub(super) struct SharedFindings<'s> {
    pub(crate) findings: Findings,
    pub(super) sink: &'s mut (dyn FolderSink + Send),
}

pub(super) struct Walk<'a, 's> {
    pub(super) context: &'a Comparison<'a>,
    pub(super) retrying: Retrying,
    /// Name of the dirty marker, which is neither an entry nor a leftover.
    pub(super) marker_name: Vec<u8>,
    /// Name of the exit folder, likewise.
    pub(super) exit_name: Vec<u8>,
    pub(crate) ending: Mutex<SharedFindings<'s>>,
    /// The walk must halt. Checked for every folder, so without the lock of the findings.
    pub(super) halted: AtomicBool,
}

/// A task of a worker.
pub(super) enum WalkTask {
    /// A folder to list.
    Folder(Arc<OpenFolder>),
    /// Some entries of a listed folder.
    Stretch(Arc<ListedFolder>, NameRanges),
}

/// Both sides of a folder, open and listed.
pub(super) struct ListedSides {
    pub(super) source: Option<OwnedFd>,
    pub(super) destination: Option<OwnedFd>,
    pub(super) listings: (Listing, Listing),
}

/// A folder with both sides open and listed. A missing side is empty.
pub(super) struct ListedFolder {
    pub(super) node: Arc<OpenFolder>,
    /// Its path in the source.
    pub(super) path: TreePath,
    /// Its path in the destination.
    pub(super) path_there: TreePath,
    /// Names of the source that the destination's drive takes for an earlier name, with that name.
    pub(super) same_there: HashMap<Vec<u8>, Vec<u8>>,
    /// What interrupted runs may have left unfinished in this folder.
    pub(super) unflushed: Option<Unflushed>,
    /// Inode numbers of the drives of the two sides.
    pub(super) numbers: (InodeNumbers, InodeNumbers),
    /// Names that belong to the drive, if one side is its topmost folder.
    pub(super) of_the_drive: &'static [&'static [u8]],
    /// A killed move left entries of the source in its exit folder.
    pub(super) lacks_some: bool,
    /// Whether its entries can be renamed into their places.
    pub(super) rename_path: RenamePath,
    pub(super) sides: ListedSides,
}

/// The visit of some entries of a folder.
pub(super) struct Visit<'a> {
    pub(super) node: &'a Arc<OpenFolder>,
    pub(super) listed: &'a ListedFolder,
    /// Folders to visit next.
    pub(super) below: Vec<Arc<OpenFolder>>,
    /// Whether something takes part, on the source's and on the destination's side.
    pub(super) taken: (bool, bool),
    pub(super) findings: Findings,
}

impl Walk<'_, '_> {
    pub(crate) fn work(&self, work: WalkTask, stack: &TaskStack<WalkTask>) {
        match work {
            WalkTask::Folder(node) => self.open(&node, stack),
            WalkTask::Stretch(listed, stretch) => self.visit(&listed, stretch, stack),
        }
    }

    /// Lists a folder and visits its entries, in several tasks if it is wide.
    fn open(&self, node: &Arc<OpenFolder>, stack: &TaskStack<WalkTask>) {
        let mut findings = Findings::default();
        let listed = if self.must_halt() { None } else { self.list_both(node, &mut findings) };
        let Some(listed) = listed else {
            self.keep(findings);
            node.keep_destination();
            node.keep_source();
            self.settle(node);
            return;
        };
        self.keep(findings);
        let (source, destination) = &listed.sides.listings;
        let news = self.context.reads.scanned((source.count() + destination.count()) as u64);
        self.context.observer.scanned(news);
        let mut stretches = listing::cut(source, destination, STRETCH);
        let first = stretches.swap_remove(0);
        node.expect(stretches.len());
        let listed = Arc::new(listed);
        stack.push(stretches.into_iter().map(|rest| WalkTask::Stretch(Arc::clone(&listed), rest)));
        self.visit(&listed, first, stack);
    }

    fn visit(&self, listed: &ListedFolder, stretch: NameRanges, stack: &TaskStack<WalkTask>) {
        let node = &listed.node;
        let (below, taken) = (Vec::new(), (false, false));
        let mut visit = Visit { node, listed, below, taken, findings: Findings::default() };
        if self.must_halt() {
            node.keep_destination();
            node.keep_source();
        } else {
            let joined = listing::join(&listed.sides.listings.0, &listed.sides.listings.1, stretch);
            for (at, joined) in joined.enumerate() {
                if at % TOLD == TOLD - 1 {
                    self.context.pool.did(TOLD as u64);
                }
                if let Some(met) = self.look(&mut visit, &joined) {
                    self.find(&mut visit, &met);
                }
            }
        }
        let Visit { mut below, taken, findings, .. } = visit;
        if self.context.reads.disks.any() {
            below.sort_by_key(|node| node.inode());
        }
        node.note_taken(taken);
        node.expect(below.len());
        self.keep(findings);
        stack.push(below.into_iter().map(WalkTask::Folder));
        self.settle(node);
    }

    fn must_halt(&self) -> bool {
        self.halted.load(Ordering::Relaxed)
            || self.context.observer.stop_requested()
            || self.context.reads.contents.has_enough()
    }

    fn keep(&self, mut new: Findings) {
        let mut ending = self.ending.lock();
        let all = &mut ending.findings;
        all.problems.append(&mut new.problems);
        all.notes.append(&mut new.notes);
        all.left_behind.marked_folders.append(&mut new.left_behind.marked_folders);
        all.left_behind.exits.append(&mut new.left_behind.exits);
        all.tallies.merge(&new.tallies);
        if new.halt.is_some() {
            self.halted.store(true, Ordering::Relaxed);
        }
        all.halt = all.halt.take().or(new.halt);
    }

    /// Closes a folder once nothing below it is open, and then those above it.
    fn settle(&self, node: &Arc<OpenFolder>) {
        let mut at = Some(Arc::clone(node));
        let Comparison { terms, counts, .. } = self.context;
        let ComparisonTerms { selection, scope, .. } = terms;
        while let Some(node) = at.take_if(|node| node.one_less()) {
            let mut ending = self.ending.lock();
            let SharedFindings { findings, sink } = &mut *ending;
            let reports_left_out = scope.left_out == LeftOutEntries::Reported;
            let tallies = &mut findings.tallies;
            node.close(&FolderRules { selection, counts, reports_left_out }, *sink, tallies);
            at = node.above();
        }
    }

    /// Opens and lists both sides. `None` if one side fails, since nothing may then be concluded from the other.
    fn list_both(&self, node: &Arc<OpenFolder>, findings: &mut Findings) -> Option<ListedFolder> {
        let pair = self.context.pair;
        let path = node.path();
        let mut listed = ListedFolder {
            node: Arc::clone(node),
            path_there: if node.is_elsewhere { node.path_there() } else { path.clone() },
            path,
            same_there: HashMap::new(),
            unflushed: node.begun.sides.unflushed,
            numbers: node.begun.sides.numbers,
            of_the_drive: &[],
            lacks_some: false,
            rename_path: node.begun.rename_path,
            sides: ListedSides {
                source: None,
                destination: None,
                listings: (Listing::default(), Listing::default()),
            },
        };
        if node.begun.presence != Presence::Destination {
            let head = self.context.reads.disks.source.as_deref();
            match self.list((pair.source.as_fd(), head), &listed.path) {
                Ok((handle, listing)) => {
                    self.find_lock(node, handle.as_fd());
                    listed.sides.source = Some(handle);
                    listed.sides.listings.0 = listing;
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
        if node.begun.presence != Presence::Source {
            let head = self.context.reads.disks.destination.as_deref();
            match self.list((pair.destination.anchor.as_fd(), head), &listed.path_there) {
                Ok((handle, listing)) => {
                    listed.sides.destination = Some(handle);
                    listed.sides.listings.1 = listing;
                }
                Err(cause) => {
                    findings.problem(listed.path_there, Operation::ListDestination, cause);
                    return None;
                }
            }
        }
        self.find_numbers(&mut listed);
        self.narrow_rename_path(&mut listed);
        if pair.single.is_none() {
            fold(node, &mut listed, findings)?;
            self.read_marker(&mut listed, findings)?;
            self.find_drive_files(&mut listed, findings);
            self.find_exits(&mut listed, findings);
        }
        Some(listed)
    }

    /// The same after a failed first try.
    #[cold]
    pub(super) fn try_again<T>(
        &self,
        first: io::Error,
        work: impl Fn() -> io::Result<T>,
    ) -> Result<T, Cause> {
        let first = Cell::new(Some(first));
        self.retry(|| first.take().map_or_else(&work, Err))
    }

    /// Finds out whether inode numbers last, at the root and at every mount point.
    fn find_numbers(&self, listed: &mut ListedFolder) {
        let begun = &listed.node.begun;
        let is_root = listed.node.is_root();
        let begins = |stat: Option<Stat>| is_root || stat.is_some_and(|stat| stat.mounted);
        let numbers = |folder: &OwnedFd| kinds::numbers(self.context.system, folder.as_fd());
        if let Some(folder) = listed.sides.source.as_ref().filter(|_| begins(begun.sides.source)) {
            listed.numbers.0 = numbers(folder);
        }
        if let Some(folder) =
            listed.sides.destination.as_ref().filter(|_| begins(begun.sides.destination))
        {
            listed.numbers.1 = numbers(folder);
        }
    }

    /// Reads the dirty marker of an earlier run in this folder.
    fn read_marker(&self, listed: &mut ListedFolder, findings: &mut Findings) -> Option<()> {
        let Some(folder) = &listed.sides.destination else { return Some(()) };
        if !listed.sides.listings.1.has(&self.marker_name) {
            return Some(());
        }
        match dirty_marker::find(self.context.system, folder.as_fd()) {
            Ok(Some(unflushed)) => {
                listed.unflushed =
                    Some(listed.unflushed.map_or(unflushed, |above| above.and(unflushed)));
                findings.left_behind.marked_folders.push(listed.path_there.clone());
                Some(())
            }
            Ok(None) => Some(()),
            Err(error) => {
                let path = listed.path_there.clone();
                findings.problem(path, Operation::ListDestination, error.into());
                None
            }
        }
    }

    /// Finds exit folders of killed moves, with entries that are neither in place nor gone.
    fn find_exits(&self, listed: &mut ListedFolder, findings: &mut Findings) {
        let (here, there) = &listed.sides.listings;
        listed.lacks_some = here.has(&self.exit_name);
        for (side, listing, path, operation) in [
            (Side::Source, here, &listed.path, Operation::ListSource),
            (Side::Destination, there, &listed.path_there, Operation::ListDestination),
        ] {
            if listing.has(&self.exit_name) {
                findings.left_behind.exits.push((side, path.clone()));
                let cause = Cause::LeftOnItsWay(self.exit_name.clone());
                findings.problem(path.clone(), operation, cause);
            }
        }
    }

    /// Finds out whether a move can remove anything from a folder, before anything is copied.
    fn find_lock(&self, node: &OpenFolder, source: BorrowedFd<'_>) {
        if self.context.terms.scope.same != EqualEntries::Reported {
            return;
        }
        let seen = || self.context.system.stat(Entry::Open(source));
        if let Some(folder) = node.begun.sides.source.or_else(|| seen().ok()) {
            if !folder.flags.and(Flags::LOCKS).is_empty() {
                node.lock(Cause::SourceFlagged);
                return;
            }
            let caller = &self.context.drives.root().capabilities.caller;
            caller.bound_to(&folder).inspect(|owner| node.lock_but_for(*owner));
        }
        // If this cannot be asked, the first removal shows it.
        if let Err(Cause::System(error)) = self.retry(|| self.context.system.may_change(source))
            && is_forbidden(&error)
        {
            node.lock(Cause::SourceLocked(error));
        }
    }

    fn list(
        &self,
        (root, head): (BorrowedFd<'_>, Option<&RotationalDisk>),
        path: &TreePath,
    ) -> Result<(OwnedFd, Listing), Cause> {
        let system = self.context.system;
        let list = || {
            let handle = system.open_folder(root, path.as_bytes())?;
            // A single entry has the source's name on both sides.
            if let (Some(single), b"") = (&self.context.pair.single, path.as_bytes()) {
                return Ok((handle, Listing::single(&single.source)?));
            }
            let listing = match head {
                Some(head) => head.list(system, handle.as_fd())?,
                None => Listing::read(system, handle.as_fd())?,
            };
            Ok((handle, listing))
        };
        self.retry(list)
    }

    /// Retries temporary errors.
    pub(super) fn retry<T>(&self, work: impl Fn() -> io::Result<T>) -> Result<T, Cause> {
        let work = || work().map_err(Cause::from);
        self.retrying.retry(self.context.observer, |cause| cause, work)
    }

    /// Finds entries that a file system keeps for itself in its topmost folder, on either side.
    fn find_drive_files(&self, listed: &mut ListedFolder, findings: &mut Findings) {
        let begun = &listed.node.begun;
        let tops = [
            (begun.sides.source, &listed.sides.source, &listed.sides.listings.0),
            (begun.sides.destination, &listed.sides.destination, &listed.sides.listings.1),
        ];
        for (stat, folder, listing) in tops {
            let (Some(stat), Some(folder)) = (stat, folder) else { continue };
            let own = kinds::own_places(self.context.system, folder.as_fd(), &stat);
            if own.is_empty() {
                continue;
            }
            listed.of_the_drive = own;
            let there = own.iter().filter(|name| listing.has(name));
            let note = |name: &&[u8]| Note::OfTheDrive(listed.path.join(name));
            findings.notes.extend(there.map(note));
        }
    }
}

impl Findings {
    pub(super) fn problem(&mut self, path: TreePath, operation: Operation, cause: Cause) {
        self.problems.push(Problem { path, operation, cause });
    }
}

impl Visit<'_> {
    pub(super) fn problem(&mut self, name: &[u8], operation: Operation, cause: Cause) {
        self.findings.problem(self.listed.path.join(name), operation, cause);
    }
}

/// Finds names of the source that the destination's drive takes for one.
fn fold(node: &OpenFolder, listed: &mut ListedFolder, findings: &mut Findings) -> Option<()> {
    let names = &node.begun.drive.capabilities.drive.names;
    if names.folding == CaseFolding::Never {
        return Some(());
    }
    let (source, destination) = &mut listed.sides.listings;
    match listing::fold_together(names, source, destination) {
        Ok(same_there) => {
            listed.same_there = same_there;
            Some(())
        }
        Err(cause) => {
            let path = listed.path_there.clone();
            findings.problem(path, Operation::ListDestination, cause.into());
            None
        }
    }
}
