//! Arguments as typed: the commands, their options in groups (`groups`), checked for form (`values`),
//! and turned into a request (`resolve`).

mod groups;
mod resolve;
mod values;

use std::path::PathBuf;
use std::time::Duration;

use clap::builder::styling::{AnsiColor, Style, Styles};
use clap::{Args, Parser, Subcommand};

pub(crate) use groups::{
    Ask, Format, How, Output, ProgressHow, Removing, SafetyOptions, Steps, Takes, What, When,
    Writing,
};
pub(crate) use resolve::{RUN_FORM, request, run_at, running};
pub(crate) use values::DiscardWhat;

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
  6    the output of a command that only shows could not be written
  130  interrupted, and 143 terminated; what was done is whole, run it again

Begin with 'utter demo', then 'utter copy -h'.";

const COPY_EXAMPLES: &str = "\
Examples:
  utter copy --dry-run logbooks /mnt/lantern/logbooks    what would be copied, and why
  utter copy logbooks lens-drawings /mnt/lantern         two folders, each under its own name";

const MIRROR_EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run saltmere /mnt/lantern/saltmere  look first, above all at what would go
  utter mirror saltmere /mnt/lantern/saltmere            then do it; asks before it removes";

const APPLY_EXAMPLES: &str = "\
Examples:
  utter mirror --dry-run --save-plan monday.plan saltmere /mnt/lantern/saltmere
  utter enact monday.plan                               just what was looked at, and nothing else";

const EXPLAIN_EXAMPLES: &str = "\
Examples:
  utter explain --exclude '*.wav' saltmere                   what each rule leaves out, in bytes
  utter explain --rules nightly.rules saltmere fog-signals   whether that is taken, and why";

const UNDO_EXAMPLES: &str = "\
Examples:
  utter mirror --set-aside /mnt/lantern/aside saltmere /mnt/lantern/saltmere
  utter undo                                                     which runs can be taken back
  utter undo --dry-run /mnt/lantern/aside/2026-11-23T14-05-09Z   what would come back, and what go
  utter undo --discard older-than:30d                            free the room of old runs";

const VERIFY_EXAMPLES: &str = "\
Examples:
  utter verify saltmere /mnt/lantern/saltmere                by size, time and attributes
  utter verify --by content saltmere /mnt/lantern/saltmere   every byte, read on both sides";

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
    Enact(Enact),
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
/// destination. What the selection leaves out is left alone on both sides, unless --drop-unselected
/// says otherwise. What only has another name or place in the source is renamed. On a terminal it asks
/// before it removes anything, unless --yes is given; without one it goes ahead as far as the guards
/// allow.
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
    pub(crate) suggest: bool,
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
pub(crate) struct Enact {
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
/// What the run added is removed; what it replaced, changed or removed is put back as it was. An entry
/// that somebody changed since is left alone and named, and the rest is done. Once all is back, the
/// folder of the run is removed. On a terminal it asks before it removes anything, unless --yes is given.
/// Without RUN it lists the runs that can be undone, the newest first.
#[derive(Debug, Args)]
#[command(after_help = UNDO_EXAMPLES)]
pub(crate) struct Undo {
    /// The folder of the run, below the one that --set-aside named [default: list all runs]
    #[arg(value_name = "RUN")]
    pub(crate) run: Option<PathBuf>,
    /// Bring back only what fits this pattern; may be given more than once [default: everything]
    ///
    /// Patterns are those of --exclude, held against paths in the destination. The rest can still be
    /// undone later.
    #[arg(long, value_name = "GLOB", requires = "run", help_heading = "What to take")]
    pub(crate) only: Vec<String>,
    /// Remove what a run set aside, to free its room; it cannot be undone any more
    ///
    /// RUN is the folder of one run. 'older-than:30d' means every run that began longer ago than that, below
    /// the folders that --set-aside was given before. Asks first; without a terminal it needs --yes. Default:
    /// nothing is removed for good.
    #[arg(long, value_name = "RUN|older-than:DURATION", value_parser = values::discard, help_heading = "Safety", conflicts_with_all = ["run", "only", "all_or_nothing"])]
    pub(crate) discard: Option<DiscardWhat>,
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
