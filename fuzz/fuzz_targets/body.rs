//! Any bytes are what a snapshot says against another, or an error.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_core::fuzz::body(data));
