//! Whatever is given as a pattern is read or refused, and what is read decides about any path.
#![no_main]

use std::path::Path;

use utter_echo_core::explain;
use utter_echo_core::os::Linux;
use utter_echo_core::select::{Clutter, PatternRules, RuleFile, Rules, Selection};

libfuzzer_sys::fuzz_target!(|given: (String, Vec<String>, String)| {
    let (text, patterns, path) = given;
    let file = RuleFile { name: "saltmere.rules".into(), text };
    let patterns = PatternRules {
        files: vec![file],
        exclude: patterns.clone(),
        only: patterns,
        ignore_case: false,
    };
    let without = Clutter { no_litter: true, ..Clutter::default() };
    let rules = Rules { patterns, without, ..Rules::default() };
    if let Ok(selection) = Selection::new(&rules) {
        let _ = explain::path(&Linux, Path::new("/nowhere-to-be-found"), &selection, path.as_bytes());
        let _ = explain::path(&Linux, Path::new("/proc/self/fdinfo"), &selection, path.as_bytes());
    }
});
