//! All steps of a part in tree order.

use utter_echo_model::path::TreePath;

use crate::policy::{Part, PlannedFolder, Step};

/// Merges each folder's steps with the folders in it, without a list of all paths.
pub(crate) struct InTreeOrder<'a> {
    part: &'a Part,
    next_folder: usize,
    /// Folders entered and not left: position, path, steps already given.
    open: Vec<(usize, TreePath, usize)>,
    /// Which steps of a folder, with the number of the first.
    of: fn(&PlannedFolder) -> (&[Step], usize),
    /// Its name on the side that they change.
    name: fn(&PlannedFolder) -> &[u8],
}

impl<'a> InTreeOrder<'a> {
    pub(crate) fn of_steps(part: &'a Part) -> Self {
        fn of(folder: &PlannedFolder) -> (&[Step], usize) {
            (&folder.steps, folder.first)
        }
        fn name(folder: &PlannedFolder) -> &[u8] {
            &folder.head.name
        }
        Self { part, next_folder: 0, open: Vec::new(), of, name }
    }

    pub(crate) fn of_vacates(part: &'a Part) -> Self {
        fn of(folder: &PlannedFolder) -> (&[Step], usize) {
            (&folder.vacates, folder.first_vacate)
        }
        Self { of, name: PlannedFolder::name_here, ..Self::of_steps(part) }
    }

    fn enter(&mut self) {
        let folder = &self.part.folders[self.next_folder];
        let path = self
            .open
            .last()
            .map_or_else(TreePath::default, |(_, above, _)| above.join((self.name)(folder)));
        self.open.push((self.next_folder, path, 0));
        self.next_folder += 1;
    }
}

impl<'a> Iterator for InTreeOrder<'a> {
    type Item = (usize, TreePath, &'a Step, Option<Vec<u8>>);

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
            let (steps, first) = (self.of)(folder);
            let step = steps.get(*given);
            let below = self.part.folders.get(self.next_folder);
            let below = below.filter(|below| below.parent as usize == *at);
            match (step, below) {
                (Some(step), below)
                    if below.is_none_or(|below| {
                        folder.head.names.get(step.name) <= &*below.head.name
                    }) =>
                {
                    let number = first + *given;
                    *given += 1;
                    let (name, named) = folder.told_of(step);
                    return Some((number, path.join(name), step, named));
                }
                (_, Some(_)) => self.enter(),
                (_, None) => {
                    self.open.pop();
                }
            }
        }
    }
}
