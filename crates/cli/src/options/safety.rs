//! Safety.

use std::time::Duration;

use anyhow::Result;
use clap::{Args, Command, ValueEnum};
use clap_complete::engine::ArgValueCompleter;
use utter_echo_core::request::{Guard, Keep, Keeping, RemovalLimit, Safety, SetAside};

use crate::context::Context;
use crate::location::{Location, location};
use crate::options::complete;
use crate::options::values;
use crate::options::values::KeepRuns;
use crate::run_name;
use crate::user_folders;

/// What each guard refuses that can be switched off, and of which commands.
const GUARDS: [(Guard, &str, &[&str]); 8] = [
    (
        Guard::EmptySource,
        "a source with fewer entries than --expect-entries, and a mirror of an empty source onto a destination that is not empty",
        &["copy", "mirror", "move", "execute"],
    ),
    (Guard::Removals, "more removals than --removal-limit", &["mirror", "execute"]),
    (
        Guard::Space,
        "a plan that needs more space than is free",
        &["copy", "mirror", "move", "execute", "undo"],
    ),
    (
        Guard::Nesting,
        "a mirror into a folder that looks nothing like the source while the folder above it, or one inside it, does",
        &["mirror", "execute"],
    ),
    (
        Guard::Swapped,
        "a mirror that would mostly replace or remove entries newer than anything in the source",
        &["mirror", "execute"],
    ),
    (
        Guard::Drive,
        "a destination that is not on the drive given with --require-drive, and a mount point of /etc/fstab whose drive is not mounted",
        &["copy", "mirror", "move", "execute", "undo"],
    ),
    (
        Guard::OtherRun,
        "a destination while another run works in it, above it or below it, and a source that another run is moving",
        &["copy", "mirror", "move", "execute", "undo"],
    ),
    (
        Guard::Loss,
        "a move onto a drive that cannot store everything that would be removed from the source",
        &["move", "execute", "undo"],
    ),
];

/// The command with the help of its own guards, and without --yes if it asks nothing unless that is wanted.
pub(crate) fn with_its_guards(command: Command) -> Command {
    let name = command.get_name().to_owned();
    let its = || GUARDS.iter().filter(|(_, _, commands)| commands.contains(&&*name));
    let names: Vec<_> = its().map(|(guard, ..)| guard.name()).collect();
    let short = format!("Switch off guards: {}", names.join(", "));
    let each = its().map(|(guard, what, _)| format!("{} refuses {what}. ", guard.name()));
    let long = format!(
        "{short}\n\n{}A source and a destination that overlap are always refused. Default: all guards are on.",
        each.collect::<String>()
    );
    let asks_nothing = name == "copy" || name == "move";
    let command = command.mut_arg("waive", |waive| waive.help(short).long_help(long));
    command.mut_arg("yes", |yes| yes.hide(asks_nothing))
}

#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct SafetyOptions {
    /// Only print what would be done, and why; touch nothing
    #[arg(long, short = 'n')]
    pub(crate) dry_run: bool,
    /// Ask before touching anything, or with =each before every step that replaces or removes
    ///
    /// The prompt can list the steps page by page, or only those with a certain text in their path. Default: on a
    /// terminal, mirror and undo ask once before they remove anything.
    #[arg(long, value_name = "HOW", num_args = 0..=1, require_equals = true, default_missing_value = "once", conflicts_with = "yes")]
    pub(crate) ask: Option<Ask>,
    /// Do not ask before removing
    #[arg(long)]
    pub(crate) yes: bool,
    /// Refuse unless the destination is on the drive with this label or UUID
    ///
    /// Default: any drive.
    #[arg(long, value_name = "NAME", value_parser = values::drive_name, add = ArgValueCompleter::new(complete::drives), hide_short_help = true)]
    pub(crate) require_drive: Option<String>,
    /// Switch off guards
    ///
    /// Default: all guards are on.
    #[arg(long, value_name = "GUARD", value_delimiter = ',', value_parser = values::waivable, add = ArgValueCompleter::new(complete::guards))]
    pub(crate) waive: Vec<Guard>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Ask {
    /// Once for the whole plan
    Once,
    /// For each step that replaces or removes
    Each,
}

impl SafetyOptions {
    /// The guards and limits, except those for removals.
    pub(crate) fn guards(&self) -> Safety {
        let (drive, waived) = (self.require_drive.clone(), self.waive.clone());
        Safety { drive, waived, ..Safety::default() }
    }
}

/// Of commands whose runs can be taken back.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct SettingAside {
    /// Move what would be removed or replaced into a dated folder below FOLDER
    ///
    /// Everything is kept there under its former path, with all attributes, and 'utter undo' restores the
    /// destination. On the destination's own drive this only renames; on another drive it copies, which takes space
    /// and time; hard links are separate files there, and hard links again after an undo. Default: removed and
    /// replaced entries are lost.
    #[arg(long, value_name = "FOLDER", value_parser = location())]
    pub(crate) set_aside: Option<Location>,
    /// Keep only the newest N runs below FOLDER, or those of the last DURATION, like 10 or 30d
    ///
    /// This run counts as one. Older runs are removed once this one has succeeded, except those whose destination
    /// is not mounted now or whose undo journal cannot be read. Default: all are kept.
    #[arg(long, value_name = "N|DURATION", requires = "set_aside", value_parser = values::keep, hide_short_help = true)]
    pub(crate) set_aside_keep: Option<KeepRuns>,
}

impl SettingAside {
    /// With a set-aside folder.
    pub(crate) fn over(&self, safety: Safety, context: &Context) -> Result<Safety> {
        let folder = self.set_aside.as_ref().map(Location::find).transpose()?;
        let set_aside = folder.map(|folder| {
            let now = context.began;
            let keep = self.set_aside_keep.map(|keep| match keep {
                KeepRuns::Newest(count) => Keep::Newest(count),
                KeepRuns::For(duration) => Keep::Since(run_name::of(now - duration)),
            });
            SetAside { folder, run: run_name::of(now), keep, what: Keeping::Displaced }
        });
        Ok(Safety { set_aside, ..safety })
    }

    /// The same for a move, which keeps its journal even without a set-aside folder.
    pub(crate) fn over_move(&self, safety: Safety, context: &Context) -> Result<Safety> {
        let safety = self.over(safety, context)?;
        let journal = user_folders::state_folder().map(|folder| SetAside {
            folder: folder.join("moves"),
            run: run_name::of(context.began),
            keep: Some(Keep::Since(run_name::of(context.began - MOVES_KEPT))),
            what: Keeping::Journal,
        });
        Ok(Safety { set_aside: safety.set_aside.or(journal), ..safety })
    }
}

/// How long the journal of a move is kept.
const MOVES_KEPT: Duration = Duration::from_secs(180 * 24 * 60 * 60);

/// Of commands that may remove.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Removing {
    /// Refuse to remove more than N entries, or P% of them
    ///
    /// Default: a third of the destination's entries, once that is more than 20.
    #[arg(long, value_name = "N|P%", value_parser = values::removal_limit)]
    pub(crate) removal_limit: Option<RemovalLimit>,
    /// Remove files before adding new ones, to free space on a full drive
    ///
    /// Without it, nothing is removed until its replacement is complete. If such a run is killed, some files are
    /// removed and others not yet added; run the same command again to continue.
    #[arg(long)]
    pub(crate) remove_first: bool,
}

impl Removing {
    /// The limits on removals given now, else those of the plan.
    pub(crate) fn over(&self, before: &Safety, safety: Safety) -> Safety {
        Safety {
            removal_limit: self.removal_limit.unwrap_or(before.removal_limit),
            remove_first: self.remove_first || before.remove_first,
            ..safety
        }
    }
}

/// Of commands that read a source.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Expecting {
    /// Refuse a source with fewer entries than this
    ///
    /// A drive that is not mounted looks like an empty folder. The source folder itself does not count. Default: any
    /// number.
    #[arg(
        long,
        value_name = "N",
        default_value = "0",
        hide_default_value = true,
        allow_negative_numbers = true,
        hide_short_help = true
    )]
    pub(crate) expect_entries: u64,
}

/// Of commands that make a plan.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Saving {
    /// Save the plan to this new file, to execute it later with 'utter execute'
    ///
    /// Default: not saved.
    #[arg(long, value_name = "FILE", hide_short_help = true, value_parser = location())]
    pub(crate) save_plan: Option<Location>,
}

/// Of commands whose plan is older than their run.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct AllOrNothing {
    /// Do nothing if any step is no longer possible
    #[arg(long, hide_short_help = true)]
    pub(crate) all_or_nothing: bool,
}

/// Of an undo.
#[derive(Debug, Args)]
#[command(next_help_heading = "Safety")]
pub(crate) struct Discarding {
    /// Remove the set-aside entries of a run, to free space; the run can then no longer be undone
    ///
    /// RUN is the folder of one run. It asks first; without a terminal it needs --yes. Default: nothing is removed
    /// for good.
    #[arg(long, value_name = "RUN", value_parser = location(), add = ArgValueCompleter::new(complete::runs), conflicts_with_all = ["run", "only", "all_or_nothing", "discard_older"])]
    pub(crate) discard: Option<Location>,
    /// Remove the set-aside entries of all runs that began longer ago than this, like 30d
    ///
    /// It looks in the folders that were given to --set-aside before, and asks like --discard. Default: nothing is
    /// removed for good.
    #[arg(long, value_name = "DURATION", value_parser = values::duration, conflicts_with_all = ["run", "only", "all_or_nothing"])]
    pub(crate) discard_older: Option<Duration>,
    /// Show the undo journal of RUN: each step of its plan, and how far it came
    ///
    /// For a move, it marks the entries whose copy was verified. Nothing is touched.
    #[arg(long, requires = "run", conflicts_with_all = ["discard", "discard_older", "only", "all_or_nothing"])]
    pub(crate) show: bool,
}

impl Discarding {
    /// True if runs are to be removed for good.
    pub(crate) fn is_asked(&self) -> bool {
        self.discard.is_some() || self.discard_older.is_some()
    }
}
