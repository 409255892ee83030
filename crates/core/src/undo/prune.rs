//! Removing old set-aside runs.

use std::io;

use utter_echo_model::problem::{Operation, Problem};
use utter_echo_os::System;

use crate::journal::open_store;
use crate::request::SetAside;
use crate::sides::SetAsidePlace;
use crate::undo::past_run::{BadRun, PastRun};

impl SetAsidePlace {
    /// Removes set-aside runs that need not be kept any longer, at the end of `run`.
    pub(crate) fn prune(
        &self,
        system: &dyn System,
        set_aside: &SetAside,
        run: &str,
    ) -> Vec<Problem> {
        let Some(keep) = &set_aside.keep else { return Vec::new() };
        let problem = |(run, cause): (String, io::Error)| Problem {
            path: self.path.join(run).as_os_str().as_encoded_bytes().into(),
            operation: Operation::Prune,
            cause: cause.into(),
        };
        // Runs whose drive is not mounted may still be needed.
        let may_go = |run: &str| match PastRun::open(system, &self.path.join(run)) {
            Ok(past) => past.pairs().is_ok_and(|pairs| past.other_place(&pairs).is_none()),
            // So may runs whose journal cannot be read.
            Err(error) => matches!(error, BadRun::NeverBegun(_)),
        };
        match open_store(system, &self.path).and_then(|store| store.prune(keep, run, may_go)) {
            Ok(failed) => failed.into_iter().map(problem).collect(),
            Err(error) => vec![problem((String::new(), error))],
        }
    }
}
