//! Inputs and snapshots over ordered streams: nothing is lost, what is late is late together, and turning it drops nothing.

use velocitas_core::{ClientSettings, Fact, InputsOver, Over, PlayerSettings, Provenance, SendRate};

use crate::pair::{MS, OTHER, OWN, PLAYER, Pair};

/// Turns what inputs and snapshots go by.
fn turn(pair: &mut Pair, inputs: InputsOver, snapshots: Over) {
    pair.client.set_settings(ClientSettings { inputs_over: inputs, ..ClientSettings::DEFAULT });
    let says_changes = inputs == InputsOver::Changes;
    let settings = PlayerSettings { says_changes, snapshots_over: snapshots, ..PlayerSettings::DEFAULT };
    pair.server.set_settings(PLAYER, settings);
}

fn over(inputs: InputsOver, snapshots: Over) -> Pair {
    let mut pair = Pair::playing();
    turn(&mut pair, inputs, snapshots);
    pair.run(1000);
    pair.told.facts.clear();
    pair.told.used.clear();
    pair
}

fn held_back(pair: &Pair) -> Vec<(bool, u32)> {
    let held = |fact: &Fact| match fact {
        Fact::HeldBack { up, waited_us, .. } => Some((*up, *waited_us)),
        _ => None,
    };
    pair.told.facts.iter().filter_map(held).collect()
}

/// How far the prediction is from what the authority makes of the same tick.
fn off(pair: &Pair) -> f32 {
    let own = pair.told.predicted.last().expect("it plays");
    let truth = pair.told.authority.iter().rev().find(|(tick, ..)| *tick < own.0).expect("it was made");
    let then = pair.told.predicted.iter().rev().find(|(tick, _)| *tick == truth.0).expect("it was predicted");
    then.1.vec3(0).distance(truth.1.vec3(0))
}

#[test]
fn on_a_way_that_loses_nothing_all_is_as_by_datagrams() {
    for inputs in InputsOver::ALL {
        let mut pair = over(inputs, Over::Stream);
        pair.walk();
        for _ in 0..4 {
            pair.hop();
            pair.run(700);
        }
        assert!(pair.told.corrections.is_empty() && held_back(&pair).is_empty(), "{inputs:?}");
        assert_eq!(pair.hops(), 4, "{inputs:?}");
        let made_up = |how: &Provenance| matches!(how, Provenance::Repeated | Provenance::Rested);
        assert!(pair.told.used.iter().all(|(_, how)| !made_up(how)), "{inputs:?}");
        let unchanged = pair.told.used.iter().filter(|(_, how)| *how == Provenance::Unchanged).count();
        assert_eq!(unchanged > 40, inputs == InputsOver::Changes, "{inputs:?}: {unchanged}");
    }
}

#[test]
fn behind_a_lost_one_all_wait_and_every_press_counts_once() {
    for (inputs, snapshots) in [
        (InputsOver::Stream, Over::Datagrams),
        (InputsOver::Changes, Over::Datagrams),
        (InputsOver::Stream, Over::Stream),
        (InputsOver::Changes, Over::Stream),
    ] {
        let mut pair = over(inputs, snapshots);
        pair.walk();
        pair.lose = |_, number| number.wrapping_mul(2_654_435_761) % 4_294_967_296 % 9 == 0;
        for _ in 0..8 {
            pair.hop();
            pair.run(1500);
        }
        pair.lose = |_, _| false;
        // Two round trips, the longest time-out that can have come of it, and an interval.
        pair.run(1500);
        assert_eq!(pair.hops(), 8, "{inputs:?}, {snapshots:?}");
        let held = held_back(&pair);
        assert!(held.iter().any(|(up, waited)| *up && *waited > 50_000), "{inputs:?}: {held:?}");
        assert_eq!(held.iter().any(|(up, _)| !up), snapshots == Over::Stream, "{inputs:?}");
        assert!(off(&pair) < 0.001, "{inputs:?}, {snapshots:?}: {}", off(&pair));
        assert_eq!(pair.told.verdicts, [], "nobody is accused");
    }
}

#[test]
fn who_says_only_changes_walks_on_while_the_stream_is_stuck_and_stops_late() {
    let mut pair = over(InputsOver::Changes, Over::Datagrams);
    pair.walk();
    pair.run(1000);
    let place = |pair: &Pair| pair.server.state(OWN).expect("it is there").vec3(0).x;
    pair.lose = |up, _| up;
    pair.keys = velocitas_core::Input::default();
    let before = place(&pair);
    pair.run(900);
    let walked = place(&pair) - before;
    assert!(walked > 3.0, "it walks on for as long as nothing is heard: {walked} m");
    pair.lose = |_, _| false;
    pair.run(2500);
    let stood = place(&pair);
    pair.run(500);
    assert_eq!(place(&pair), stood, "it stands once that is heard");
    assert!(!pair.told.corrections.is_empty() && off(&pair) < 0.001);
}

#[test]
fn few_messages_are_needed_to_say_what_changes() {
    let sent = |inputs| {
        let mut pair = over(inputs, Over::Datagrams);
        pair.walk();
        let before = pair.sent_up();
        pair.run(2000);
        pair.sent_up() - before
    };
    let (each, changes) = (sent(InputsOver::Datagrams), sent(InputsOver::Changes));
    assert!((118..=122).contains(&each) && changes <= 24, "{each}, {changes}");
}

#[test]
fn turned_while_it_runs_what_is_under_way_is_drained_and_nothing_is_dropped() {
    let mut pair = Pair::playing();
    pair.walk();
    pair.told.used.clear();
    pair.lose = |_, number| number.wrapping_mul(2_654_435_761) % 4_294_967_296 % 7 == 0;
    for (i, inputs) in InputsOver::ALL.into_iter().cycle().take(12).enumerate() {
        turn(&mut pair, inputs, if i % 2 == 0 { Over::Stream } else { Over::Datagrams });
        pair.hop();
        pair.run(1510);
    }
    pair.lose = |_, _| false;
    pair.run(2000);
    assert_eq!(pair.hops(), 12, "every press counts once");
    assert!(off(&pair) < 0.001);
    let ticks: Vec<u64> = pair.told.used.iter().map(|(tick, _)| tick.0).collect();
    assert!(ticks.windows(2).all(|two| two[1] == two[0] + 1), "each tick is made once");
    assert_eq!(pair.told.clock_sets, 0);
}

#[test]
fn who_is_gone_is_gone_for_all_however_the_stream_is_stuck() {
    let mut pair = over(InputsOver::Stream, Over::Stream);
    pair.lose = |up, number| !up && number % 3 == 0;
    pair.run(300);
    pair.server.remove(OTHER);
    // Its news is under way in the stream when snapshots become datagrams again.
    pair.run(60);
    turn(&mut pair, InputsOver::Stream, Over::Datagrams);
    pair.lose = |_, _| false;
    pair.run(2000);
    assert!(pair.client.known().all(|known| known.entity != OTHER));
}

#[test]
fn what_has_come_by_the_stream_is_told_no_more() {
    let told = |snapshots| {
        let mut pair = over(InputsOver::Datagrams, snapshots);
        pair.server.remove(OTHER);
        pair.run(2000);
        assert!(pair.client.known().all(|known| known.entity != OTHER));
        pair.largest_down = 0;
        pair.run(500);
        pair.largest_down
    };
    // A piece has five bytes in front of what a datagram says, which begins with a whole one.
    assert!((5..=6).contains(&(told(Over::Stream) - told(Over::Datagrams))));
}

#[test]
fn a_stream_that_gets_no_answer_is_full_in_the_end_and_says_so() {
    let mut pair = over(InputsOver::Stream, Over::Stream);
    // Nothing goes up for seven seconds: neither inputs nor word of what has come.
    pair.lose = |up, _| up;
    pair.run(12_000);
    let full = |up: bool| {
        pair.told.facts.iter().filter(|fact| matches!(fact, Fact::StreamFull { up: of, .. } if *of == up)).count()
    };
    assert!(full(true) > 100, "512 inputs wait at most: {}", full(true));
    assert!(pair.client.bytes() < 1_500_000 && pair.server.bytes() < 1_500_000);
    let before = pair.told.facts.len();
    pair.lose = |_, _| false;
    pair.run(12_000);
    assert!(off(&pair) < 0.001, "and then it is as it was");
    pair.told.facts.drain(..before);
    pair.run(1000);
    let newest = pair.told.used.last().expect("it plays");
    assert!(pair.told.used.iter().rev().take(50).all(|(_, how)| *how == Provenance::Fresh), "{newest:?}");
}

#[test]
fn a_rate_that_adapts_is_told_of_pieces_too() {
    let mut pair = Pair::playing();
    let rate = SendRate::Adapted;
    pair.client.set_settings(ClientSettings { inputs_over: InputsOver::Stream, rate, ..ClientSettings::DEFAULT });
    pair.server.set_settings(PLAYER, PlayerSettings { snapshots_over: Over::Stream, rate, ..PlayerSettings::DEFAULT });
    pair.run(2000);
    let before = pair.sent_up();
    pair.run(1000);
    assert!((58..=100).contains(&(pair.sent_up() - before)), "where all is carried nothing is held back");
    // Each way takes a tenth of a second more with every second.
    for _ in 0..30 {
        pair.latency += 10 * MS;
        pair.run(100);
    }
    pair.latency = 40 * MS;
    pair.run(3000);
    assert!(off(&pair) < 0.001);
}
