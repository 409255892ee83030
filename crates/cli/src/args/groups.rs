//! Options by the groups they stand under in the help.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, ValueEnum};
use utter_echo_core::aspect::Aspects;
use utter_echo_core::os::Time;
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{Guard, RemovalLimit};
use utter_echo_core::select::{Kinds, Span};

use super::values::{self, KeepRuns};

/// What every command that compares two sides is told about them.
#[derive(Debug, Args)]
pub(crate) struct What {
    #[command(flatten)]
    pub(crate) takes: Takes,
    #[command(flatten)]
    pub(crate) changed: Changed,
    #[command(flatten)]
    pub(crate) carried: Carried,
}

/// How it goes about it, and what it says.
#[derive(Debug, Args)]
pub(crate) struct How {
    #[command(flatten)]
    pub(crate) running: Running,
    #[command(flatten)]
    pub(crate) output: Output,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "What to take")]
#[allow(clippy::struct_excessive_bools, reason = "switches, each by itself")]
pub(crate) struct Takes {
    /// Put each source itself, under its own name, inside the destination
    #[arg(long)]
    pub(crate) inside: bool,
    /// Leave out what matches
    ///
    /// Patterns are those of gitignore files: without a slash they match at any depth, a leading
    /// slash ties them to the source's top, a trailing one to folders, '*' and '?' stop at
    /// slashes, '**' does not, '{a,b}' is either, and a later '!pattern' takes back. May be
    /// repeated; the last pattern that matches decides. Default: nothing is left out.
    #[arg(long, value_name = "GLOB")]
    pub(crate) exclude: Vec<String>,
    /// File of patterns to leave out, one a line; '#' begins a comment
    ///
    /// They count like those of --exclude, before them: the last that matches decides, whether it
    /// stands in a file or in an --exclude. May be repeated. Default: none.
    #[arg(long, value_name = "FILE", hide_short_help = true)]
    pub(crate) rules: Vec<PathBuf>,
    /// Take only what matches, and the folders needed to hold it
    ///
    /// Same patterns as --exclude; a folder that matches is taken with all it holds. May be
    /// repeated. An entry is taken if it matches an --only or none is given, is not left out by the
    /// last line of --rules or --exclude that matches it, and fits every range below. Default:
    /// everything is taken.
    #[arg(long, value_name = "GLOB")]
    pub(crate) only: Vec<String>,
    /// Large and small letters are the same to patterns
    #[arg(long, hide_short_help = true)]
    pub(crate) any_case: bool,
    /// Take only what is of this size, like 1M..2GiB, 1M.. or ..500K
    ///
    /// Both ends are within. This, --age and --dated ask about the source's entry, and about the
    /// destination's where only that has it; folders are taken for what is taken in them. Default: any
    /// size.
    #[arg(long, value_name = "FROM..TO", value_parser = values::sizes, hide_short_help = true)]
    pub(crate) size: Option<Span<u64>>,
    /// Take only what was last changed so long ago, like ..5d for the last five days, or 1w..
    ///
    /// Default: any age.
    #[arg(long, value_name = "FROM..TO", value_parser = values::ages, conflicts_with = "dated")]
    pub(crate) age: Option<Span<Duration>>,
    /// Take only what was last changed between these, like 2026-01-31..2026-02-28T14:00
    ///
    /// In local time; a day without a time counts from its beginning, or up to its end. Either may be
    /// left out. Default: any time.
    #[arg(long, value_name = "FROM..TO", value_parser = values::dates, hide_short_help = true)]
    pub(crate) dated: Option<Span<Time>>,
    /// Kinds of entries to take: some of file, folder, symlink, special
    ///
    /// Without 'folder' folders are taken for what is taken in them; special are FIFOs, sockets and
    /// devices. Default: all kinds.
    #[arg(long, value_name = "LIST", value_parser = values::kinds, hide_short_help = true)]
    pub(crate) kind: Option<Kinds>,
    /// Take folders only, without what is in them but folders
    #[arg(long, conflicts_with = "kind", hide_short_help = true)]
    pub(crate) folders_only: bool,
    /// Take what has a name that begins with a dot, or not
    #[arg(long, value_name = "WHETHER", default_value = "yes", hide_short_help = true)]
    pub(crate) hidden: YesNo,
    /// Leave out what desktop systems scatter, like thumbnails, indexes and trash (see the README)
    #[arg(long, hide_short_help = true)]
    pub(crate) skip_litter: bool,
    /// Leave out folders that are marked as caches by a file CACHEDIR.TAG
    #[arg(long, hide_short_help = true)]
    pub(crate) skip_caches: bool,
    /// Deepest level to take; 1 is the top level only
    ///
    /// Folders on the last level are taken without what is in them. Default: all levels.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) depth: Option<u32>,
    /// Leave out folders in which nothing is taken
    #[arg(long, hide_short_help = true)]
    pub(crate) no_empty_folders: bool,
    /// Leave out folders of the source where another drive is mounted
    ///
    /// They are named, and left alone in the destination. Default: they are taken along, and named.
    #[arg(long, hide_short_help = true)]
    pub(crate) same_drive: bool,
    /// Go onto other drives that are mounted in the destination where the source has nothing
    ///
    /// A mirror then removes what they hold, too. Default: such drives are left alone, and named.
    #[arg(long, hide_short_help = true, conflicts_with = "same_drive")]
    pub(crate) cross_drives: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "What counts as changed")]
pub(crate) struct Changed {
    /// What tells that a file changed: its size and time, its content, its size alone, or only
    /// whether it is there
    ///
    /// With 'content' both sides are read in full, and every attribute of every entry is looked
    /// at, whatever the change times say.
    #[arg(long, value_name = "WHAT", default_value = "size-time")]
    pub(crate) by: ByWhat,
    /// Look at every attribute of every entry
    ///
    /// Access lists and extended attributes cost calls of their own, so copy and mirror look at
    /// them only where the source's change time says that they may have been altered since they
    /// were carried. With this they are always looked at, as after an earlier run that left them
    /// out of --carry, or where somebody changed them in the destination. verify always does.
    #[arg(long, hide_short_help = true)]
    pub(crate) all_aspects: bool,
    /// Times that differ by no more than this count as equal, like 2s or 1h [default: 0s, and what
    /// the destination's drive cannot tell apart]
    #[arg(long, value_name = "DURATION", value_parser = values::duration, hide_short_help = true)]
    pub(crate) time_slack: Option<Duration>,
}

/// What of it a plan may hold.
#[derive(Debug, Args)]
#[command(next_help_heading = "What counts as changed")]
pub(crate) struct Steps {
    /// Never replace a file of the destination that is newer than the source's
    #[arg(long, hide_short_help = true)]
    pub(crate) spare_newer: bool,
    /// Kinds of steps that may be taken: all, or some of add, replace, adjust, rename, remove
    ///
    /// 'add' only fills gaps, 'replace,adjust' only brings up to date what is there, and 'all,-rename'
    /// copies what moved instead of renaming it. Default: all.
    #[arg(long, value_name = "LIST", value_parser = values::steps, allow_hyphen_values = true, hide_short_help = true)]
    pub(crate) steps: Option<Verbs>,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "What goes along")]
pub(crate) struct Carried {
    /// Aspects to carry: all, or some of content, times, mode, owner, acl, xattr, flags, hardlinks,
    /// holes
    ///
    /// A list like 'content,times' takes just these, 'all,-owner' all but one. An aspect that is
    /// left out is left alone in the destination; without 'content' nothing is added, replaced or
    /// removed. The access time, 'atime', is not among all: name
    /// it, as in 'all,atime'. Birth and change times cannot be carried by anyone.
    #[arg(long, value_name = "LIST", default_value = "all", value_parser = values::carry, allow_hyphen_values = true)]
    pub(crate) carry: Aspects,
    /// What the destination's drive, or this user on it, cannot hold is a problem
    ///
    /// Without it that is said once, as a note, and not counted as a difference.
    #[arg(long, hide_short_help = true)]
    pub(crate) carry_strictly: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct SafetyOptions {
    /// Only print what would be done, and why; nothing is touched
    #[arg(long, short = 'n')]
    pub(crate) dry_run: bool,
    /// Ask before anything is touched, with =each for every step that replaces or removes
    ///
    /// The question can be answered with a look at the steps, page by page, or only at those whose path
    /// holds a word. Default: asked once, before a mirror on a terminal removes something.
    #[arg(long, value_name = "HOW", num_args = 0..=1, require_equals = true, default_missing_value = "once", conflicts_with_all = ["yes", "dry_run"])]
    pub(crate) ask: Option<Ask>,
    /// Do not ask before removing
    #[arg(long)]
    pub(crate) yes: bool,
    /// Refuse unless the destination lies on the drive of this label or UUID [default: any drive]
    #[arg(long, value_name = "NAME", hide_short_help = true)]
    pub(crate) drive: Option<String>,
    /// Move what would be removed or replaced into a folder for this run below FOLDER
    ///
    /// Everything lies there under the path it had, with all its attributes, and 'utter undo' puts the
    /// destination back as it was. On the destination's drive it is only renamed; on another it is
    /// copied, which takes room and time, and hard links become files of their own. Default: what is
    /// removed or replaced is lost.
    #[arg(long, value_name = "FOLDER")]
    pub(crate) set_aside: Option<PathBuf>,
    /// Which runs to keep below FOLDER: so many, or those of so long, like 10 or 30d [default: all]
    ///
    /// Counts the run itself. Older ones are removed once the run came through, but for those whose
    /// destination is not there now, or whose notes cannot be read.
    #[arg(long, value_name = "N|DURATION", requires = "set_aside", value_parser = values::keep, hide_short_help = true)]
    pub(crate) set_aside_keep: Option<KeepRuns>,
    /// Switch guards off: empty-source, removals, space, nesting, swapped, drive, other-run
    ///
    /// empty-source refuses a mirror whose source has nothing to take while the destination has;
    /// removals refuses more removals than --removal-limit; space refuses a plan that needs more
    /// room than there is; nesting refuses a mirror into a folder that looks nothing like the source
    /// while the one above or one in it does; swapped refuses a mirror that would mostly take away
    /// what is newer than all of the source and was written in the destination; drive refuses a
    /// destination that is not on the drive of --drive, and a place where a drive is to be mounted
    /// by /etc/fstab and is not; other-run refuses a destination that another run is working on.
    /// The overlap of source and destination is always refused. Default: all guards are on.
    #[arg(long, value_name = "GUARD", value_delimiter = ',', value_parser = values::waivable, hide_short_help = true)]
    pub(crate) waive: Vec<Guard>,
}

/// What commands that may remove have.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Removing {
    /// Refuse to remove more than this many entries, or this part of the destination's entries
    /// [default: a third of them, once that is more than 20]
    #[arg(long, value_name = "N|P%", value_parser = values::removal_limit, help_heading = "Safety", hide_short_help = true)]
    pub(crate) removal_limit: Option<RemovalLimit>,
    /// Remove files before anything arrives, to make room on a drive that is full
    ///
    /// Without it nothing goes before what takes its place has arrived. A run that dies in between
    /// has then removed and not yet added; run the same line again to go on.
    #[arg(long, help_heading = "Safety", hide_short_help = true)]
    pub(crate) remove_first: bool,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Speed and faults")]
pub(crate) struct Running {
    /// Threads that scan, compare and write [default: one a processor, at most 8]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256), hide_short_help = true)]
    pub(crate) workers: Option<u16>,
    /// Further tries of what may pass, like a busy file or an input or output error
    ///
    /// What cannot pass, like a missing permission or a full drive, is not tried again. Default: 2.
    #[arg(long, value_name = "N", default_value = "2", value_parser = clap::value_parser!(u32).range(..=1000), hide_short_help = true)]
    pub(crate) retries: u32,
    /// Time before each further try; a run waits twenty times at most, like 500ms, 1s or 1m
    #[arg(long, value_name = "DURATION", default_value = "1s", value_parser = values::duration, hide_short_help = true)]
    pub(crate) retry_wait: Duration,
    /// Run at the lowest processor and drive priority, behind everything else
    #[arg(long, hide_short_help = true)]
    pub(crate) gentle: bool,
    /// What stays in the system's cache: whatever it keeps, or nothing of files over 8 MiB
    ///
    /// With 'drop', what was copied or compared is taken out of the cache behind the run, so that
    /// the machine's working set stays there; it costs a flush for every 64 MiB written.
    #[arg(long, value_name = "HOW", default_value = "keep", hide_short_help = true)]
    pub(crate) cache: CacheHow,
}

/// What only commands that write have.
#[derive(Debug, Args)]
#[command(next_help_heading = "Speed and faults")]
pub(crate) struct Writing {
    /// When to bring what was written onto the drive: at the end, each file at once, or none
    ///
    /// 'end' guarantees whatever a finished run reported; 'each' every file as soon as it has its
    /// name; 'none' leaves it to the system, and a power cut may undo what was reported.
    #[arg(long, value_name = "WHEN", default_value = "end", hide_short_help = true)]
    pub(crate) flush: FlushWhen,
    /// Most bytes of content to write in a second, like 500K or 20MiB [default: no limit]
    #[arg(long, value_name = "BYTES", value_parser = values::bytes, hide_short_help = true)]
    pub(crate) rate: Option<u64>,
    /// Read back from the drive what was written, and compare it with the source
    #[arg(long, hide_short_help = true)]
    pub(crate) recheck: bool,
    /// Command to run before anything else; if it fails nothing is touched
    ///
    /// By way of 'sh -c', for example to freeze a database or to make a snapshot. A dry run does not
    /// run it. Default: none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) before: Option<String>,
    /// Command to run at the end, however the run went
    ///
    /// By way of 'sh -c', with `UTTER_EXIT_CODE` in its environment: the exit code that utter ends
    /// with. It runs too if the command before failed. A dry run does not run it. Default: none.
    #[arg(long, value_name = "COMMAND", hide_short_help = true)]
    pub(crate) after: Option<String>,
    /// List every step that was taken as well
    #[arg(long, short, conflicts_with = "quiet", help_heading = "Output")]
    pub(crate) verbose: bool,
}

#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Output")]
pub(crate) struct Output {
    /// Print text for people, or a JSON object a line for programs (see docs/json.md)
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub(crate) format: Format,
    /// Progress on stderr: a bar on a terminal, a plain line now and then, or none
    #[arg(long, value_name = "HOW", default_value = "auto", hide_short_help = true)]
    pub(crate) progress: ProgressHow,
    /// Print nothing but problems
    #[arg(long, short)]
    pub(crate) quiet: bool,
    /// Colours: auto, always or never; `NO_COLOR` in the environment counts as never
    #[arg(long, value_name = "WHEN", default_value = "auto", hide_short_help = true)]
    pub(crate) color: When,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum ByWhat {
    SizeTime,
    Content,
    Size,
    Presence,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    Text,
    Json,
    /// Differences only, for 'verify'
    Csv,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Ask {
    Once,
    Each,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum YesNo {
    Yes,
    No,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ProgressHow {
    Auto,
    Bar,
    Plain,
    None,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    Auto,
    Always,
    Never,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum CacheHow {
    Keep,
    Drop,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum FlushWhen {
    End,
    Each,
    None,
}
