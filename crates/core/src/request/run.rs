//! A whole run, by a builder with defaults.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::OnceLock;

use utter_echo_model::aspect::Aspects;
use utter_echo_model::path::TreePath;
use utter_echo_model::running::Running;
use utter_echo_select::Selection;

use crate::request::comparing::Changed;
use crate::request::safety::Safety;
use crate::request::task::{OnConflict, Places, Task, Vacating};

/// A whole run; each part goes to the layer that needs it.
#[derive(Debug)]
pub struct Request {
    /// What to do.
    pub task: Task,
    /// From where to where.
    pub places: Places,
    /// Which entries take part.
    pub selection: Selection,
    /// What counts as changed, and what is done about it.
    pub changed: Changed,
    /// What goes along.
    pub carry: Aspects,
    /// Guards.
    pub safety: Safety,
    /// How to go about it.
    pub running: Running,
    /// How a move goes about it.
    pub vacating: Vacating,
    /// The folder in which whoever asks keeps what changes while it runs; it takes no part.
    pub own: Option<PathBuf>,
    answers: OnceLock<HashMap<Vec<u8>, OnConflict>>,
}

impl Request {
    /// What to do with each conflict, by its path below the destination as the user named it: for
    /// [`OnConflict::Ask`]. It can be answered once; a plan made after that goes by it.
    pub fn answer(&self, answers: HashMap<Vec<u8>, OnConflict>) {
        // The first answer is the one that was looked at.
        let _ = self.answers.set(answers);
    }

    pub(crate) fn on_conflict(&self, path: &TreePath) -> OnConflict {
        match self.vacating.on_conflict {
            OnConflict::Ask => {
                let answered = self.answers.get().and_then(|all| all.get(path.as_bytes()));
                answered.copied().unwrap_or_default()
            }
            other => other,
        }
    }

    /// A request for everything, with every aspect and all guards on. Each of the calls
    /// below changes one part of that.
    pub fn new(task: Task, places: Places) -> Self {
        Self {
            task,
            places,
            selection: Selection::everything(),
            changed: Changed::default(),
            carry: Aspects::ALL,
            safety: Safety::default(),
            running: Running::default(),
            vacating: Vacating::default(),
            own: None,
            answers: OnceLock::new(),
        }
    }

    /// Moving like this.
    #[must_use]
    pub fn vacating(self, vacating: Vacating) -> Self {
        Self { vacating, ..self }
    }

    /// With only what a selection takes.
    #[must_use]
    pub fn selecting(self, selection: Selection) -> Self {
        Self { selection, ..self }
    }

    /// With other terms of what counts as changed.
    #[must_use]
    pub fn comparing(self, changed: Changed) -> Self {
        Self { changed, ..self }
    }

    /// With these aspects.
    #[must_use]
    pub fn carrying(self, carry: Aspects) -> Self {
        Self { carry, ..self }
    }

    /// With what cannot be carried as a problem.
    #[must_use]
    pub fn strictly(self, strictly: bool) -> Self {
        Self { changed: Changed { strictly, ..self.changed }, ..self }
    }

    /// With these guards and limits.
    #[must_use]
    pub fn guarded(self, safety: Safety) -> Self {
        Self { safety, ..self }
    }

    /// Leaving out this folder, wherever it is met.
    #[must_use]
    pub fn leaving_out(self, own: Option<PathBuf>) -> Self {
        Self { own, ..self }
    }

    /// Gone about like this.
    #[must_use]
    pub fn running(self, running: Running) -> Self {
        Self { running, ..self }
    }
}
