//! Courses and tracks with something wrong in them end with a run or an error, whatever it is.

use velocitas_core::{Motion, Rate};
use velocitas_lab::track::Track;

use velocitas_lab::{DEMO, fuzz, shipped_gait};

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

fn tracks(seeds: std::ops::Range<u64>) {
    let gait = velocitas_gait::compile(&shipped_gait("courier.gait").expect("it ships")).gait.expect("sound");
    let inputs: Vec<_> = (0..40u32)
        .map(|i| {
            let mut input = velocitas_core::Input::default();
            input.set_real(0, i as f32 / 40.0);
            input.set_flag(gait.schema().input[1].lane, i % 7 < 3);
            input
        })
        .collect();
    let rate = Rate::new(60).expect("a rate");
    let text = Track::of_ticks(&gait, rate, &inputs).to_text();
    fuzz::track(text.as_bytes());
    for seed in seeds {
        survived("track", seed, &crate::mutants::mutant(&text, seed), fuzz::track);
    }
}

#[test]
fn mutants_of_the_demo_are_survived() {
    courses(0..300);
}

#[test]
fn mutants_of_a_track_are_survived() {
    tracks(0..300);
}

#[test]
#[ignore = "minutes: run it after changes to courses and tracks"]
fn ten_thousand_mutants_each_are_survived() {
    courses(1000..11_000);
    tracks(1000..11_000);
}
