//! Whatever stands in a file, reading it as a plan gives a plan or a reason.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = utter_echo_core::saved::read(bytes);
});
