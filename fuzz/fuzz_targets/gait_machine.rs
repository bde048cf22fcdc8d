//! Any state and input run to a step, the same alone and in a row.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_gait::fuzz::machine(data));
