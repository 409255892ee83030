//! A request, built from defaults.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

use utter_echo_model::attribute::Attributes;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Running;
use utter_echo_select::Selection;

use crate::request::comparing::Changed;
use crate::request::safety::Safety;
use crate::request::task::{MoveOptions, OnConflict, Places, Task};

/// The request of a run. Each part goes to the layer that needs it.
#[derive(Debug)]
pub struct Request {
    /// What to do.
    pub task: Task,
    /// The places.
    pub places: Places,
    /// Which entries take part.
    pub selection: Selection,
    /// What counts as changed, and which steps are allowed.
    pub changed: Changed,
    /// The attributes to carry.
    pub carry: Attributes,
    /// Guards.
    pub safety: Safety,
    /// How to work.
    pub running: Running,
    /// Options of a move.
    pub moving: MoveOptions,
    /// The state folder of the program, which changes during the run and is always left out.
    pub own: Option<PathBuf>,
    answers: OnceLock<HashMap<Vec<u8>, OnConflict>>,
}

impl Request {
    /// Answers for [`OnConflict::Ask`], by paths below the destination as the user named it. They are set once,
    /// before the plan is made.
    pub fn answer(&self, answers: HashMap<Vec<u8>, OnConflict>) {
        // The first answers stay.
        let _ = self.answers.set(answers);
    }

    pub(crate) fn on_conflict(&self, path: &TreePath) -> OnConflict {
        match self.moving.on_conflict {
            OnConflict::Ask => {
                let answered = self.answers.get().and_then(|all| all.get(path.as_bytes()));
                answered.copied().unwrap_or_default()
            }
            other => other,
        }
    }

    /// A request for all entries, with all attributes and guards. Each of the calls below changes one part of it.
    pub fn new(task: Task, places: Places) -> Self {
        Self {
            task,
            places,
            selection: Selection::everything(),
            changed: Changed::default(),
            carry: Attributes::ALL,
            safety: Safety::default(),
            running: Running::default(),
            moving: MoveOptions::default(),
            own: None,
            answers: OnceLock::new(),
        }
    }

    /// With these options of a move.
    #[must_use]
    pub fn moving(self, moving: MoveOptions) -> Self {
        Self { moving, ..self }
    }

    /// With this selection.
    #[must_use]
    pub fn selecting(self, selection: Selection) -> Self {
        Self { selection, ..self }
    }

    /// With this definition of changed.
    #[must_use]
    pub fn comparing(self, changed: Changed) -> Self {
        Self { changed, ..self }
    }

    /// With these attributes.
    #[must_use]
    pub fn carrying(self, carry: Attributes) -> Self {
        Self { carry, ..self }
    }

    /// With attributes that cannot be carried as problems.
    #[must_use]
    pub fn strictly(self, strictly: bool) -> Self {
        Self { changed: Changed { strictly, ..self.changed }, ..self }
    }

    /// With times this far apart as equal.
    #[must_use]
    pub fn time_slack(self, time_slack: Duration) -> Self {
        Self { changed: Changed { time_slack, ..self.changed }, ..self }
    }

    /// With these guards and limits.
    #[must_use]
    pub fn guarded(self, safety: Safety) -> Self {
        Self { safety, ..self }
    }

    /// Without this folder, wherever it is found.
    #[must_use]
    pub fn leaving_out(self, own: Option<PathBuf>) -> Self {
        Self { own, ..self }
    }

    /// With these options on how to work.
    #[must_use]
    pub fn running(self, running: Running) -> Self {
        Self { running, ..self }
    }
}
