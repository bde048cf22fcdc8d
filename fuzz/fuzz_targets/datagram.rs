//! Any datagrams are messages or refused, by decoders, server and client.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| velocitas_core::fuzz::datagram(data));
