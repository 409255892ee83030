//! Rules as the user gives them.

use utter_echo_os::{Kind, Time};

use crate::pattern::{GivenPattern, PatternOrigin};

/// A file of exclude patterns, one per line. Empty lines and lines that begin with `#` are ignored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleFile {
    /// As the user named it.
    pub name: String,
    /// All of it.
    pub text: String,
}

/// A range that includes both ends, each of which may be open.
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
    pub(crate) fn holds(&self, value: &T) -> bool {
        self.from.as_ref().is_none_or(|from| from <= value)
            && self.to.as_ref().is_none_or(|to| value <= to)
    }

    pub(crate) fn is_open(&self) -> bool {
        self.from.is_none() && self.to.is_none()
    }
}

/// Kinds of entries that a user can choose.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "each is taken or not, whatever the others are")]
pub struct Kinds {
    /// Regular files.
    pub files: bool,
    /// Folders for their own sake. Without this kind they still take part for their entries.
    pub folders: bool,
    /// Symbolic links.
    pub links: bool,
    /// FIFOs, sockets and devices.
    pub specials: bool,
}

impl Kinds {
    /// All of them.
    pub const ALL: Self = Self { files: true, folders: true, links: true, specials: true };

    pub(crate) fn has(self, kind: Kind) -> bool {
        match kind {
            Kind::File => self.files,
            Kind::Folder => self.folders,
            Kind::Symlink => self.links,
            Kind::Fifo | Kind::Socket | Kind::CharDevice | Kind::BlockDevice => self.specials,
        }
    }
}

/// Patterns and their options.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PatternRules {
    /// Files of exclude patterns, which come before those of `exclude`.
    pub files: Vec<RuleFile>,
    /// Entries to leave out. A later pattern overrides an earlier one, and `!` takes entries back.
    pub exclude: Vec<String>,
    /// If not empty, only entries that match one of these take part, with everything below folders that match.
    pub only: Vec<String>,
    /// Patterns ignore the case of letters.
    pub ignore_case: bool,
}

/// Kinds of clutter to leave out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "switches, each by itself")]
pub struct Clutter {
    /// Leave out names that begin with a dot.
    pub no_hidden: bool,
    /// Leave out the clutter of desktop systems: [`LITTER`].
    pub no_litter: bool,
    /// Leave out folders marked by the cache directory tagging standard.
    pub no_caches: bool,
    /// Leave out folders in which nothing takes part.
    pub no_empty_folders: bool,
}

/// Patterns and limits as given.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "switches, each by itself")]
pub struct Rules {
    /// Sizes in bytes to take, of all but folders.
    pub size: Span<u64>,
    /// Modification times to take, of all but folders.
    pub modified: Span<Time>,
    /// The deepest level to take; 1 stands for the entries directly in the source.
    pub depth: Option<u32>,
    /// What to take.
    pub kinds: Kinds,
    /// Leave out folders of the source where another drive is mounted.
    pub same_drive: bool,
    /// Scan drives that are mounted in folders of the destination only.
    pub cross_drives: bool,
    /// A mirror removes from the destination what is left out.
    pub drop_unselected: bool,
    /// Patterns and their options.
    pub patterns: PatternRules,
    /// Clutter that is left out.
    pub without: Clutter,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            size: Span::default(),
            modified: Span::default(),
            depth: None,
            kinds: Kinds::ALL,
            same_drive: false,
            cross_drives: false,
            drop_unselected: false,
            patterns: PatternRules::default(),
            without: Clutter::default(),
        }
    }
}

/// Patterns for the clutter of desktop systems: thumbnails, indexes, views and trash.
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

/// The rule that decided about an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Rule {
    /// An exclude pattern, also one with `!`.
    Exclude(usize),
    /// An `--only` pattern.
    Only(usize),
    /// There are `--only` patterns, and none matches.
    NotOnly,
    /// How deep it lies.
    Depth,
    /// How large it is.
    Size,
    /// When it was changed.
    Date,
    /// Its type.
    Kind,
    /// It is hidden.
    Hidden,
    /// It is litter of a desktop system.
    Litter,
    /// It is a cache.
    Cache,
    /// It is an empty folder.
    Empty,
}

impl Rule {
    /// Those that do not stand for a pattern.
    pub(crate) const PLAIN: [Self; 9] = [
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

/// The patterns of a file, with their lines.
pub(crate) fn lines_of(file: &RuleFile) -> impl Iterator<Item = GivenPattern> {
    // Some editors begin a file with a mark of its encoding.
    let text = file.text.strip_prefix('\u{feff}').unwrap_or(&file.text);
    let lines = text.lines().enumerate();
    let told = lines.filter(|(_, line)| !line.trim().is_empty() && !line.starts_with('#'));
    told.map(|(at, line)| GivenPattern {
        text: line.to_owned(),
        origin: PatternOrigin::Line(file.name.clone(), at + 1),
    })
}
