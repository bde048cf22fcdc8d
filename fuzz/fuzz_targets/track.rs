//! Any text is an input track that runs, or an error.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_vet::fuzz::track(data));
