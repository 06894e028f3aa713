#![no_main]

#[path = "../../crates/vorsel-core/tests/entries/mod.rs"]
#[allow(dead_code, reason = "each target uses its entry")]
mod entries;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| entries::plan(bytes));
