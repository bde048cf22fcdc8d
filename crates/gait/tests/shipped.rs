//! The gaits that ship.

use velocitas_gait::{Report, compile};

#[test]
fn they_compile_without_a_word() {
    for file in ["walker", "courier", "ferry"] {
        let path = format!("{}/../../gaits/{file}.gait", env!("CARGO_MANIFEST_DIR"));
        let text = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{path}: {e}"));
        let compiled = compile(&text);
        let report = Report { file, text: &text, diagnostics: &compiled.diagnostics, coloured: false };
        assert!(compiled.diagnostics.is_empty(), "{report}");
        // Each fits the smallest set of registers with room to spare.
        assert!(compiled.gait.is_some_and(|g| g.work() < 200 && g.registers() <= 64), "{file}");
    }
}
