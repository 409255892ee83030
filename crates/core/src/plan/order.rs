//! All steps of a part in tree order.

use utter_echo_model::path::TreePath;
use utter_echo_model::verb::Side;

use crate::policy::{Part, PlannedFolder, StepId};

/// Merges the steps of each folder with the folders in it, without a list of all paths.
pub(crate) struct InTreeOrder<'a> {
    part: &'a Part,
    /// The side that the steps change.
    side: Side,
    next_folder: usize,
    /// Folders entered and not left: position, path, steps already given.
    open: Vec<(usize, TreePath, usize)>,
}

impl<'a> InTreeOrder<'a> {
    /// The steps that change one side, with their paths there.
    pub(crate) fn of(part: &'a Part, side: Side) -> Self {
        Self { part, side, next_folder: 0, open: Vec::new() }
    }

    fn name(&self, folder: &'a PlannedFolder) -> &'a [u8] {
        match self.side {
            Side::Source => folder.name_here(),
            Side::Destination => &folder.head.name,
        }
    }

    fn enter(&mut self) {
        let name = self.name(&self.part.folders[self.next_folder]);
        let above = self.open.last();
        let path = above.map_or_else(TreePath::default, |(_, above, _)| above.join(name));
        self.open.push((self.next_folder, path, 0));
        self.next_folder += 1;
    }
}

impl Iterator for InTreeOrder<'_> {
    type Item = (StepId, TreePath);

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let Some((at, path, given)) = self.open.last_mut() else {
                if self.next_folder >= self.part.folders.len() {
                    return None;
                }
                self.enter();
                continue;
            };
            let folder = &self.part.folders[*at];
            let step = folder.list(self.side).get(*given);
            let below = self.part.folders.get(self.next_folder);
            let below = below.filter(|below| below.parent as usize == *at);
            let comes_first =
                |step| below.is_none_or(|below| folder.name(step) <= &*below.head.name);
            match step {
                Some(step) if comes_first(step) => {
                    let id = StepId::new(*at, self.side, *given);
                    *given += 1;
                    let name = match self.side {
                        Side::Source => folder.name_in_source(step),
                        Side::Destination => folder.name(step),
                    };
                    return Some((id, path.join(name)));
                }
                _ if below.is_some() => self.enter(),
                _ => {
                    self.open.pop();
                }
            }
        }
    }
}
