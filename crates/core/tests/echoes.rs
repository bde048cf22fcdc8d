//! What the server has of an entity, and what others are sent of it.

use velocitas_core::walker::input_lane;
use velocitas_core::{EchoBy, Missing, PlayerSettings, Restored, State, Tick, Waiting, vec3};

use crate::pair::{OWN, PLAYER, Pair};

/// How far it goes from a tick to the next, at most.
fn farthest(states: &[(Tick, State)]) -> f32 {
    let steps = states.windows(2).filter(|w| w[0].0.next() == w[1].0).map(|w| w[0].1.vec3(0).distance(w[1].1.vec3(0)));
    steps.fold(0.0, |most, step| if step > most { step } else { most })
}

/// A walker for whose inputs the server waits, half of whose messages are lost in bunches; all that waited are used in one tick.
fn waited_for(echo: EchoBy, leash: f32) -> Pair {
    let mut pair = Pair::playing();
    let settings = PlayerSettings {
        missing: Missing::Wait,
        wait: 16,
        waiting: Waiting::AtOnce,
        echo,
        echo_leash_m: leash,
        ..PlayerSettings::DEFAULT
    };
    pair.server.set_settings(PLAYER, settings);
    pair.walk();
    pair.keys.set_flag(input_lane::SPRINT, true);
    pair.lose = |up, number| up && number % 48 < 24;
    pair.run(6000);
    pair
}

/// What others are sent, tick by tick: of the last so many.
fn sent(pair: &Pair) -> Vec<(Tick, State)> {
    let echo = |tick: &Tick| pair.told.echoes.iter().find(|echo| echo.0 == *tick).map(|echo| echo.1);
    pair.told.authority.iter().skip(90).map(|(tick, raw, _)| (*tick, echo(tick).unwrap_or(*raw))).collect()
}

/// Runs until the echo is somewhere else than the raw one.
fn run_until_away(pair: &mut Pair) {
    let raw = |pair: &Pair| pair.told.authority.last().map(|raw| raw.1.vec3(0));
    let away = |pair: &Pair| {
        let echo = pair.told.echoes.last().filter(|echo| Some(echo.0) == pair.told.authority.last().map(|raw| raw.0));
        echo.zip(raw(pair)).is_some_and(|(echo, raw)| echo.1.vec3(0).distance(raw) > 1.0)
    };
    while !away(pair) {
        pair.step();
    }
}

#[test]
fn where_inputs_are_used_together_others_see_a_walk_and_the_owner_is_not_corrected() {
    let pair = waited_for(EchoBy::Smooth, 3.0);
    let raw: Vec<(Tick, State)> = pair.told.authority.iter().map(|(tick, state, _)| (*tick, *state)).collect();
    let (leap, step) = (farthest(&raw), farthest(&sent(&pair)));
    assert!(leap > 0.5, "the raw one leaps by {leap} m");
    assert!(step < 0.14, "a sprint is 7 m/s, and a tenth more: {step} m in a tick");
    assert!(pair.told.echoes.iter().all(|echo| !echo.2), "it was never cut");
    let none = waited_for(EchoBy::Raw, 3.0);
    assert!(none.told.echoes.is_empty());
    let same = none.told.authority.iter().zip(&pair.told.authority).all(|(a, b)| a.0 == b.0 && a.1 == b.1);
    assert!(same, "what the authority has is the same");
    assert_eq!(none.told.corrections.len(), pair.told.corrections.len(), "and what its owner is told");
}

#[test]
fn a_teleport_is_no_walk_and_a_leash_that_is_too_short_cuts() {
    let mut pair = waited_for(EchoBy::Smooth, 3.0);
    pair.lose = |_, _| false;
    pair.stand();
    pair.run(2000);
    let told = pair.told.echoes.len();
    pair.server.teleport(OWN, vec3(-40.0, 12.0, 0.0));
    pair.run(500);
    let way: Vec<_> = pair.told.echoes[told..].iter().filter(|echo| !echo.2).collect();
    assert!(way.is_empty(), "nobody sees it walk there: {way:?}");
    // So short that it is never near for long.
    let mut cut = waited_for(EchoBy::Smooth, 0.0);
    run_until_away(&mut cut);
    cut.lose = |_, _| false;
    cut.run(1000);
    assert!(cut.told.echoes.iter().any(|echo| echo.2), "it was put there");
}

#[test]
fn where_it_is_to_bind_its_owner_is_put_back_to_it_and_others_see_no_cut() {
    let free = waited_for(EchoBy::Smooth, 0.3);
    let mut pair = waited_for(EchoBy::Binding, 0.3);
    let put_back = |pair: &Pair| pair.told.corrections.iter().filter(|c| c.why == Restored::Teleported).count();
    assert_eq!(put_back(&free), 0);
    pair.lose = |_, _| false;
    pair.run(1000);
    let puts: Vec<_> = pair.told.authority.iter().filter(|(.., teleported)| *teleported).collect();
    assert!(!puts.is_empty() && put_back(&pair) > 0, "its owner is put back");
    assert!(pair.told.echoes.iter().all(|echo| !echo.2), "it was never cut");
    // It is put where others saw it a tick before.
    for (tick, state, _) in puts {
        let before = pair.told.echoes.iter().find(|echo| echo.0.next() == *tick).expect("it was elsewhere").1;
        let off = before.vec3(0).distance(state.vec3(0));
        assert!(off < 0.3, "put back at {tick:?} to {off} m from there");
    }
}

#[test]
fn a_new_owner_and_the_raw_one_again_put_it_where_it_belongs() {
    let mut pair = waited_for(EchoBy::Smooth, 3.0);
    run_until_away(&mut pair);
    pair.server.set_settings(PLAYER, PlayerSettings::DEFAULT);
    pair.run(100);
    let last = pair.told.echoes.last().expect("it was away");
    assert!(last.2, "a cut, as it was somewhere else");
    let raw = pair.told.authority.iter().find(|raw| raw.0 == last.0).expect("made");
    assert_eq!(raw.1.vec3(0), last.1.vec3(0));
}
