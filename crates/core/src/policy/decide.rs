//! Deciding about links and renames, and checking every step.

use utter_echo_model::identity::DriveId;
use utter_echo_model::state::State;
use utter_echo_model::verb::{Reason, Verb};

use crate::compare::{Compared, DifferenceKind, Proof, RootDifference};
use crate::policy::decisions::Decisions;
use crate::policy::dependence;
use crate::policy::draft::Draft;
use crate::policy::may::Permission;
use crate::policy::step::Step;
use crate::request::RenamePath;

impl Draft<'_> {
    /// Checks every step against the options, and removes those that are not allowed and those that depend on them.
    pub(super) fn last_word(mut self, root: Option<Step>) -> Decisions {
        for at in 0..self.folders.len() {
            let drive = self.folders[at].drive();
            for slot in 0..self.folders[at].steps.len() {
                let step = self.folders[at].steps[slot].take();
                let granted = step.and_then(|step| self.granted(step, drive));
                self.folders[at].steps[slot] = granted;
            }
        }
        let may = |step: Step| self.policy.may(&step, DriveId::default()) == Permission::Yes;
        if !self.roots.removal().is_some_and(may) {
            self.roots.state = None;
        }
        let mut decided = std::mem::take(&mut self.decided);
        decided.part = self.into_part(root);
        decided.held_back += dependence::prune(&mut decided.part);
        dependence::settle_source_removals(&mut decided.part, |_| false);
        decided
    }
}

impl Draft<'_> {
    /// Decides about links and renames, and checks every step.
    pub(crate) fn decide(mut self, compared: &Compared, proof: &dyn Proof) -> Decisions {
        let root = compared.root.as_ref().filter(|_| !self.is_locked);
        let wanted = root.and_then(|root| self.root_step(root));
        let root = wanted.and_then(|step| self.granted(step, DriveId::default()));
        // A root that stays different stays in the source, too.
        if !compared.takes_root || wanted.is_some() && root.is_none() {
            self.roots.state = None;
        }
        let lacks_root =
            compared.root.is_some_and(|root| root.what == DifferenceKind::New) && root.is_none();
        self.report_locked();
        self.arrange();
        if lacks_root {
            self.hold_back_all();
        }
        self.settle_links();
        self.find_renames(proof);
        self.take_over();
        let root = self.take_root_over(root);
        self.last_word(root)
    }

    /// Sets the source's root folder, if it may be removed, and whether it can be renamed.
    pub(crate) fn source_root(mut self, root: Option<State>, rename_path: RenamePath) -> Self {
        self.roots.state = root.filter(|_| !self.policy.moving.leave_folders);
        self.roots.rename_path = rename_path;
        self
    }

    /// Renames the source's root with everything in it.
    pub(crate) fn take_all_over(mut self, compared: &Compared) -> Decisions {
        let root = compared.root.as_ref().and_then(|root| self.root_step(root));
        let root = root.and_then(|step| self.granted(step, DriveId::default()));
        self.roots.comes_along = true;
        let root = self.take_root_over(root);
        self.last_word(root)
    }

    fn root_step(&self, root: &RootDifference) -> Option<Step> {
        let RootDifference { source, destination, what } = *root;
        let (verb, reason) = match what {
            DifferenceKind::New => (Verb::Add, Reason::New),
            DifferenceKind::Attributes(_) => (Verb::Adjust, Reason::Attributes),
            _ => return None,
        };
        let mut step = Step::new(verb, reason, (Some(source), destination));
        if let DifferenceKind::Attributes(attributes) = what {
            let sides = (Some(source), destination);
            step.attributes = self.policy.own_attributes(attributes, sides);
            if step.attributes.is_empty() {
                return None;
            }
        }
        Some(step)
    }
}
