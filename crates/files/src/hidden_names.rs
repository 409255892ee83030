//! Names for entries under way, and how to know those that an interrupted run left behind.
//!
//! A name is `.utter-` with sixteen hexadecimal digits: eight by chance, or for a large file by what
//! it is made from, and eight computed from them.
//! So a name that merely looks alike is not taken for ours but by a chance of one in four
//! thousand million, and what lies under the name must be of the kind we leave, too.

use std::hash::{BuildHasher as _, RandomState};
use std::sync::atomic::{AtomicU32, Ordering};

use utter_echo_os::{Kind, Stat};

const PREFIX: &[u8] = b".utter-";

const DIGITS: usize = 8;

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
        let hash = self.keys.hash_one(count).to_be_bytes();
        name_for(u32::from_be_bytes([hash[0], hash[1], hash[2], hash[3]]))
    }
}

/// The name under which a large file is under way, the same in every run that makes this file of
/// this state of its source: so a run that was interrupted can be gone on with.
/// The numbers tell one state of the source from another.
pub fn name_of_large_file(name: &[u8], numbers: [u64; 4]) -> Vec<u8> {
    let state = numbers.into_iter().flat_map(u64::to_be_bytes);
    name_for(hash(name.iter().copied().chain([0]).chain(state)))
}

/// The one name of the mark that a run leaves until everything is on the drive.
pub fn name_of_dirty_marker() -> Vec<u8> {
    name_for(hash(b"not all is on the drive yet".iter().copied()))
}

fn name_for(chance: u32) -> Vec<u8> {
    format!(".utter-{chance:08x}{:08x}", check(chance)).into_bytes()
}

/// FNV-1a over the digits and a word of ours.
fn check(chance: u32) -> u32 {
    hash(b"utter echo under way".iter().copied().chain(chance.to_be_bytes()))
}

fn hash(bytes: impl Iterator<Item = u8>) -> u32 {
    bytes.fold(0x811c_9dc5, |hash, b| (hash ^ u32::from(b)).wrapping_mul(0x0100_0193))
}

/// True if an interrupted run of this program left this.
pub fn is_leftover(name: &[u8], stat: &Stat) -> bool {
    // A folder that a file took the place of is left empty, with no links from folders in it.
    let plausible = stat.kind != Kind::Folder || stat.links <= 2;
    plausible && is_hidden_name(name)
}

/// True for a name that only this program gives.
pub fn is_hidden_name(name: &[u8]) -> bool {
    let Some(digits) = name.strip_prefix(PREFIX).filter(|d| d.len() == 2 * DIGITS) else {
        return false;
    };
    let chance = std::str::from_utf8(&digits[..DIGITS]).ok();
    let chance = chance.and_then(|digits| u32::from_str_radix(digits, 16).ok());
    chance.is_some_and(|chance| name == name_for(chance))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_names_are_known_as_ours() {
        let temporaries = HiddenNames::default();
        let (one, two) = (temporaries.name(), temporaries.name());
        assert_ne!(one, two);
        assert!(is_hidden_name(&one) && is_hidden_name(&two));
        let mut other = one.clone();
        *other.last_mut().unwrap() ^= 1;
        assert!(!is_hidden_name(&other));
        for name in [&b".utter-"[..], b".utter-0123456789abcdef", b".utter-zz", b"utter.txt"] {
            assert!(!is_hidden_name(name));
        }
    }
}
