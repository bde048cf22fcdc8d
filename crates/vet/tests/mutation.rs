//! Tracks with something wrong in them end with a run or an error, whatever it is.

use velocitas_core::{Motion, Rate};
use velocitas_lab::shipped_gait;
use velocitas_lab::track::Track;
use velocitas_vet::fuzz;

fn survived(seed: u64, bytes: &[u8]) {
    let done = std::panic::catch_unwind(|| fuzz::track(bytes));
    assert!(done.is_ok(), "seed {seed}:\n{}", String::from_utf8_lossy(bytes));
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
        survived(seed, &crate::mutants::mutant(&text, seed));
    }
}

#[test]
fn mutants_of_a_track_are_survived() {
    tracks(0..300);
}

#[test]
#[ignore = "minutes: run it after changes to tracks"]
fn ten_thousand_mutants_are_survived() {
    tracks(1000..11_000);
}
