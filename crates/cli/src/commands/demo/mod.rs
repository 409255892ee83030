//! `utter demo`: the whole job on made-up data.

mod saltmere;

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, ensure};
use clap::Parser as _;

use crate::args::{Arguments, Demo};
use crate::exit::Exit;
use crate::present::{self, names};

/// A command of the walk, with why it comes now. The paths are put in when it runs.
const WALK: [(&str, &str); 5] = [
    (
        "First look: what would be copied to the keeper's drive, without the litter?",
        "copy --dry-run --exclude *.tmp {source} {echo}",
    ),
    ("Do it.", "copy --exclude *.tmp {source} {echo}"),
    ("The same line again finds nothing to do.", "copy --exclude *.tmp {source} {echo}"),
    (
        "A working day passes: pages are added, a drawing is corrected, a script made executable, old \
      stock lists go. What would a mirror do, and above all, what would it remove?",
        "mirror --dry-run --exclude *.tmp {source} {echo}",
    ),
    ("Do it.", "mirror --yes --exclude *.tmp {source} {echo}"),
];

const PROOF: (&str, &str) = (
    "Is the echo faithful, to the last byte?",
    "verify --by content --exclude *.tmp {source} {echo}",
);

pub(crate) fn demo(args: &Demo) -> Result<Exit> {
    present::choose_colors(args.color);
    let temporary;
    let base = if let Some(folder) = &args.folder {
        make_empty(folder)?;
        folder.clone()
    } else {
        temporary = tempfile::Builder::new().prefix("saltmere-").tempdir().with_context(|| {
            let folder = std::env::temp_dir();
            let folder = names::shown(folder.as_os_str().as_encoded_bytes());
            format!(
                "cannot make a folder for the demo in '{folder}'; name one yourself with \
                 utter demo FOLDER, or set TMPDIR"
            )
        })?;
        temporary.path().to_path_buf()
    };
    let (source, echo) = (base.join("saltmere"), base.join("lantern-drive").join("saltmere"));
    saltmere::build(&source)
        .with_context(|| format!("cannot build the demo in {}", base.display()))?;
    say("The Saltmere Light Trust keeps five old lighthouses, and their papers in this folder:")?;
    say(&format!("  {}", names::shown(source.as_os_str().as_encoded_bytes())))?;
    for (at, (why, line)) in WALK.into_iter().enumerate() {
        if at == 3 {
            saltmere::pass_a_day(&source)?;
        }
        step(why, line, &source, &echo)?;
    }
    let exit = step(PROOF.0, PROOF.1, &source, &echo)?;
    match &args.folder {
        Some(folder) => say(&format!("\nIt is all kept in {}.", folder.display()))?,
        None => say("\nThe folder is removed now; name one to keep it: utter demo FOLDER")?,
    }
    Ok(exit)
}

fn make_empty(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder).with_context(|| format!("cannot make {}", folder.display()))?;
    let empty = fs::read_dir(folder)
        .with_context(|| format!("cannot list {}", folder.display()))?
        .next()
        .is_none();
    ensure!(empty, "{} is not empty; name a new folder for the demo", folder.display());
    Ok(())
}

/// Says why, shows the line, and runs it as if it had been typed.
fn step(why: &str, line: &str, source: &PathBuf, echo: &PathBuf) -> Result<Exit> {
    let heading = anstyle::Style::new().bold();
    let typed = line.replace("{source}", "saltmere").replace("{echo}", "lantern-drive/saltmere");
    let typed = typed.replace("*.tmp", "'*.tmp'");
    say(&format!("\n{heading}{why}{heading:#}\n$ utter {typed}\n"))?;
    let words = line.split(' ').map(|word| match word {
        "{source}" => source.into(),
        "{echo}" => echo.into(),
        other => PathBuf::from(other),
    });
    let arguments = Arguments::try_parse_from(std::iter::once("utter".into()).chain(words))?;
    super::run(&arguments.command)
}

fn say(text: &str) -> std::io::Result<()> {
    writeln!(present::streams::out(), "{text}")
}
