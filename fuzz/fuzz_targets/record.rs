//! Any bytes are a record file that is read as far as it is sound, or an error.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_lab::fuzz::record(data));
