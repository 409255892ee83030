//! The commands, a file each: arguments, examples and `run`.

mod completions;
mod copy;
mod demo;
mod drives;
mod execute;
mod explain;
mod help;
mod history;
mod job_file;
mod job_run;
mod jobs;
mod mirror;
mod moving;
mod past_runs;
mod run;
mod schedule;
mod status;
mod undo;
mod verify;

use crate::context::{Command, Program};
use crate::{exit, options};
use clap::builder::styling::{AnsiColor, Style, Styles};
use clap::{CommandFactory as _, FromArgMatches as _, Parser, Subcommand};

/// Defines the list of commands.
macro_rules! commands {
    ($($module:ident::$name:ident),+ $(,)?) => {
        #[derive(Debug, Subcommand)]
        pub(crate) enum Chosen {
            $($name($module::$name)),+
        }

        impl Chosen {
            fn command(self) -> Box<dyn Command> {
                match self {
                    $(Self::$name(command) => Box::new(command)),+
                }
            }
        }
    };
}

// In the order of the help.
commands! {
    copy::Copy,
    mirror::Mirror,
    moving::Move,
    verify::Verify,
    explain::Explain,
    execute::Execute,
    undo::Undo,
    run::Run,
    jobs::Jobs,
    schedule::Schedule,
    status::Status,
    history::History,
    drives::Drives,
    demo::Demo,
    completions::Completions,
    help::Help,
}

const STYLES: Styles = Styles::styled()
    .header(Style::new().bold())
    .usage(Style::new().bold())
    .literal(AnsiColor::Cyan.on_default())
    .placeholder(Style::new().italic());

/// Copy, mirror, move and verify folder trees on local drives.
#[derive(Debug, Parser)]
#[command(name = "utter", version, styles = STYLES, max_term_width = 100)]
#[command(disable_help_subcommand = true, after_help = after())]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Chosen,
}

/// The parser, for commands that make calls.
pub(crate) const PROGRAM: Program = Program {
    command_line,
    understand: |typed| Ok(Arguments::from_arg_matches(typed)?.command.command()),
};

/// The command line. A job file asks for it again for each of its jobs, and copying it takes a fraction of the time.
fn command_line() -> clap::Command {
    thread_local! {
        static BUILT: clap::Command = build();
    }
    BUILT.with(clap::Command::clone)
}

/// The command line, in which the help of each command lists only what applies to it.
fn build() -> clap::Command {
    let guarded = ["copy", "mirror", "move", "execute", "undo"];
    let all = guarded
        .into_iter()
        .fold(Arguments::command(), |all, name| all.mut_subcommand(name, options::with_its_guards));
    let all = ["verify", "history", "status"]
        .into_iter()
        .fold(all, |all, name| all.mut_subcommand(name, options::with_csv));
    all.mut_subcommand("verify", options::for_comparing)
}

fn after() -> String {
    format!("Exit codes:\n{}\nBegin with 'utter demo', then 'utter copy -h'.", exit::codes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::call;

    #[test]
    fn the_definitions_fit_together() {
        command_line().debug_assert();
    }

    #[test]
    fn every_option_has_help_a_group_and_its_default() {
        for command in command_line().get_subcommands() {
            for option in command.get_arguments().filter(|a| !a.is_positional()) {
                let name = option.get_id().as_str();
                assert!(option.get_help().is_some(), "{name} has no help");
                let alone = ["demo", "help"].contains(&command.get_name());
                let grouped = option.get_help_heading().is_some() || alone;
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
        for command in command_line().get_subcommands() {
            let letters: Vec<_> =
                command.get_arguments().filter_map(clap::Arg::get_short).collect();
            assert!(letters.iter().all(|letter| "hVqvn".contains(*letter)), "{letters:?}");
        }
    }

    #[test]
    fn the_help_of_a_command_lists_only_what_applies_to_it() {
        for command in command_line().get_subcommands_mut() {
            let name = command.get_name().to_owned();
            let help = command.render_long_help().to_string();
            let is_one_of = |names: &[&str]| names.contains(&&*name);
            let lists = |word: &str| help.contains(word);
            assert_eq!(lists("- csv:"), is_one_of(&["verify", "history", "status"]), "{name}");
            assert_eq!(lists("--yes\n"), is_one_of(&["mirror", "execute", "undo"]), "{name}");
            for of_a_mirror in ["nesting refuses", "swapped refuses"] {
                assert_eq!(lists(of_a_mirror), is_one_of(&["mirror", "execute"]), "{name}");
            }
            let reads_a_source = is_one_of(&["copy", "mirror", "move", "execute"]);
            assert_eq!(lists("empty-source refuses"), reads_a_source, "{name}");
            let may_lose = is_one_of(&["move", "execute", "undo"]);
            assert_eq!(lists("loss refuses"), may_lose, "{name}");
        }
    }

    #[test]
    fn the_short_help_is_one_screen() {
        for command in command_line().get_subcommands_mut() {
            let lines = command.render_help().to_string().lines().count();
            assert!(lines <= 45, "{} -h has {lines} lines", command.get_name());
        }
    }

    #[test]
    fn every_example_can_be_called() {
        let mut found = 0;
        for command in command_line().get_subcommands() {
            let examples = command.get_after_help().map(ToString::to_string).unwrap_or_default();
            for line in examples.lines().filter_map(|line| line.trim().strip_prefix("utter ")) {
                // Its arguments without its result.
                let example = line.split("  ").next().and_then(|line| line.split(" > ").next());
                let example = example.unwrap_or(line);
                let words = shlex::split(&format!("utter {example}")).unwrap();
                let read = call::parse(PROGRAM, words.into_iter().map(Into::into));
                assert!(read.is_ok(), "{line}: {:?}", read.err());
                found += 1;
            }
        }
        assert!(found > 10, "{found}");
    }
}
