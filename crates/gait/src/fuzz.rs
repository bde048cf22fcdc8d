//! What the fuzz targets in `fuzz/` call: ordinary functions, so that the usual build compiles and tests them.

use velocitas_core::{Ground, INPUT_LANES, Input, Motion, STATE_LANES, Scene, State, Tick, checked_step};

use crate::{Report, classes, compile, compile_after};

/// Reads any bytes as a rule.
///
/// # Panics
/// When a text gives neither a rule nor a diagnostic.
pub fn text(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let compiled = compile(&text);
    assert!(compiled.gait.is_some() || !compiled.diagnostics.is_empty());
    let _ = Report { file: "fuzz", text: &text, diagnostics: &compiled.diagnostics, coloured: true }.to_string();
    let _ = classes(&text);
    if let Some(gait) = compiled.gait {
        assert_eq!(gait.schema().check(), Ok(()));
        // Read again in its own place it is laid out as before.
        let again = compile_after(&text, Some(gait.schema())).gait;
        assert!(again.is_some_and(|g| g.schema().fingerprint() == gait.schema().fingerprint()));
        step(&gait, data);
    }
}

/// Runs rules from states and inputs made of any bytes.
///
/// # Panics
/// When a step leaves something non-finite unnoticed, or differs alone and in a row.
pub fn machine(data: &[u8]) {
    for text in [include_str!("../gaits/courier.gait"), include_str!("../gaits/ferry.gait")] {
        if let Some(gait) = compile(text).gait {
            step(&gait, data);
        }
    }
}

fn step(gait: &crate::Gait, data: &[u8]) {
    let word = |i: usize| {
        let byte = |k: usize| data.get((i * 4 + k) % data.len().max(1)).copied().unwrap_or(0);
        u32::from_le_bytes([byte(0), byte(1), byte(2), byte(3)])
    };
    let (mut state, mut input) = (State::default(), Input::default());
    (0..STATE_LANES).for_each(|lane| state.set_int(lane, word(lane)));
    (0..INPUT_LANES).for_each(|lane| input.set_int(lane, word(lane + STATE_LANES)));
    let ground = Ground::flat(30.0);
    let tunables: Vec<f32> = gait.tunables().iter().map(|t| t.default).collect();
    let scene = Scene { tick: Tick(1), dt: 1.0 / 60.0, ground: &ground, tunables: &tunables };
    let mut row = [state; 2];
    gait.step_many(&scene, &mut row, &[input; 2]);
    assert_eq!(row, [gait.step(&scene, &state, &input).state; 2]);
    if let Ok(done) = checked_step(gait, &scene, &state, &input) {
        for f in gait.schema().state.iter().filter(|f| f.shape == velocitas_core::Shape::Point) {
            assert!(done.state.vec3(f.lane).is_finite());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

        #[test]
        fn any_bytes_are_survived(data in prop::collection::vec(any::<u8>(), 0..400)) {
            text(&data);
            machine(&data);
        }
    }

    #[test]
    fn what_ships_and_what_lies_at_the_edges_is_survived() {
        text(include_bytes!("../gaits/walker.gait"));
        for word in [0u32, 1, 0x7f80_0000, 0xff80_0000, 0x7fc0_0000, 0x8000_0000, 0x7f7f_ffff, 1 << 23, u32::MAX] {
            machine(&word.to_le_bytes());
        }
        machine(&[]);
    }
}
