//! Whatever is given as a size, duration, limit or list of aspects is read or refused.
#![no_main]

#[path = "../../crates/cli/src/args/values.rs"]
#[allow(dead_code)]
mod values;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = values::bytes(text);
    let _ = values::duration(text);
    let _ = values::carry(text);
    let _ = values::waivable(text);
    let _ = values::removal_limit(text);
    let _ = values::keep(text);
    let _ = values::sizes(text);
    let _ = values::ages(text).map(|age| values::aged(age, utter_echo_core::os::Time::default()));
    let _ = values::dates(text);
    let _ = values::kinds(text);
    let _ = values::steps(text);
    let _ = values::percent(text);
    let _ = values::refuse_outside(text, &["/usr".into()]);
});
