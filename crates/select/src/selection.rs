//! Which entries take part.
//!
//! An entry that is left out is invisible on both sides: it is neither carried nor removed.

use std::io;
use std::os::fd::{AsFd, BorrowedFd};

use utter_echo_os::{Kind, Stat, System};

use crate::pattern::{BadPattern, GivenPattern, PatternOrigin, Patterns};
use crate::query::{Metadata, Query, Verdict};
use crate::rules::{LITTER, Rule, Rules, lines_of};

/// The name and first bytes of the file that marks a folder as a cache; see <https://bford.info/cachedir/>.
const CACHE_TAG: (&[u8], &[u8]) = (b"CACHEDIR.TAG", b"Signature: 8a477f597d28d172789f06886806bc55");

/// Compiled [`Rules`].
#[derive(Debug)]
pub struct Selection {
    pub(crate) rules: Rules,
    /// It takes everything, so that no rule is checked.
    everything: bool,
    pub(crate) exclude: Patterns,
    pub(crate) only: Patterns,
    litter: Patterns,
}

impl Selection {
    /// A selection that takes everything.
    pub fn everything() -> Self {
        let none = || Patterns::none();
        let rules = Rules::default();
        Self { rules, everything: true, exclude: none(), only: none(), litter: none() }
    }

    /// Compiles the rules; fails at the first bad pattern.
    pub fn new(rules: &Rules) -> Result<Self, BadPattern> {
        let given = |texts: &[String], option| {
            let origin = || PatternOrigin::Option(option);
            let one = |text: &String| GivenPattern { text: text.clone(), origin: origin() };
            texts.iter().map(one).collect::<Vec<_>>()
        };
        let mut exclude: Vec<GivenPattern> =
            rules.patterns.files.iter().flat_map(lines_of).collect();
        exclude.extend(given(&rules.patterns.exclude, "--exclude"));
        let litter = LITTER.map(|text| GivenPattern {
            text: text.to_owned(),
            origin: PatternOrigin::BuiltIn("--skip-litter"),
        });
        let exclude = Patterns::new(exclude, rules.patterns.ignore_case)?;
        let only =
            Patterns::new(given(&rules.patterns.only, "--only"), rules.patterns.ignore_case)?;
        let litter = if rules.without.no_litter { litter.to_vec() } else { Vec::new() };
        let litter = Patterns::new(litter, true)?;
        let everything = *rules == Rules::default();
        let rules = rules.clone();
        Ok(Self { rules, everything, exclude, only, litter })
    }

    /// Decides about an entry by its path, kind and, if given, metadata, and returns the rule that decided, if any.
    /// All verdicts come from here.
    #[inline]
    pub fn judge(
        &self,
        asked: &Query<'_>,
        nature: Option<Metadata<'_>>,
    ) -> io::Result<(Verdict, Option<Rule>)> {
        if self.everything {
            return Ok((Verdict::Take { all_below: asked.all_below }, None));
        }
        let decided = self.judge_name(asked);
        let Some(Metadata { stat, is_cache }) = nature.filter(|_| decided.0 != Verdict::Leave)
        else {
            return Ok(decided);
        };
        let rule = match self.leaves_out(stat) {
            None if asked.kind == Kind::Folder && is_cache()? => Some(Rule::Cache),
            rule => rule,
        };
        Ok(rule.map_or(decided, |rule| (Verdict::Leave, Some(rule))))
    }

    /// True if the patterns take an entry, and every folder above it.
    pub fn takes_by_name(&self, path: &[u8], kind: Kind) -> bool {
        let mut all_below = self.all_below_root();
        let ends = path.iter().enumerate().filter(|(_, b)| **b == b'/').map(|(at, _)| at);
        for (above, end) in ends.chain([path.len()]).enumerate() {
            let kind = if end < path.len() { Kind::Folder } else { kind };
            let depth = u32::try_from(above + 1).unwrap_or(u32::MAX);
            match self.judge_name(&Query { path: &path[..end], kind, depth, all_below }).0 {
                Verdict::Take { all_below: below } => all_below = below,
                Verdict::IfNeeded { all_below: below } if end < path.len() => all_below = below,
                _ => return false,
            }
        }
        true
    }

    fn judge_name(&self, asked: &Query<'_>) -> (Verdict, Option<Rule>) {
        let Query { path, kind, depth, all_below } = *asked;
        let folder = kind == Kind::Folder;
        let leave = |rule| (Verdict::Leave, Some(rule));
        let name = path.rsplit(|b| *b == b'/').next().unwrap_or(path);
        if self.too_deep(depth) {
            return leave(Rule::Depth);
        }
        if self.rules.without.no_hidden && name.first() == Some(&b'.') {
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

    /// The rule that leaves an entry out for its size or time. Folders are never left out for these.
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

    /// True if a folder is marked as a cache and caches are left out.
    pub fn is_cache(
        &self,
        system: &dyn System,
        above: BorrowedFd<'_>,
        name: &[u8],
    ) -> io::Result<bool> {
        if !self.rules.without.no_caches {
            return Ok(false);
        }
        let (tag, signature) = CACHE_TAG;
        let folder = system.open_folder(above, name);
        // An entry that cannot be opened is reported when it is read.
        let Ok(tag) = folder.and_then(|folder| system.open_file(folder.as_fd(), tag)) else {
            return Ok(false);
        };
        let mut begin = vec![0; signature.len()];
        let length = system.read_at(tag.as_fd(), &mut begin, 0)?;
        Ok(&begin[..length] == signature)
    }

    /// `all_below` for the root of a tree: true if there are no `--only` patterns.
    pub fn all_below_root(&self) -> bool {
        self.only.is_empty()
    }

    /// True if verdicts depend on paths.
    pub fn looks_at_paths(&self) -> bool {
        let patterns = [&self.exclude, &self.only, &self.litter];
        self.rules.without.no_hidden || patterns.iter().any(|patterns| !patterns.is_empty())
    }

    /// True if a folder may take part only because something in it does.
    pub fn is_choosy(&self) -> bool {
        self.needs_reason_for_folders() || self.takes_only()
    }

    /// True if folders are among the kinds that are taken.
    pub fn takes_folders(&self) -> bool {
        self.rules.kinds.folders
    }

    /// True if folders without entries that take part are left out.
    fn needs_reason_for_folders(&self) -> bool {
        let Rules { size, modified, kinds, without, .. } = &self.rules;
        without.no_empty_folders || !kinds.folders || !size.is_open() || !modified.is_open()
    }

    /// The rule that left out a folder in which nothing takes part. `all_below` is that of its verdict.
    pub fn rule_of_unneeded(&self, all_below: bool) -> Rule {
        let Rules { size, modified, kinds, without, .. } = &self.rules;
        if self.takes_only() && !all_below {
            Rule::NotOnly
        } else if without.no_empty_folders {
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

    /// True if drives mounted in folders of the destination only are scanned, too.
    pub fn crosses_drives(&self) -> bool {
        self.rules.cross_drives
    }

    /// True if it takes everything, so that a scan looks at all entries below the roots.
    pub fn takes_everything(&self) -> bool {
        self.everything
    }

    /// True if it leaves out folders where another drive is mounted.
    pub fn stays_on_its_drive(&self) -> bool {
        self.rules.same_drive
    }

    /// True if a mirror removes left-out entries from the destination.
    pub fn drops_unselected(&self) -> bool {
        self.rules.drop_unselected
    }

    /// True if there are `--only` patterns.
    pub fn takes_only(&self) -> bool {
        !self.only.is_empty()
    }

    fn too_deep(&self, depth: u32) -> bool {
        self.rules.depth.is_some_and(|limit| depth > limit)
    }

    /// The number of rules, counting each kind of rule without a pattern once.
    pub(crate) fn rule_count(&self) -> usize {
        self.exclude.given.len() + self.only.given.len() + Rule::PLAIN.len()
    }

    /// The position of a rule among all rules.
    pub(crate) fn position(&self, rule: Rule) -> usize {
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
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::counts::RuleCounts;
    use crate::query::CountedSide;
    use crate::rules::PatternRules;
    use crate::rules::RuleFile;

    fn selection(exclude: &[&str], only: &[&str]) -> Selection {
        let own = |list: &[&str]| list.iter().map(|p| (*p).to_owned()).collect();
        Selection::new(&Rules {
            patterns: PatternRules {
                exclude: own(exclude),
                only: own(only),
                ..PatternRules::default()
            },
            ..Rules::default()
        })
        .unwrap()
    }

    fn decided(selection: &Selection, path: &str, kind: Kind, all_below: bool) -> Verdict {
        let asked = Query { path: path.as_bytes(), kind, depth: 1, all_below };
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
    fn only_restores_files_by_name_and_folders_as_a_whole() {
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
            let rules = Rules {
                patterns: PatternRules { exclude: vec![pattern.into()], ..PatternRules::default() },
                ..Rules::default()
            };
            let message = Selection::new(&rules).unwrap_err().to_string();
            let caret = message.lines().last().unwrap();
            assert_eq!(caret.find('^'), Some(4 + column - 1), "{message}");
        }
        for pattern in ["", "  ", "#x", "/a/../b", "./a"] {
            let rules = Rules {
                patterns: PatternRules { only: vec![pattern.into()], ..PatternRules::default() },
                ..Rules::default()
            };
            assert!(Selection::new(&rules).is_err(), "{pattern:?}");
        }
    }

    #[test]
    fn a_pattern_that_decided_nothing_is_reported() {
        let selection = selection(&["*.tmp", "*.csv"], &[]);
        let asked = Query { path: b"a.csv", kind: Kind::File, depth: 1, all_below: true };
        let rule = selection.judge_name(&asked).1.unwrap();
        let counts = RuleCounts::of(&selection);
        counts.add(rule, CountedSide::Source, false);
        assert_eq!(counts.idle_patterns(), ["--exclude '*.tmp'"]);
        assert_eq!(counts.summaries()[1].left_out, 1);
    }

    #[test]
    fn a_bad_line_of_a_file_is_shown_with_its_place() {
        let text = "# what is not kept\n\n*.wav\n!north.wav\nlogs/[0-9.csv\n".to_owned();
        let files = vec![RuleFile { name: "saltmere.rules".into(), text }];
        let message = Selection::new(&Rules {
            patterns: PatternRules { files, ..PatternRules::default() },
            ..Rules::default()
        })
        .unwrap_err()
        .to_string();
        let first = message.lines().next().unwrap();
        assert!(first.starts_with("saltmere.rules:5 'logs/[0-9.csv': "), "{message}");
        assert!(first.ends_with("(column 6)"), "{message}");
    }
}
