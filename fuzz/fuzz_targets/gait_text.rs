//! Any text is a rule or diagnostics.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_gait::fuzz::text(data));
