//! Names for entries under way, and how to know those that an interrupted run left behind.
//!
//! A name is `.utter-` with hexadecimal digits: eight by chance, or for a large file sixteen by what
//! it is made from, and eight computed from them.
//! So a name that merely looks alike is not taken for ours but by a chance of one in four
//! thousand million, and what lies under the name must be of the kind we leave, too. Two large files may
//! have one name all the same, if somebody wants them to: whoever writes under it has the file locked.

use std::hash::{BuildHasher as _, RandomState};
use std::sync::atomic::{AtomicU32, Ordering};

use sha2::{Digest as _, Sha256};
use utter_echo_os::{Kind, Stat};

const PREFIX: &[u8] = b".utter-";

/// Digits before those that are computed: of most names, and of large files.
const DIGITS: [usize; 2] = [8, 16];

/// A source of names that no one can foresee.
#[derive(Debug, Default)]
pub struct HiddenNames {
    keys: RandomState,
    count: AtomicU32,
}

impl HiddenNames {
    /// A name not given before. Whoever creates it must still ask that it be new.
    pub fn name(&self) -> Vec<u8> {
        let count = self.count.fetch_add(1, Ordering::Relaxed);
        name_for(self.keys.hash_one(count) >> 32, DIGITS[0])
    }
}

/// The name under which a large file is under way, the same in every run that makes this file of
/// this state of its source: so a run that was interrupted can be gone on with.
/// The numbers tell one state of the source from another.
pub fn name_of_large_file(name: &[u8], numbers: [u64; 4]) -> Vec<u8> {
    let mut digest = Sha256::new_with_prefix(name);
    // No name holds it, so what follows is not a part of one.
    digest.update([0]);
    for number in numbers {
        digest.update(number.to_be_bytes());
    }
    let mut first = [0; 8];
    first.copy_from_slice(&digest.finalize()[..8]);
    name_for(u64::from_be_bytes(first), DIGITS[1])
}

/// The one name of the marker that a run sets until everything is on the drive.
pub fn name_of_dirty_marker() -> Vec<u8> {
    name_for(hash(b"not all is on the drive yet").into(), DIGITS[0])
}

/// The one name of the folder in which entries wait for a moment before they go.
pub fn name_of_exit_folder() -> Vec<u8> {
    name_for(hash(b"on its way out").into(), DIGITS[0])
}

fn name_for(chance: u64, digits: usize) -> Vec<u8> {
    let bytes = &chance.to_be_bytes()[8 - digits / 2..];
    let check = hash(&[b"utter echo under way", bytes].concat());
    let digits = format!("{chance:0digits$x}{check:08x}");
    [PREFIX, digits.as_bytes()].concat()
}

/// FNV-1a.
fn hash(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0x811c_9dc5, |hash, b| (hash ^ u32::from(*b)).wrapping_mul(0x0100_0193))
}

/// True if an interrupted run of this program left this.
pub fn is_leftover(name: &[u8], stat: &Stat) -> bool {
    // A folder that a file took the place of is left empty, with no links from folders in it.
    let plausible = stat.kind != Kind::Folder || stat.links <= 2;
    // What waits to go from a source is no leftover: its copy may be another by now.
    plausible && is_hidden_name(name) && name != name_of_exit_folder()
}

/// True for what all names that only this program gives begin with.
pub fn begins_as_one(name: &[u8]) -> bool {
    name.starts_with(PREFIX)
}

/// True for a name that only this program gives.
pub fn is_hidden_name(name: &[u8]) -> bool {
    let Some(digits) = name.strip_prefix(PREFIX) else { return false };
    DIGITS.into_iter().any(|count| {
        let chance = digits.get(..count).and_then(|digits| std::str::from_utf8(digits).ok());
        let chance = chance.and_then(|digits| u64::from_str_radix(digits, 16).ok());
        chance.is_some_and(|chance| name == name_for(chance, count))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_names_are_recognised() {
        let temporaries = HiddenNames::default();
        let (one, two) = (temporaries.name(), temporaries.name());
        assert_ne!(one, two);
        assert!(is_hidden_name(&one) && is_hidden_name(&two));
        let large = name_of_large_file(b"season.wav", [1, 2, 3, 4]);
        assert!(is_hidden_name(&large) && is_hidden_name(&name_of_dirty_marker()));
        assert_ne!(large, name_of_large_file(b"season.wav", [1, 2, 3, 5]));
        assert_ne!(large, name_of_large_file(b"season.WAV", [1, 2, 3, 4]));
        let mut other = one.clone();
        *other.last_mut().unwrap() ^= 1;
        assert!(!is_hidden_name(&other));
        for name in [&b".utter-"[..], b".utter-0123456789abcdef", b".utter-zz", b"utter.txt"] {
            assert!(!is_hidden_name(name));
        }
    }
}
