//! The rows on slow drives: an uncached rotational disk, a network share, a USB stick. They are simulated, see
//! `utter_echo_lab::SlowDrive` and `LyingDrive`, so root and the package `fuse3` are needed.

use std::cell::Cell;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use anyhow::{Result, anyhow};
use utter_echo_lab::{Aged, Lies, LyingDrive, Model, SlowDrive};

use crate::measure::{Ran, median, run};
use crate::rows::Bench;
use crate::trees::Shape;

/// Files of the aged tree, and its longest.
const AGED: (u64, usize) = (6000, 24 * 1024);
/// How much faster the disk is than a real one.
const FASTER: f64 = 4.0;
/// The latency of the share.
const LATE: Duration = Duration::from_micros(500);
/// The rate of the stick in bytes a second.
const STICK: f64 = 15e6;
/// Fixed numbers of workers; the best of them is the floor on a share.
const WORKERS: [u32; 5] = [4, 8, 16, 32, 64];

/// A run with so many workers.
type Work<'w> = &'w dyn Fn(&str) -> Result<Ran>;

impl Bench<'_> {
    pub(crate) fn slow(&self) -> Result<()> {
        if !rustix::process::geteuid().is_root() {
            return Ok(());
        }
        self.disk()?;
        self.share()?;
        self.stick()
    }

    /// Against reading everything once in disk order.
    fn disk(&self) -> Result<()> {
        let names = ["cold disk: first copy", "cold disk: verify by content"];
        if !self.wants(&names) {
            return Ok(());
        }
        let room = self.room.join("disk");
        let files = usize::try_from(self.scaled(AGED.0))?;
        let aged = Aged { seed: 1931, folders: files / 60 + 1, files, longest: AGED.1 };
        let bytes = (aged.files * aged.longest) as u64 * 5 / 4;
        let grow = |root: &Path| aged.grow(&root.join("tree")).expect("a tree can be grown");
        let model = Model::Rotating { faster: FASTER };
        let disk = SlowDrive::make(model, &room, bytes.max(64 << 20), grow).map_err(said)?;
        let tree = disk.folder().join("tree");
        let echo = self.room.join("echo");
        let cold = |command: &mut Command| -> Result<(Ran, u64)> {
            disk.cool().map_err(said)?;
            let before = disk.done().seeks;
            let ran = run(command, &[0])?;
            Ok((ran, disk.done().seeks - before))
        };
        for (name, words) in [(names[0], &["copy"][..]), (names[1], &["verify", "--by", "content"])]
        {
            let ours = || {
                if words[0] == "copy" && echo.exists() {
                    std::fs::remove_dir_all(&echo)?;
                }
                cold(self.utter().args(words).arg("-q").args([&tree, &echo]))
            };
            let floor = || cold(&mut self.floor("sweep", Some((&tree, &tree))));
            let all = (0..self.options.pairs.max(1))
                .map(|_| Ok((ours()?, floor()?)))
                .collect::<Result<Vec<_>>>()?;
            let pairs: Vec<(Ran, Ran)> = all.iter().map(|((a, _), (b, _))| (*a, *b)).collect();
            let ours: Vec<f64> = all.iter().map(|((_, seeks), _)| *seeks as f64).collect();
            let floors: Vec<f64> = all.iter().map(|(_, (_, seeks))| *seeks as f64).collect();
            let seeks = (median(ours), median(floors));
            self.print(name, files as u64, &pairs, (None, None));
            self.remark(&format!("{:.0} seeks, the floor {:.0}", seeks.0, seeks.1));
        }
        std::fs::remove_dir_all(&echo)?;
        Ok(())
    }

    /// The usual number of workers against the best fixed one.
    fn share(&self) -> Result<()> {
        let names = ["share: first copy", "share: plan, equal", "share: verify"];
        if !self.wants(&names) {
            return Ok(());
        }
        let [truth, far] = ["truth", "far"].map(|name| self.room.join(name));
        [&truth, &far].into_iter().try_for_each(std::fs::create_dir_all)?;
        let tree = self.make("near", Shape::Small(self.scaled(3000)))?;
        let asked = Cell::new(0);
        // Mounted again for each run, since its driver keeps every entry that it ever showed.
        let on_share = |words: &[&str], workers: &str| {
            let share = LyingDrive::mount(Lies::share(LATE), &truth, &far)?;
            let mut ours = self.utter();
            ours.args(words).args(["--workers", workers]).arg(&tree.path).arg(far.join("echo"));
            let ran = run(&mut ours, &[0]);
            asked.set(share.asked());
            ran
        };
        let copy = |workers: &str| {
            std::fs::remove_dir_all(&truth)?;
            std::fs::create_dir(&truth)?;
            on_share(&["copy", "-q"], workers)
        };
        let plan = |workers: &str| on_share(&["mirror", "-nq"], workers);
        let verify = |workers: &str| on_share(&["verify", "-q"], workers);
        let all: [(&str, Work<'_>); 3] =
            [(names[0], &copy), (names[1], &plan), (names[2], &verify)];
        for (name, work) in all {
            work("auto")?;
            let asked = asked.get();
            let mut best = (0, f64::INFINITY);
            for workers in WORKERS {
                let took = work(&workers.to_string())?.wall.as_secs_f64();
                best = if took < best.1 { (workers, took) } else { best };
            }
            let pairs = self.pairs(|| work("auto"), || work(&best.0.to_string()))?;
            self.print(name, tree.entries, &pairs, (None, None));
            let each = asked as f64 / tree.entries as f64;
            self.remark(&format!("{} workers did best; {each:.1} questions an entry", best.0));
        }
        self.clear("near")
    }

    /// Against bare writing and a flush.
    fn stick(&self) -> Result<()> {
        let names = ["stick: first copy, small", "stick: first copy, large"];
        let shapes = [Shape::Mixed(self.scaled(1500)), Shape::Large(self.scaled(16 << 20))];
        for (name, shape) in names.into_iter().zip(shapes) {
            if !self.wants(&[name]) {
                continue;
            }
            let tree = self.make("near", shape)?;
            let room = self.room.join("stick");
            let once = |command: &dyn Fn(&Path) -> Command| {
                let bytes = tree.bytes * 3 / 2 + (256 << 20);
                let stick = SlowDrive::make(Model::Stick { write: STICK }, &room, bytes, |_| {});
                let stick = stick.map_err(said)?;
                run(&mut command(&stick.folder().join("echo")), &[0])
            };
            let ours = |echo: &Path| {
                let mut command = self.utter();
                command.args(["copy", "-q"]).args([&tree.path, echo]);
                command
            };
            let theirs = |echo: &Path| self.floor("copy-flushed", Some((&tree.path, echo)));
            let pairs = self.pairs(|| once(&ours), || once(&theirs))?;
            self.print(name, tree.entries, &pairs, (None, None));
            self.clear("near")?;
        }
        Ok(())
    }
}

fn said(text: String) -> anyhow::Error {
    anyhow!(text)
}
