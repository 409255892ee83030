//! Reading what a folder holds.

use std::collections::HashMap;
use std::io;
use std::ops::Range;
use std::os::fd::BorrowedFd;

use utter_echo_model::names::NameRules;
use utter_echo_os::{Kind, Name, System};

/// The names in one folder, sorted by their bytes. Takes sixteen bytes a name beyond the name.
#[derive(Debug, Default)]
pub struct Listing {
    names: Vec<u8>,
    entries: Vec<ListedName>,
}

#[derive(Clone, Copy, Debug)]
struct ListedName {
    /// The first eight bytes, as a number of the same order: most names differ in it.
    head: u64,
    start: u32,
    length: u16,
    kind: Option<Kind>,
}

impl Listing {
    /// Lists an open folder.
    pub fn read(system: &dyn System, folder: BorrowedFd<'_>) -> io::Result<Self> {
        Self::read_with(system, folder, &mut |_| {})
    }

    /// The same for somebody who hears of each name as the system tells it.
    pub fn read_with(
        system: &dyn System,
        folder: BorrowedFd<'_>,
        tell: &mut dyn FnMut(Name<'_>),
    ) -> io::Result<Self> {
        let mut listing = Self::default();
        system.list(folder, &mut |name| {
            tell(name);
            listing.add(name.bytes, name.kind)
        })?;
        listing.sort();
        Ok(listing)
    }

    /// A listing of one name only, as for a single file.
    pub fn single(name: &[u8]) -> io::Result<Self> {
        let mut listing = Self::default();
        listing.add(name, None)?;
        Ok(listing)
    }

    fn add(&mut self, name: &[u8], kind: Option<Kind>) -> io::Result<()> {
        let full = |_| io::Error::from(io::ErrorKind::FileTooLarge);
        let start = u32::try_from(self.names.len()).map_err(full)?;
        let length = u16::try_from(name.len()).map_err(full)?;
        self.names.extend_from_slice(name);
        self.entries.push(ListedName { head: head_of(name), start, length, kind });
        Ok(())
    }

    fn sort(&mut self) {
        let Self { names, entries } = self;
        entries.sort_unstable_by(|a, b| {
            a.head.cmp(&b.head).then_with(|| name_in(names, *a).cmp(name_in(names, *b)))
        });
    }

    /// How many names there are.
    pub fn count(&self) -> usize {
        self.entries.len()
    }

    /// All names, in their order.
    pub fn names(&self) -> impl Iterator<Item = &[u8]> {
        self.entries.iter().map(|entry| name_in(&self.names, *entry))
    }

    /// True if the folder holds this name.
    pub fn has(&self, name: &[u8]) -> bool {
        self.get(self.position(name)).is_some_and(|(there, _)| there == name)
    }

    /// Where a name stands, or would stand.
    fn position(&self, name: &[u8]) -> usize {
        self.entries.partition_point(|entry| name_in(&self.names, *entry) < name)
    }

    /// Name and, where the file system gave it, kind of the entry at a position.
    pub fn get(&self, at: usize) -> Option<(&[u8], Option<Kind>)> {
        self.entries.get(at).map(|e| (name_in(&self.names, *e), e.kind))
    }
}

/// A shorter name is filled up with zeros, which no name holds.
fn head_of(name: &[u8]) -> u64 {
    let mut head = [0; 8];
    let length = name.len().min(head.len());
    head[..length].copy_from_slice(&name[..length]);
    u64::from_be_bytes(head)
}

fn name_in(names: &[u8], entry: ListedName) -> &[u8] {
    let start = entry.start as usize;
    &names[start..start + usize::from(entry.length)]
}

/// The kind of an entry, where the file system gave it with the name.
#[derive(Clone, Copy, Debug)]
pub struct KindHint(pub Option<Kind>);

/// One name of a pair of folders, with what each side's listing tells of it: `None` if the side
/// lacks it.
pub struct MergedName<'a> {
    /// The name.
    pub name: &'a [u8],
    /// The source's.
    pub source: Option<KindHint>,
    /// The destination's.
    pub destination: Option<KindHint>,
}

/// Gives what the destination has the source's spelling, where its drive takes both for one name.
/// Returns the names of the source that fall together with an earlier one, and that one.
pub fn fold_together(
    names: &NameRules,
    source: &Listing,
    destination: &mut Listing,
) -> io::Result<HashMap<Vec<u8>, Vec<u8>>> {
    let mut firsts: HashMap<Vec<u8>, &[u8]> = HashMap::new();
    let mut same_there = HashMap::new();
    for name in source.names() {
        let first = *firsts.entry(names.fold(name)).or_insert(name);
        if first != name {
            same_there.insert(name.to_vec(), first.to_vec());
        }
    }
    let mut respelt = Listing::default();
    for at in 0..destination.count() {
        let Some((name, kind)) = destination.get(at) else { break };
        respelt.add(firsts.get(&names.fold(name)).copied().unwrap_or(name), kind)?;
    }
    respelt.sort();
    *destination = respelt;
    Ok(same_there)
}

/// A stretch of names of two listings: positions in the one, positions in the other.
pub type NameRanges = (Range<usize>, Range<usize>);

/// Cuts two sorted listings at the same names, every `length` names of the longer one; at least
/// one stretch, maybe of nothing.
pub fn cut(source: &Listing, destination: &Listing, length: usize) -> Vec<NameRanges> {
    let longer = if source.count() < destination.count() { destination } else { source };
    let mut stretches = Vec::new();
    let (mut s, mut d) = (0, 0);
    for at in (length..longer.count()).step_by(length) {
        let Some((name, _)) = longer.get(at) else { break };
        let (s_end, d_end) = (source.position(name), destination.position(name));
        stretches.push((s..s_end, d..d_end));
        (s, d) = (s_end, d_end);
    }
    stretches.push((s..source.count(), d..destination.count()));
    stretches
}

/// Walks a stretch of two sorted listings side by side.
pub fn join<'a>(
    source: &'a Listing,
    destination: &'a Listing,
    (s, d): NameRanges,
) -> impl Iterator<Item = MergedName<'a>> {
    let (mut s, mut d) = (s, d);
    std::iter::from_fn(move || {
        let left = (!s.is_empty()).then(|| source.get(s.start)).flatten();
        let right = (!d.is_empty()).then(|| destination.get(d.start)).flatten();
        let name = match (left, right) {
            (None, None) => return None,
            (Some((name, _)), None) | (None, Some((name, _))) => name,
            (Some((a, _)), Some((b, _))) => a.min(b),
        };
        let of = |side: Option<(&[u8], Option<Kind>)>| {
            side.filter(|entry| entry.0 == name).map(|entry| KindHint(entry.1))
        };
        let joined = MergedName { name, source: of(left), destination: of(right) };
        s.start += usize::from(joined.source.is_some());
        d.start += usize::from(joined.destination.is_some());
        Some(joined)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;
    use utter_echo_model::names::CaseFolding;

    fn listing(names: &BTreeSet<Vec<u8>>) -> Listing {
        let mut listing = Listing::default();
        for name in names.iter().rev() {
            listing.add(name, Some(Kind::File)).unwrap();
        }
        listing.sort();
        listing
    }

    #[test]
    fn names_that_the_drive_cannot_tell_apart_are_joined_and_a_second_one_is_reported() {
        let names = NameRules { folding: CaseFolding::All, ..NameRules::default() };
        let of = |names: &[&str]| listing(&names.iter().map(|n| n.as_bytes().to_vec()).collect());
        let source = of(&["Fog", "LENS", "lens", "tide"]);
        let mut destination = of(&["FOG", "Lens", "tide", "Shop"]);
        let same_there = fold_together(&names, &source, &mut destination).unwrap();
        let shown: Vec<_> = destination.names().collect();
        assert_eq!(shown, [&b"Fog"[..], b"LENS", b"Shop", b"tide"]);
        assert_eq!(same_there, HashMap::from([(b"lens".to_vec(), b"LENS".to_vec())]));
    }

    proptest! {
        #[test]
        fn joining_finds_each_name_once_with_its_sides(
            a in prop::collection::btree_set(prop::collection::vec(1..4_u8, 1..4), 0..20),
            b in prop::collection::btree_set(prop::collection::vec(1..4_u8, 1..4), 0..20),
            length in 1..30_usize,
        ) {
            let (source, destination) = (listing(&a), listing(&b));
            let stretches = cut(&source, &destination, length);
            prop_assert!(stretches.iter().all(|(s, d)| s.len().min(d.len()) <= length));
            let joined: Vec<_> = stretches
                .into_iter()
                .flat_map(|stretch| join(&source, &destination, stretch))
                .map(|j| (j.name.to_vec(), j.source.is_some(), j.destination.is_some()))
                .collect();
            let expected: Vec<_> =
                a.union(&b).map(|n| (n.clone(), a.contains(n), b.contains(n))).collect();
            prop_assert_eq!(joined, expected);
        }
    }
}
