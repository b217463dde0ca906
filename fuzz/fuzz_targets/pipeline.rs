//! See `reader.rs`, which the tests of `core` run on texts of their own.
#![no_main]

#[path = "../reader.rs"]
mod reader;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| reader::read(text));
