//! `utter`, the command line of Utter Echo.

mod args;
mod commands;
mod exit;
mod gentle;
mod places;
mod present;
mod signals;

use std::process::ExitCode;

use clap::Parser as _;

fn main() -> ExitCode {
    let arguments = args::Arguments::parse();
    match commands::run(&arguments.command) {
        Ok(exit) => exit.into(),
        Err(error) => {
            present::error(&error);
            exit::of_error(&error).into()
        }
    }
}
