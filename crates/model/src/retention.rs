//! Removal by age where clocks may be wrong.
//!
//! A run under a clock that is a year ahead must not remove anything for its age. So it only marks what is old, and
//! a later run removes that if its own clock finds it old as well; otherwise it removes the mark. The newest two
//! are never removed for their age.

use std::collections::BTreeMap;

/// How many of the newest are never removed for their age.
const KEPT: usize = 2;

/// What is to be done about what is old.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Aged<T> {
    /// What is removed: an earlier run marked it.
    pub goes: Vec<T>,
    /// What is marked from now on, each with the run that marked it first.
    pub marked: BTreeMap<T, String>,
}

/// Decides about `all`, the oldest first, of which some are old by the clock of `finder`. `marked` tells what was
/// found old before, and by whom.
pub fn decide<T: Ord + Clone>(
    all: &[T],
    is_old: impl Fn(&T) -> bool,
    marked: &BTreeMap<T, String>,
    finder: &str,
) -> Aged<T> {
    let mut aged = Aged { goes: Vec::new(), marked: BTreeMap::new() };
    let may_go = &all[..all.len().saturating_sub(KEPT)];
    for one in may_go.iter().filter(|one| is_old(one)) {
        match marked.get(one) {
            Some(other) if other != finder => aged.goes.push(one.clone()),
            _ => drop(aged.marked.insert(one.clone(), finder.to_owned())),
        }
    }
    aged
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_removed_by_one_clock_only() {
        let all: Vec<u32> = (1..=6).collect();
        let old_until = |last: u32| move |one: &u32| *one <= last;
        // A clock that is ahead finds all of them old.
        let ahead = decide(&all, old_until(6), &BTreeMap::new(), "ahead");
        assert!(ahead.goes.is_empty());
        assert_eq!(ahead.marked.keys().copied().collect::<Vec<_>>(), [1, 2, 3, 4]);
        // Asked twice by the same, that is no second opinion.
        assert_eq!(decide(&all, old_until(6), &ahead.marked, "ahead"), ahead);
        // One that is right removes what is old, and takes the other marks away.
        let right = decide(&all, old_until(2), &ahead.marked, "right");
        assert_eq!((right.goes, right.marked.len()), (vec![1, 2], 0));
        // The newest two stay, whatever clocks say.
        let few = decide(&[1, 2], old_until(9), &ahead.marked, "right");
        assert!(few.goes.is_empty() && few.marked.is_empty());
    }
}
