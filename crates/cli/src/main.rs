//! `utter`, the command line of Utter Echo.

mod ask;
mod call;
mod commands;
mod context;
mod exit;
mod gentle;
mod hooks;
mod jobs;
mod location;
mod metrics;
mod mounting;
mod options;
mod placeholders;
mod progress;
mod real;
mod records;
mod remembered;
mod report;
mod reporter;
mod run_name;
mod runner;
mod schedule;
mod signals;
mod terminal;
mod user_folders;

use std::process::ExitCode;

use exit::Exit;

fn main() -> ExitCode {
    let called = match call::read(commands::PROGRAM, std::env::args_os()) {
        Ok(Some(called)) => called,
        Ok(None) => return exit::of_shown(Exit::Done).into(),
        Err(call::Wrong) => return Exit::WrongCall.into(),
    };
    match called.run() {
        Ok(exit) => exit.into(),
        Err(error) => {
            terminal::streams::print_error(&error);
            exit::of_error(&error).into()
        }
    }
}
