//! One file a command: a request in, a presentation out.

mod change;
mod demo;
mod drives;
mod enact;
mod explain;
mod hooks;
mod past_runs;
mod undo;
mod verify;

use anyhow::Result;

use crate::args::Command;
use crate::exit::Exit;

pub(crate) fn run(command: &Command) -> Result<Exit> {
    match command {
        Command::Copy(copy) => change::copy(copy),
        Command::Mirror(mirror) => change::mirror(mirror),
        Command::Verify(verify) => verify::verify(verify),
        Command::Explain(explain) => explain::explain(explain),
        Command::Enact(enact) => enact::enact(enact),
        Command::Undo(undo) => undo::undo(undo),
        Command::Drives(drives) => drives::drives(drives),
        Command::Demo(demo) => demo::demo(demo),
    }
}
