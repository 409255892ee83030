//! Station: reading what a folder holds.

use std::io;
use std::os::fd::BorrowedFd;

use crate::os::{Kind, System};

/// The names in one folder, sorted by their bytes. Takes about twenty bytes a name beyond the name.
#[derive(Debug, Default)]
pub(crate) struct Listing {
    names: Vec<u8>,
    entries: Vec<Listed>,
}

#[derive(Clone, Copy, Debug)]
struct Listed {
    start: u32,
    length: u16,
    kind: Option<Kind>,
}

impl Listing {
    /// Lists an open folder.
    pub(crate) fn read(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Self> {
        let mut listing = Self::default();
        system.list(folder, &mut |name, kind| listing.add(name, kind))?;
        listing.sort();
        Ok(listing)
    }

    /// A listing of one name only, as for a single file.
    pub(crate) fn single(name: &[u8]) -> io::Result<Self> {
        let mut listing = Self::default();
        listing.add(name, None)?;
        Ok(listing)
    }

    fn add(&mut self, name: &[u8], kind: Option<Kind>) -> io::Result<()> {
        let full = |_| io::Error::from(io::ErrorKind::FileTooLarge);
        let start = u32::try_from(self.names.len()).map_err(full)?;
        let length = u16::try_from(name.len()).map_err(full)?;
        self.names.extend_from_slice(name);
        self.entries.push(Listed { start, length, kind });
        Ok(())
    }

    fn sort(&mut self) {
        let Self { names, entries } = self;
        entries.sort_unstable_by(|a, b| name_in(names, *a).cmp(name_in(names, *b)));
    }

    pub(crate) fn len(&self) -> usize {
        self.entries.len()
    }

    /// Name and, where the file system told it, kind of the entry at a position.
    pub(crate) fn get(&self, at: usize) -> Option<(&[u8], Option<Kind>)> {
        self.entries.get(at).map(|e| (name_in(&self.names, *e), e.kind))
    }
}

fn name_in(names: &[u8], entry: Listed) -> &[u8] {
    let start = entry.start as usize;
    &names[start..start + usize::from(entry.length)]
}

/// The kind of an entry, where the file system told it with the name.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Hint(pub(crate) Option<Kind>);

/// One name of a pair of folders, with what each side's listing tells of it: `None` if the side
/// lacks it.
pub(crate) struct Joined<'a> {
    pub(crate) name: &'a [u8],
    pub(crate) source: Option<Hint>,
    pub(crate) destination: Option<Hint>,
}

/// Walks two sorted listings side by side.
pub(crate) fn join<'a>(
    source: &'a Listing,
    destination: &'a Listing,
) -> impl Iterator<Item = Joined<'a>> {
    let (mut s, mut d) = (0, 0);
    std::iter::from_fn(move || {
        let (left, right) = (source.get(s), destination.get(d));
        let name = match (left, right) {
            (None, None) => return None,
            (Some((name, _)), None) | (None, Some((name, _))) => name,
            (Some((a, _)), Some((b, _))) => a.min(b),
        };
        let of =
            |side: Option<(&[u8], Option<Kind>)>| side.filter(|e| e.0 == name).map(|e| Hint(e.1));
        let joined = Joined { name, source: of(left), destination: of(right) };
        s += usize::from(joined.source.is_some());
        d += usize::from(joined.destination.is_some());
        Some(joined)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn listing(names: &BTreeSet<Vec<u8>>) -> Listing {
        let mut listing = Listing::default();
        for name in names.iter().rev() {
            listing.add(name, Some(Kind::File)).unwrap();
        }
        listing.sort();
        listing
    }

    proptest! {
        #[test]
        fn joining_finds_each_name_once_with_its_sides(
            a in prop::collection::btree_set(prop::collection::vec(1..4_u8, 1..4), 0..20),
            b in prop::collection::btree_set(prop::collection::vec(1..4_u8, 1..4), 0..20),
        ) {
            let (source, destination) = (listing(&a), listing(&b));
            let joined: Vec<_> = join(&source, &destination)
                .map(|j| (j.name.to_vec(), j.source.is_some(), j.destination.is_some()))
                .collect();
            let expected: Vec<_> =
                a.union(&b).map(|n| (n.clone(), a.contains(n), b.contains(n))).collect();
            prop_assert_eq!(joined, expected);
        }
    }
}
