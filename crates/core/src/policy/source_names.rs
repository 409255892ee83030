//! Names of a folder's entries that differ in the source.

use std::collections::HashMap;
use std::sync::Arc;

type NamesByNames = HashMap<Box<[u8]>, Box<[u8]>>;

/// The source's names by those in the destination. Most folders have none and need no memory for this.
#[derive(Clone, Debug, Default)]
pub(crate) struct SourceNames(Option<Arc<NamesByNames>>);

impl SourceNames {
    pub(crate) fn add(&mut self, here: &[u8], source: &[u8]) {
        let names = Arc::make_mut(self.0.get_or_insert_default());
        names.insert(here.into(), source.into());
    }

    /// The source's name, if that differs.
    pub(crate) fn get(&self, here: &[u8]) -> Option<&[u8]> {
        self.0.as_ref()?.get(here).map(|source| &**source)
    }
}
