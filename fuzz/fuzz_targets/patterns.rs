//! Whatever is given as a pattern is read or refused, and what is read decides about any path.
#![no_main]

use utter_echo_core::select::{Rules, Selection};

libfuzzer_sys::fuzz_target!(|patterns: Vec<String>| {
    let rules = Rules { exclude: patterns.clone(), only: patterns, ..Rules::default() };
    let _ = Selection::new(&rules);
});
