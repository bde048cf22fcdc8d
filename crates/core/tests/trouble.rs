//! Whatever is lost, doubled and overtaken, under any sound policy: nobody panics, both sides agree on what they agreed on, and once the trouble is over
//! the own character is sound within two round trips and an interval, and all else is as before once its signs are forgotten.

use proptest::prelude::*;
use velocitas_core::{
    ClientSettings, ClockBy, ClockSettings, InputsOver, LeadBy, Missing, Over, PlayerSettings, Redundancy, SendRate,
    Waiting,
};

use crate::pair::{MS, OTHER, OWN, PLAYER, Pair};

/// A policy of each part, by number.
type Policy = ((u8, u8, u8), (u8, u8, u8), (u8, u8), (u8, u8, u8), (bool, bool));

fn pick<T: Copy>(all: &[T], which: u8) -> T {
    all[usize::from(which) % all.len()]
}

fn settings(policy: &Policy) -> (ClientSettings, PlayerSettings) {
    let ((by, lead, delay), (every, redundancy, repeats), (inputs, snapshots), (missing, wait, waiting), rates) =
        *policy;
    let rate = |adapts| if adapts { SendRate::Adapted } else { SendRate::Fixed };
    let inputs_over = pick(&InputsOver::ALL, inputs);
    // What is assumed once is not sound.
    let by = pick(&[ClockBy::Margins, ClockBy::Timestamps, ClockBy::Told], by);
    // A lead that is fixed must be enough for messages that are far apart.
    let send_every = 1 + every % 8;
    let lead = pick(&LeadBy::ALL, lead);
    let extra_lead = if lead == LeadBy::Fixed { 8 } else { 2 };
    let client = ClientSettings {
        clock: ClockSettings { by, lead, extra_lead, ..ClockSettings::DEFAULT },
        input_delay: delay % 9,
        send_every,
        redundancy: pick(&Redundancy::ALL, redundancy),
        repeats: 1 + repeats % 16,
        inputs_over,
        rate: rate(rates.0),
        ..ClientSettings::DEFAULT
    };
    let served = PlayerSettings {
        missing: pick(&Missing::ALL, missing),
        wait: 1 + wait % 16,
        waiting: pick(&Waiting::ALL, waiting),
        rate: rate(rates.1),
        tells: by == ClockBy::Told,
        says_changes: inputs_over == InputsOver::Changes,
        snapshots_over: pick(&Over::ALL, snapshots),
        ..PlayerSettings::DEFAULT
    };
    (client, served)
}

/// The middle margin of the inputs that arrived since the last look, in quarter ticks.
fn margin(pair: &mut Pair) -> i16 {
    let mut margins: Vec<i16> = pair.told.arrived.drain(..).filter_map(|(_, margin)| margin).collect();
    margins.sort_unstable();
    margins[margins.len() / 2]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn after_any_trouble_all_is_as_before(
        policy in any::<Policy>(),
        fates in prop::collection::vec((prop::bool::weighted(0.3), prop::bool::weighted(0.1), 0u8..90), 40..400),
    ) {
        let (client, served) = settings(&policy);
        let by_stream = client.inputs_over != InputsOver::Datagrams || served.snapshots_over == Over::Stream;
        let mut pair = Pair::playing();
        pair.client.set_settings(client);
        pair.server.set_settings(PLAYER, served);
        pair.walk();
        pair.run(12_000);
        let _ = margin(&mut pair);
        pair.run(1000);
        let before = (margin(&mut pair), pair.covered);
        pair.fates = fates;
        for _ in 0..4 {
            pair.hop();
            pair.run(800);
        }
        pair.fates.clear();
        // Of a stream, the longest time-out that may have come of it as well.
        let (round_trip, interval, timeout) = (80, 1000 / 60 * 3, if by_stream { 3300 } else { 0 });
        // What was told late holds until it is told again.
        let told = if client.clock.by == ClockBy::Told { 1000 } else { 0 };
        let sent = i64::from(client.send_every) * 17;
        pair.run(2 * round_trip + interval + sent + 90 + timeout + told);
        let (own, at) = pair.told.predicted.last().map(|(tick, state)| (*state, *tick)).expect("it plays");
        // It runs ahead: the authority makes that tick a while later.
        while pair.server.newest_tick() < at {
            pair.run(10);
        }
        let there = pair.told.authority.iter().rev().find(|(tick, ..)| *tick == at);
        let there = there.map(|(_, state, _)| *state);
        if served.missing != Missing::Wait {
            let off = there.map(|there| there.vec3(0).distance(own.vec3(0)));
            prop_assert!(off.is_some_and(|off| off < 0.001), "{off:?} m off: {client:?}, {served:?}");
        }
        // Everybody else one more.
        let other = pair.drawn(OTHER).expect("it is there").state.vec3(0);
        prop_assert!(other.distance(pair.server.state(OTHER).expect("it is there").vec3(0)) < 0.02);
        // What was reported in the trouble is forgotten after ten seconds, and ground is given by a tick a second.
        pair.run(18_000);
        let _ = margin(&mut pair);
        pair.told.corrections.clear();
        pair.run(1000);
        let after = (margin(&mut pair), pair.covered);
        prop_assert!((after.0 - before.0).abs() <= 16, "depth: {before:?}, {after:?}: {client:?}, {served:?}");
        prop_assert!(after.1 <= before.1.max(client.send_every), "redundancy: {before:?}, {after:?}: {client:?}");
        prop_assert!(pair.told.corrections.is_empty() && pair.told.verdicts.is_empty());
        prop_assert!(pair.client.own_state(OWN).is_some() && pair.now > MS);
    }
}

#[test]
fn however_a_client_knows_its_clock_seldom_messages_are_in_time() {
    for by in [ClockBy::Margins, ClockBy::Timestamps, ClockBy::Told] {
        let clock = ClockSettings { by, ..ClockSettings::DEFAULT };
        let mut pair = Pair::playing();
        pair.client.set_settings(ClientSettings { clock, send_every: 6, ..ClientSettings::DEFAULT });
        pair.server.set_settings(PLAYER, PlayerSettings { tells: by == ClockBy::Told, ..PlayerSettings::DEFAULT });
        pair.run(12_000);
        pair.told.arrived.clear();
        pair.run(2000);
        let late = pair.told.arrived.iter().filter(|(_, margin)| margin.is_none_or(|margin| margin < 0)).count();
        assert_eq!(late, 0, "{by:?}");
    }
}
