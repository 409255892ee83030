//! What an undo tells the older runs of its store: an entry that it put back is the one that they left there, although
//! it has another inode or change time now.

use std::collections::{HashMap, HashSet};
use std::io;
use std::os::fd::AsFd as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use utter_echo_drives::kinds;
use utter_echo_model::bytes::Bytes;
use utter_echo_model::path::TreePath;
use utter_echo_model::state::{State, StateAfter};
use utter_echo_model::verb::Side;
use utter_echo_os::{Entry, Kind, Stat, System};

use crate::journal::{self, JournalLine, PastPart, RootIdentity};
use crate::plan::Plan;
use crate::policy::{Part, Step};
use crate::undo::past_run::PastRun;

/// What a run and its undo changed.
#[derive(Default)]
struct PutBack {
    /// Entries that were changed or taken away, by absolute paths, as they were before.
    then: HashMap<PathBuf, State>,
    /// The inode numbers of these files, and what they are now. Other names of them have another change time, too.
    numbers: HashMap<u64, u64>,
    /// What was added.
    added: HashSet<PathBuf>,
    /// Entries that were given one more name for a while.
    linked: HashSet<PathBuf>,
}

impl PastRun<'_> {
    /// Adds to the journals of older runs what this undo put back. The journals of other stores are not known here.
    /// Fails if somebody has such a run locked: the journal of this run must stay until that is done.
    pub(crate) fn hand_down(&self) -> io::Result<()> {
        let runs = self.store.names()?;
        let older: Vec<&String> = runs.iter().take_while(|run| **run != self.name).collect();
        if older.is_empty() {
            return Ok(());
        }
        let mut put_back = PutBack::of(self.system, &self.parts, &self.plan);
        put_back.find_numbers(self.system);
        // Paths that a run in between changed: its own undo tells of them.
        let mut claimed = HashSet::new();
        for run in older.into_iter().rev() {
            // A journal that cannot be read is of no use to its own undo either.
            let Ok(journal) = self.store.read(run) else { continue };
            let Ok((_, plan, parts)) = journal::read(&journal) else { continue };
            let mut lines = Vec::new();
            for (number, (past, part)) in parts.iter().zip(&plan.parts).enumerate() {
                let older = OlderPart { number, past, part, claimed: &claimed };
                older.add_lines(self.system, &put_back, &mut lines);
            }
            if !lines.is_empty() {
                self.store.append(run, &lines)?;
            }
            let PutBack { then, added, .. } = PutBack::of(self.system, &parts, &plan);
            let changed = then.into_keys().chain(added);
            claimed.extend(changed.filter(|place| put_back.has(place)));
            if put_back.is_told(&claimed) {
                break;
            }
        }
        Ok(())
    }
}

/// The root of a part without links in its path, if it is there.
fn real_root(system: &dyn System, past: &PastPart) -> PathBuf {
    let real = system.open_root(&past.root).and_then(|root| system.real_path(root.as_fd()));
    real.unwrap_or_else(|_| past.root.clone())
}

impl PutBack {
    fn of(system: &dyn System, parts: &[PastPart], plan: &Plan) -> Self {
        let mut all = Self::default();
        for (past, part) in parts.iter().zip(&plan.parts) {
            all.add_destination(&real_root(system, past), part);
            all.add_source(past, part);
        }
        all
    }

    fn add_destination(&mut self, root: &Path, part: &Part) {
        for (at, folder) in part.folders.iter().enumerate() {
            let above = part.folder_path(at);
            for step in &folder.steps {
                let path = match step.renamed_from() {
                    Some(from) => part.path_of(from),
                    None => above.join(folder.name(step)),
                };
                let place = absolute(root, &path);
                match step.destination {
                    Some(was) => drop(self.then.insert(place, was)),
                    None => drop(self.added.insert(place)),
                }
                self.linked.extend(step.link().map(|first| absolute(root, &part.path_of(first))));
            }
        }
    }

    fn add_source(&mut self, past: &PastPart, part: &Part) {
        let Some(origin) = &past.moved.origin else { return };
        let root = origin.folder.clone().path();
        let single = origin.single.clone().map(Bytes::into_vec);
        for (at, folder) in part.folders.iter().enumerate() {
            let above = part.source_path(at);
            let taken = folder.steps.iter().filter(|step| step.is_taken_over());
            for step in folder.list(Side::Source).iter().chain(taken) {
                let name = single.as_deref().unwrap_or(folder.name_in_source(step));
                let path = absolute(&root, &above.join(name));
                self.then.extend(step.source.map(|was| (path, was)));
            }
        }
        let root_itself = part.root_source_removal.or(part.root.filter(Step::is_taken_over));
        self.then.extend(root_itself.and_then(|step| Some((root, step.source?))));
    }

    fn find_numbers(&mut self, system: &dyn System) {
        let now = |place: &Path| {
            let above = system.open_root(place.parent()?).ok()?;
            let name = place.file_name()?.as_bytes();
            let now = system.stat(Entry::Named(above.as_fd(), name)).ok()?;
            Some(kinds::numbers(system, above.as_fd()).of(&now))
        };
        let both = self.then.iter().filter_map(|(place, was)| Some((was.inode, now(place)?)));
        self.numbers = both.filter(|(was, now)| *was != 0 && *now != 0).collect();
    }

    /// True for what was put back, and for what had one more name.
    fn has(&self, place: &Path) -> bool {
        self.then.contains_key(place) || self.linked.contains(place)
    }

    /// True if nothing is left to tell still older runs, which saves reading their journals.
    fn is_told(&self, claimed: &HashSet<PathBuf>) -> bool {
        self.numbers.iter().all(|(was, now)| was == now)
            && self.then.keys().chain(&self.linked).all(|place| claimed.contains(place))
    }

    /// True for what may have been put back, or has another change time by another of its names.
    fn concerns(&self, path: &Path, left: &State) -> bool {
        self.then.contains_key(path) || self.has_other_names(path, left)
    }

    fn has_other_names(&self, path: &Path, left: &State) -> bool {
        self.numbers.contains_key(&left.inode) || self.linked.contains(path)
    }

    /// True if `left` is what was put back at `path`, where `now` is.
    fn is(&self, path: &Path, left: &State, now: &Stat) -> bool {
        let of = |state: &State| (state.kind, state.uid, state.gid, state.mode());
        let is_same = |was: &State| {
            let is_folder = left.kind == Kind::Folder;
            let same_file = left.inode == was.inode && of(left) == of(was);
            same_file && (is_folder || left.fingerprint() == was.fingerprint())
        };
        let number = self.numbers.get(&left.inode).copied().unwrap_or(left.inode);
        let is_renumbered = number == now.identity.inode && left.looks_like(now);
        self.then.get(path).is_some_and(is_same)
            || self.has_other_names(path, left) && is_renumbered
    }
}

fn absolute(root: &Path, path: &TreePath) -> PathBuf {
    root.join(std::ffi::OsStr::from_bytes(path.as_bytes()))
}

/// One part of an older run.
struct OlderPart<'a> {
    number: usize,
    past: &'a PastPart,
    part: &'a Part,
    /// Paths that runs after it changed.
    claimed: &'a HashSet<PathBuf>,
}

impl OlderPart<'_> {
    /// Adds lines about what it left, or found, and what is there again.
    fn add_lines(&self, system: &dyn System, put_back: &PutBack, lines: &mut Vec<JournalLine>) {
        let Self { number, past, part: plan, claimed } = *self;
        let Ok(root) = system.open_root(&past.root) else { return };
        let part = u32::try_from(number).unwrap_or(u32::MAX);
        let top = real_root(system, past);
        let is_root =
            |was: &State| past.known.as_ref().is_some_and(|known| known.inode == Some(was.inode));
        if let Some(source) = &past.moved.known
            && put_back.then.get(&top).is_some_and(is_root)
        {
            let (source, destination) = (source.clone(), RootIdentity::of(system, root.as_fd()));
            lines.push(JournalLine::Known { part, source, destination });
        }
        let now_at = |path: &TreePath| {
            let (above, name) = path.split_last();
            let above = system.open_folder(root.as_fd(), above)?;
            system.stat(Entry::Named(above.as_fd(), name))
        };
        let kind = kinds::numbers(system, root.as_fd());
        // Other names of the same files may have stayed where the older run displaced some.
        let found: HashSet<u64> =
            plan.all_steps().filter_map(|step| step.destination).map(|was| was.inode).collect();
        let is_new = |(was, now): &(u64, u64)| was != now && found.contains(was);
        let numbers: Vec<(u64, u64)> =
            put_back.numbers.iter().map(|(was, now)| (*was, *now)).filter(is_new).collect();
        if !numbers.is_empty() {
            lines.push(JournalLine::Renumbered { part, numbers });
        }
        for (path, left) in past.left() {
            let path = TreePath::from(path);
            let place = absolute(&top, &path);
            if put_back.concerns(&place, &left.state)
                && !claimed.contains(&place)
                && let Ok(now) = now_at(&path)
                && put_back.is(&place, &left.state, &now)
            {
                let left = StateAfter::seen(&now, kind);
                lines.push(JournalLine::After { part, path: path.as_bytes().into(), left });
            }
        }
    }
}
