//! The shipped rules tried and attacked: how they feel, where their tracks lead, whether their limits hold.

use velocitas_core::{Motion, Rate};
use velocitas_gait::compile;
use velocitas_lab::shipped_gait;
use velocitas_lab::track::Track;
use velocitas_vet::{Attack, Envelope, Feel, RATES, attack, feel, walk};

fn text(name: &str) -> String {
    shipped_gait(name).expect("it ships")
}

fn near(found: f32, expected: f32, share: f32) -> bool {
    (found - expected).abs() <= share * expected.abs()
}

#[test]
fn the_shipped_gaits_feel_alike_at_every_rate_and_as_they_should() {
    let feels = |name: &str| -> Vec<Feel> {
        let gait = compile(&text(name)).gait.expect("it ships");
        RATES.iter().filter_map(|hz| Rate::new(*hz)).map(|rate| feel(&gait, rate)).collect()
    };
    for f in feels("courier.gait") {
        let tick = 1.0 / f.tick_rate as f32;
        assert!(near(f.top_mps, 4.2 * 1.6, 0.005), "{f:?}");
        assert!(near(f.to_top_s, 0.95 * 6.72 / 38.0, 0.02) || (f.to_top_s - 0.168).abs() <= 2.0 * tick, "{f:?}");
        assert!(near(f.stop_m.unwrap_or(0.0), 6.72 * 6.72 / (2.0 * 38.0), 0.03), "{f:?}");
        assert!(f.jump_m.is_some_and(|h| near(h, 7.4 * 7.4 / (2.0 * 22.0), 0.01)), "{f:?}");
        assert!(f.air_s.is_some_and(|t| (t - 2.0 * 7.4 / 22.0).abs() <= 2.0 * tick), "{f:?}");
        assert_eq!(f.circle_m, None);
    }
    let ferry = feels("ferry.gait");
    for f in &ferry {
        assert!(near(f.top_mps, 14.0 / 9.0 / 0.45, 0.01), "{f:?}");
        assert!(near(f.to_top_s, libm::logf(20.0) / 0.45, 0.02), "e-folding to 95 %: {f:?}");
        assert!(near(f.stop_m.unwrap_or(0.0), 0.95 * f.top_mps / 0.45, 0.04), "{f:?}");
        assert!(f.circle_m.is_some_and(|c| near(c, ferry[1].circle_m.unwrap_or(0.0), 0.01)), "{f:?}");
        assert!(f.jump_m.is_none() && f.stop_s.is_some());
    }
}

#[test]
fn the_crane_arrives_without_overshoot_and_keeps_one_more_order() {
    let crane = compile(&text("crane.gait")).gait.expect("it ships");
    for hz in [20, 60, 128] {
        let f = feel(&crane, Rate::new(hz).expect("a rate"));
        // Less than a step of the wire: nobody else can see it.
        assert!(f.overshoot_m.is_some_and(|m| m < 1.0 / 256.0), "{f:?}");
        assert!(
            f.arrive_s.is_some_and(|s| (8.0..12.0).contains(&s)),
            "20 m at 3 m/s with starting and stopping: {f:?}"
        );
    }
    let walk = |orders: &str| {
        let text = format!(
            "{{ \"format\": 2, \"gait\": \"crane\", \"tick_rate\": 60, \"ground\": \"flat\", \"inputs\": [{orders}] }}"
        );
        let track = Track::parse(&text).expect("a track");
        let walked = walk(&track, &crane, None).expect("made for it");
        let at = walked.path().last().copied().expect("it has ticks");
        let through = |x: f32, y: f32| walked.path().iter().any(|p| p.distance(velocitas_core::vec3(x, y, p.z)) < 0.06);
        ((at.x, at.y), through(9.0, 0.0), through(9.0, 9.0))
    };
    let near = |(at, ..): ((f32, f32), bool, bool), x: f32, y: f32| (at.0 - x).abs() < 0.06 && (at.1 - y).abs() < 0.06;
    let nobody = walk("{ \"seconds\": 10 }");
    assert!(near(nobody, 0.0, 0.0), "not ordered is not ordered to the middle, nor anywhere: {nobody:?}");
    let two = walk("{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 15, \"goal\": [9, 9, 0] }");
    assert!(near(two, 9.0, 9.0) && two.1, "first the one, then the other: {two:?}");
    let three = walk(
        "{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 1, \"goal\": [9, 9, 0] }, { \"seconds\": 15, \"goal\": [0, 9, 0] }",
    );
    assert!(
        near(three, 0.0, 9.0) && three.1 && !three.2,
        "the newest takes the place of the one that waits: {three:?}"
    );
    let released = walk("{ \"seconds\": 1, \"goal\": [9, 0, 0] }, { \"seconds\": 15 }");
    assert!(near(released, 9.0, 0.0), "an order holds when nothing more is said: {released:?}");
}

/// Where the shipped tracks lead, a line each quarter second: a change of a gait or of the machine shows as a diff.
/// A track of each gait that ships.
const SHIPPED_TRACKS: [(&str, &str); 5] = [
    ("courier.gait", include_str!("../../../gaits/courier.track.json")),
    ("ferry.gait", include_str!("../../../gaits/ferry.track.json")),
    ("crane.gait", include_str!("../../../gaits/crane.track.json")),
    ("barge.gait", include_str!("../../../gaits/barge.track.json")),
    ("handcart.gait", include_str!("../../../gaits/handcart.track.json")),
];

#[test]
fn the_shipped_tracks_lead_where_they_always_led() {
    for (gait, track) in SHIPPED_TRACKS {
        let gait = compile(&text(gait)).gait.expect("it ships");
        let track = Track::parse(track).expect("it ships");
        let walked = walk(&track, &gait, None).expect("made for it");
        assert_eq!(walked.faults, 0);
        let velocity = gait.schema().velocity_lane();
        let line = |(i, state): (usize, &velocitas_core::State)| {
            let (at, v) = (state.vec3(0), velocity.map(|lane| state.vec3(lane)).unwrap_or_default());
            format!("{:>5}  {:>9.4} {:>9.4} {:>8.4}   {:>8.4} {:>8.4} {:>8.4}", i + 1, at.x, at.y, at.z, v.x, v.y, v.z)
        };
        let path: Vec<String> = walked.states.iter().enumerate().filter(|(i, _)| i % 15 == 14).map(line).collect();
        insta::assert_snapshot!(format!("path_of_the_{}", gait.name()), path.join("\n"));
        // A track written and read again is the same track.
        assert_eq!(Track::parse(&track.to_text()), Ok(track));
    }
}

#[test]
fn one_track_leads_to_the_same_place_at_every_tick_rate() {
    for (gait, track) in SHIPPED_TRACKS {
        let gait = compile(&text(gait)).gait.expect("it ships");
        let track = Track::parse(track).expect("it ships");
        let end = |hz| {
            let walked = walk(&track, &gait, Rate::new(hz)).expect("made for it");
            walked.path().last().copied().expect("it has ticks")
        };
        let usual = end(60);
        for hz in [20, 60, 128] {
            let apart = end(hz).distance(usual);
            assert!(apart < 0.05, "{} at {hz} Hz ends {apart} m from where it ends at 60 Hz", gait.name());
        }
    }
}

#[test]
fn an_attack_finds_a_limit_that_is_too_low_and_keeps_the_inputs_that_did_it() {
    let honest = compile(&text("courier.gait")).gait.expect("it ships");
    let how = Attack { seed: 5, restarts: 3, climbs: 15 };
    let envelope = attack(&honest, how, |_| true);
    assert_eq!(envelope.found.len(), 12);
    assert!(envelope.found.iter().all(|f| !f.exceeds()), "the shipped limits hold");
    // Somebody forgot the sprint in the limit.
    let wrong = text("courier.gait").replace("at most walk * mix(1, haste, clamp(breath / 1 s, 0, 1))", "at most walk");
    let wrong = compile(&wrong).gait.expect("units cannot see it");
    let envelope = attack(&wrong, how, |_| true);
    let found = envelope.found.iter().find(|f| f.exceeds()).expect("sprinting exceeds it");
    let walked = walk(&found.track, &wrong, None).expect("its own track");
    let (level, ..) = walked.fastest(found.ticks);
    assert!((level - found.found_mps).abs() < 1e-3, "run again it does the same: {level} {}", found.found_mps);
    let again = attack(&wrong, how, |_| true);
    let speeds = |e: &Envelope| e.found.iter().map(|f| f.found_mps.to_bits()).collect::<Vec<_>>();
    assert_eq!(speeds(&again), speeds(&envelope), "the same seed finds the same");
    // A search that is stopped says what it found until then.
    let mut asked = 0;
    let stopped = attack(&wrong, how, |_| {
        asked += 1;
        asked < 5
    });
    assert!(stopped.found.len() < 12);
}

#[test]
fn tracks_that_do_not_fit_are_refused_with_what_was_expected() {
    let gait = compile(&text("courier.gait")).gait.expect("it ships");
    let track = include_str!("../../../gaits/courier.track.json");
    let said = |from: &str, to: &str| {
        assert!(track.contains(from), "{from}");
        let text = track.replacen(from, to, 1);
        match Track::parse(&text).and_then(|t| walk(&t, &gait, None)) {
            Ok(_) => panic!("`{to}` was accepted"),
            Err(error) => format!("{from} -> {to}\n  {error}"),
        }
    };
    let told = [
        said("\"format\": 2", "\"format\": 3"),
        said("\"format\": 2", "\"format\": 1"),
        said("\"format\": 2", "\"form\": 2"),
        said("\"gait\": \"courier\"", "\"gait\": \"ferry\""),
        said("\"tick_rate\": 60", "\"tick_rate\": 0"),
        said("\"ground\": \"kerbs\"", "\"ground\": \"moon\""),
        said("\"move\": [0, 1]", "\"mov\": [0, 1]"),
        said("\"move\": [0, 1]", "\"move\": [0, 1, 2]"),
        said("\"move\": [0, 1]", "\"move\": \"ahead\""),
        said("\"hop\": true", "\"hop\": 99"),
        said("\"sprint\": true", "\"sprint\": 1"),
        said("\"look\": 0.4", "\"look\": null"),
        said("\"seconds\": 0.5", "\"seconds\": 4000"),
        said("\"seconds\": 0.5", "\"seconds\": -1"),
        said("{ \"seconds\": 0.5 },", "{ \"seconds\": 0.5 "),
    ];
    insta::assert_snapshot!(told.join("\n"));
}

#[test]
fn a_car_with_a_brake_has_a_top_speed_and_a_hop_on_a_held_key_a_height() {
    let text = "gait \"kart\"\ninput {\n  move stick\n  look bearing\n  brake held\n  boost held\n  up held\n}\n\
                state {\n  pos point m\n  vel vector m/s\n  grounded flag\n}\n\
                body { radius 0.3 m height 1 m step 0.3 m }\n\
                step {\n  let top = if brake then 0 m/s else if boost then 9 m/s else 6 m/s\n\
                  vel.xy = toward(vel.xy, top * turn(move, look), 20 m/s^2 * dt)\n\
                  vel.z = vel.z - 20 m/s^2 * dt\n  if grounded and up { kick vel.z = 6 m/s }\n  slide pos, vel\n}\n\
                limits { pace vel.xy at most 9 m/s climb vel.z at most 6 m/s fall vel.z at least 20 m/s^2 }\n";
    let compiled = compile(text);
    let gait = compiled.gait.unwrap_or_else(|| panic!("{:?}", compiled.diagnostics));
    for hz in RATES {
        let f = feel(&gait, Rate::new(hz).expect("a rate"));
        assert!((f.top_mps - 9.0).abs() < 0.1, "{hz} Hz: {f:?}");
        assert!(f.jump_m.is_some_and(|height| (0.7..1.3).contains(&height)), "{hz} Hz: {f:?}");
        assert!(f.stop_m.is_some_and(|way| way > 1.0), "{hz} Hz: {f:?}");
    }
}
