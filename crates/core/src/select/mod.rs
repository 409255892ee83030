//! Station: which entries take part.
//!
//! An entry that is left out is invisible on both sides: it is neither carried nor removed.

mod chosen;
mod pattern;

pub(crate) use chosen::{Chosen, Group, Needs, Partner, Reach as ChosenReach};

use std::io;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::atomic::{AtomicU64, Ordering};

use crate::os::{Kind, Stat, System, Time};
use crate::path::TreePath;

pub use pattern::{BadPattern, Origin};

use pattern::{Given, Patterns};

/// A file of patterns, one a line, of what to leave out. Empty lines and those that begin with `#`
/// say nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleFile {
    /// As the user named it.
    pub name: String,
    /// All of it.
    pub text: String,
}

/// From a smallest to a greatest value, both of them within; open where there is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span<T> {
    /// The smallest.
    pub from: Option<T>,
    /// The greatest.
    pub to: Option<T>,
}

impl<T> Default for Span<T> {
    fn default() -> Self {
        Self { from: None, to: None }
    }
}

impl<T: Ord> Span<T> {
    fn holds(&self, value: &T) -> bool {
        self.from.as_ref().is_none_or(|from| from <= value)
            && self.to.as_ref().is_none_or(|to| value <= to)
    }

    fn is_open(&self) -> bool {
        self.from.is_none() && self.to.is_none()
    }
}

/// Kinds of entries, as a user tells them apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "each is taken or not, whatever the others are")]
pub struct Kinds {
    /// Regular files.
    pub files: bool,
    /// Folders for their own sake; where they are not taken they still hold what is.
    pub folders: bool,
    /// Symbolic links.
    pub links: bool,
    /// FIFOs, sockets and devices.
    pub specials: bool,
}

impl Kinds {
    /// All of them.
    pub const ALL: Self = Self { files: true, folders: true, links: true, specials: true };

    fn has(self, kind: Kind) -> bool {
        match kind {
            Kind::File => self.files,
            Kind::Folder => self.folders,
            Kind::Symlink => self.links,
            Kind::Fifo | Kind::Socket | Kind::CharDevice | Kind::BlockDevice => self.specials,
        }
    }
}

/// Patterns and limits as given.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "switches, each by itself")]
pub struct Rules {
    /// Files of patterns of what to leave out; they count before those of `exclude`.
    pub files: Vec<RuleFile>,
    /// Entries to leave out; a later pattern overrides an earlier one, `!` takes back.
    pub exclude: Vec<String>,
    /// If not empty, only what matches one of these, with all below a folder that matches.
    pub only: Vec<String>,
    /// Large and small letters are the same to patterns.
    pub any_case: bool,
    /// Sizes in bytes to take, of all but folders.
    pub size: Span<u64>,
    /// Modification times to take, of all but folders.
    pub modified: Span<Time>,
    /// Deepest level taken; 1 is the entries directly in the source.
    pub depth: Option<u32>,
    /// What to take.
    pub kinds: Kinds,
    /// Leave out what has a name that begins with a dot.
    pub no_hidden: bool,
    /// Leave out what desktop systems scatter: [`LITTER`].
    pub no_litter: bool,
    /// Leave out folders that are marked by the cache directory tagging standard.
    pub no_caches: bool,
    /// Leave out folders in which nothing is taken.
    pub no_empty_folders: bool,
    /// Leave out folders of the source where another drive is mounted.
    pub same_drive: bool,
    /// Go through drives that are mounted where only the destination has a folder.
    pub cross_drives: bool,
    /// A mirror removes from the destination what is left out.
    pub drop_unselected: bool,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            files: Vec::new(),
            exclude: Vec::new(),
            only: Vec::new(),
            any_case: false,
            size: Span::default(),
            modified: Span::default(),
            depth: None,
            kinds: Kinds::ALL,
            no_hidden: false,
            no_litter: false,
            no_caches: false,
            no_empty_folders: false,
            same_drive: false,
            cross_drives: false,
            drop_unselected: false,
        }
    }
}

/// What desktop systems scatter, as patterns: thumbnails, indexes, views and trash.
pub const LITTER: [&str; 17] = [
    ".DS_Store",
    "._*",
    ".AppleDouble/",
    ".DocumentRevisions-V100/",
    ".Spotlight-V100/",
    ".TemporaryItems/",
    ".Trash-*/",
    ".Trashes/",
    ".apdisk",
    ".directory",
    ".fseventsd/",
    ".thumbnails/",
    "$RECYCLE.BIN/",
    "System Volume Information/",
    "Thumbs.db",
    "desktop.ini",
    "ehthumbs.db",
];

/// What the first bytes of a file of this name are in a folder that holds a cache; see
/// <https://bford.info/cachedir/>.
const CACHE_TAG: (&[u8], &[u8]) = (b"CACHEDIR.TAG", b"Signature: 8a477f597d28d172789f06886806bc55");

/// [`Rules`] made ready to decide, and what they decided so far.
#[derive(Debug)]
pub struct Selection {
    rules: Rules,
    /// It takes all there is, so no rule need be asked.
    everything: bool,
    /// Nothing but these, whatever the rules say.
    chosen: Option<Chosen>,
    exclude: Patterns,
    only: Patterns,
    litter: Patterns,
    /// By [`Selection::place`].
    counts: Vec<Counts>,
}

#[derive(Debug, Default)]
struct Counts {
    taken: AtomicU64,
    left_out: AtomicU64,
    kept: AtomicU64,
}

impl Counts {
    fn each(&self) -> [&AtomicU64; 3] {
        [&self.taken, &self.left_out, &self.kept]
    }
}

/// What the selection says about one entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// It takes part. `all_below` is set where no further `--only` is asked for below.
    Take { all_below: bool },
    /// A folder that takes part only if something in it does.
    IfNeeded { all_below: bool },
    /// It is left out, and everything below it.
    Leave,
}

/// The rule that decided about an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Rule {
    /// A pattern of what to leave out, or one that took back.
    Exclude(usize),
    /// A pattern of what to take.
    Only(usize),
    /// There are such patterns, and none fits.
    NotOnly,
    Depth,
    Size,
    Date,
    Kind,
    Hidden,
    Litter,
    Cache,
    Empty,
}

impl Rule {
    /// Those that do not stand for a pattern.
    const PLAIN: [Self; 9] = [
        Self::NotOnly,
        Self::Depth,
        Self::Size,
        Self::Date,
        Self::Kind,
        Self::Hidden,
        Self::Litter,
        Self::Cache,
        Self::Empty,
    ];
}

/// What a rule decided, for people: its name, and entries counted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decided {
    /// As it was given.
    pub rule: String,
    /// Entries of the source that it took.
    pub taken: u64,
    /// Entries of the source that it left out; a folder counts as one, with all it holds.
    pub left_out: u64,
    /// Entries of the destination alone that it left in their place.
    pub kept: u64,
}

/// What is decided about.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Asked<'a> {
    /// Relative to the root.
    pub(crate) path: &'a [u8],
    pub(crate) kind: Kind,
    /// Levels below the root.
    pub(crate) depth: u32,
    /// What the folder above was taken with.
    pub(crate) all_below: bool,
}

/// What an entry is, beyond its path and kind.
#[derive(Clone, Copy)]
pub(crate) struct Nature<'a> {
    pub(crate) stat: &'a Stat,
    /// Whether a folder is marked as a cache; costs calls, so it is asked last.
    pub(crate) is_cache: &'a dyn Fn() -> io::Result<bool>,
}

/// Which side a decision is counted for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Counted {
    Source,
    /// The destination has it and the source does not.
    DestinationAlone,
}

impl Selection {
    /// One that takes all there is.
    pub fn everything() -> Self {
        let none = || Patterns::none();
        let counts = std::iter::repeat_with(Counts::default).take(Rule::PLAIN.len()).collect();
        let rules = Rules::default();
        Self {
            rules,
            everything: true,
            chosen: None,
            exclude: none(),
            only: none(),
            litter: none(),
            counts,
        }
    }

    /// One that takes what another run put there, and nothing else.
    pub(crate) fn of_chosen(chosen: Chosen) -> Self {
        Self { everything: false, chosen: Some(chosen), ..Self::everything() }
    }

    /// True for what was on its side before a run that is taken back: it stays there.
    pub(crate) fn keeps(&self, path: &[u8]) -> bool {
        self.chosen.as_ref().is_some_and(|chosen| chosen.keeps(path))
    }

    /// The name that an entry has on the other side, where that is another.
    pub(crate) fn old_name(&self, path: &[u8]) -> Option<&[u8]> {
        self.chosen.as_ref().and_then(|chosen| chosen.old_name(path))
    }

    /// What comes back and is to be names of one file, by paths on the other side.
    pub(crate) fn groups(&self) -> &[Group] {
        self.chosen.as_ref().map_or(&[], Chosen::groups)
    }

    /// False for what comes back and is known to have been no name of the other's file.
    pub(crate) fn may_share(&self, path: &TreePath, other: &TreePath) -> bool {
        self.chosen.as_ref().is_none_or(|chosen| chosen.may_share(path, other))
    }

    /// What a folder that is there on the other side needs of its counterpart.
    pub(crate) fn needs_of(&self, path: &[u8]) -> Needs {
        self.chosen.as_ref().map_or(Needs::All, |chosen| chosen.needs_of(path))
    }

    /// True if it knows what stays.
    pub(crate) fn is_of_chosen(&self) -> bool {
        self.chosen.is_some()
    }

    /// Reads the patterns; the first bad one is the error.
    pub fn new(rules: &Rules) -> Result<Self, BadPattern> {
        let given = |texts: &[String], option| {
            let origin = || Origin::Option(option);
            let one = |text: &String| Given { text: text.clone(), origin: origin() };
            texts.iter().map(one).collect::<Vec<_>>()
        };
        let mut exclude: Vec<Given> = rules.files.iter().flat_map(lines_of).collect();
        exclude.extend(given(&rules.exclude, "--exclude"));
        let litter = LITTER
            .map(|text| Given { text: text.to_owned(), origin: Origin::BuiltIn("--skip-litter") });
        let exclude = Patterns::new(exclude, rules.any_case)?;
        let only = Patterns::new(given(&rules.only, "--only"), rules.any_case)?;
        let litter = if rules.no_litter { litter.to_vec() } else { Vec::new() };
        let litter = Patterns::new(litter, true)?;
        let count = exclude.given.len() + only.given.len() + Rule::PLAIN.len();
        let counts = std::iter::repeat_with(Counts::default).take(count).collect();
        let everything = *rules == Rules::default();
        let (rules, chosen) = (rules.clone(), None);
        Ok(Self { rules, everything, chosen, exclude, only, litter, counts })
    }

    /// Decides about an entry, and tells the rule, if it was one: by its path and kind, and by what
    /// else it is where that is given. There is no other way to a verdict.
    #[inline]
    pub(crate) fn judge(
        &self,
        asked: &Asked<'_>,
        nature: Option<Nature<'_>>,
    ) -> io::Result<(Verdict, Option<Rule>)> {
        if self.everything {
            return Ok((Verdict::Take { all_below: asked.all_below }, None));
        }
        if let Some(chosen) = &self.chosen {
            return Ok((chosen.judge(asked), None));
        }
        let decided = self.judge_name(asked);
        let Some(Nature { stat, is_cache }) = nature.filter(|_| decided.0 != Verdict::Leave) else {
            return Ok(decided);
        };
        let rule = match self.leaves_out(stat) {
            None if asked.kind == Kind::Folder && is_cache()? => Some(Rule::Cache),
            rule => rule,
        };
        Ok(rule.map_or(decided, |rule| (Verdict::Leave, Some(rule))))
    }

    /// True if the patterns take an entry, and every folder above it.
    pub(crate) fn takes_by_name(&self, path: &[u8], kind: Kind) -> bool {
        let mut all_below = self.all_below_root();
        let ends = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| at);
        for (above, end) in ends.chain([path.len()]).enumerate() {
            let kind = if end < path.len() { Kind::Folder } else { kind };
            let depth = u32::try_from(above + 1).unwrap_or(u32::MAX);
            match self.judge_name(&Asked { path: &path[..end], kind, depth, all_below }).0 {
                Verdict::Take { all_below: below } => all_below = below,
                Verdict::IfNeeded { all_below: below } if end < path.len() => all_below = below,
                _ => return false,
            }
        }
        true
    }

    fn judge_name(&self, asked: &Asked<'_>) -> (Verdict, Option<Rule>) {
        let Asked { path, kind, depth, all_below } = *asked;
        let folder = kind == Kind::Folder;
        let leave = |rule| (Verdict::Leave, Some(rule));
        let name = path.rsplit(|b| *b == b'/').next().unwrap_or(path);
        if self.too_deep(depth) {
            return leave(Rule::Depth);
        }
        if self.rules.no_hidden && name.first() == Some(&b'.') {
            return leave(Rule::Hidden);
        }
        if self.litter.decides(path, folder).is_some() {
            return leave(Rule::Litter);
        }
        let mut rule = match self.exclude.decides(path, folder) {
            Some((number, false)) => return leave(Rule::Exclude(number)),
            Some((number, true)) => Some(Rule::Exclude(number)),
            None => None,
        };
        if !folder && !self.rules.kinds.has(kind) {
            return leave(Rule::Kind);
        }
        let mut takes_below = all_below;
        if !all_below {
            match self.only.decides(path, folder) {
                Some((number, false)) => {
                    rule = Some(Rule::Only(number));
                    takes_below = true;
                }
                _ if folder => return (Verdict::IfNeeded { all_below: false }, rule),
                _ => return leave(Rule::NotOnly),
            }
        }
        if folder && self.needs_reason_for_folders() {
            return (Verdict::IfNeeded { all_below: takes_below }, rule);
        }
        (Verdict::Take { all_below: takes_below }, rule)
    }

    /// The rule that leaves an entry out for its size or time. Folders are never left out for
    /// these: they hold what is not.
    fn leaves_out(&self, stat: &Stat) -> Option<Rule> {
        if stat.kind == Kind::Folder {
            return None;
        }
        let size = if stat.kind.is_device() { 0 } else { stat.size };
        if !self.rules.size.holds(&size) {
            return Some(Rule::Size);
        }
        (!self.rules.modified.holds(&stat.modified)).then_some(Rule::Date)
    }

    /// True if a folder is marked as a cache and such are left out.
    pub(crate) fn is_cache(
        &self,
        system: &dyn System,
        above: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<bool> {
        if !self.rules.no_caches {
            return Ok(false);
        }
        let (tag, signature) = CACHE_TAG;
        let folder = system.open_folder(above, name);
        // What cannot be opened is told of when it is read.
        let Ok(tag) = folder.and_then(|folder| system.open_file(folder.as_fd(), tag)) else {
            return Ok(false);
        };
        let mut begin = vec![0; signature.len()];
        let length = system.read_at(tag.as_fd(), &mut begin, 0)?;
        Ok(&begin[..length] == signature)
    }

    /// What holds for the top of a tree: no `--only` has to fit any more below.
    pub(crate) fn all_below_root(&self) -> bool {
        self.only.is_empty() && self.chosen.is_none()
    }

    /// True if what it says depends on paths.
    pub(crate) fn looks_at_paths(&self) -> bool {
        if self.chosen.is_some() {
            return true;
        }
        let patterns = [&self.exclude, &self.only, &self.litter];
        self.rules.no_hidden || patterns.iter().any(|patterns| !patterns.is_empty())
    }

    /// True if a folder may take part only for what it holds.
    pub(crate) fn is_choosy(&self) -> bool {
        self.needs_reason_for_folders() || self.takes_only() || self.chosen.is_some()
    }

    /// True if folders are among the kinds that are taken.
    pub(crate) fn takes_folders(&self) -> bool {
        self.rules.kinds.folders
    }

    /// True if folders are taken for what is taken in them.
    fn needs_reason_for_folders(&self) -> bool {
        let Rules { size, modified, kinds, no_empty_folders, .. } = &self.rules;
        *no_empty_folders || !kinds.folders || !size.is_open() || !modified.is_open()
    }

    /// The rule by which a folder was left out of which nothing takes part. `all_below` is what it was
    /// to be taken with.
    pub(crate) fn rule_of_unneeded(&self, all_below: bool) -> Rule {
        let Rules { size, modified, kinds, no_empty_folders, .. } = &self.rules;
        if (self.takes_only() || self.chosen.is_some()) && !all_below {
            Rule::NotOnly
        } else if *no_empty_folders {
            Rule::Empty
        } else if !kinds.folders {
            Rule::Kind
        } else if !size.is_open() {
            Rule::Size
        } else {
            debug_assert!(!modified.is_open(), "some rule made the folder wait for its contents");
            Rule::Date
        }
    }

    /// True if other drives that are mounted in the destination alone are gone through, too.
    pub(crate) fn crosses_drives(&self) -> bool {
        self.rules.cross_drives
    }

    /// True if it takes all there is: nothing can lie below the roots that was not looked at.
    pub(crate) fn takes_everything(&self) -> bool {
        self.everything
    }

    /// True if it stops where another drive is mounted.
    pub(crate) fn stays_on_its_drive(&self) -> bool {
        self.rules.same_drive
    }

    /// True if what is left out is removed from the destination of a mirror.
    pub(crate) fn drops_unselected(&self) -> bool {
        self.rules.drop_unselected
    }

    /// True if there are patterns of what to take.
    pub(crate) fn takes_only(&self) -> bool {
        !self.only.is_empty()
    }

    fn too_deep(&self, depth: u32) -> bool {
        self.rules.depth.is_some_and(|limit| depth > limit)
    }

    /// What was counted so far.
    pub(crate) fn counted(&self) -> Vec<[u64; 3]> {
        let of = |counts: &Counts| counts.each().map(|count| count.load(Ordering::Relaxed));
        self.counts.iter().map(of).collect()
    }

    /// Goes on from what was counted before; from nothing, if that is empty.
    pub(crate) fn count_as(&self, before: Vec<[u64; 3]>) {
        let before = before.into_iter().chain(std::iter::repeat([0; 3]));
        for (counts, before) in self.counts.iter().zip(before) {
            let each = counts.each().into_iter().zip(before);
            each.for_each(|(count, before)| count.store(before, Ordering::Relaxed));
        }
    }

    /// Counts a decision.
    pub(crate) fn count(&self, rule: Rule, side: Counted, taken: bool) {
        let counts = &self.counts[self.place(rule)];
        let count = match (taken, side) {
            (true, _) => &counts.taken,
            (false, Counted::Source) => &counts.left_out,
            (false, Counted::DestinationAlone) => &counts.kept,
        };
        count.fetch_add(1, Ordering::Relaxed);
    }

    fn place(&self, rule: Rule) -> usize {
        let (exclude, only) = (self.exclude.given.len(), self.only.given.len());
        match rule {
            Rule::Exclude(number) => number,
            Rule::Only(number) => exclude + number,
            plain => {
                let at = Rule::PLAIN.iter().position(|rule| *rule == plain);
                exclude + only + at.unwrap_or(0)
            }
        }
    }

    /// All rules that were given, in the order in which they are looked at within their kind.
    pub(crate) fn all_rules(&self) -> impl Iterator<Item = Rule> {
        let exclude = (0..self.exclude.given.len()).map(Rule::Exclude);
        let only = (0..self.only.given.len()).map(Rule::Only);
        let plain = Rule::PLAIN.into_iter().filter(|rule| self.is_given(*rule));
        exclude.chain(only).chain(plain)
    }

    fn is_given(&self, rule: Rule) -> bool {
        let rules = &self.rules;
        match rule {
            Rule::Exclude(_) | Rule::Only(_) => true,
            Rule::NotOnly => self.takes_only(),
            Rule::Depth => rules.depth.is_some(),
            Rule::Size => !rules.size.is_open(),
            Rule::Date => !rules.modified.is_open(),
            Rule::Kind => rules.kinds != Kinds::ALL,
            Rule::Hidden => rules.no_hidden,
            Rule::Litter => rules.no_litter,
            Rule::Cache => rules.no_caches,
            Rule::Empty => rules.no_empty_folders,
        }
    }

    /// How a rule was given.
    pub(crate) fn name(&self, rule: Rule) -> String {
        match rule {
            Rule::Exclude(number) => self.exclude.given[number].to_string(),
            Rule::Only(number) => self.only.given[number].to_string(),
            Rule::NotOnly => "--only (none matches)".to_owned(),
            Rule::Depth => format!("--depth {}", self.rules.depth.unwrap_or(0)),
            Rule::Size => "--size".to_owned(),
            Rule::Date => "--age or --dated".to_owned(),
            Rule::Kind => "--kind".to_owned(),
            Rule::Hidden => "--hidden no".to_owned(),
            Rule::Litter => "--skip-litter".to_owned(),
            Rule::Cache => "--skip-caches".to_owned(),
            Rule::Empty => "--no-empty-folders".to_owned(),
        }
    }

    /// True for a rule that says what not to take.
    pub(crate) fn is_for_leaving_out(&self, rule: Rule) -> bool {
        match rule {
            Rule::Exclude(number) => !self.exclude.given[number].text.starts_with('!'),
            Rule::Only(_) => false,
            _ => true,
        }
    }

    /// What each rule decided since the selection was made.
    pub fn decided(&self) -> Vec<Decided> {
        let read = |count: &AtomicU64| count.load(Ordering::Relaxed);
        let one = |rule: Rule| {
            let counts = &self.counts[self.place(rule)];
            let (taken, left_out, kept) =
                (read(&counts.taken), read(&counts.left_out), read(&counts.kept));
            Decided { rule: self.name(rule), taken, left_out, kept }
        };
        self.all_rules().map(one).collect()
    }

    /// Patterns that decided about nothing so far, as they were given.
    pub fn idle_patterns(&self) -> Vec<String> {
        let is_pattern = |rule: &Rule| matches!(rule, Rule::Exclude(_) | Rule::Only(_));
        let patterns = self.all_rules().filter(is_pattern).count();
        let idle = |decided: &Decided| decided.taken + decided.left_out + decided.kept == 0;
        self.decided().into_iter().take(patterns).filter(idle).map(|decided| decided.rule).collect()
    }
}

/// The patterns of a file, with their lines.
fn lines_of(file: &RuleFile) -> impl Iterator<Item = Given> {
    // Some editors begin a file with a mark of its encoding.
    let text = file.text.strip_prefix('\u{feff}').unwrap_or(&file.text);
    let lines = text.lines().enumerate();
    let told = lines.filter(|(_, line)| !line.trim().is_empty() && !line.starts_with('#'));
    told.map(|(at, line)| Given {
        text: line.to_owned(),
        origin: Origin::Line(file.name.clone(), at + 1),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn selection(exclude: &[&str], only: &[&str]) -> Selection {
        let own = |list: &[&str]| list.iter().map(|p| (*p).to_owned()).collect();
        Selection::new(&Rules { exclude: own(exclude), only: own(only), ..Rules::default() })
            .unwrap()
    }

    fn decided(selection: &Selection, path: &str, kind: Kind, all_below: bool) -> Verdict {
        let asked = Asked { path: path.as_bytes(), kind, depth: 1, all_below };
        selection.judge(&asked, None).unwrap().0
    }

    fn taken(selection: &Selection, path: &str, folder: bool) -> bool {
        let kind = if folder { Kind::Folder } else { Kind::File };
        let all_below = selection.all_below_root();
        decided(selection, path, kind, all_below) != Verdict::Leave
    }

    #[test]
    fn patterns_follow_the_documented_syntax() {
        // Pattern, path, folder, whether it matches.
        let table = [
            ("*.csv", "tides.csv", false, true),
            ("*.csv", "logs/1923/tides.csv", false, true),
            ("/tides.csv", "logs/tides.csv", false, false),
            ("/tides.csv", "tides.csv", false, true),
            ("logs/", "logs", true, true),
            ("logs/", "logs", false, false),
            ("logs/*.csv", "logs/a.csv", false, true),
            ("logs/*.csv", "old/logs/a.csv", false, false),
            ("logs/**/a.csv", "logs/1/2/a.csv", false, true),
            ("lamp[0-9]", "lamp7", false, true),
            ("lamp[!0-9]", "lamp7", false, false),
            ("\\!wichtig", "!wichtig", false, true),
            ("lamp?", "lamp", false, false),
        ];
        for (pattern, path, folder, matches) in table {
            let left_out = !taken(&selection(&[pattern], &[]), path, folder);
            assert_eq!(left_out, matches, "{pattern} on {path}");
        }
    }

    #[test]
    fn the_last_exclude_that_fits_decides() {
        let selection = selection(&["*.wav", "!north.wav"], &[]);
        assert!(!taken(&selection, "south.wav", false));
        assert!(taken(&selection, "north.wav", false));
    }

    #[test]
    fn only_takes_files_by_name_and_folders_as_a_whole() {
        let selection = selection(&[], &["*.csv", "logbooks/"]);
        let decide = |path: &str, kind, all_below| decided(&selection, path, kind, all_below);
        assert_eq!(decide("shop", Kind::Folder, false), Verdict::IfNeeded { all_below: false });
        assert_eq!(decide("shop/a.txt", Kind::File, false), Verdict::Leave);
        assert_eq!(decide("logbooks", Kind::Folder, false), Verdict::Take { all_below: true });
        assert_eq!(decide("logbooks/a.txt", Kind::File, true), Verdict::Take { all_below: true });
    }

    #[test]
    fn a_bad_pattern_is_shown_with_its_place() {
        for (pattern, column) in [("logs/[0-9.csv", 6), ("lens.{svg,png", 6), ("lamp[9-0]", 5)] {
            let rules = Rules { exclude: vec![pattern.into()], ..Rules::default() };
            let message = Selection::new(&rules).unwrap_err().to_string();
            let caret = message.lines().last().unwrap();
            assert_eq!(caret.find('^'), Some(4 + column - 1), "{message}");
        }
        for pattern in ["", "  ", "#x", "/a/../b", "./a"] {
            let rules = Rules { only: vec![pattern.into()], ..Rules::default() };
            assert!(Selection::new(&rules).is_err(), "{pattern:?}");
        }
    }

    #[test]
    fn a_pattern_that_decided_nothing_is_named() {
        let selection = selection(&["*.tmp", "*.csv"], &[]);
        let asked = Asked { path: b"a.csv", kind: Kind::File, depth: 1, all_below: true };
        let rule = selection.judge_name(&asked).1.unwrap();
        selection.count(rule, Counted::Source, false);
        assert_eq!(selection.idle_patterns(), ["--exclude '*.tmp'"]);
        assert_eq!(selection.decided()[1].left_out, 1);
    }

    #[test]
    fn a_bad_line_of_a_file_is_shown_with_its_place() {
        let text = "# what is not kept\n\n*.wav\n!north.wav\nlogs/[0-9.csv\n".to_owned();
        let files = vec![RuleFile { name: "saltmere.rules".into(), text }];
        let message = Selection::new(&Rules { files, ..Rules::default() }).unwrap_err().to_string();
        let first = message.lines().next().unwrap();
        assert!(first.starts_with("saltmere.rules:5 'logs/[0-9.csv': "), "{message}");
        assert!(first.ends_with("(column 6)"), "{message}");
    }
}
