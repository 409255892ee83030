//! Rows on one folder with many names: each operation takes the same time for each name, however many there are.

use std::fs::{self, File};
use std::io::Write as _;
use std::path::Path;
use std::process::Command;
use std::time::UNIX_EPOCH;

use anyhow::Result;

use crate::measure::{Ran, median, run};
use crate::rows::Bench;

/// Names in the narrow folder, and the factor for the wide one.
const NARROW: u64 = 10_000;
const WIDER: u64 = 10;

/// One measurement, with both sides in one folder that holds nothing else.
struct WideRow {
    name: &'static str,
    /// Makes both sides, of so many names.
    make: fn(&Path, u64) -> Result<()>,
    /// A preparation, which does not count.
    before: &'static [&'static str],
    words: &'static [&'static str],
}

const ROWS: [WideRow; 5] = [
    WideRow {
        name: "wide: plan of a renamed folder",
        make: |room, names| {
            fill(&room.join("s/new"), names, |at| format!("the same {at}"))?;
            fill(&room.join("d/old"), names, |at| format!("the same {at}"))
        },
        before: &[],
        words: &["mirror", "--dry-run", "--waive", "removals", "s", "d"],
    },
    WideRow {
        name: "wide: conflicts of a move, both kept",
        make: |room, names| {
            fill(&room.join("s"), names, |at| format!("one {at}"))?;
            fill(&room.join("d"), names, |at| format!("another {at}"))
        },
        before: &[],
        words: &["move", "--on-conflict", "keep-both", "s", "d"],
    },
    WideRow {
        name: "wide: undo of removals",
        make: |room, names| {
            fill(&room.join("s"), 1, |_| "kept".into())?;
            fill(&room.join("d"), names, |at| format!("removed {at}"))
        },
        before: &["mirror", "--set-aside", "aside", "--waive", "removals", "s", "d"],
        words: &["undo", "--yes", "aside"],
    },
    WideRow {
        name: "wide: links across two folders",
        make: |room, names| {
            fill(&room.join("s/a"), names / 2, |at| format!("linked {at}"))?;
            fs::create_dir_all(room.join("s/b"))?;
            for at in 0..names / 2 {
                let name = format!("page-{at:06}");
                fs::hard_link(room.join("s/a").join(&name), room.join("s/b").join(&name))?;
            }
            Ok(())
        },
        before: &[],
        words: &["copy", "s", "d"],
    },
    WideRow {
        name: "wide: names of few files",
        make: |room, names| {
            fill(&room.join("s"), 16, |at| format!("linked {at}"))?;
            for at in 0..names {
                let one = room.join("s").join(format!("page-{:06}", at % 16));
                fs::hard_link(one, room.join("s").join(format!("other-{at:06}")))?;
            }
            Ok(())
        },
        before: &[],
        words: &["copy", "s", "d"],
    },
];

/// So many files of one time in one folder.
fn fill(folder: &Path, names: u64, text: impl Fn(u64) -> String) -> Result<()> {
    fs::create_dir_all(folder)?;
    for at in 0..names {
        let mut file = File::create(folder.join(format!("page-{at:06}")))?;
        file.write_all(text(at).as_bytes())?;
        file.set_modified(UNIX_EPOCH)?;
    }
    Ok(())
}

impl Bench<'_> {
    pub(crate) fn widths(&self) -> Result<()> {
        for row in ROWS.iter().filter(|row| self.wants(&[row.name])) {
            let all = |names: u64| -> Result<Vec<Ran>> {
                (0..self.options.pairs.max(1)).map(|_| self.run_wide(row, names)).collect()
            };
            let (narrow, wide) = (self.scaled(NARROW), self.scaled(NARROW) * WIDER);
            let (few, many) = (all(narrow)?, all(wide)?);
            let millis =
                |all: &[Ran]| median(all.iter().map(|ran| ran.wall.as_secs_f64() * 1e3).collect());
            let (few, many) = (millis(&few), millis(&many));
            self.remark(&format!(
                "{:<36} {narrow:>7} names {few:>8.1} ms, {wide:>8} names {many:>8.1} ms: {:.2} times as long for each",
                row.name,
                many / few / WIDER as f64
            ));
        }
        Ok(())
    }

    fn run_wide(&self, row: &WideRow, names: u64) -> Result<Ran> {
        let room = self.room.join("wide");
        (row.make)(&room, names)?;
        let command = |words: &[&str]| -> Command {
            let mut command = self.utter();
            command.args(words).args(["-q", "--flush", "none"]).current_dir(&room);
            command
        };
        if !row.before.is_empty() {
            run(&mut command(row.before), &[0])?;
        }
        let mut words = row.words.to_vec();
        let aside = room.join("aside");
        let mut runs = fs::read_dir(&aside).into_iter().flatten().flatten().map(|run| run.path());
        let set_aside = runs.find(|run| run.is_dir());
        if let (Some(last), Some(run)) = (words.last_mut(), &set_aside) {
            *last = run.to_str().unwrap_or_default();
        }
        let ran = run(&mut command(&words), &[0]);
        self.clear("wide")?;
        ran
    }
}
