//! What a selection takes of a source, and which rule decided.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;

use utter_echo_files::listing::Listing;
use utter_echo_model::count::{Count, Tally};
use utter_echo_model::path::TreePath;
use utter_echo_model::problem::{Operation, Problem};
use utter_echo_os::{Entry, Kind, Stat, System};

use crate::query::{Metadata, Query, Verdict};
use crate::rules::Rule;
use crate::selection::Selection;

/// Whether an entry takes part.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Participation {
    /// It takes part.
    Taken,
    /// A folder that takes part only if something in it does.
    IfNeeded,
    /// It does not take part, nor does anything below it.
    LeftOut,
}

/// The decision of a selection about one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explained {
    /// Relative to the source.
    pub path: TreePath,
    /// `None` if there is no such entry; the decision then depends on its name alone.
    pub kind: Option<Kind>,
    /// The decision.
    pub fate: Participation,
    /// The rule that decided, as it was given; `None` if none applies.
    pub rule: Option<String>,
    /// The folder above it that the rule decided about, if not the entry itself.
    pub at: Option<TreePath>,
}

/// The number of entries that one rule decided about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleTally {
    /// As it was given.
    pub rule: String,
    /// True if it left the entries out, false if it took them.
    pub leaves_out: bool,
    /// All entries, including those below folders.
    pub count: Count,
}

/// The effect of a selection on a source.
#[derive(Debug, Default)]
pub struct Survey {
    /// Entries that take part.
    pub taken: Tally,
    /// Entries that are left out.
    pub left_out: Tally,
    /// By rule; a rule that decided nothing has a count of 0.
    pub rules: Vec<RuleTally>,
    /// Entries that could not be read, which no count includes.
    pub problems: Vec<Problem>,
}

/// Decides about a path relative to the source. A path that does not exist counts as a file, or as a folder if it
/// ends in a slash.
pub fn path(
    system: &dyn System,
    source: &Path,
    selection: &Selection,
    path: &[u8],
) -> io::Result<Explained> {
    let root = system.open_root(source)?;
    let judge = Explainer { system, selection, root: &root };
    let names: Vec<&[u8]> = path.split(|b| *b == b'/').filter(|name| !name.is_empty()).collect();
    let whole = TreePath::from_deepest(names.iter().rev().copied());
    let mut explained = Explained {
        kind: judge.look(&whole).map(|stat| stat.kind),
        path: whole,
        fate: Participation::Taken,
        rule: None,
        at: None,
    };
    let (mut at, mut all_below) = (TreePath::default(), selection.all_below_root());
    for (depth, name) in (1..).zip(&names) {
        at.push(name);
        let is_last = at == explained.path;
        let stat = judge.look(&at);
        let named = if is_last && !path.ends_with(b"/") { Kind::File } else { Kind::Folder };
        let kind = stat.map_or(named, |stat| stat.kind);
        let (verdict, rule) = judge.judge(&at, (kind, stat.as_ref()), depth, all_below);
        (explained.fate, all_below) = match verdict {
            Verdict::Take { all_below } => (Participation::Taken, all_below),
            Verdict::IfNeeded { all_below } => (Participation::IfNeeded, all_below),
            Verdict::Leave => (Participation::LeftOut, false),
        };
        // A rule that takes a folder takes its entries, unless another rule decides.
        if rule.is_some() || explained.fate != Participation::Taken {
            explained.rule = rule.map(|rule| selection.name(rule));
            explained.at = rule.map(|_| at.clone()).filter(|_| !is_last);
        }
        if explained.fate == Participation::LeftOut {
            break;
        }
    }
    Ok(explained)
}

/// Decides about entries of a source as a run would.
struct Explainer<'a> {
    system: &'a dyn System,
    selection: &'a Selection,
    root: &'a OwnedFd,
}

impl Explainer<'_> {
    fn look(&self, path: &TreePath) -> Option<Stat> {
        let (above, name) = path.split_last();
        if name.is_empty() {
            return self.system.stat(Entry::Pinned(self.root.as_fd())).ok();
        }
        let folder = self.system.open_folder(self.root.as_fd(), above).ok()?;
        self.system.stat(Entry::Named(folder.as_fd(), name)).ok()
    }

    fn judge(
        &self,
        path: &TreePath,
        (kind, stat): (Kind, Option<&Stat>),
        depth: u32,
        all_below: bool,
    ) -> (Verdict, Option<Rule>) {
        let asked = Query { path: path.as_bytes(), kind, depth, all_below };
        let is_cache = || self.is_cache(path);
        let nature = stat.map(|stat| Metadata { stat, is_cache: &is_cache });
        // An entry that cannot be opened is reported when it is read.
        self.selection.judge(&asked, nature).unwrap_or((Verdict::Take { all_below }, None))
    }

    fn is_cache(&self, path: &TreePath) -> io::Result<bool> {
        let (above, name) = path.split_last();
        let folder = self.system.open_folder(self.root.as_fd(), above)?;
        self.selection.is_cache(self.system, folder.as_fd(), name)
    }
}

/// A folder during the walk.
struct OpenLevel {
    path: TreePath,
    /// Open only while it is the deepest: a tree can have more levels than a process has handles.
    handle: Option<OwnedFd>,
    listing: Listing,
    next: usize,
    all_below: bool,
    /// The rule that decided about all its entries, and whether it left them out.
    inherited: Option<(Rule, bool)>,
    /// It takes part only if something in it does.
    conditional: bool,
    takes_any: bool,
}

/// Walks through a source and counts the decisions of each rule.
pub fn survey(system: &dyn System, source: &Path, selection: &Selection) -> io::Result<Survey> {
    let root = system.open_root(source)?;
    let mut survey = Surveyor {
        judge: Explainer { system, selection, root: &root },
        found: Survey::default(),
        counts: HashMap::new(),
        levels: Vec::new(),
    };
    survey.found.taken.count(Kind::Folder, 0);
    survey.enter(TreePath::default(), selection.all_below_root(), None, false)?;
    survey.go();
    let Surveyor { mut found, counts, .. } = survey;
    for rule in selection.all_rules() {
        for leaves_out in [true, false] {
            // A pattern can both take and leave out; one that decided nothing is listed once.
            let count = counts.get(&(rule, leaves_out)).copied().unwrap_or_default();
            let other = counts.contains_key(&(rule, !leaves_out));
            if count.entries > 0 || leaves_out == selection.is_for_leaving_out(rule) && !other {
                found.rules.push(RuleTally { rule: selection.name(rule), leaves_out, count });
            }
        }
    }
    Ok(found)
}

struct Surveyor<'a> {
    judge: Explainer<'a>,
    found: Survey,
    counts: HashMap<(Rule, bool), Count>,
    levels: Vec<OpenLevel>,
}

impl Surveyor<'_> {
    fn enter(
        &mut self,
        path: TreePath,
        all_below: bool,
        inherited: Option<(Rule, bool)>,
        conditional: bool,
    ) -> io::Result<()> {
        let system = self.judge.system;
        let handle = system.open_folder(self.judge.root.as_fd(), path.as_bytes())?;
        let listing = Listing::read(system, handle.as_fd())?;
        let (next, takes_any) = (0, false);
        if let Some(above) = self.levels.last_mut() {
            above.handle = None;
        }
        self.levels.push(OpenLevel {
            path,
            handle: Some(handle),
            listing,
            next,
            all_below,
            inherited,
            conditional,
            takes_any,
        });
        Ok(())
    }

    fn go(&mut self) {
        while let Some(level) = self.levels.last_mut() {
            let Some((name, _)) = level.listing.get(level.next) else {
                self.leave();
                continue;
            };
            let path = level.path.join(name);
            let (system, root) = (self.judge.system, self.judge.root);
            let handle = match level.handle.take() {
                Some(handle) => Ok(handle),
                None => system.open_folder(root.as_fd(), level.path.as_bytes()),
            };
            let stat = handle.and_then(|handle| {
                let stat = system.stat(Entry::Named(handle.as_fd(), name));
                level.handle = Some(handle);
                stat
            });
            level.next += 1;
            if let Err(error) = stat.and_then(|stat| self.entry(&path, &stat)) {
                let operation = Operation::LookAtSource;
                self.found.problems.push(Problem { path, operation, cause: error.into() });
            }
        }
    }

    fn entry(&mut self, path: &TreePath, stat: &Stat) -> io::Result<()> {
        let depth = u32::try_from(self.levels.len()).unwrap_or(u32::MAX);
        let Some(level) = self.levels.last_mut() else { return Ok(()) };
        let above = level.inherited;
        let (verdict, rule) = match above {
            Some((rule, true)) => (Verdict::Leave, Some(rule)),
            _ => self.judge.judge(path, (stat.kind, Some(stat)), depth, level.all_below),
        };
        let leaves_out = verdict == Verdict::Leave;
        let inherited = rule.map(|rule| (rule, leaves_out)).or(above);
        let conditional = matches!(verdict, Verdict::IfNeeded { .. });
        if !conditional {
            level.takes_any |= !leaves_out;
            self.count(inherited, stat, leaves_out);
        }
        if stat.kind == Kind::Folder {
            let all_below = match verdict {
                Verdict::Take { all_below } | Verdict::IfNeeded { all_below } => all_below,
                Verdict::Leave => false,
            };
            self.enter(path.clone(), all_below, inherited, conditional)?;
        }
        Ok(())
    }

    fn count(&mut self, by: Option<(Rule, bool)>, stat: &Stat, leaves_out: bool) {
        let side = if leaves_out { &mut self.found.left_out } else { &mut self.found.taken };
        side.count(stat.kind, stat.size);
        if let Some(by) = by {
            let bytes = if stat.kind == Kind::File { stat.size } else { 0 };
            self.counts.entry(by).or_default().add(bytes);
        }
    }

    /// A folder that was needed counts as taken.
    fn leave(&mut self) {
        let Some(level) = self.levels.pop() else { return };
        if let Some(above) = self.levels.last_mut() {
            above.takes_any |= level.takes_any;
            if level.conditional && level.takes_any {
                self.found.taken.count(Kind::Folder, 0);
            }
        }
        if level.conditional && !level.takes_any {
            let rule = self.judge.selection.rule_of_unneeded(level.all_below);
            self.found.left_out.count(Kind::Folder, 0);
            self.counts.entry((rule, true)).or_default().add(0);
        }
    }
}
