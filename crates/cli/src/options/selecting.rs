//! What to take.

use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context as _, Result};
use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::os::Time;
use utter_echo_core::select::{Clutter, Kinds, PatternRules, RuleFile, Rules, Selection, Span};

use crate::context::Context;
use crate::exit::WrongCall;
use crate::options::by_name::path;
use crate::options::complete;
use crate::options::values;
use crate::terminal::names;

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct PatternOptions {
    /// Leave out what matches this pattern, like '*.tmp' or /firmware/
    ///
    /// A pattern without a slash matches a name at any depth. A slash at the start ties it to the top of the
    /// source, and one at the end makes it match folders only. '*' and '?' stop at slashes, '**' does not,
    /// '[a-z]' is one character of that range, and '{a,b}' is either. '!pattern' takes back what an earlier
    /// pattern left out. May be given more than once; the last pattern that matches decides. Put patterns in
    /// quotes, or the shell replaces them by names of files. Default: nothing is left out.
    #[arg(long, value_name = "GLOB")]
    pub(crate) exclude: Vec<String>,
    /// Read patterns to leave out from this file, one a line; '#' begins a comment
    ///
    /// They count like those of --exclude and come before them: the last one that matches decides, whether
    /// it stands in a file or in an --exclude. May be given more than once. Default: none.
    #[arg(long, value_name = "FILE", hide_short_help = true, value_parser = path())]
    pub(crate) rules: Vec<PathBuf>,
    /// Take only what matches this pattern, and the folders that hold it
    ///
    /// The patterns are those of --exclude; a folder that matches is taken with everything in it. May be
    /// given more than once. An entry is taken if it matches one --only, or none is given, if --rules and
    /// --exclude do not leave it out, and if it fits the sizes, ages and kinds below. Default: everything is
    /// taken.
    #[arg(long, value_name = "GLOB")]
    pub(crate) only: Vec<String>,
    /// Ignore the difference between upper and lower case in patterns
    #[arg(long, hide_short_help = true)]
    pub(crate) ignore_case: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct EntryOptions {
    /// Take only files of this size, like 1M..2GiB, 1M.. or ..500K
    ///
    /// Both ends are included. This option, --age and --dated ask about the source's entry, and about the
    /// destination's where only that has it. A folder is taken if something in it is. Default: any size.
    #[arg(long, value_name = "FROM..TO", value_parser = values::sizes, hide_short_help = true)]
    pub(crate) size: Option<Span<u64>>,
    /// Take only what was last changed this long ago, like ..5d or 1w..
    ///
    /// ..5d means within the last five days, 1w.. a week ago or longer. Default: any age.
    #[arg(long, value_name = "FROM..TO", value_parser = values::ages, conflicts_with = "dated")]
    pub(crate) age: Option<Span<Duration>>,
    /// Take only what was last changed between two dates, like 2026-01-31..2026-02-28T14:00
    ///
    /// Times are local, unless they end in an offset like +02:00 or in Z. A day without a time counts from
    /// its beginning, or to its end. Either end may be left out. Default: any time.
    #[arg(long, value_name = "FROM..TO", value_parser = values::dates, hide_short_help = true)]
    pub(crate) dated: Option<Span<Time>>,
    /// Take only these kinds of entries: some of file, folder, symlink, special
    ///
    /// Without 'folder', a folder is taken only if something in it is. 'special' means FIFOs, sockets and
    /// devices. Default: all kinds.
    #[arg(long, value_name = "LIST", value_parser = values::kinds, add = ArgValueCompleter::new(complete::kinds), hide_short_help = true)]
    pub(crate) kind: Option<Kinds>,
    /// Take only the folders, without the files in them
    #[arg(long, conflicts_with = "kind", hide_short_help = true)]
    pub(crate) folders_only: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct ClutterOptions {
    /// Whether to take entries whose names begin with a dot
    #[arg(long, value_name = "WHETHER", default_value = "yes", hide_short_help = true)]
    pub(crate) hidden: YesNo,
    /// Leave out what desktop systems scatter: thumbnails, indexes, trash (listed in 'utter help selection')
    #[arg(long, hide_short_help = true)]
    pub(crate) skip_litter: bool,
    /// Leave out folders that a file CACHEDIR.TAG marks as caches
    #[arg(long, hide_short_help = true)]
    pub(crate) skip_caches: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
#[allow(clippy::struct_excessive_bools, reason = "switches, each by itself")]
pub(crate) struct Selecting {
    #[command(flatten)]
    pub(crate) patterns: PatternOptions,
    #[command(flatten)]
    pub(crate) what: EntryOptions,
    #[command(flatten)]
    pub(crate) without: ClutterOptions,
    /// Go no deeper than this; 1 is the top level only
    ///
    /// Folders on the last level are taken without what is in them. Default: all levels.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..), allow_negative_numbers = true, hide_short_help = true)]
    pub(crate) depth: Option<u32>,
    /// Leave out folders in which nothing is taken
    #[arg(long, hide_short_help = true)]
    pub(crate) no_empty_folders: bool,
    /// Leave out folders of the source where another drive is mounted
    ///
    /// They are named, and left alone in the destination. Default: they are taken along, and named.
    #[arg(long, hide_short_help = true)]
    pub(crate) same_drive: bool,
    /// Also go onto other drives mounted in the destination where the source has nothing
    ///
    /// A mirror then removes what they hold. Default: such drives are left alone, and named.
    #[arg(long, hide_short_help = true, conflicts_with = "same_drive")]
    pub(crate) cross_drives: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum YesNo {
    Yes,
    No,
}

/// Of commands that put a source somewhere.
#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct Inside {
    /// Put the source itself, under its own name, inside the destination
    #[arg(long)]
    pub(crate) inside: bool,
}

/// Of a mirror.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct Dropping {
    /// Also remove from the destination what the selection leaves out
    ///
    /// Without it, what is left out is left alone on both sides.
    #[arg(long, hide_short_help = true)]
    pub(crate) drop_unselected: bool,
}

/// Of an undo.
#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct OnlyOfRun {
    /// Bring back only what matches this pattern; may be given more than once
    ///
    /// The patterns are those of 'utter copy --exclude', held against paths in the destination. The rest can
    /// still be undone later. Default: everything is brought back.
    #[arg(long, value_name = "GLOB", requires = "run")]
    pub(crate) only: Vec<String>,
}

impl OnlyOfRun {
    pub(crate) fn selection(&self) -> Result<Selection> {
        Ok(Selection::new(&Rules {
            patterns: PatternRules { only: self.only.clone(), ..PatternRules::default() },
            ..Rules::default()
        })?)
    }
}

impl Selecting {
    /// Builds the selection; reads rules files.
    pub(crate) fn selection(
        &self,
        sources: &[PathBuf],
        dropping: &Dropping,
        context: &Context,
    ) -> Result<Selection> {
        let mut files = Vec::new();
        for path in &self.patterns.rules {
            let name = path.to_string_lossy().into_owned();
            let text = std::fs::read_to_string(path).with_context(|| {
                let path = names::path(path);
                WrongCall(format!("cannot read the rules '{path}'"))
            })?;
            files.push(RuleFile { name, text });
        }
        let all = self.patterns.exclude.iter().chain(&self.patterns.only).map(String::as_str);
        let lines = files.iter().flat_map(|file| file.text.lines());
        for pattern in all.chain(lines) {
            values::refuse_outside(pattern, sources).map_err(WrongCall)?;
        }
        for (option, patterns) in
            [("--exclude", &self.patterns.exclude), ("--only", &self.patterns.only)]
        {
            values::refuse_expanded(option, patterns, sources).map_err(WrongCall)?;
        }
        let modified = match (self.what.age, self.what.dated) {
            (Some(age), _) => values::times_of_age(age, context.now()),
            (None, dated) => dated.unwrap_or_default(),
        };
        let folders = Kinds { files: false, folders: true, links: false, specials: false };
        let only_folders = self.what.folders_only.then_some(folders);
        Ok(Selection::new(&Rules {
            size: self.what.size.unwrap_or_default(),
            modified,
            depth: self.depth,
            kinds: self.what.kind.or(only_folders).unwrap_or(Kinds::ALL),
            same_drive: self.same_drive,
            cross_drives: self.cross_drives,
            drop_unselected: dropping.drop_unselected,
            patterns: PatternRules {
                files,
                exclude: self.patterns.exclude.clone(),
                only: self.patterns.only.clone(),
                ignore_case: self.patterns.ignore_case,
            },
            without: Clutter {
                no_hidden: self.without.hidden == YesNo::No,
                no_litter: self.without.skip_litter,
                no_caches: self.without.skip_caches,
                no_empty_folders: self.no_empty_folders,
            },
        })?)
    }
}
