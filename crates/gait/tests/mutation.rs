//! Rules with something wrong in them end with a rule or a few diagnostics, whatever it is.

use velocitas_gait::fuzz;

const SHIPPED: [&str; 3] =
    [include_str!("../gaits/courier.gait"), include_str!("../gaits/ferry.gait"), include_str!("../gaits/walker.gait")];

fn try_out(seeds: std::ops::Range<u64>) {
    for seed in seeds {
        let bytes = crate::mutants::mutant(SHIPPED[(seed % 3) as usize], seed);
        // A panic inside says which one it was.
        let done = std::panic::catch_unwind(|| fuzz::text(&bytes));
        assert!(done.is_ok(), "seed {seed}:\n{}", String::from_utf8_lossy(&bytes));
        let text = String::from_utf8_lossy(&bytes);
        let diagnostics = velocitas_gait::compile(&text).diagnostics;
        let report = velocitas_gait::Report { file: "m.gait", text: &text, diagnostics: &diagnostics, coloured: false }
            .to_string();
        assert!(report.len() < 100_000, "seed {seed} is told in {} bytes", report.len());
        assert!(!report.contains(|c: char| c.is_control() && c != '\n'), "seed {seed}: raw in a terminal");
    }
}

#[test]
fn mutants_of_what_ships_are_survived() {
    try_out(0..400);
}

#[test]
#[ignore = "a minute: run it after changes to the language"]
fn ten_thousand_mutants_are_survived() {
    try_out(1000..11_000);
}
