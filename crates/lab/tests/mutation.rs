//! Courses with something wrong in them end with a run or an error, whatever it is.

use velocitas_lab::{DEMO, fuzz};

fn survived(what: &str, seed: u64, bytes: &[u8], f: fn(&[u8])) {
    let done = std::panic::catch_unwind(|| f(bytes));
    assert!(done.is_ok(), "{what}, seed {seed}:\n{}", String::from_utf8_lossy(bytes));
}

fn courses(seeds: std::ops::Range<u64>) {
    for seed in seeds {
        let bytes = crate::mutants::mutant(DEMO, seed);
        survived("course", seed, &bytes, fuzz::course);
        let said = velocitas_lab::Course::parse("m", &String::from_utf8_lossy(&bytes), &[]).map(drop);
        let said = said.map_or_else(|e| e.to_string(), |()| String::new());
        assert!(said.len() < 20_000, "seed {seed} is told in {} bytes: {:.400}", said.len(), said);
        assert!(!said.contains(|c: char| c.is_control() && c != '\n'), "seed {seed}: raw in a terminal: {said:?}");
    }
}

#[test]
fn mutants_of_the_demo_are_survived() {
    courses(0..300);
}

#[test]
#[ignore = "minutes: run it after changes to courses"]
fn ten_thousand_mutants_are_survived() {
    courses(1000..11_000);
}
