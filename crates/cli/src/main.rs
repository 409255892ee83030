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

use exit::Exit;

fn main() -> ExitCode {
    let arguments = match args::Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) if present::unparsed(&error) => return Exit::Done.into(),
        Err(_) => return Exit::WrongCall.into(),
    };
    match commands::run(&arguments.command) {
        Ok(exit) => exit.into(),
        Err(error) => {
            present::error(&error);
            exit::of_error(&error).into()
        }
    }
}
