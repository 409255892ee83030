//! Arguments as typed: checked for form (`values`), and turned into a request.

mod values;

use std::path::{Path, PathBuf};
use std::thread::available_parallelism;
use std::time::Duration;

use anyhow::{Context as _, Result};
use clap::builder::styling::{AnsiColor, Style, Styles};
use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::Timestamp;
use utter_echo_core::aspect::Aspects;
use utter_echo_core::os::Time;
use utter_echo_core::plan::Verbs;
use utter_echo_core::request::{
    self, By, Cache, Flush, Guard, Keep, Places, RemovalLimit, Request, Retries, Safety, SetAside,
    Task,
};
use utter_echo_core::select::{Kinds, RuleFile, Rules, Selection, Span};

use values::KeepRuns;

const STYLES: Styles = Styles::styled()
    .header(Style::new().bold())
    .usage(Style::new().bold())
    .literal(AnsiColor::Cyan.on_default())
    .placeholder(Style::new().italic());

const AFTER: &str = "\
Exit codes:
  0    all was done; for verify: no difference
  1    verify found differences
  2    the call is wrong; nothing was touched
  3    finished with problems, all of them named
  4    a guard, or the person who was asked, refused the plan; nothing was touched
  5    stopped early, the drive is full or gone; what was done is whole, run it again
  130  interrupted, and 143 terminated; what was done is whole, run it again

Begin with 'utter demo', then 'utter copy -h'.";

const COPY_EXAMPLES: &str = "\
Examples:
  utter copy --dry-run logbooks /mnt/keeper/logbooks    what would be copied, and why
  utter copy logbooks lens-drawings /mnt/keeper         two folders, each under its own name";

const MIRROR_EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run saltmere /mnt/keeper/saltmere  look first, above all at what would go
  utter mirror saltmere /mnt/keeper/saltmere            then do it; asks before it removes";

const APPLY_EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run --save-plan monday.plan saltmere /mnt/keeper/saltmere
  utter apply monday.plan                               just what was looked at, and nothing else";

const EXPLAIN_EXAMPLES: &str = "\
Examples:
  utter explain --exclude '*.wav' saltmere                   what each rule leaves out, in bytes
  utter explain --rules nightly.rules saltmere fog-signals   whether that is taken, and why";

const UNDO_EXAMPLES: &str = "\
Examples:
  utter mirror --set-aside /mnt/keeper/aside saltmere /mnt/keeper/saltmere
  utter undo --dry-run /mnt/keeper/aside/2026-11-23T14-05-09Z   what would come back, and what go";

const VERIFY_EXAMPLES: &str = "\
Examples:
  utter verify saltmere /mnt/keeper/saltmere                by size, time and attributes
  utter verify --by content saltmere /mnt/keeper/saltmere   every byte, read on both sides";

/// Makes one folder tree the faithful echo of another, on local folders and drives, and proves
/// that it did.
#[derive(Debug, Parser)]
#[command(name = "utter", version, styles = STYLES, after_help = AFTER, max_term_width = 100)]
#[command(disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Copy(Copy),
    Mirror(Mirror),
    Verify(Verify),
    Explain(Explain),
    Apply(Apply),
    Undo(Undo),
    Drives(Drives),
    Demo(Demo),
}

/// Add what is missing and replace what changed; remove nothing.
///
/// A source folder's CONTENTS become the destination's contents, with or without a slash at the
/// end. With --inside, or with several sources, each source goes inside the destination under its
/// own name. A single file goes into a destination folder that exists; otherwise the destination
/// is its new name. Missing folders on the way to the destination are made.
#[derive(Debug, Args)]
#[command(after_help = COPY_EXAMPLES)]
pub(crate) struct Copy {
    /// Folders or single entries to copy.
    #[arg(required = true, value_name = "SOURCE")]
    pub(crate) sources: Vec<PathBuf>,
    /// Where they go.
    #[arg(value_name = "DESTINATION")]
    pub(crate) destination: PathBuf,
    #[command(flatten)]
    pub(crate) changing: Changing,
}

/// As copy, and remove what the source does not have.
///
/// The source folder's CONTENTS become the destination's contents, and nothing else stays in the
/// destination. What --exclude, --only and --depth leave out is left alone on both sides. On a
/// terminal it asks before it removes anything, unless --yes is given; without one it goes ahead
/// as far as the guards allow.
#[derive(Debug, Args)]
#[command(after_help = MIRROR_EXAMPLES)]
pub(crate) struct Mirror {
    /// The folder to mirror.
    #[arg(value_name = "SOURCE")]
    pub(crate) source: PathBuf,
    /// The folder that becomes its echo.
    #[arg(value_name = "DESTINATION")]
    pub(crate) destination: PathBuf,
    #[command(flatten)]
    pub(crate) removing: Removing,
    /// Remove from the destination what the selection leaves out, too
    ///
    /// Without it, what is left out is left alone on both sides.
    #[arg(long, help_heading = "What to take", hide_short_help = true)]
    pub(crate) drop_unselected: bool,
    /// Copy anew what only has another name or place in the source, and do not rename it
    ///
    /// What is new in the source and extra in the destination, of one size and time, is read on both
    /// sides and renamed if it is the same.
    #[arg(long, help_heading = "What counts as changed", hide_short_help = true)]
    pub(crate) no_renames: bool,
    #[command(flatten)]
    pub(crate) changing: Changing,
}

/// Compare both sides and change nothing.
///
/// Lists every difference, counts folders, files and bytes of both sides, and says in one sentence
/// whether the destination is the source's echo. Unlike copy and mirror it looks at every
/// attribute of every entry, whatever the change times say.
#[derive(Debug, Args)]
#[command(after_help = VERIFY_EXAMPLES)]
pub(crate) struct Verify {
    /// The folder, or single entry, that is the model.
    #[arg(value_name = "SOURCE")]
    pub(crate) source: PathBuf,
    /// What should be its echo.
    #[arg(value_name = "DESTINATION")]
    pub(crate) destination: PathBuf,
    #[command(flatten)]
    pub(crate) what: What,
    /// Read every byte of so many of the files, chosen by chance, like 5%
    ///
    /// The verdict then says with what confidence it speaks for the rest. Default: none are read.
    #[arg(long, value_name = "P%", value_parser = values::percent, help_heading = "What counts as changed")]
    pub(crate) sample: Option<f64>,
    /// What only the destination has is no difference, as after a copy
    #[arg(long, help_heading = "What counts as changed")]
    pub(crate) ignore_extra: bool,
    /// List so many differences of each kind at most, and count the rest [default: all]
    #[arg(long, value_name = "N", help_heading = "Output")]
    pub(crate) limit: Option<usize>,
    /// Print the command that would make the destination the source's echo
    #[arg(long, help_heading = "Output")]
    pub(crate) fix: bool,
    #[command(flatten)]
    pub(crate) how: How,
}

/// Say what a selection takes of a source, and which rule decides.
///
/// For each PATH: whether it is taken, the rule that decided with its file and line, and for a folder
/// what that means for what is in it. Without a PATH: what each rule decides about over the whole
/// source, in entries and bytes, and which rules match nothing.
#[derive(Debug, Args)]
#[command(after_help = EXPLAIN_EXAMPLES)]
pub(crate) struct Explain {
    /// The folder that would be copied.
    #[arg(value_name = "SOURCE")]
    pub(crate) source: PathBuf,
    /// Entries to ask about, as paths in the source; they need not exist
    #[arg(value_name = "PATH")]
    pub(crate) paths: Vec<PathBuf>,
    #[command(flatten)]
    pub(crate) takes: Takes,
    /// Print text for people, or a JSON object a line for programs (see docs/json.md)
    #[arg(long, value_name = "FORM", default_value = "text", help_heading = "Output")]
    pub(crate) format: Format,
    /// Colours: auto, always or never; `NO_COLOR` in the environment counts as never
    #[arg(long, value_name = "WHEN", default_value = "auto", help_heading = "Output")]
    pub(crate) color: When,
}

/// Carry out a plan that copy or mirror saved.
///
/// Does exactly the steps of the plan. A step whose source or destination is no longer what the plan
/// saw is refused and named, and the rest is done. A plan that was damaged or edited is refused as a
/// whole.
#[derive(Debug, Args)]
#[command(after_help = APPLY_EXAMPLES)]
pub(crate) struct Apply {
    /// The file that --save-plan wrote.
    #[arg(value_name = "PLAN")]
    pub(crate) plan: PathBuf,
    #[command(flatten)]
    pub(crate) safety: SafetyOptions,
    /// Refuse the whole plan if a single step no longer fits
    #[arg(long, help_heading = "Safety")]
    pub(crate) all_or_nothing: bool,
    #[command(flatten)]
    pub(crate) removing: Removing,
    #[command(flatten)]
    pub(crate) writing: Writing,
    #[command(flatten)]
    pub(crate) how: How,
}

/// Take back a run that set aside what it removed or replaced.
///
/// What the run added goes, what it replaced, changed or removed is put back as it was. An entry
/// that somebody changed since is left alone and named, and the rest is done. Once all is back, the
/// folder of the run goes. On a terminal it asks before it removes anything, unless --yes is given.
#[derive(Debug, Args)]
#[command(after_help = UNDO_EXAMPLES)]
pub(crate) struct Undo {
    /// The folder of the run, below the one that --set-aside named
    #[arg(value_name = "RUN")]
    pub(crate) run: PathBuf,
    #[command(flatten)]
    pub(crate) safety: SafetyOptions,
    /// Refuse to undo anything if a single entry changed since
    #[arg(long, help_heading = "Safety")]
    pub(crate) all_or_nothing: bool,
    #[command(flatten)]
    pub(crate) writing: Writing,
    #[command(flatten)]
    pub(crate) how: How,
}

/// List the mounted drives, the room on them, and what each can hold.
///
/// What a drive can hold is tried out, not told by its kind, with a file of no name where the drive
/// has such, else in a folder that is removed again. Where nothing may be written it is not known.
#[derive(Debug, Args)]
pub(crate) struct Drives {
    /// Only the drives that hold these folders [default: all]
    #[arg(value_name = "FOLDER")]
    pub(crate) folders: Vec<PathBuf>,
    /// Print text for people, or a JSON object a line for programs (see docs/json.md)
    #[arg(long, value_name = "FORM", default_value = "text", help_heading = "Output")]
    pub(crate) format: Format,
    /// Colours: auto, always or never; `NO_COLOR` in the environment counts as never
    #[arg(long, value_name = "WHEN", default_value = "auto", help_heading = "Output")]
    pub(crate) color: When,
}

/// Build a small made-up tree and walk through the whole job on it.
///
/// Shows a dry run, a copy, a second run that has nothing to do, a mirror of changes and a
/// verification, on the records of the invented Saltmere Light Trust.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Folder to build it in, new or empty; it is kept [default: a temporary folder that is
    /// removed at the end]
    #[arg(value_name = "FOLDER")]
    pub(crate) folder: Option<PathBuf>,
    /// Colours: auto, always or never; `NO_COLOR` in the environment counts as never
    #[arg(long, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
}

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

/// What commands have that plan a change and carry it out.
#[derive(Debug, Args)]
pub(crate) struct Changing {
    #[command(flatten)]
    pub(crate) what: What,
    #[command(flatten)]
    pub(crate) steps: Steps,
    #[command(flatten)]
    pub(crate) safety: SafetyOptions,
    /// If a drive goes in the middle of the run, wait so long for it to come back, and go on
    ///
    /// It must be the same drive, mounted in the same place; what is still to be done is then found out
    /// anew. Like 10m or 2h. Default: the run ends, and the same line goes on later.
    #[arg(long, value_name = "DURATION", value_parser = values::duration, help_heading = "Speed and faults", hide_short_help = true)]
    pub(crate) wait_for_drive: Option<Duration>,
    /// Save the plan to this new file as well, to look at it or to carry it out later with 'utter
    /// apply' [default: it is not saved]
    #[arg(long, value_name = "FILE", help_heading = "Safety", hide_short_help = true)]
    pub(crate) save_plan: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) writing: Writing,
    #[command(flatten)]
    pub(crate) how: How,
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
    /// Kinds of entries to take: some of file, folder, link, special
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
}

#[derive(Debug, Args)]
#[command(next_help_heading = "What counts as changed")]
pub(crate) struct Changed {
    /// What tells that a file changed: its size and time, its content, its size alone, or only
    /// whether it is there
    ///
    /// With 'content' both sides are read in full, and every attribute of every entry is looked
    /// at, whatever the change times say.
    #[arg(long, value_name = "WHAT", default_value = "stamp")]
    pub(crate) by: ByWhat,
    /// Look at every attribute of every entry
    ///
    /// Access lists and extended attributes cost calls of their own, so copy and mirror look at
    /// them only where the source's change time says that they may have been altered since they
    /// were carried. With this they are always looked at, as after an earlier run that left them
    /// out of --carry, or where somebody changed them in the destination. verify always does.
    #[arg(long, hide_short_help = true)]
    pub(crate) closely: bool,
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
    pub(crate) keep_newer: bool,
    /// Steps that may be taken: some of add, replace, retouch, rename, remove
    ///
    /// 'add' alone fills gaps only, 'replace,retouch' only brings up to date what is there. Default: all
    /// of them.
    #[arg(long, value_name = "LIST", value_parser = values::steps, hide_short_help = true)]
    pub(crate) steps: Option<Verbs>,
}

#[derive(Debug, Args)]
#[command(next_help_heading = "What goes along")]
pub(crate) struct Carried {
    /// Aspects to carry: all, or some of content, times, mode, owner, acl, xattr, flags, hardlinks,
    /// holes
    ///
    /// A list like 'content,times' takes just these, 'all,-owner' all but one. An aspect that is
    /// left out is left alone in the destination. The access time, 'atime', is not among all: name
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
    /// Counts the run itself. Older ones are removed once the run came through.
    #[arg(long, value_name = "N|DURATION", requires = "set_aside", value_parser = values::keep, hide_short_help = true)]
    pub(crate) set_aside_keep: Option<KeepRuns>,
    /// Switch guards off: empty-source, removals, space, busy, drive
    ///
    /// empty-source refuses a mirror whose source has nothing to take while the destination has;
    /// removals refuses more removals than --removal-limit; space refuses a plan that needs more
    /// room than there is; busy refuses a destination that another run works on;
    /// drive refuses one that is not on the drive of --drive. The overlap of source and destination is always refused. Default: all
    /// guards are on.
    #[arg(long, value_name = "GUARD", value_delimiter = ',', value_parser = values::waivable, hide_short_help = true)]
    pub(crate) waive: Vec<Guard>,
}

/// What commands that may remove have.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Removing {
    /// Refuse to remove more than this many entries, or this part of the destination's entries
    /// [default: half of them, once that is more than 20]
    #[arg(long, value_name = "N|P%", value_parser = values::removal_limit, help_heading = "Safety", hide_short_help = true)]
    pub(crate) removal_limit: Option<RemovalLimit>,
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
    Stamp,
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

impl Takes {
    /// Reads the rules, from files too, and makes them ready to decide.
    pub(crate) fn selection(&self, sources: &[PathBuf], drops: bool) -> Result<Selection> {
        let mut files = Vec::new();
        for path in &self.rules {
            let name = path.to_string_lossy().into_owned();
            let text = std::fs::read_to_string(path)
                .with_context(|| format!("cannot read the rules '{name}'; nothing was touched"))?;
            files.push(RuleFile { name, text });
        }
        let all = self.exclude.iter().chain(&self.only).map(String::as_str);
        let lines = files.iter().flat_map(|file| file.text.lines());
        for pattern in all.chain(lines) {
            values::refuse_outside(pattern, sources).map_err(anyhow::Error::msg)?;
        }
        let now = Time::now();
        let modified = match (self.age, self.dated) {
            (Some(age), _) => values::aged(age, now),
            (None, dated) => dated.unwrap_or_default(),
        };
        let folders = Kinds { files: false, folders: true, links: false, specials: false };
        let only_folders = self.folders_only.then_some(folders);
        Ok(Selection::new(&Rules {
            files,
            exclude: self.exclude.clone(),
            only: self.only.clone(),
            any_case: self.any_case,
            size: self.size.unwrap_or_default(),
            modified,
            depth: self.depth,
            kinds: self.kind.or(only_folders).unwrap_or(Kinds::ALL),
            no_hidden: self.hidden == YesNo::No,
            no_litter: self.skip_litter,
            no_caches: self.skip_caches,
            no_empty_folders: self.no_empty_folders,
            same_drive: self.same_drive,
            drop_unselected: drops,
        })?)
    }
}

/// Resolves what was typed; patterns are read here. What only some commands have is as it is without
/// it.
pub(crate) fn request(
    task: Task,
    (sources, destination): (Vec<PathBuf>, &Path),
    (what, drops): (&What, bool),
    running: &Running,
    writing: Option<&Writing>,
    safety: Safety,
) -> Result<Request> {
    let What { takes, changed, carried } = what;
    let selection = takes.selection(&sources, drops)?;
    Ok(Request {
        task,
        places: Places { sources, destination: destination.to_path_buf(), inside: takes.inside },
        selection,
        changed: request::Changed {
            by: match changed.by {
                ByWhat::Stamp => By::Stamp,
                ByWhat::Content => By::Content,
                ByWhat::Size => By::Size,
                ByWhat::Presence => By::Presence,
            },
            closely: changed.closely,
            time_slack: changed.time_slack.unwrap_or_default(),
            ..request::Changed::default()
        },
        carry: carried.carry,
        strictly: carried.carry_strictly,
        safety,
        running: self::running(running, writing),
    })
}

/// How a run goes about it, of what was typed.
pub(crate) fn running(running: &Running, writing: Option<&Writing>) -> request::Running {
    request::Running {
        workers: running.workers(),
        // What writes nothing has nothing to flush.
        flush: match writing.map_or(FlushWhen::None, |writing| writing.flush) {
            FlushWhen::End => Flush::End,
            FlushWhen::Each => Flush::Each,
            FlushWhen::None => Flush::None,
        },
        rate: writing.and_then(|writing| writing.rate),
        retries: Retries { times: running.retries, wait: running.retry_wait },
        recheck: writing.is_some_and(|writing| writing.recheck),
        cache: match running.cache {
            CacheHow::Keep => Cache::Keep,
            CacheHow::Drop => Cache::Drop,
        },
    }
}

impl Output {
    /// Only a verification has a table to print.
    pub(crate) fn refuse_csv(&self) -> Result<()> {
        if self.format == Format::Csv {
            anyhow::bail!("--format csv is for 'verify' alone; use text or json");
        }
        Ok(())
    }
}

impl SafetyOptions {
    /// What may refuse a plan, and what not.
    pub(crate) fn guards(&self, removal_limit: RemovalLimit) -> Safety {
        let set_aside = self.set_aside.as_ref().map(|folder| {
            let now = Timestamp::now();
            let keep = self.set_aside_keep.map(|keep| match keep {
                KeepRuns::Newest(count) => Keep::Newest(count),
                KeepRuns::For(duration) => Keep::Since(run_at(now - duration)),
            });
            SetAside { folder: folder.clone(), run: run_at(now), keep }
        });
        let (drive, waived) = (self.drive.clone(), self.waive.clone());
        Safety { removal_limit, drive, waived, set_aside }
    }
}

/// The name of a run that begins at this time.
fn run_at(time: Timestamp) -> String {
    time.strftime("%Y-%m-%dT%H-%M-%SZ").to_string()
}

impl Running {
    fn workers(&self) -> usize {
        let usual = || available_parallelism().map_or(1, std::num::NonZero::get).min(8);
        self.workers.map_or_else(usual, usize::from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory as _;

    #[test]
    fn the_definitions_fit_together() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn every_option_has_help_a_group_and_its_default() {
        for command in Arguments::command().get_subcommands() {
            for option in command.get_arguments().filter(|a| !a.is_positional()) {
                let name = option.get_id().as_str();
                assert!(option.get_help().is_some(), "{name} has no help");
                let grouped = option.get_help_heading().is_some() || command.get_name() == "demo";
                assert!(grouped || name == "help", "{name} is in no group");
                let help = option.get_long_help().or(option.get_help()).unwrap().to_string();
                let says = help.to_lowercase().contains("default")
                    || !option.get_default_values().is_empty();
                let switch = !option.get_action().takes_values();
                assert!(
                    says || switch,
                    "{} --{name} does not tell its default",
                    command.get_name()
                );
            }
        }
    }

    #[test]
    fn short_letters_are_those_the_trade_agrees_on() {
        for command in Arguments::command().get_subcommands() {
            let letters: Vec<_> =
                command.get_arguments().filter_map(clap::Arg::get_short).collect();
            assert!(letters.iter().all(|letter| "hVqvn".contains(*letter)), "{letters:?}");
        }
    }

    #[test]
    fn the_short_help_is_one_screen() {
        for command in Arguments::command().get_subcommands_mut() {
            let lines = command.render_help().to_string().lines().count();
            assert!(lines <= 45, "{} -h has {lines} lines", command.get_name());
        }
    }
}
