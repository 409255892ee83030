//! Whatever is given as a size, duration, limit or list of attributes is read or refused.
#![no_main]

#[path = "../../crates/cli/src/options/values.rs"]
#[allow(dead_code)]
mod values;

#[path = "../../crates/cli/src/terminal/names.rs"]
#[allow(dead_code)]
mod names;

/// Where the values look for names.
mod terminal {
    pub(crate) use crate::names;
}

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = values::bytes(text);
    let _ = values::duration(text);
    let _ = values::carry(text);
    let _ = values::waivable(text);
    let _ = values::removal_limit(text);
    let _ = values::keep(text);
    let _ = values::sizes(text);
    let _ = values::ages(text).map(|age| values::times_of_age(age, utter_echo_core::os::Time::default()));
    let _ = values::dates(text);
    let _ = values::kinds(text);
    let _ = values::steps(text);
    let _ = values::percent(text);
    let _ = values::refuse_outside(text, &["/usr".into()]);
    let _ = values::refuse_expanded("--exclude", &[text.into()], &[text.into()]);
});
