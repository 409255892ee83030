//! Manual pages: one for each command, and one for each topic.

use std::fs;
use std::io;
use std::path::Path;

use clap_mangen::Man;
use clap_mangen::roff::{Roff, roman};

use crate::context::Program;
use crate::exit;

const FILES: &str = "\
~/.config/utter-echo/utter.toml, /etc/utter-echo/utter.toml
    The job file of a user, and of root.
~/.local/state/utter-echo, /var/lib/utter-echo
    Records, undo journals of moves, and the list of set-aside folders, of a user and of root.";

/// Writes the pages of all commands, and those of topics, each with its name, its purpose and its text.
///
/// # Errors
/// The first file that cannot be written.
pub(super) fn write(
    program: Program,
    topics: &[(String, &str, String)],
    folder: &Path,
) -> io::Result<()> {
    let mut command = (program.command_line)();
    command.build();
    write_commands(&command, folder)?;
    for (name, about, text) in topics {
        let mut page = Roff::new();
        page.control("TH", [&*format!("UTTER-{}", name.to_uppercase()), "7"]);
        page.control("SH", ["NAME"]);
        page.text([roman(format!("utter-{name} - {about}"))]);
        verbatim(&mut page, "DESCRIPTION", text);
        verbatim(&mut page, "SEE ALSO", "utter(1)");
        fs::write(folder.join(format!("utter-{name}.7")), page.render())?;
    }
    Ok(())
}

fn write_commands(command: &clap::Command, folder: &Path) -> io::Result<()> {
    let page = of_command(command)?;
    let name = command.get_display_name().unwrap_or_else(|| command.get_name());
    fs::write(folder.join(format!("{name}.1")), page)?;
    let shown = command.get_subcommands().filter(|command| !command.is_hide_set());
    shown.into_iter().try_for_each(|command| write_commands(command, folder))
}

/// The page of one command.
///
/// # Errors
/// None but those of a writer into memory.
pub(super) fn of_command(command: &clap::Command) -> io::Result<Vec<u8>> {
    let man = Man::new(command.clone());
    let (mut page, mut options) = (Vec::new(), Vec::new());
    man.render_title(&mut page)?;
    man.render_name_section(&mut page)?;
    man.render_synopsis_section(&mut page)?;
    man.render_description_section(&mut page)?;
    if command.get_arguments().next().is_some() {
        man.render_options_section(&mut options)?;
        // Groups of options are parts of one section.
        let options = String::from_utf8_lossy(&options).replace(".SH OPTIONS\n", "");
        page.extend_from_slice(b".SH OPTIONS\n");
        page.extend_from_slice(options.replace(".SH ", ".SS ").as_bytes());
    }
    if command.has_subcommands() {
        man.render_subcommands_section(&mut page)?;
    }
    let mut rest = Roff::new();
    verbatim(&mut rest, "EXIT STATUS", &exit::codes());
    verbatim(&mut rest, "FILES", FILES);
    if let Some(examples) = command.get_after_help().map(ToString::to_string)
        && let Some((_, examples)) = examples.split_once('\n')
    {
        verbatim(&mut rest, "EXAMPLES", examples);
    }
    let see = if command.get_name() == "utter" { "utter-safety(7)" } else { "utter(1)" };
    verbatim(&mut rest, "SEE ALSO", &format!("{see}, and the topics of 'utter help'"));
    page.extend(rest.render().into_bytes());
    Ok(page)
}

/// A section with its lines as they are.
fn verbatim(page: &mut Roff, title: &str, text: &str) {
    page.control("SH", [title]);
    page.control("nf", None);
    page.text([roman(text.trim_end())]);
    page.control("fi", None);
}
