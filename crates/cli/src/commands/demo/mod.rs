//! `utter demo`: a tour with sample data.

mod saltmere;

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result};
use clap::{Args, ValueHint};

use crate::call;
use crate::context::{Command, Context, Program};
use crate::exit::{Exit, WrongCall, wrong_call};
use crate::options::Colors;
use crate::terminal::{names, streams};

/// Take a guided tour with sample data
///
/// Shows a dry run, a copy, a second run with nothing to do, a mirror of changes and a verification, on the records
/// of the invented Saltmere Light Trust.
#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// New or empty folder for the sample data; it is kept [default: a temporary folder that is removed at the end]
    #[arg(value_name = "FOLDER", value_hint = ValueHint::DirPath)]
    folder: Option<PathBuf>,
    #[command(flatten)]
    colors: Colors,
}

/// A command of the tour, with its introduction. The paths are filled in when it runs.
const WALK: [(&str, &str); 5] = [
    (
        "Dry run: what would be copied to the keeper's drive, without temporary files?",
        "copy --dry-run --exclude *.tmp {source} {echo}",
    ),
    ("Copy.", "copy --exclude *.tmp {source} {echo}"),
    ("The same command again has nothing to do.", "copy --exclude *.tmp {source} {echo}"),
    (
        "A working day passes: pages are added, a drawing is corrected, a script becomes executable, old stock \
      lists are deleted. What would a mirror do, and above all, what would it remove? ('adjust' sets attributes only.)",
        "mirror --dry-run --exclude *.tmp {source} {echo}",
    ),
    ("Mirror.", "mirror --yes --exclude *.tmp {source} {echo}"),
];

const PROOF: (&str, &str) =
    ("Verify every byte.", "verify --by content --exclude *.tmp {source} {echo}");

impl Command for Demo {
    fn run(&self, context: &Context) -> Result<Exit> {
        self.colors.settle();
        let temporary;
        let base = if let Some(folder) = &self.folder {
            make_empty(folder)?;
            folder.clone()
        } else {
            temporary =
                tempfile::Builder::new().prefix("saltmere-").tempdir().with_context(|| {
                    let folder = std::env::temp_dir();
                    let folder = names::path(&folder);
                    WrongCall(format!(
                        "cannot create a folder for the demo in '{folder}'\n  name one with 'utter demo FOLDER', or set TMPDIR"
                    ))
                })?;
            temporary.path().to_path_buf()
        };
        let (source, echo) = (base.join("saltmere"), base.join("lantern-drive").join("saltmere"));
        saltmere::build(&source).with_context(|| {
            WrongCall(format!("cannot build the demo in {}", names::path(&base)))
        })?;
        say(
            "The Saltmere Light Trust keeps five old lighthouses, and their papers in this folder:",
        )?;
        say(&format!("  {}", names::path(&source)))?;
        for (at, (why, line)) in WALK.into_iter().enumerate() {
            if at == 3 {
                saltmere::change_for_a_day(&source)?;
            }
            step(context.program, (why, line), &source, &echo)?;
        }
        let exit = step(context.program, PROOF, &source, &echo)?;
        match &self.folder {
            Some(folder) => say(&format!("\nIt is all kept in {}.", names::path(folder)))?,
            None => say("\nThe folder is removed now; name one to keep it: utter demo FOLDER")?,
        }
        Ok(exit)
    }
}

fn make_empty(folder: &Path) -> Result<()> {
    let shown = names::path(folder);
    let cannot = |what: &str| WrongCall(format!("cannot {what} {shown}"));
    fs::create_dir_all(folder).with_context(|| cannot("make"))?;
    if fs::read_dir(folder).with_context(|| cannot("list"))?.next().is_some() {
        wrong_call!("{shown} is not empty\n  name a new folder for the demo");
    }
    Ok(())
}

/// Prints the introduction and the command, and runs it as if typed.
fn step(
    program: Program,
    (why, line): (&str, &str),
    source: &PathBuf,
    echo: &PathBuf,
) -> Result<Exit> {
    let heading = anstyle::Style::new().bold();
    let typed = line.replace("{source}", "saltmere").replace("{echo}", "lantern-drive/saltmere");
    let typed = typed.replace("*.tmp", "'*.tmp'");
    say(&format!("\n{heading}{why}{heading:#}\n$ utter {typed}\n"))?;
    let words = line.split(' ').map(|word| match word {
        "{source}" => source.into(),
        "{echo}" => echo.into(),
        other => PathBuf::from(other),
    });
    // The tour leaves no records.
    let words = words.map(PathBuf::into_os_string).chain(["--no-record".into()]);
    call::parse(program, std::iter::once("utter".into()).chain(words))?.run()
}

fn say(text: &str) -> std::io::Result<()> {
    writeln!(streams::out(), "{text}")
}
