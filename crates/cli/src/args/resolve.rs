//! From what was typed to a request: here it meets files, the clock and the machine.

use std::path::{Path, PathBuf};
use std::thread::available_parallelism;

use anyhow::{Context as _, Result};
use jiff::Timestamp;
use utter_echo_core::os::Time;
use utter_echo_core::request::{
    self, By, Cache, Flush, Keep, Places, Request, Retries, Safety, SetAside, Task,
};
use utter_echo_core::select::{Kinds, RuleFile, Rules, Selection};

use super::groups::{
    ByWhat, CacheHow, FlushWhen, Format, Output, Removing, Running, SafetyOptions, Takes, What,
    Writing, YesNo,
};
use super::values::{self, KeepRuns};

impl Takes {
    /// Reads the rules, from files too, and makes them ready to decide.
    pub(crate) fn selection(&self, sources: &[PathBuf], drops: bool) -> Result<Selection> {
        let mut files = Vec::new();
        for path in &self.rules {
            let name = path.to_string_lossy().into_owned();
            let text = std::fs::read_to_string(path)
                .with_context(|| format!("cannot read the rules '{name}'; nothing was touched"))?;
            files.push(RuleFile { name, text });
        }
        let all = self.exclude.iter().chain(&self.only).map(String::as_str);
        let lines = files.iter().flat_map(|file| file.text.lines());
        for pattern in all.chain(lines) {
            values::refuse_outside(pattern, sources).map_err(anyhow::Error::msg)?;
        }
        let now = Time::now();
        let modified = match (self.age, self.dated) {
            (Some(age), _) => values::aged(age, now),
            (None, dated) => dated.unwrap_or_default(),
        };
        let folders = Kinds { files: false, folders: true, links: false, specials: false };
        let only_folders = self.folders_only.then_some(folders);
        Ok(Selection::new(&Rules {
            files,
            exclude: self.exclude.clone(),
            only: self.only.clone(),
            any_case: self.any_case,
            size: self.size.unwrap_or_default(),
            modified,
            depth: self.depth,
            kinds: self.kind.or(only_folders).unwrap_or(Kinds::ALL),
            no_hidden: self.hidden == YesNo::No,
            no_litter: self.skip_litter,
            no_caches: self.skip_caches,
            no_empty_folders: self.no_empty_folders,
            same_drive: self.same_drive,
            cross_drives: self.cross_drives,
            drop_unselected: drops,
        })?)
    }
}

/// Resolves what was typed; patterns are read here. What only some commands have is as it is without
/// it.
pub(crate) fn request(
    task: Task,
    (sources, destination): (Vec<PathBuf>, &Path),
    (what, drops): (&What, bool),
    running: &Running,
    writing: Option<&Writing>,
    safety: Safety,
) -> Result<Request> {
    let What { takes, changed, carried } = what;
    let selection = takes.selection(&sources, drops)?;
    let inside = takes.inside;
    let places = Places { inside, ..Places::new(sources, destination.to_path_buf()) };
    let changed = request::Changed {
        by: match changed.by {
            ByWhat::SizeTime => By::SizeTime,
            ByWhat::Content => By::Content,
            ByWhat::Size => By::Size,
            ByWhat::Presence => By::Presence,
        },
        all_aspects: changed.all_aspects,
        time_slack: changed.time_slack.unwrap_or_default(),
        ..request::Changed::default()
    };
    Ok(Request::new(task, places)
        .selecting(selection)
        .comparing(changed)
        .carrying(carried.carry)
        .strictly(carried.carry_strictly)
        .guarded(safety)
        .running(self::running(running, writing)))
}

/// How a run goes about it, of what was typed.
pub(crate) fn running(running: &Running, writing: Option<&Writing>) -> request::Running {
    request::Running {
        workers: running.workers(),
        // What writes nothing has nothing to flush.
        flush: match writing.map_or(FlushWhen::None, |writing| writing.flush) {
            FlushWhen::End => Flush::End,
            FlushWhen::Each => Flush::Each,
            FlushWhen::None => Flush::None,
        },
        rate: writing.and_then(|writing| writing.rate),
        retries: Retries { times: running.retries, wait: running.retry_wait },
        recheck: writing.is_some_and(|writing| writing.recheck),
        cache: match running.cache {
            CacheHow::Keep => Cache::Keep,
            CacheHow::Drop => Cache::Drop,
        },
    }
}

impl Output {
    /// Only a verification has a table to print.
    pub(crate) fn refuse_csv(&self) -> Result<()> {
        if self.format == Format::Csv {
            anyhow::bail!("--format csv is for 'verify' alone; use text or json");
        }
        Ok(())
    }
}

impl SafetyOptions {
    /// What may refuse a plan, and what not, but for what only removals need.
    pub(crate) fn guards(&self) -> Safety {
        let set_aside = self.set_aside.as_ref().map(|folder| {
            let now = Timestamp::now();
            let keep = self.set_aside_keep.map(|keep| match keep {
                KeepRuns::Newest(count) => Keep::Newest(count),
                KeepRuns::For(duration) => Keep::Since(run_at(now - duration)),
            });
            SetAside { folder: folder.clone(), run: run_at(now), keep }
        });
        let (drive, waived) = (self.drive.clone(), self.waive.clone());
        Safety { drive, waived, set_aside, ..Safety::default() }
    }
}

impl Removing {
    /// What was said of removals now, and otherwise before.
    pub(crate) fn over(&self, before: &Safety, safety: Safety) -> Safety {
        Safety {
            removal_limit: self.removal_limit.unwrap_or(before.removal_limit),
            remove_first: self.remove_first || before.remove_first,
            ..safety
        }
    }
}

/// What the name of a run tells, in UTC.
pub(crate) const RUN_FORM: &str = "%Y-%m-%dT%H-%M-%SZ";

/// The name of a run that begins at this time.
pub(crate) fn run_at(time: Timestamp) -> String {
    time.strftime(RUN_FORM).to_string()
}

impl Running {
    fn workers(&self) -> usize {
        let usual = || available_parallelism().map_or(1, std::num::NonZero::get).min(8);
        self.workers.map_or_else(usual, usize::from)
    }
}
