//! The rows of the table: what is measured, on which tree, against which floor.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use anyhow::{Context as _, Result};
use serde::Serialize;

use crate::drives;
use crate::drives::Drive;
use crate::measure::{Ran, count_calls, median, run};
use crate::options::Options;
use crate::trees::{Shape, Tree, change};

/// The result of one row.
#[derive(Debug, Serialize)]
struct Row {
    name: String,
    entries: u64,
    /// Median wall times in milliseconds.
    ours_ms: f64,
    floor_ms: f64,
    /// Median of the pairs' ratios, and the extremes.
    ratio: f64,
    ratio_low: f64,
    ratio_high: f64,
    /// System calls an entry.
    calls: Option<f64>,
    floor_calls: Option<f64>,
    peak_mib: f64,
}

pub(crate) struct Bench<'a> {
    pub(crate) options: &'a Options,
    utter: &'a Path,
    pub(crate) room: PathBuf,
}

/// How the destination of a row is made.
#[derive(Clone, Copy, PartialEq, Eq)]
enum IfExists {
    /// It is identical already.
    Echo,
    /// It does not exist, on a fresh drive each time.
    Nothing,
    /// It is identical to the source before one file in a hundred changed.
    Older,
}

pub(crate) fn measure_all(options: &Options, utter: &Path) -> Result<()> {
    let base = options.room.clone().unwrap_or_else(|| {
        let memory = PathBuf::from("/dev/shm");
        if memory.is_dir() { memory } else { std::env::temp_dir() }
    });
    let room = tempfile::Builder::new().prefix("utter-bench-").tempdir_in(base)?;
    let bench = Bench { options, utter, room: room.path().to_path_buf() };
    if !options.json {
        println!(
            "{} threads, {} pairs a row; what creates files is measured on {}\n",
            options.threads,
            options.pairs,
            drives::kind()
        );
        println!(
            "{:<34} {:>9} {:>10} {:>10} {:>6} {:>13} {:>11} {:>8}",
            "", "entries", "ours", "floor", "ratio", "(from - to)", "calls/entry", "peak"
        );
    }
    bench.small()?;
    bench.wide()?;
    bench.large()?;
    bench.mixed()?;
    bench.moves()?;
    bench.toolchain()?;
    bench.starting()?;
    bench.slow()?;
    bench.widths()?;
    bench.growth()
}

impl Bench<'_> {
    pub(crate) fn scaled(&self, number: u64) -> u64 {
        #[allow(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a size of a tree"
        )]
        let scaled = (number as f64 * self.options.scale) as u64;
        scaled.max(10)
    }

    pub(crate) fn wants(&self, rows: &[&str]) -> bool {
        rows.iter()
            .any(|row| self.options.only.as_ref().is_none_or(|only| row.contains(only.as_str())))
    }

    fn small(&self) -> Result<()> {
        let names = [
            "plan, equal, small",
            "first copy, small",
            "first copy, small, flushed",
            "mirror 1 %, small",
            "verify, small",
            "verify by content, small",
        ];
        if !self.wants(&names) {
            return Ok(());
        }
        let tree = self.make("small", Shape::Small(self.scaled(100_000)))?;
        self.row(names[0], &tree, IfExists::Echo, &["mirror", "-n", "-q"], "scan")?;
        self.row(names[1], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.row(names[2], &tree, IfExists::Nothing, &["copy"], "copy")?;
        self.row(names[3], &tree, IfExists::Older, &["mirror", "--flush", "none"], "scan")?;
        self.row(names[4], &tree, IfExists::Echo, &["verify"], "scan-closely")?;
        self.row(names[5], &tree, IfExists::Echo, &["verify", "--by", "content"], "compare")?;
        self.clear("small")
    }

    fn wide(&self) -> Result<()> {
        let names = ["plan, equal, wide", "first copy, wide"];
        if !self.wants(&names) {
            return Ok(());
        }
        let tree = self.make("wide", Shape::Wide(self.scaled(500_000)))?;
        self.row(names[0], &tree, IfExists::Echo, &["mirror", "-n", "-q"], "scan")?;
        self.row(names[1], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.clear("wide")
    }

    fn large(&self) -> Result<()> {
        let names = ["first copy, large", "verify by content, large"];
        if !self.wants(&names) {
            return Ok(());
        }
        let tree = self.make("large", Shape::Large(self.scaled(2 << 30)))?;
        self.row(names[0], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.row(names[1], &tree, IfExists::Echo, &["verify", "--by", "content"], "compare")?;
        self.clear("large")
    }

    fn mixed(&self) -> Result<()> {
        let names = ["first copy, mixed", "verify by content, mixed"];
        if !self.wants(&names) {
            return Ok(());
        }
        let tree = self.make("mixed", Shape::Mixed(self.scaled(10_000)))?;
        self.row(names[0], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.row(names[1], &tree, IfExists::Echo, &["verify", "--by", "content"], "compare")?;
        self.clear("mixed")
    }

    /// Between drives, each of them new: the source is gone afterwards.
    fn moves(&self) -> Result<()> {
        for (name, shape) in [
            ("move, small", Shape::Small(self.scaled(20_000))),
            ("move, large", Shape::Large(self.scaled(1 << 29))),
        ] {
            if !self.wants(&[name]) {
                continue;
            }
            let (here, there) = (self.room.join("here"), self.room.join("there"));
            let tree = Tree::make(&here, shape)?;
            self.clear("here")?;
            let between = |command: &dyn Fn(&Path, &Path) -> Command| {
                let from = Drive::fresh(&here, tree.bytes, tree.entries)?;
                let to = Drive::fresh(&there, tree.bytes, tree.entries)?;
                let source = from.folder().join("leaving");
                Tree::make(&source, shape)?;
                // The first flush would otherwise also write what is left of earlier work.
                rustix::fs::sync();
                run(&mut command(&source, &to.folder().join("echo")), &[0])
            };
            let ours = |source: &Path, echo: &Path| {
                let mut command = self.utter();
                command.args(["move", "--workers", &self.options.threads.to_string()]);
                command.args([source, echo]);
                command
            };
            let theirs = |source: &Path, echo: &Path| self.floor("move", Some((source, echo)));
            let pairs = self.pairs(|| between(&ours), || between(&theirs))?;
            self.print(name, tree.entries, &pairs, (None, None));
        }
        Ok(())
    }

    /// A real tree that was not made for this.
    fn toolchain(&self) -> Result<()> {
        let names =
            ["plan, equal, toolchain", "first copy, toolchain", "verify by content, toolchain"];
        if !self.wants(&names) {
            return Ok(());
        }
        let root = Command::new("rustc")
            .args(["--print", "sysroot"])
            .output()
            .context("cannot ask rustc")?;
        let root = PathBuf::from(String::from_utf8(root.stdout)?.trim());
        let tree = Tree::survey(&root)?;
        self.row(names[0], &tree, IfExists::Echo, &["mirror", "-n", "-q"], "scan")?;
        self.row(names[1], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.row(names[2], &tree, IfExists::Echo, &["verify", "--by", "content"], "compare")
    }

    fn starting(&self) -> Result<()> {
        let names = ["start: --version", "start to finish: ten files"];
        if !self.wants(&names) {
            return Ok(());
        }
        if self.wants(&names[..1]) {
            let ours = || {
                let mut command = self.utter();
                command.arg("--version");
                command
            };
            let pairs = self
                .pairs(|| run(&mut ours(), &[0]), || run(&mut self.floor("nothing", None), &[0]))?;
            self.print(names[0], 1, &pairs, (count_calls(&ours(), &self.room), None));
        }
        let tree = self.make("ten", Shape::Small(10))?;
        self.row(names[1], &tree, IfExists::Nothing, &["copy", "--flush", "none"], "copy")?;
        self.clear("ten")
    }

    fn growth(&self) -> Result<()> {
        for thousands in [10, 100, 1000] {
            let name = format!("growth: plan of {thousands} thousand");
            if self.wants(&[&name]) {
                let tree = self.make("growing", Shape::Small(self.scaled(thousands * 1000)))?;
                self.row(&name, &tree, IfExists::Echo, &["mirror", "-n", "-q"], "scan")?;
                self.clear("growing")?;
            }
        }
        Ok(())
    }

    /// The program, whose state folder is here.
    pub(crate) fn utter(&self) -> Command {
        let mut command = Command::new(self.utter);
        command.env("XDG_STATE_HOME", self.room.join("state"));
        command
    }

    pub(crate) fn make(&self, name: &str, shape: Shape) -> Result<Tree> {
        Tree::make(&self.room.join(name), shape)
            .with_context(|| format!("cannot make the tree '{name}'"))
    }

    pub(crate) fn clear(&self, name: &str) -> Result<()> {
        Ok(std::fs::remove_dir_all(self.room.join(name))?)
    }

    /// Measures one row and prints it.
    fn row(
        &self,
        name: &str,
        tree: &Tree,
        onto: IfExists,
        words: &[&str],
        floor: &str,
    ) -> Result<()> {
        if !self.wants(&[name]) {
            return Ok(());
        }
        let ours = |echo: &Path| {
            let mut command = self.utter();
            command.args(words).arg("--workers").arg(self.options.threads.to_string());
            command.arg(&tree.path).arg(echo);
            command
        };
        let theirs = |echo: &Path| self.floor(floor, Some((&tree.path, echo)));
        let (pairs, calls) = match onto {
            IfExists::Nothing => {
                let fresh = |command: &dyn Fn(&Path) -> Command| {
                    let drive = Drive::fresh(&self.room, tree.bytes, tree.entries)?;
                    run(&mut command(&drive.folder().join("echo")), &[0])
                };
                let pairs = self.pairs(|| fresh(&ours), || fresh(&theirs))?;
                let counted = |command: &dyn Fn(&Path) -> Command| -> Result<Option<u64>> {
                    let drive = Drive::fresh(&self.room, tree.bytes, tree.entries)?;
                    Ok(count_calls(&command(&drive.folder().join("echo")), &self.room))
                };
                (pairs, (counted(&ours)?, counted(&theirs)?))
            }
            IfExists::Echo => {
                let drive = Drive::fresh(&self.room, tree.bytes, tree.entries)?;
                let echo = drive.folder().join("echo");
                self.make_echo(tree, &echo)?;
                let pairs =
                    self.pairs(|| run(&mut ours(&echo), &[0]), || run(&mut theirs(&echo), &[0]))?;
                (
                    pairs,
                    (
                        count_calls(&ours(&echo), &self.room),
                        count_calls(&theirs(&echo), &self.room),
                    ),
                )
            }
            IfExists::Older => {
                let changed = || -> Result<(Drive, PathBuf)> {
                    let drive = Drive::fresh(&self.room, tree.bytes, tree.entries)?;
                    let echo = drive.folder().join("echo");
                    self.make_echo(tree, &echo)?;
                    change(&echo)?;
                    Ok((drive, echo))
                };
                let once = |command: &dyn Fn(&Path) -> Command| {
                    let (_drive, echo) = changed()?;
                    run(&mut command(&echo), &[0])
                };
                let pairs = self.pairs(|| once(&ours), || once(&theirs))?;
                let (_drive, echo) = changed()?;
                (pairs, (count_calls(&ours(&echo), &self.room), None))
            }
        };
        self.print(name, tree.entries, &pairs, calls);
        Ok(())
    }

    fn make_echo(&self, tree: &Tree, echo: &Path) -> Result<()> {
        let mut copy = Command::new(self.utter);
        run(copy.args(["copy", "-q"]).arg(&tree.path).arg(echo), &[0])?;
        Tree::survey(echo).map(|_| ())
    }

    pub(crate) fn floor(&self, name: &str, sides: Option<(&Path, &Path)>) -> Command {
        let mut command = Command::new(std::env::current_exe().unwrap_or_default());
        command.arg(name);
        if let Some((source, destination)) = sides {
            command
                .args([source, destination])
                .arg("--threads")
                .arg(self.options.threads.to_string());
        }
        command
    }

    /// In turn, ours first; one pair before that does not count.
    pub(crate) fn pairs(
        &self,
        ours: impl Fn() -> Result<Ran>,
        floor: impl Fn() -> Result<Ran>,
    ) -> Result<Vec<(Ran, Ran)>> {
        ours()?;
        floor()?;
        (0..self.options.pairs.max(1)).map(|_| Ok((ours()?, floor()?))).collect()
    }

    /// Further facts about a row.
    pub(crate) fn remark(&self, text: &str) {
        if !self.options.json {
            println!("    {text}");
        }
    }

    pub(crate) fn print(
        &self,
        name: &str,
        entries: u64,
        pairs: &[(Ran, Ran)],
        calls: (Option<u64>, Option<u64>),
    ) {
        let ms = |wall: Duration| wall.as_secs_f64() * 1000.0;
        let ratios: Vec<f64> = pairs.iter().map(|(a, b)| ms(a.wall) / ms(b.wall)).collect();
        let an_entry = |calls: Option<u64>| calls.map(|calls| calls as f64 / entries.max(1) as f64);
        let row = Row {
            name: name.to_owned(),
            entries,
            ours_ms: median(pairs.iter().map(|(a, _)| ms(a.wall)).collect()),
            floor_ms: median(pairs.iter().map(|(_, b)| ms(b.wall)).collect()),
            ratio_low: ratios.iter().copied().fold(f64::INFINITY, f64::min),
            ratio_high: ratios.iter().copied().fold(0.0, f64::max),
            ratio: median(ratios),
            calls: an_entry(calls.0),
            floor_calls: an_entry(calls.1),
            peak_mib: pairs.iter().map(|(a, _)| a.peak).max().unwrap_or(0) as f64 / 1024.0,
        };
        if self.options.json {
            // Every field of a row is valid JSON.
            println!("{}", serde_json::to_string(&row).unwrap_or_default());
            return;
        }
        let calls =
            |calls: Option<f64>| calls.map_or("-".to_owned(), |calls| format!("{calls:.1}"));
        println!(
            "{:<34} {:>9} {:>7.1} ms {:>7.1} ms {:>6.2} ({:>5.2} -{:>5.2}) {:>5}/{:<5} {:>4.1} MiB",
            row.name,
            row.entries,
            row.ours_ms,
            row.floor_ms,
            row.ratio,
            row.ratio_low,
            row.ratio_high,
            calls(row.calls),
            calls(row.floor_calls),
            row.peak_mib
        );
    }
}
