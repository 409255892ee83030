//! `utter completions`: scripts for completion in shells.

use anyhow::Result;
use clap::{Args, ValueEnum};
use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};

use crate::call::ASKED_BY_SHELL;
use crate::context::{Command, Context};
use crate::exit::{self, Exit};
use crate::terminal::streams;

const EXAMPLES: &str = "\
To have them in every new shell:
  echo 'source <(utter completions bash)' >> ~/.bashrc
  echo 'source <(utter completions zsh)' >> ~/.zshrc
  utter completions fish > ~/.config/fish/completions/utter.fish";

/// Print a completion script for a shell
///
/// It also completes names of drives, jobs, runs that can be undone, steps, attributes and guards: the script asks
/// this program each time, so it is never out of date.
#[derive(Debug, Args)]
#[command(after_help = EXAMPLES)]
pub(crate) struct Completions {
    /// The shell
    #[arg(value_name = "SHELL")]
    shell: Shell,
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum Shell {
    Bash,
    Zsh,
    Fish,
}

impl Command for Completions {
    fn run(&self, _: &Context) -> Result<Exit> {
        let shell: &dyn EnvCompleter = match self.shell {
            Shell::Bash => &Bash,
            Shell::Zsh => &Zsh,
            Shell::Fish => &Fish,
        };
        shell.write_registration(
            ASKED_BY_SHELL,
            "utter",
            "utter",
            "utter",
            &mut streams::raw_out(),
        )?;
        Ok(exit::of_shown(Exit::Done))
    }
}
