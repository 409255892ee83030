//! Paths within a tree: raw bytes, components joined by `/`, relative to the root.

use std::cmp::Ordering;

/// A path relative to the root of a tree; empty for the root itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct TreePath(Vec<u8>);

impl TreePath {
    /// The raw bytes.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Appends a name, or several joined by `/`; an empty one changes nothing.
    pub fn push(&mut self, name: &[u8]) {
        if name.is_empty() {
            return;
        }
        if !self.0.is_empty() {
            self.0.push(b'/');
        }
        self.0.extend_from_slice(name);
    }

    /// This path with one more name.
    #[must_use]
    pub fn join(&self, name: &[u8]) -> Self {
        let mut joined = Self(Vec::with_capacity(self.0.len() + 1 + name.len()));
        joined.push(&self.0);
        joined.push(name);
        joined
    }

    /// True if it lies below that folder, on any level.
    pub fn is_below(&self, folder: &Self) -> bool {
        let rest = self.0.strip_prefix(folder.as_bytes());
        rest.is_some_and(|rest| !rest.is_empty() && (folder.0.is_empty() || rest[0] == b'/'))
    }

    /// The path of the folder above, and the last name.
    pub fn split_last(&self) -> (&[u8], &[u8]) {
        match self.0.iter().rposition(|b| *b == b'/') {
            Some(at) => (&self.0[..at], &self.0[at + 1..]),
            None => (b"", &self.0),
        }
    }

    /// Joins names given from the deepest to the highest.
    pub fn from_deepest<'a>(names: impl Iterator<Item = &'a [u8]>) -> Self {
        let names: Vec<_> = names.collect();
        let mut path = Self::default();
        for name in names.into_iter().rev() {
            path.push(name);
        }
        path
    }
}

impl From<&[u8]> for TreePath {
    fn from(bytes: &[u8]) -> Self {
        Self(bytes.to_vec())
    }
}

/// Tree order: a folder before what it holds, names by their bytes.
impl Ord for TreePath {
    fn cmp(&self, other: &Self) -> Ordering {
        // With `/` as the lowest byte, no other name sorts between `a` and `a/x`.
        let key = |b: &u8| if *b == b'/' { 0 } else { *b };
        self.0.iter().map(key).cmp(other.0.iter().map(key))
    }
}

impl PartialOrd for TreePath {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// The position of a name in the arena of its folder.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct NameRange {
    start: u32,
    length: u16,
}

/// The names of one folder in one buffer.
#[derive(Debug, Default)]
pub struct NameArena(Vec<u8>);

impl NameArena {
    /// Stores a name. The system's names have less than 64 KiB, and those of one folder less than 4 GiB together.
    pub fn add(&mut self, name: &[u8]) -> NameRange {
        let range = NameRange {
            start: u32::try_from(self.0.len()).unwrap_or(u32::MAX),
            length: u16::try_from(name.len()).unwrap_or(u16::MAX),
        };
        self.0.extend_from_slice(name);
        range
    }

    /// The name at a position.
    pub fn get(&self, range: NameRange) -> &[u8] {
        let start = range.start as usize;
        &self.0[start..start + usize::from(range.length)]
    }

    /// Frees reserved memory.
    pub fn shrink(&mut self) {
        self.0.shrink_to_fit();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tree_order_keeps_a_folder_together() {
        let mut paths: Vec<TreePath> =
            ["a.txt", "a/z", "a", "a b", "", "a/b/c"].map(|p| p.as_bytes().into()).into();
        paths.sort();
        let order: Vec<_> = paths.iter().map(|p| String::from_utf8_lossy(p.as_bytes())).collect();
        assert_eq!(order, ["", "a", "a/b/c", "a/z", "a b", "a.txt"]);
    }

    #[test]
    fn joining_names() {
        let path = TreePath::from_deepest([&b"c"[..], b"b", b"a", b""].into_iter());
        assert_eq!(path.as_bytes(), b"a/b/c");
        assert_eq!(TreePath::default().join(b"x").join(b"").as_bytes(), b"x");
    }
}
