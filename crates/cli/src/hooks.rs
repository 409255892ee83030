//! The user's commands before and after a run.

use std::process::{Command, Stdio};

use anyhow::Result;

use crate::exit::{self, Exit, Refused};
use crate::options::Writing;
use crate::terminal::streams;

/// Runs the command before, then `run`, then the command after.
pub(crate) fn around(writing: &Writing, run: impl FnOnce() -> Result<Exit>) -> Result<Exit> {
    let before = writing.run_before.as_deref().map_or(Ok(()), |command| {
        let why = shell(command, None).err();
        why.map_or(Ok(()), |why| Err(Refused(format!("--run-before '{command}' {why}"))))
    });
    let result = before.map_err(Into::into).and_then(|()| run());
    let Some(command) = &writing.run_after else { return result };
    let exit = result.as_ref().map_or_else(exit::of_error, |exit| *exit);
    match shell(command, Some(exit)) {
        Ok(()) => result,
        Err(why) => {
            // The result of the run is kept, whatever the command after it does.
            streams::print_error(&anyhow::anyhow!("--run-after '{command}' {why}"));
            result.map(|exit| if exit == Exit::Done { Exit::Problems } else { exit })
        }
    }
}

/// Its output goes to stderr: programs parse stdout.
fn shell(command: &str, exit: Option<Exit>) -> Result<(), String> {
    let mut shell = Command::new("sh");
    shell.args(["-c", command]).stdin(Stdio::null()).stdout(std::io::stderr());
    if let Some(exit) = exit {
        shell.env("UTTER_EXIT_CODE", (exit as u8).to_string());
    }
    match shell.status() {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("failed: {status}")),
        Err(error) => Err(format!("cannot be run: {error}")),
    }
}
