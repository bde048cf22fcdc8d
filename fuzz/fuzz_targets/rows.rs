//! Any bytes are rows of a record, as far as they say what machines may say.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_lab::fuzz::rows(data));
