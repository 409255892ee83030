//! Taking away from the source what has arrived, each entry only once it is proven that the destination's drive
//! holds it.

use crate::execute::writer::ErrorContext as _;
use std::collections::{HashMap, HashSet, hash_map};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use utter_echo_files::same_content::ReadLength;
use utter_echo_files::{attributes, leftovers, same_content};
use utter_echo_model::identity::InodeNumbers;
use utter_echo_model::observe::StepOutcome;
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Cause, Operation};
use utter_echo_model::state::{State, StateAfter};
use utter_echo_model::verb::{Reason, Verb};
use utter_echo_os::{Entry, Flags, Identity, Kind, Stat, Time};

use crate::execute::stages::read_back::{self, ReadBack};
use crate::execute::stages::run::{OnDrive, PartRun};
use crate::execute::writer::{FolderPair, StepError, StepResult};
use crate::policy::{PlannedFolder, Step};
use crate::sides;

/// One name of an entry that has several, by its folder and place among what goes from that.
type SharedName = (usize, usize);

/// A source entry of which the copy was proven.
struct ProvenEntry {
    /// Keeps the entry for what is still to be asked of it; `None` for what cannot be opened.
    file: Option<OwnedFd>,
    /// What holds it in the destination.
    copy: Identity,
}

/// An entry of the source while it is proven and taken away.
struct GoingEntry<'a> {
    on: &'a OnDrive<'a>,
    place: &'a FolderPair,
    /// As it was when it was looked at.
    seen: &'a Stat,
    /// Its copy was just read from the drive.
    is_fresh: bool,
}

impl PartRun<'_> {
    /// True if something is to go, and what takes its place is on the drive.
    pub(super) fn may_vacate(&self) -> bool {
        let vacates = self.part.folders.iter().any(|folder| !folder.vacates.is_empty());
        (vacates || self.part.root_vacate.is_some()) && self.has_flushed() && !self.must_leave()
    }

    /// A full drive ends the copying; what has arrived may go all the same.
    fn must_leave(&self) -> bool {
        let is_full = self.ledger.is_ended_by_full();
        self.context.observer.stop_requested() || self.context.must_end() && !is_full
    }

    /// Files first, then folders from the bottom up, and the root last.
    pub(super) fn vacate(&self, root: BorrowedFd<'_>) {
        self.keep_times(|folder| !folder.vacates.is_empty());
        self.tell_what_is_compared();
        let mut by_entry: HashMap<Identity, (Stat, Vec<SharedName>)> = HashMap::new();
        for (seen, name) in self.vacate_files(root) {
            by_entry.entry(seen.identity).or_insert((seen, Vec::new())).1.push(name);
        }
        let staying = self.staying();
        let mut by_entry: Vec<_> = by_entry.into_values().collect();
        by_entry.sort_unstable_by(|a, b| a.1.cmp(&b.1));
        for (seen, names) in by_entry {
            if self.must_leave() {
                break;
            }
            // A name that is not of the plan is left out, or else nobody knows why it is not.
            let all = usize::try_from(seen.links).is_ok_and(|links| links == names.len());
            if staying.contains(&seen.identity.inode) || !all && !self.terms.knows_all {
                let together = StepError(Operation::Vacate, Cause::NamesTogether);
                self.refuse(names[0], together);
            } else {
                self.vacate_group(root, &seen, &names);
            }
        }
        let places = self.part.folders.iter().enumerate();
        let places: HashMap<(usize, &[u8]), usize> =
            places.skip(1).map(|(at, f)| ((f.parent as usize, &*f.head.name), at)).collect();
        for at in (0..self.part.folders.len()).rev() {
            self.vacate_folders_in(root, at, &places);
        }
        self.vacate_root(root);
    }

    /// Takes away what has one name. Returns the names of what has several.
    fn vacate_files(&self, root: BorrowedFd<'_>) -> Vec<(Stat, SharedName)> {
        let back = ReadBack::new(self, root, false);
        let wanted = |folder: &PlannedFolder, slot: usize| {
            let step = slot.checked_sub(folder.steps.len()).map(|slot| &folder.vacates[slot]);
            step.is_some_and(|step| step.kind() == Kind::File && step.bytes() > 0)
        };
        back.in_order(wanted, |(at, slot)| {
            let is_fresh = back.was_brought((at, slot));
            let slot = slot - self.part.folders[at].steps.len();
            if self.must_leave() || !self.has_arrived(at, &self.part.folders[at].vacates[slot]) {
                return;
            }
            // What cannot be entered, and what has several names, comes below.
            if let Some(place) = back.places.take(at).or_else(|| self.enter(root, at).ok()) {
                self.vacate_one(&place, (at, slot), is_fresh);
                back.places.give_back(at, place);
            }
        });
        let count = self.part.folders.len();
        let groups = self.context.pool.map(count, |at| self.vacate_folder(root, at));
        groups.into_iter().flatten().collect()
    }

    fn tell_what_is_compared(&self) {
        let vacates = self.part.folders.iter().flat_map(|folder| &*folder.vacates);
        let files = vacates.filter(|step| step.kind() == Kind::File);
        let bytes = files.map(|step| 2 * step.bytes()).sum();
        if bytes > 0 {
            self.context.observer.comparing(bytes);
        }
    }

    /// Inode numbers of entries of which some name was to go, and does not.
    fn staying(&self) -> HashSet<u64> {
        let mut staying = HashSet::new();
        for (at, folder) in self.part.folders.iter().enumerate() {
            for (slot, step) in folder.vacates.iter().enumerate() {
                let told = self.ledger.get(folder.first_vacate + slot);
                let failed = matches!(told, StepOutcome::Failed | StepOutcome::Stale);
                if failed || !self.has_arrived(at, step) {
                    staying.extend(step.source.map(|source| source.inode));
                }
            }
        }
        staying
    }

    fn refuse(&self, (at, slot): SharedName, error: StepError) {
        let path = self.path_here(at, slot);
        let number = self.part.folders[at].first_vacate + slot;
        self.conclude(self.drive_of(at), number, &path, Err(error));
    }

    /// Remembers when folders of the source were changed, before what goes from them changes that.
    pub(super) fn keep_times(&self, is_due: impl Fn(&PlannedFolder) -> bool) {
        let mut times = self.progress.times_here.lock();
        for (at, _) in self.part.folders.iter().enumerate().filter(|(_, folder)| is_due(folder)) {
            if let hash_map::Entry::Vacant(place) = times.entry(at)
                && let Some((_, mut now)) = self.source_folder(at)
            {
                let path = || self.part.source_path(at);
                self.terms
                    .interrupted
                    .inspect(|interrupted| interrupted.correct(&path(), &mut now));
                place.insert(State::from(&now));
            }
        }
    }

    fn source_folder(&self, at: usize) -> Option<(OwnedFd, Stat)> {
        let path = self.part.source_path(at);
        let folder = self.system().open_folder(self.pair.source.as_fd(), path.as_bytes()).ok()?;
        let stat = self.system().stat(Entry::Open(folder.as_fd())).ok()?;
        Some((folder, stat))
    }

    /// A folder that stays is as it was, so that the next run does not take the time of what went for its own.
    pub(super) fn give_times_back(&self) {
        let times = self.progress.times_here.lock();
        for (at, was) in &*times {
            let changed = self.source_folder(*at).filter(|(_, now)| now.modified != was.modified());
            if let Some((folder, _)) = changed {
                // Nobody may be allowed to, and nothing depends on it.
                let _ = self.system().set_times(Entry::Open(folder.as_fd()), was.modified(), None);
            }
        }
    }

    /// Moved back to where it never left, or is back already: there it has the attributes that it should have,
    /// while those of what goes may never have been whole.
    fn is_home(&self, step: &Step) -> bool {
        self.terms.removal.moves_back && step.reason == Reason::Arrived
    }

    /// What was to arrive has, and is not known to be wrong.
    fn has_arrived(&self, at: usize, step: &Step) -> bool {
        let folder = &self.part.folders[at];
        let own = folder.find(folder.head.names.get(step.name));
        match own {
            Some(slot) => self.ledger.get(folder.first + slot) == StepOutcome::Done,
            None => step.reason == Reason::Arrived || step.destination.is_some(),
        }
    }

    /// The same in one folder, of what is still there.
    fn vacate_folder(&self, root: BorrowedFd<'_>, at: usize) -> Vec<(Stat, SharedName)> {
        let folder = &self.part.folders[at];
        let is_left =
            |slot: usize| self.ledger.get(folder.first_vacate + slot) == StepOutcome::NotReached;
        let due = folder.vacates.iter().enumerate().filter(|(slot, _)| is_left(*slot));
        let mut due = due
            .filter(|(_, step)| step.kind() != Kind::Folder && self.has_arrived(at, step))
            .peekable();
        if due.peek().is_none() {
            return Vec::new();
        }
        let on = self.drive_of(at);
        let place = match self.enter(root, at) {
            Ok(place) => place,
            Err(error) => {
                self.report(on, &self.part.folder_path(at), error);
                return Vec::new();
            }
        };
        let mut shared = Vec::new();
        for (slot, _) in due {
            if self.must_leave() {
                break;
            }
            let has_others = self.vacate_one(&place, (at, slot), false);
            shared.extend(has_others.map(|now| (now, (at, slot))));
        }
        shared
    }

    /// Takes away an entry that has one name. Returns the state of one that has several, and stays for now.
    fn vacate_one(
        &self,
        place: &FolderPair,
        (at, slot): SharedName,
        is_fresh: bool,
    ) -> Option<Stat> {
        let (on, folder) = (self.drive_of(at), &self.part.folders[at]);
        let looked = self.entry_now(on, place, self.name(at, slot), &folder.vacates[slot]);
        if let Ok(now) = &looked
            && now.links > 1
        {
            return Some(*now);
        }
        let path = self.path_here(at, slot);
        let depart = |seen: Stat| {
            let going = GoingEntry { on, place, seen: &seen, is_fresh };
            self.retry(|| self.depart(&going, (at, slot)))
        };
        self.conclude(on, folder.first_vacate + slot, &path, looked.and_then(depart));
        None
    }

    fn path_here(&self, at: usize, slot: usize) -> TreePath {
        let folder = &self.part.folders[at];
        self.part.source_path(at).join(folder.name_of_source(&folder.vacates[slot]))
    }

    fn name(&self, at: usize, slot: usize) -> &[u8] {
        let folder = &self.part.folders[at];
        folder.head.names.get(folder.vacates[slot].name)
    }

    /// Proves one entry and takes it away.
    fn depart(&self, going: &GoingEntry<'_>, (at, slot): SharedName) -> StepResult {
        let name = self.name(at, slot);
        self.prove(going, name, &self.part.folders[at].vacates[slot])?;
        self.take_away(going.on, going.place, name, going.seen)
    }

    /// All names of one entry, or none of them.
    fn vacate_group(&self, root: BorrowedFd<'_>, seen: &Stat, names: &[SharedName]) {
        let mut proven = Vec::new();
        let mut error = None;
        for name @ (at, slot) in names.iter().copied() {
            let on = self.drive_of(at);
            let prove = || {
                let place = self.enter(root, at)?;
                let step = &self.part.folders[at].vacates[slot];
                let going = GoingEntry { on, place: &place, seen, is_fresh: false };
                let proven = self.prove(&going, self.name(at, slot), step)?;
                Ok((place, proven))
            };
            match self.retry(prove) {
                // One file here must be one file there.
                Ok((_, one)) if is_torn(&proven, &one) && !self.may_be_torn(at, slot) => {
                    error = Some((name, StepError(Operation::Vacate, Cause::NotArrived)));
                    break;
                }
                Ok((place, one)) => proven.push((name, place, one)),
                Err(found) => {
                    error = Some((name, found));
                    break;
                }
            }
        }
        if let Some((name, error)) = error {
            self.refuse(name, error);
            return;
        }
        // Each name that goes is a change of the entry, and that change is ours.
        let mut expected = *seen;
        for ((at, slot), place, one) in proven {
            let on = self.drive_of(at);
            let name = self.name(at, slot);
            let gone = self.take_away(on, &place, name, &expected);
            let is_gone = gone.is_ok();
            let path = self.path_here(at, slot);
            self.conclude(on, self.part.folders[at].first_vacate + slot, &path, gone);
            if !is_gone {
                break;
            }
            let now = one.file.as_ref().map(|file| self.system().stat(Entry::Pinned(file.as_fd())));
            expected = now.and_then(Result::ok).unwrap_or(expected);
        }
    }

    fn may_be_torn(&self, at: usize, slot: usize) -> bool {
        self.terms.removal.may_lose || self.is_home(&self.part.folders[at].vacates[slot])
    }

    /// The source's entry, if it still is what the plan saw.
    fn entry_now(
        &self,
        on: &OnDrive<'_>,
        place: &FolderPair,
        name: &[u8],
        step: &Step,
    ) -> Result<Stat, StepError> {
        let entry = Entry::Named(place.source()?, on.writer.source_name(place, name));
        let now = self.system().stat(entry).during(Operation::Vacate)?;
        if step.source.is_some_and(|planned| planned.still(&now)) {
            Ok(now)
        } else {
            Err(StepError(Operation::Vacate, Cause::Stale("the source")))
        }
    }

    /// Fails unless the destination's drive holds the same as the source, which is as it was seen.
    fn prove(
        &self,
        going: &GoingEntry<'_>,
        name: &[u8],
        step: &Step,
    ) -> Result<ProvenEntry, StepError> {
        let GoingEntry { on, place, seen, .. } = *going;
        let system = self.system();
        let (here, there) = (place.source()?, place.destination.as_fd());
        let source_name = on.writer.source_name(place, name);
        let copy = system.stat(Entry::Named(there, name)).during(Operation::Vacate)?;
        let not_arrived = || StepError(Operation::Vacate, Cause::NotArrived);
        if copy.kind != seen.kind || copy.size != seen.size {
            return Err(not_arrived());
        }
        let held = copy.identity;
        if seen.kind == Kind::File {
            let file = system.open_file(here, source_name).during(Operation::Vacate)?;
            let opened = system.open_file(there, name).during(Operation::Vacate)?;
            if !self.is_home(step) {
                let sides = (Entry::Open(file.as_fd()), Entry::Open(opened.as_fd()));
                self.prove_attributes(on, (sides.0, seen), (sides.1, &copy))?;
                self.prove_flags(file.as_fd(), opened.as_fd())?;
            }
            let path = place.path.join(name);
            let proven = self.prove_content(going, file.as_fd(), opened.as_fd(), &path);
            proven.map_err(|StepError(operation, cause)| match cause {
                Cause::NotArrived if step.reason == Reason::Arrived => {
                    StepError(operation, Cause::OnlyLooksTheSame)
                }
                other => StepError(operation, other),
            })?;
            return Ok(ProvenEntry { file: Some(file), copy: held });
        }
        if !self.is_home(step) {
            let sides = (Entry::Named(here, source_name), Entry::Named(there, name));
            self.prove_attributes(on, (sides.0, seen), (sides.1, &copy))?;
        }
        match seen.kind {
            Kind::Symlink => {
                let target = system.read_link(here, source_name).during(Operation::Vacate)?;
                let same = system.read_link(there, name).during(Operation::Vacate)? == target;
                let file = system.pin(here, source_name).ok();
                if same { Ok(ProvenEntry { file, copy: held }) } else { Err(not_arrived()) }
            }
            _ => Ok(ProvenEntry { file: system.pin(here, source_name).ok(), copy: held }),
        }
    }

    /// Whatever belongs to an entry must have arrived, also what this run does not carry, unless the user can do
    /// without what the drive does not hold.
    fn prove_attributes(
        &self,
        on: &OnDrive<'_>,
        (here, seen): (Entry<'_>, &Stat),
        (there, copy): (Entry<'_>, &Stat),
    ) -> StepResult {
        let (system, capabilities) = (self.system(), &on.writer.capabilities);
        if self.terms.removal.may_lose {
            return Ok(());
        }
        let has_mode = seen.kind != Kind::Symlink;
        let is_folder = seen.kind == Kind::Folder;
        let same_mode = !has_mode || seen.mode == copy.mode;
        let same_time = is_folder || capabilities.agree(seen.modified, copy.modified);
        let same_owner = (seen.uid, seen.gid) == (copy.uid, copy.gid);
        let hidden = |entry| {
            attributes::shown_xattrs(system, entry, &capabilities.caller).during(Operation::Vacate)
        };
        let same_hidden = || Ok::<bool, StepError>(hidden(here)? == hidden(there)?);
        if same_mode && same_time && same_owner && same_hidden()? {
            Ok(())
        } else {
            Err(StepError(Operation::Vacate, Cause::NotArrived))
        }
    }

    fn prove_flags(&self, here: BorrowedFd<'_>, there: BorrowedFd<'_>) -> StepResult {
        let flags =
            |file| attributes::flags(self.system(), file).unwrap_or_default().and(Flags::CARRIED);
        if self.terms.removal.may_lose || flags(here) == flags(there) {
            Ok(())
        } else {
            Err(StepError(Operation::Vacate, Cause::NotArrived))
        }
    }

    fn prove_flags_of_folders(
        &self,
        here: (BorrowedFd<'_>, &[u8]),
        there: (BorrowedFd<'_>, &[u8]),
    ) -> StepResult {
        let open =
            |(folder, name)| self.system().open_folder(folder, name).during(Operation::Vacate);
        self.prove_flags(open(here)?.as_fd(), open(there)?.as_fd())
    }

    fn prove_content(
        &self,
        going: &GoingEntry<'_>,
        file: BorrowedFd<'_>,
        copy: BorrowedFd<'_>,
        path: &TreePath,
    ) -> StepResult {
        let GoingEntry { on, seen, is_fresh, .. } = *going;
        let system = self.system();
        let before = system.stat(Entry::Open(copy)).during(Operation::Vacate)?;
        if !is_fresh || !self.was_flushed(&before) {
            read_back::forget(self, copy).during(Operation::Vacate)?;
        }
        let numbers = on.mounted.capabilities.drive.numbers;
        let both = |here: &Stat, there: &Stat| {
            (StateAfter::seen(here, InodeNumbers::Stable), StateAfter::seen(there, numbers))
        };
        let is_proven =
            self.terms.interrupted.is_some_and(|run| run.proves(path, &both(seen, &before)));
        if is_proven {
            self.context.observer.compared(2 * seen.size);
        } else {
            let block = self.disks.block();
            let interrupted = || Err(io::ErrorKind::Interrupted.into());
            let go_on = |bytes: usize, _: u64| {
                self.context.observer.compared(bytes as u64);
                if self.must_leave() { interrupted() } else { Ok(()) }
            };
            let length = ReadLength { size: seen.size, block };
            let differs = same_content::first_difference(system, file, copy, length, go_on);
            if differs.during(Operation::Vacate)?.is_some() {
                return Err(StepError(Operation::Vacate, Cause::NotArrived));
            }
        }
        let now = system.stat(Entry::Open(file)).during(Operation::Vacate)?;
        let is_written = system.is_open_for_writing(file).unwrap_or(false);
        match is_unchanged(seen, &now) {
            _ if is_written => return Err(StepError(Operation::Vacate, Cause::BeingWritten)),
            false => return Err(StepError(Operation::Vacate, Cause::Restless)),
            true => {}
        }
        match on.writer.aside.filter(|_| !is_proven) {
            Some(aside) => aside.note_proven(path, both(&now, &before)),
            None => Ok(()),
        }
    }

    /// Takes a name away if it is that of the very entry that was proven.
    fn take_away(
        &self,
        on: &OnDrive<'_>,
        place: &FolderPair,
        name: &[u8],
        seen: &Stat,
    ) -> StepResult {
        let (here, name) = (place.source()?, on.writer.source_name(place, name));
        let now = self.system().stat(Entry::Named(here, name)).during(Operation::Vacate)?;
        if !is_unchanged(seen, &now) {
            return Err(StepError(Operation::Vacate, Cause::Stale("the source")));
        }
        self.system().remove_file(here, name).during(Operation::Vacate)
    }

    /// Folders in a folder that are empty by now. Of one in which something stays that was to go, that is told
    /// there.
    fn vacate_folders_in(
        &self,
        root: BorrowedFd<'_>,
        at: usize,
        places: &HashMap<(usize, &[u8]), usize>,
    ) {
        let folder = &self.part.folders[at];
        let due = folder.vacates.iter().enumerate();
        let due = due.filter(|(_, step)| step.kind() == Kind::Folder && self.has_arrived(at, step));
        for (slot, step) in due {
            let name = self.name(at, slot);
            let is_vacated = places.get(&(at, name)).is_none_or(|below| self.went(*below));
            if self.must_leave() || !is_vacated {
                continue;
            }
            let on = self.drive_of(at);
            let path = self.path_here(at, slot);
            let own = folder.name_of_source(step);
            let gone = self.retry(|| {
                let place = self.enter(root, at)?;
                let here = place.source()?;
                let now = self.system().stat(Entry::Named(here, own)).during(Operation::Vacate)?;
                if !step.source.is_some_and(|planned| planned.still(&now)) || now.mounted {
                    return Err(StepError(Operation::Vacate, Cause::Stale("the source")));
                }
                let there = place.destination.as_fd();
                let copy = self.system().stat(Entry::Named(there, name));
                let copy = copy.during(Operation::Vacate)?;
                let sides = (Entry::Named(here, own), Entry::Named(there, name));
                if !self.is_home(step) {
                    self.prove_attributes(on, (sides.0, &now), (sides.1, &copy))?;
                    self.prove_flags_of_folders((here, own), (there, name))?;
                }
                self.clear_interrupted(here, own)?;
                empty(self.system().remove_folder(here, own))
            });
            self.conclude(on, folder.first_vacate + slot, &path, gone);
        }
    }

    /// What killed runs left in a folder that is taken back goes with it.
    fn clear_interrupted(&self, above: BorrowedFd<'_>, name: &[u8]) -> StepResult {
        if !self.terms.removal.moves_back {
            return Ok(());
        }
        let folder = self.system().open_folder(above, name).during(Operation::Vacate)?;
        leftovers::clear_all_leftovers(self.system(), folder.as_fd()).during(Operation::Vacate)
    }

    /// All that was to go from a folder went.
    fn went(&self, at: usize) -> bool {
        let folder = &self.part.folders[at];
        let vacated = folder.first_vacate..folder.first_vacate + folder.vacates.len();
        let steps = folder.steps.iter().enumerate();
        let renamed = steps.filter(|(_, step)| step.is_taken_over());
        let renamed = renamed.map(|(slot, _)| folder.first + slot);
        vacated.chain(renamed).all(|number| self.ledger.get(number) == StepOutcome::Done)
    }

    /// The source's root itself, which has a name only in the folder above it.
    fn vacate_root(&self, root: BorrowedFd<'_>) {
        let is_done = |_: &Step| self.ledger.get(self.part.first) == StepOutcome::Done;
        let has_arrived = self.part.root.as_ref().is_none_or(is_done);
        let all_went = has_arrived && (self.part.folders.is_empty() || self.went(0));
        if self.part.root_vacate.is_none() || !all_went || self.must_leave() {
            return;
        }
        let number = self.part.number_of_root_vacate();
        let gone = sides::parent_of_root(self.system(), &self.pair.source)
            .during(Operation::Vacate)
            .and_then(|(above, name)| {
                let (here, there) = (Entry::Named(above.as_fd(), &name), Entry::Open(root));
                let now = self.system().stat(here).during(Operation::Vacate)?;
                if now.identity != self.pair.source_stat.identity {
                    return Err(StepError(Operation::Vacate, Cause::Stale("the source")));
                }
                let copy = self.system().stat(there).during(Operation::Vacate)?;
                let was_there = self.part.root.is_none_or(|root| root.verb == Verb::Adjust);
                if !(self.terms.removal.moves_back && was_there) {
                    self.prove_attributes(&self.drives[0], (here, &now), (there, &copy))?;
                    self.prove_flags_of_folders((above.as_fd(), &name), (root, b""))?;
                }
                self.clear_interrupted(above.as_fd(), &name)?;
                empty(self.system().remove_folder(above.as_fd(), &name))
            });
        self.conclude(&self.drives[0], number, &TreePath::default(), gone);
    }
}

/// True if a further name of an entry leads to another copy than those before.
fn is_torn(proven: &[(SharedName, FolderPair, ProvenEntry)], one: &ProvenEntry) -> bool {
    proven.first().is_some_and(|(.., first)| first.copy != one.copy)
}

/// Somebody put something into a folder that was to be empty.
fn empty(removed: io::Result<()>) -> StepResult {
    match removed {
        Err(e) if e.kind() == io::ErrorKind::DirectoryNotEmpty => {
            Err(StepError(Operation::Vacate, Cause::NotEmpty))
        }
        other => other.during(Operation::Vacate),
    }
}

/// True for the same entry, of which nothing at all was changed.
fn is_unchanged(seen: &Stat, now: &Stat) -> bool {
    let of = |stat: &Stat| -> (Identity, Kind, u64, Time, Time) {
        (stat.identity, stat.kind, stat.size, stat.modified, stat.changed)
    };
    of(seen) == of(now)
}
