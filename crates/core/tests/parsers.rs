//! Guarantee: whatever a user types, a parser gives a value or a reason, and never panics; and what
//! a carry list says is what it does.

#![allow(clippy::unwrap_used, reason = "a test stops there")]

use proptest::prelude::*;
use utter_echo_core::attribute::{Attribute, Attributes};
use utter_echo_core::os::Linux;
use utter_echo_core::path::TreePath;
use utter_echo_core::saved;
use utter_echo_core::select::{PatternRules, Rules, Selection};
use utter_echo_core::{PastRun, Standing};

/// Text with many characters that are special in patterns and lists.
fn telling() -> impl Strategy<Value = String> {
    prop::collection::vec(
        prop_oneof![
            Just("*"),
            Just("**"),
            Just("?"),
            Just("["),
            Just("]"),
            Just("{"),
            Just("}"),
            Just("!"),
            Just("/"),
            Just("\\"),
            Just(","),
            Just("-"),
            Just("a"),
            Just("é"),
            Just(" "),
            Just("#"),
            Just("all"),
            Just("mode"),
            Just("."),
            Just("\u{0}"),
        ],
        0..12,
    )
    .prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn any_pattern_is_read_or_refused_with_a_reason(patterns in prop::collection::vec(telling(), 1..4)) {
        let rules = Rules {
patterns: PatternRules {  exclude: patterns.clone(), only: patterns,
..PatternRules::default() }, ..Rules::default() };
        if let Err(reason) = Selection::new(&rules) {
            let reason = reason.to_string();
            prop_assert!(reason.starts_with("--exclude '"), "{}", reason);
            prop_assert!(reason.len() > "--exclude '': ".len());
        }
    }

    #[test]
    fn any_name_can_be_excluded_and_an_open_class_cannot(
        // Spaces of one byte and of several at the end count if they are escaped.
        name in "[^/\\x00]{1,12}[ \u{a0}\u{3000}]?",
    ) {
        let escaped: String = name.chars().flat_map(|letter| ['\\', letter]).collect();
        let excluding = |pattern: String| {
            Selection::new(&Rules {
patterns: PatternRules {  exclude: vec![pattern],
..PatternRules::default() }, ..Rules::default() })
        };
        prop_assert!(excluding(escaped.clone()).is_ok(), "{}", escaped);
        prop_assert!(excluding(escaped + "[a").is_err());
    }

    #[test]
    fn random_bytes_are_never_accepted_as_a_plan(
        bytes in prop::collection::vec(any::<u8>(), 0..300),
        kind in "plan|part|folder|step|leader|totals|end",
        field in "[a-z]{1,9}",
    ) {
        prop_assert!(saved::read(&*bytes).is_err());
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let line = serde_json::json!({ kind: { field: text } }).to_string();
        let reason = saved::read(line.as_bytes()).unwrap_err().to_string();
        prop_assert!(reason.contains("save a new plan"), "{}", reason);
    }

    #[test]
    fn any_carry_list_is_read_or_refused_with_a_reason(list in telling()) {
        let mut words = list.split(',').map(|word| word.trim().trim_start_matches('-'));
        let names = words.all(|word| word == "all" || Attribute::ALL.iter().any(|a| a.name() == word));
        match Attributes::parse(&list) {
            Ok(_) => prop_assert!(names, "{}", list),
            Err(reason) => {
                prop_assert!(reason.to_string().contains("is not an attribute"));
                prop_assert!(!names || list.contains("--"), "{}", list);
            }
        }
    }

    #[test]
    fn a_carry_list_does_what_its_words_say_from_left_to_right(
        words in prop::collection::vec((any::<bool>(), 0..Attribute::ALL.len()), 1..6),
    ) {
        let list: Vec<String> = words
            .iter()
            .map(|(take, which)| format!("{}{}", if *take { "" } else { "-" }, Attribute::ALL[*which].name()))
            .collect();
        let starts_full = !words[0].0;
        // All but the access time.
        let mut expected = Attribute::ALL.map(|attribute| starts_full && attribute != Attribute::Atime);
        for (take, which) in words {
            expected[which] = take;
        }
        let set = Attributes::parse(&list.join(",")).unwrap();
        prop_assert_eq!(Attribute::ALL.map(|attribute| set.has(attribute)), expected);
    }

    #[test]
    fn tree_order_is_that_of_the_names_one_by_one(
        left in prop::collection::vec(prop::collection::vec(1..=255_u8, 1..3), 0..4),
        right in prop::collection::vec(prop::collection::vec(1..=255_u8, 1..3), 0..4),
    ) {
        let clean = |names: Vec<Vec<u8>>| -> Vec<Vec<u8>> {
            let no_slash = |name: Vec<u8>| name.into_iter().map(|b| if b == b'/' { b'_' } else { b }).collect();
            names.into_iter().map(no_slash).collect()
        };
        let (left, right) = (clean(left), clean(right));
        let path = |names: &[Vec<u8>]| {
            let mut path = TreePath::default();
            for name in names {
                path.push(name);
            }
            path
        };
        prop_assert_eq!(path(&left).cmp(&path(&right)), left.cmp(&right));
    }
}

/// The seed of the journal's fuzzing: were it refused, the code behind would never be reached.
#[test]
fn the_journal_that_fuzzing_begins_with_is_whole() {
    let room = tempfile::tempdir().unwrap();
    std::fs::create_dir(room.path().join("run")).unwrap();
    let begun = include_bytes!("../../../fuzz/seeds/begun.notes");
    std::fs::write(room.path().join("run.notes"), begun).unwrap();
    let run = PastRun::open(&Linux, &room.path().join("run")).unwrap();
    assert_eq!((run.standing(), run.purpose.places.sources.len()), (Standing::CutShort, 1));
}
