//! Options, a file for each group of the help: the arguments, and how they apply to a request. Each option is
//! defined once.

#![allow(clippy::doc_markdown, reason = "these comments are the help, which has no marks for code")]

mod carried;
mod changed;
pub(crate) mod complete;
mod hours;
mod keeping;
mod log;
mod moving;
mod notifying;
mod output;
mod places;
mod running;
mod safety;
mod selecting;
pub(crate) mod values;

use anyhow::Result;
use clap::Args;
use utter_echo_core::request::{Places, Request, Safety, Task};

use crate::context::Context;
use crate::location::{DriveName, Location};
use crate::user_folders::state_folder;

pub(crate) use carried::Carried;
pub(crate) use changed::{ChangedOptions, Steps, Verifying};
pub(crate) use hours::Hours;
pub(crate) use moving::Moving;
pub(crate) use notifying::NotifyOptions;
pub(crate) use output::{
    Colors, ListingOptions, Output, ProgressHow, ShownOptions, Verbose, with_csv,
};
pub(crate) use places::places;
pub(crate) use running::{RunningOptions, Waiting, Writing};
pub(crate) use safety::{
    AllOrNothing, Ask, Discarding, Expecting, Removing, SafetyOptions, Saving, SettingAside,
    with_its_guards,
};
pub(crate) use selecting::{Dropping, Inside, OnlyOfRun, Selecting, for_comparing};

/// Options of every command that compares two sides.
#[derive(Debug, Args)]
pub(crate) struct Comparing {
    #[command(flatten)]
    pub(crate) selecting: Selecting,
    #[command(flatten)]
    pub(crate) changed: ChangedOptions,
    #[command(flatten)]
    pub(crate) carried: Carried,
}

impl Comparing {
    /// Builds the request; reads the pattern files.
    pub(crate) fn request(
        &self,
        task: Task,
        places: Places,
        dropping: &Dropping,
        context: &Context,
    ) -> Result<Request> {
        let selection = self.selecting.selection(&places.sources, dropping, context)?;
        let request = Request::new(task, places).selecting(selection).leaving_out(state_folder());
        Ok(self.carried.apply(self.changed.apply(request)))
    }
}

/// Options of copy, mirror and move.
#[derive(Debug, Args)]
pub(crate) struct Changing {
    #[command(flatten)]
    pub(crate) comparing: Comparing,
    #[command(flatten)]
    pub(crate) steps: Steps,
    #[command(flatten)]
    pub(crate) doing: Doing,
    #[command(flatten)]
    pub(crate) aside: SettingAside,
    #[command(flatten)]
    pub(crate) saving: Saving,
    #[command(flatten)]
    pub(crate) waiting: Waiting,
    #[command(flatten)]
    pub(crate) expecting: Expecting,
}

impl Changing {
    /// The drives that a run names.
    pub(crate) fn drives<'l>(
        &'l self,
        sources: &'l [Location],
        destination: &'l Location,
    ) -> Vec<&'l DriveName> {
        let all = sources.iter().chain([destination]).chain(&self.aside.set_aside);
        let all = all.chain(&self.comparing.selecting.patterns.rules).chain(&self.saving.save_plan);
        all.filter_map(Location::drive).collect()
    }

    /// A request for a task under these guards.
    pub(crate) fn request(
        &self,
        (task, places): (Task, Places),
        dropping: &Dropping,
        guards: Safety,
        context: &Context,
    ) -> Result<Request> {
        let request = self.comparing.request(task, places, dropping, context)?;
        let guards = Safety { expected: self.expecting.expect_entries, ..guards };
        let guards = match task {
            Task::Move => self.aside.over_move(guards, context)?,
            _ => self.aside.over(guards, context)?,
        };
        Ok(self.doing.apply(self.steps.apply(request).guarded(guards)))
    }
}

/// How a plan is carried out, wherever it comes from.
#[derive(Debug, Args)]
pub(crate) struct Doing {
    #[command(flatten)]
    pub(crate) safety: SafetyOptions,
    #[command(flatten)]
    pub(crate) writing: Writing,
    #[command(flatten)]
    pub(crate) running: RunningOptions,
    #[command(flatten)]
    pub(crate) output: Output,
    #[command(flatten)]
    pub(crate) verbose: Verbose,
}

impl Doing {
    pub(crate) fn apply(&self, request: Request) -> Request {
        self.writing.apply(self.running.apply(request))
    }
}
