//! Owners who decide and give account of what was pressed: the server steps after them.

use crate::pair::{OWN, Pair, Told};
use velocitas_core::walker::input_lane;
use velocitas_core::{Arrangement, Restored, Rule, State, Tick, vec3};

/// Walks about and hops now and then, so that presses are counted as well.
fn stroll(pair: &mut Pair, seconds: u32) {
    for step in 0..seconds * 4 {
        let angle = step as f32 * 0.7;
        pair.keys.set_real(input_lane::MOVE, libm::cosf(angle));
        pair.keys.set_real(input_lane::MOVE + 1, libm::sinf(angle));
        pair.keys.set_flag(input_lane::SPRINT, step % 3 == 0);
        if step % 5 == 0 {
            pair.keys.set_int(input_lane::HOP, pair.keys.int(input_lane::HOP) + 1);
        }
        pair.run(250);
    }
}

/// The authority's ticks that are other bits than the owner's, of those that both made from a tick on.
fn apart(told: &Told, from: Tick) -> (usize, usize) {
    let own = |tick: Tick| told.predicted.iter().rev().find(|(t, _)| *t == tick).map(|(_, state)| *state);
    let both: Vec<(State, State)> =
        told.authority.iter().filter(|(t, ..)| *t >= from).filter_map(|(t, s, _)| Some((*s, own(*t)?))).collect();
    (both.len(), both.iter().filter(|(a, b)| a != b).count())
}

#[test]
fn the_authority_comes_to_the_very_bits_of_the_owner() {
    let mut pair = Pair::playing_as(Arrangement::ACCOUNTS);
    let from = pair.server.newest_tick();
    stroll(&mut pair, 12);
    assert!(pair.told.verdicts.is_empty() && pair.told.corrections.is_empty(), "{:?}", pair.told.verdicts);
    let (ticks, differ) = apart(&pair.told, from);
    assert!(ticks > 600 && differ == 0, "{differ} of {ticks}");
}

#[test]
fn whatever_is_lost_the_honest_are_not_accused() {
    // Every third datagram; a tenth of a second now and then; half a second now and then, which no message repeats.
    let losses: [fn(bool, u64) -> bool; 3] = [|_, n| n % 3 == 0, |_, n| n % 97 < 8, |up, n| up && n % 301 < 20];
    for (i, lose) in losses.into_iter().enumerate() {
        let mut pair = Pair::playing_as(Arrangement::ACCOUNTS);
        pair.lose = lose;
        stroll(&mut pair, 30);
        assert!(pair.told.verdicts.is_empty(), "{i}: {:?}", pair.told.verdicts);
        pair.lose = |_, _| false;
        let from = pair.server.newest_tick().offset(60);
        stroll(&mut pair, 4);
        let (ticks, differ) = apart(&pair.told, from);
        assert!(ticks > 100 && differ == 0, "{i}: in the end they are one again: {differ} of {ticks}");
    }
}

#[test]
fn a_jump_is_found_in_the_first_account_and_leads_nowhere() {
    for metres in [0.05, 0.5, 9.0] {
        let mut pair = Pair::playing_as(Arrangement::ACCOUNTS);
        pair.walk();
        pair.run(500);
        let before = pair.server.state(OWN).map(|s| s.vec3(0)).expect("it is there");
        let mut there = pair.client.own_state(OWN).expect("playing");
        there.set_vec3(0, there.vec3(0) + vec3(0.0, metres, 0.0));
        pair.client.place(OWN, there);
        pair.run(400);
        assert_eq!(pair.told.verdicts.len(), 1, "{metres} m: {:?}", pair.told.verdicts);
        let evidence = pair.told.verdicts[0].evidence;
        assert_eq!((evidence.rule, evidence.gain), (Rule::Step, 0.0));
        assert!((evidence.measured - metres).abs() < 0.01, "{evidence:?}");
        assert_eq!(pair.told.corrections.last().map(|c| c.why), Some(Restored::PulledBack));
        let after = pair.server.state(OWN).map(|s| s.vec3(0)).expect("it is there");
        assert!((after.y - before.y).abs() < 1e-3 && after.x > before.x, "{before:?} to {after:?}");
    }
}

#[test]
fn what_is_faster_than_the_keys_is_found_within_a_few_ticks() {
    let mut pair = Pair::playing_as(Arrangement::ACCOUNTS);
    pair.walk();
    pair.run(500);
    // Six per cent of a walk is 4 mm a tick.
    let began = pair.server.newest_tick();
    for _ in 0..60 {
        let mut there = pair.client.own_state(OWN).expect("playing");
        there.set_vec3(0, there.vec3(0) + vec3(0.06 * 4.2 / 60.0, 0.0, 0.0));
        pair.client.place(OWN, there);
        pair.run(17);
    }
    let found = pair.told.verdicts.first().expect("it is found");
    assert_eq!(found.evidence.rule, Rule::Step);
    assert!(found.tick.since(began) < 30, "after {} ticks", found.tick.since(began));
}
