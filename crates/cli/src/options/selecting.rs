//! What to take.

use std::path::PathBuf;
use std::time::Duration;

use anyhow::{Context as _, Result};
use clap::{Args, Command, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::os::Time;
use utter_echo_core::select::{Clutter, Kinds, PatternRules, RuleFile, Rules, Selection, Span};

use crate::context::Context;
use crate::exit::WrongCall;
use crate::location::{Location, location};
use crate::options::complete;
use crate::options::values;
use crate::terminal::names;

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct PatternOptions {
    /// Exclude entries that match this pattern, like '*.tmp' or /firmware/
    ///
    /// A pattern without a slash matches names at any depth. A pattern with a slash always starts at the top of the
    /// source; a slash at the end matches folders only. '*' and '?' stop at slashes, '**' does not, '[a-z]' is one
    /// character of that range, '{a,b}' is either. '!pattern' includes again what an earlier pattern excluded. Can
    /// be given several times; the last pattern that matches decides. Put patterns in quotes, or the shell expands
    /// them. Default: nothing is excluded.
    #[arg(long, value_name = "GLOB")]
    pub(crate) exclude: Vec<String>,
    /// Read exclude patterns from this file, one per line; '#' begins a comment
    ///
    /// They come before those of --exclude, and the last pattern that matches decides. Can be given several times.
    /// Default: none.
    #[arg(long, value_name = "FILE", hide_short_help = true, value_parser = location())]
    pub(crate) rules: Vec<Location>,
    /// Include only entries that match this pattern, and the folders above them
    ///
    /// Patterns are as for --exclude; a folder that matches is included with everything in it. Can be given several
    /// times. An entry is included if it matches any --only, or none is given, if --rules and --exclude do not
    /// exclude it, and if it fits the sizes, ages and kinds below. Default: everything.
    #[arg(long, value_name = "GLOB")]
    pub(crate) only: Vec<String>,
    /// Ignore upper and lower case in patterns
    #[arg(long, hide_short_help = true)]
    pub(crate) ignore_case: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct EntryOptions {
    /// Include only files of this size, like 1M..2GiB, 1M.. or ..500K
    ///
    /// Both ends count. This option, --age and --dated look at the source's entry, or at the destination's if only
    /// that has it. A folder is included if anything in it is. Default: any size.
    #[arg(long, value_name = "FROM..TO", value_parser = values::sizes, hide_short_help = true)]
    pub(crate) size: Option<Span<u64>>,
    /// Include only entries last modified this long ago, like ..5d or 1w..
    ///
    /// ..5d means within the last five days, 1w.. a week ago or longer. Default: any age.
    #[arg(long, value_name = "FROM..TO", value_parser = values::ages, conflicts_with = "dated")]
    pub(crate) age: Option<Span<Duration>>,
    /// Include only entries last modified between two dates, like 2026-01-31..2026-02-28T14:00
    ///
    /// Times are local unless they end in an offset like +02:00 or in Z. A day without a time counts as a whole.
    /// Either end can be omitted. Default: any time.
    #[arg(long, value_name = "FROM..TO", value_parser = values::dates, hide_short_help = true)]
    pub(crate) dated: Option<Span<Time>>,
    /// Include only these kinds of entries: some of file, folder, symlink, special
    ///
    /// Without 'folder', a folder is included only if anything in it is, and stays in the destination even if nothing
    /// in it is left, unless --drop-unselected is given. 'special' means FIFOs, sockets and
    /// devices. Default: all kinds.
    #[arg(long, value_name = "LIST", value_parser = values::kinds, add = ArgValueCompleter::new(complete::kinds), hide_short_help = true)]
    pub(crate) kind: Option<Kinds>,
    /// Include only folders, without the files in them
    #[arg(long, conflicts_with = "kind", hide_short_help = true)]
    pub(crate) folders_only: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct ClutterOptions {
    /// Whether to include entries whose names begin with a dot
    #[arg(long, value_name = "WHETHER", default_value = "yes", hide_short_help = true)]
    pub(crate) hidden: YesNo,
    /// Exclude files that desktop systems create: thumbnails, indexes, trash (listed in 'utter help selection')
    #[arg(long, hide_short_help = true)]
    pub(crate) skip_litter: bool,
    /// Exclude cache folders, marked by a file CACHEDIR.TAG
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
    /// Include at most this many levels; 1 is the top level only
    ///
    /// Folders on the last level are included without their entries. Default: all levels.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..), allow_negative_numbers = true, hide_short_help = true)]
    pub(crate) depth: Option<u32>,
    /// Exclude folders in which nothing is included
    #[arg(long, hide_short_help = true)]
    pub(crate) no_empty_folders: bool,
    /// Exclude folders of the source where another drive is mounted
    ///
    /// They are listed, and left alone in the destination. Default: they are included and listed.
    #[arg(long, hide_short_help = true)]
    pub(crate) same_drive: bool,
    /// Include other drives mounted in the destination where the source has nothing
    ///
    /// A mirror then removes their entries. Default: such drives are left alone and listed.
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

const WITH_CARRY: &str = "'content,times' compares just these two, 'all,-owner' everything except the owner. The access time is not part of 'all'; add it with 'all,atime'.";

/// The command, which compares and puts nothing anywhere.
pub(crate) fn for_comparing(command: Command) -> Command {
    let inside = "Compare with the folder inside the destination that has the source's own name";
    let carry = "Which attributes to compare: all, or some of content, times, mode, owner, acl, xattr, flags, hardlinks, holes";
    command
        .mut_arg("inside", |option| option.help(inside))
        .mut_arg("carry", |option| option.help(carry).long_help(format!("{carry}\n\n{WITH_CARRY}")))
}

/// Of a mirror.
#[derive(Debug, Default, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct Dropping {
    /// Also remove entries from the destination that the selection excludes, and folders in which it includes nothing
    ///
    /// Without it, excluded entries are left alone on both sides.
    #[arg(long, hide_short_help = true)]
    pub(crate) drop_unselected: bool,
}

/// Of an undo.
#[derive(Debug, Args)]
#[command(next_help_heading = "Selection")]
pub(crate) struct OnlyOfRun {
    /// Restore only entries that match this pattern; can be given several times
    ///
    /// Patterns are as for 'utter copy --exclude', for paths in the destination. The rest can still be undone
    /// later. Default: everything.
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
        for rules in &self.patterns.rules {
            let path = &rules.find()?;
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
