//! `utter help`: one page on a topic, the help of a command, manual pages, and the schema of the JSON lines.

mod man;

use std::io::Write as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result};
use clap::{Args, ValueEnum, ValueHint};

use crate::context::{Command, Context, Program};
use crate::exit::{self, Exit, WrongCall, wrong_call};
use crate::report::events::Event;
use crate::terminal::{names, streams};

const EXAMPLES: &str = "\
Examples:
  utter help copy                 the same as 'utter copy --help'
  utter help safety               dry runs, questions, guards and undo
  utter help json --schema        the JSON Schema of every line that --format json prints
  utter help man --out man1       manual pages; put them where 'man' looks";

/// Show the help of a command, or a page on a topic
///
/// Without a TOPIC it lists the topics.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Help {
    /// A command, or one of selection, safety, drives, job-file, nightly, exit-codes, json, examples, man
    #[arg(value_name = "TOPIC")]
    topic: Option<String>,
    /// Print the JSON Schema, with the topic json
    #[arg(long)]
    schema: bool,
    /// Write the manual pages into this folder, with the topic man
    ///
    /// The folder is created if missing. Default: the page of 'utter' itself is printed.
    #[arg(long, value_name = "FOLDER", value_hint = ValueHint::DirPath)]
    out: Option<PathBuf>,
}

/// A page that does not belong to a command.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Topic {
    Selection,
    Safety,
    Drives,
    JobFile,
    Nightly,
    ExitCodes,
    Json,
    Examples,
    Man,
}

impl Topic {
    fn about(self) -> &'static str {
        match self {
            Self::Selection => "what is included and what is left out",
            Self::Safety => "dry runs, questions, guards and undo",
            Self::Drives => "what drives can store, and what happens when they disappear",
            Self::JobFile => "the job file: command lines with a name",
            Self::Nightly => "from a tested command to a scheduled, monitored job",
            Self::ExitCodes => "the result of a command, for scripts",
            Self::Json => "the lines that --format json prints",
            Self::Examples => "the examples of all commands",
            Self::Man => "manual pages",
        }
    }

    fn page(self, program: Program) -> Result<String> {
        Ok(match self {
            Self::Selection => {
                let litter = utter_echo_core::select::LITTER.map(|name| format!("  {name}\n"));
                format!("{}\n{}", include_str!("selection.txt"), litter.concat())
            }
            Self::Safety => include_str!("safety.txt").to_owned(),
            Self::Drives => include_str!("drives.txt").to_owned(),
            Self::JobFile => include_str!("job-file.txt").to_owned(),
            Self::Nightly => include_str!("nightly.txt").to_owned(),
            Self::ExitCodes => format!("{}\n{}", include_str!("exit-codes.txt"), exit::codes()),
            Self::Json => include_str!("json.txt").to_owned(),
            Self::Examples => examples(program),
            Self::Man => {
                let mut command = (program.command_line)();
                command.build();
                String::from_utf8(man::of_command(&command)?)?
            }
        })
    }
}

impl Command for Help {
    fn run(&self, context: &Context) -> Result<Exit> {
        let program = context.program;
        let topic = self.topic.as_deref().map(|topic| (topic, Topic::from_str(topic, true)));
        if self.schema && !matches!(topic, Some((_, Ok(Topic::Json)))) {
            wrong_call!("--schema is for the topic json\n  use 'utter help json --schema'");
        }
        if self.out.is_some() && !matches!(topic, Some((_, Ok(Topic::Man)))) {
            wrong_call!("--out is for the topic man\n  use 'utter help man --out FOLDER'");
        }
        match (topic, &self.out) {
            (None, _) => print(&topics()),
            (Some((_, Ok(Topic::Json))), _) if self.schema => print(&schema()?),
            (Some((_, Ok(Topic::Man))), Some(folder)) => {
                write_man(program, folder)?;
                return Ok(Exit::Done);
            }
            (Some((_, Ok(topic))), _) => print(&topic.page(program)?),
            (Some((name, Err(_))), _) => {
                let mut all = (program.command_line)();
                // Gives each command its full name.
                all.build();
                let Some(command) = all.find_subcommand_mut(name) else {
                    let name = names::shown(name.as_bytes());
                    wrong_call!(
                        "'{name}' is neither a command nor a topic\n  'utter help' lists the topics, 'utter -h' the commands"
                    );
                };
                let _ = write!(streams::out(), "{}", command.render_long_help().ansi());
            }
        }
        Ok(exit::of_shown(Exit::Done))
    }
}

fn print(page: &str) {
    // The stream cannot fail.
    let _ = writeln!(streams::out(), "{}", page.trim_end());
}

fn topics() -> String {
    let topic = |topic: &Topic| {
        let name = topic.to_possible_value().map(|value| value.get_name().to_owned());
        format!("  utter help {:<12} {}\n", name.unwrap_or_default(), topic.about())
    };
    let topics: String = Topic::value_variants().iter().map(topic).collect();
    format!(
        "Topics:\n{topics}\nCommands: 'utter -h' lists them, 'utter help COMMAND' explains one."
    )
}

/// The end of the help of every command.
fn examples(program: Program) -> String {
    let mut page = String::new();
    for command in (program.command_line)().get_subcommands() {
        if let Some(examples) = command.get_after_help() {
            let about = command.get_about().map(ToString::to_string).unwrap_or_default();
            page.extend([command.get_name(), " - ", &about, "\n"]);
            let examples = examples.to_string();
            page.extend(examples.lines().skip(1).map(|line| format!("{line}\n")));
            page.push('\n');
        }
    }
    page
}

fn schema() -> Result<String> {
    Ok(serde_json::to_string_pretty(&schemars::schema_for!(Event))?)
}

fn write_man(program: Program, folder: &Path) -> Result<()> {
    let shown = names::path(folder);
    let mut pages = Vec::new();
    for topic in Topic::value_variants().iter().filter(|topic| **topic != Topic::Man) {
        let name = topic.to_possible_value().map(|value| value.get_name().to_owned());
        pages.push((name.unwrap_or_default(), topic.about(), topic.page(program)?));
    }
    std::fs::create_dir_all(folder)
        .and_then(|()| man::write(program, &pages, folder))
        .with_context(|| WrongCall(format!("cannot write the manual pages into '{shown}'")))
}
