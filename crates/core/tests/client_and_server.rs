//! What client and server promise each other, told as short stories.

use std::sync::Arc;

use crate::pair::{HOME, MS, OTHER, OWN, PLAYER, Pair};
use velocitas_core::altered::Altered;
use velocitas_core::walker::Walker;
use velocitas_core::{
    Address, Agree, Arrangement, Blend, Body, ClientSettings, Drawn, EndedBy, HostNanos, Input, InputField, InputKind,
    Life, Limits, Missing, Motion, PlayerSettings, Policy, Provenance, Quantiser, Redundancy, RemoteSettings, Response,
    Restored, Rule, Scene, Schema, SeenBy, Shape, State, StateField, Step, Unwatched, Vec3, ViewDelay, Waiting, vec3,
};

#[test]
fn the_own_character_moves_at_once_and_the_server_follows_a_trip_later() {
    let mut pair = Pair::playing();
    pair.walk();
    pair.run(60);
    let own = pair.client.own_state(OWN).map(|s| s.vec3(0).x);
    assert!(own.is_some_and(|x| x > 0.03), "{own:?}");
    assert!(pair.server.state(OWN).is_some_and(|s| s.vec3(0).x == 0.0), "the input is still on its way");
    pair.run(1000);
    assert!(pair.server.state(OWN).is_some_and(|s| s.vec3(0).x > 3.0));
    assert!(pair.told.corrections.is_empty(), "{:?}", pair.told.corrections);
}

#[test]
fn every_first_prediction_is_what_the_server_makes_of_it() {
    let mut pair = Pair::playing();
    pair.walk();
    for i in 0..40 {
        if i % 7 == 0 {
            pair.hop();
        }
        pair.run(50);
    }
    let mut compared = 0;
    for (tick, state) in &pair.told.predicted {
        if let Some((_, truth, _)) = pair.told.authority.iter().find(|(t, ..)| t == tick) {
            assert_eq!(state, truth, "tick {tick}");
            compared += 1;
        }
    }
    assert!(compared > 100, "{compared}");
}

#[test]
fn inputs_arrive_before_they_are_needed_and_none_is_made_up() {
    let mut pair = Pair::playing();
    pair.run(3000);
    assert!(pair.told.used.len() > 150);
    assert!(pair.told.used.iter().all(|(_, p)| *p == Provenance::Fresh));
}

#[test]
fn a_push_at_the_server_is_corrected_by_replaying_what_was_pressed_since() {
    let mut pair = Pair::playing();
    pair.walk();
    pair.run(500);
    pair.server.push(OWN, vec3(0.0, 8.0, 0.0));
    pair.run(500);
    let [correction] = pair.told.corrections[..] else { panic!("{:?}", pair.told.corrections) };
    assert_eq!(correction.why, Restored::Diverged);
    assert!(correction.replayed >= 5 && correction.jump > 0.1, "{correction:?}");
    let (own, truth) = (pair.told.predicted.last(), pair.told.authority.last());
    let (Some((own_tick, _)), Some((tick, truth, _))) = (own, truth) else { panic!("both play") };
    assert!(own_tick > tick);
    let same = pair.told.predicted.iter().find(|(t, _)| t == tick).map(|(_, s)| *s);
    assert_eq!(same, Some(*truth), "and then they agree bit for bit");
}

#[test]
fn a_correction_is_eased_out_on_screen() {
    let mut pair = Pair::playing();
    pair.server.push(OWN, vec3(0.0, 8.0, 0.0));
    let mut largest = 0.0f64;
    let mut before = pair.drawn(OWN).expect("drawn").state.vec3(0);
    for _ in 0..400 {
        pair.step();
        let at = pair.drawn(OWN).expect("drawn").state.vec3(0);
        largest = if f64::from(at.distance(before)) > largest { f64::from(at.distance(before)) } else { largest };
        before = at;
    }
    let jump = pair.told.corrections.iter().map(|c| f64::from(c.jump)).sum::<f64>();
    assert!(jump > 0.3, "{jump}");
    assert!(largest < jump / 10.0, "a millisecond moved the picture by {largest} of {jump} m");
}

#[test]
fn lost_messages_cost_nothing_while_repeats_cover_them() {
    let mut pair = Pair::playing();
    // Two of three are lost on the way up, sometimes four in a row; each message covers five ticks.
    pair.client.set_settings(ClientSettings { repeats: 5, ..ClientSettings::DEFAULT });
    pair.lose = |up, number| up && number % 3 != 0;
    pair.run(4000);
    let recent = pair.told.used.iter().rev().take(100);
    assert!(recent.clone().all(|(_, p)| *p == Provenance::Fresh), "the lead has learnt to cover the losses");
}

#[test]
fn every_hop_is_hopped_once_however_many_messages_are_lost() {
    let mut pair = Pair::playing();
    pair.lose = |_, number| number % 2 == 0;
    for _ in 0..6 {
        pair.hop();
        pair.run(1000);
    }
    assert_eq!(pair.hops(), 6);
}

#[test]
fn inputs_for_ticks_that_a_stalled_server_passes_over_are_not_in_time() {
    let mut pair = Pair::playing();
    pair.run(500);
    pair.told.arrived.clear();
    let dropped = pair.told.dropped;
    pair.stall_server(1500);
    let clock_sets = pair.told.clock_sets;
    pair.run(1000);
    let dropped = pair.told.dropped - dropped;
    assert!((70..80).contains(&dropped), "a quarter of a second is made up for: {dropped}");
    let passed_over = pair.told.arrived.iter().filter(|(_, margin)| margin.is_none()).count() as u64;
    // The last inputs before the stall had arrived already.
    assert!(passed_over <= dropped && passed_over + 8 > dropped, "{passed_over} of {dropped}");
    let used = |tick| pair.told.used.iter().any(|(used, _)| *used == tick);
    assert!(pair.told.arrived.iter().all(|(tick, margin)| margin.is_some() || !used(*tick)));
    assert_eq!(pair.told.clock_sets, clock_sets, "nor do they tell their owner that it is late");
}

/// A walker whose server waits for inputs.
fn waited_for(waiting: Waiting) -> Pair {
    let mut pair = Pair::playing();
    pair.server
        .set_settings(PLAYER, PlayerSettings { missing: Missing::Wait, wait: 8, waiting, ..PlayerSettings::DEFAULT });
    pair.run(1500);
    pair
}

#[test]
fn who_is_waited_for_is_never_corrected_and_what_waited_is_used_in_order() {
    for waiting in Waiting::ALL {
        let mut pair = waited_for(waiting);
        pair.walk();
        pair.told.used.clear();
        for i in 0..6 {
            pair.hop();
            pair.run(600);
            // The way becomes longer by six ticks for a quarter of a second.
            pair.latency = if i % 2 == 0 { 140 * MS } else { 40 * MS };
            pair.run(600);
        }
        pair.latency = 40 * MS;
        pair.run(500);
        let ticks: Vec<u64> = pair.told.used.iter().map(|(tick, _)| tick.0).collect();
        assert!(ticks.windows(2).all(|two| two[1] == two[0] + 1), "{waiting:?}: each in its turn");
        let made_up = pair.told.used.iter().filter(|(_, how)| *how != Provenance::Fresh).count();
        assert!(made_up == 0 && pair.told.corrections.is_empty(), "{waiting:?}: {made_up}");
        // Others saw it stand still, and how it went on.
        let steps: Vec<f32> = pair
            .told
            .authority
            .windows(2)
            .map(|two| two[1].1.vec3(0).x - two[0].1.vec3(0).x)
            .skip_while(|step| *step == 0.0)
            .collect();
        let (stood, walk) = (steps.iter().filter(|step| **step == 0.0).count(), 0.08);
        let most = steps.iter().fold(0.0f32, |most, step| if *step > most { *step } else { most });
        assert!(stood >= 4, "{waiting:?}: stood {stood}");
        let times = most / walk;
        match waiting {
            Waiting::AtOnce => assert!(times > 3.0, "{times}"),
            Waiting::One => assert!(times < 1.2, "{times}"),
            Waiting::Kept => assert!((1.5..2.5).contains(&times), "{times}"),
        }
    }
}

#[test]
fn nobody_is_waited_for_longer_than_is_said_and_a_silent_one_rests_in_the_end() {
    let mut pair = waited_for(Waiting::AtOnce);
    pair.walk();
    pair.run(500);
    pair.told.used.clear();
    pair.lose = |up, _| up;
    let newest = pair.server.newest_tick();
    pair.run(300);
    let last = pair.told.used.iter().filter(|(_, how)| *how == Provenance::Fresh).map(|(tick, _)| tick.0).max();
    pair.run(4000);
    let made_up = pair.told.used.iter().filter(|(_, how)| *how != Provenance::Fresh);
    let first = made_up.clone().map(|(tick, _)| tick.0).min().expect("it is made up in the end");
    assert_eq!(Some(first), last.map(|last| last + 1), "the first that did not come");
    assert!(pair.told.used.iter().any(|(_, how)| *how == Provenance::Rested));
    // Eight ticks behind, it goes on tick by tick.
    let behind = pair.server.newest_tick().0 - made_up.map(|(tick, _)| tick.0).max().expect("there are some");
    assert_eq!(behind, 8, "from {newest}");
    let before = pair.told.corrections.len();
    pair.lose = |_, _| false;
    pair.run(2000);
    let own = pair.client.own_state(OWN).expect("it plays").vec3(0);
    let truth = pair.server.state(OWN).expect("it is there").vec3(0);
    assert!(own.distance(truth) < 1.5 && pair.told.corrections.len() > before, "and is sound again: {own:?} {truth:?}");
}

#[test]
fn delayed_inputs_are_played_by_both_at_the_tick_they_were_meant_for_and_ahead_is_less() {
    let ahead = |delay: u8| {
        let settings = ClientSettings { input_delay: delay, ..ClientSettings::DEFAULT };
        let mut pair = Pair::of(Arc::new(Walker::new()), Arrangement::SERVER, settings);
        pair.run(4000);
        pair.told.used.clear();
        pair.walk();
        for i in 0..40 {
            if i % 7 == 0 {
                pair.hop();
            }
            pair.run(50);
        }
        assert!(pair.told.used.iter().all(|(_, how)| *how == Provenance::Fresh), "delay {delay}");
        assert!(pair.told.corrections.is_empty(), "delay {delay}: {:?}", pair.told.corrections);
        let hopped = pair.told.authority.iter().filter(|(_, state, _)| state.vec3(0).z > 0.05).count();
        assert!(hopped > 60, "delay {delay}: hops take effect, {hopped}");
        let newest = pair.client.newest_tick().expect("it plays");
        newest.since(pair.server.newest_tick())
    };
    let (none, some, most) = (ahead(0), ahead(2), ahead(8));
    assert!((2..=3).contains(&(none - some)), "two ticks less far ahead: {none}, {some}");
    // A way of 40 ms is over before eight ticks are: the own tick stays just past what snapshots show.
    assert!((-3..=0).contains(&most), "{most}");
}

#[test]
fn a_delay_that_is_turned_while_it_runs_drops_no_press_and_makes_nothing_up() {
    let mut pair = Pair::playing();
    let mut hops = 0;
    for (i, delay) in [0u8, 4, 1, 8, 0, 3, 0].into_iter().enumerate() {
        pair.client.set_settings(ClientSettings {
            input_delay: delay,
            send_every: if i % 2 == 0 { 1 } else { 4 },
            ..ClientSettings::DEFAULT
        });
        for _ in 0..3 {
            pair.hop();
            hops += 1;
            pair.run(1200);
        }
    }
    let mut up = false;
    let landed = pair.told.authority.iter().filter(|(_, state, _)| {
        let was = std::mem::replace(&mut up, state.vec3(0).z > 0.01);
        was && !up
    });
    let at: Vec<u64> = pair
        .told
        .authority
        .iter()
        .zip(pair.told.authority.iter().skip(1))
        .filter(|((_, a, _), (_, b, _))| a.vec3(0).z < 0.01 && b.vec3(0).z > 0.01)
        .map(|((t, ..), _)| t.0)
        .collect();
    assert_eq!(landed.count(), hops, "{at:?}");
    let made_up = pair.told.used.iter().filter(|(_, how)| *how != Provenance::Fresh).count();
    // With four ticks a message at once, there is not at once as much lead.
    assert!(made_up <= 8, "{made_up}");
}

#[test]
fn who_sends_seldom_says_all_the_same_in_fewer_messages() {
    for (send_every, repeats, lossy) in [(1, 3, false), (2, 3, false), (8, 1, false), (2, 8, true), (3, 12, true)] {
        let mut pair = Pair::playing();
        pair.client.set_settings(ClientSettings { send_every, repeats, ..ClientSettings::DEFAULT });
        pair.walk();
        pair.lose = if lossy { |up, number| up && number % 3 == 0 } else { |_, _| false };
        // Its lead follows: the oldest tick of a message waits for the others.
        pair.run(15_000);
        (pair.told.used, pair.told.corrections) = (Vec::new(), Vec::new());
        let hops = pair.hops();
        pair.hop();
        pair.run(2000);
        let used = &pair.told.used;
        let fresh = used.iter().filter(|(_, how)| *how == Provenance::Fresh).count();
        assert!(used.len() > 110 && fresh == used.len(), "each {send_every}: {fresh} of {}", used.len());
        assert_eq!((pair.told.corrections.len(), pair.hops()), (0, hops + 1), "each {send_every}");
        pair.lose = |_, _| false;
        let sent = pair.eavesdrop(1000).len();
        assert!(sent.abs_diff(60 / usize::from(send_every)) <= 1, "each {send_every}: {sent} in a second");
    }
}

#[test]
fn redundancy_that_adapts_survives_the_bursts_that_there_are() {
    let made_up = |redundancy| {
        let mut pair = Pair::playing();
        pair.client.set_settings(ClientSettings { redundancy, ..ClientSettings::DEFAULT });
        pair.walk();
        // Of 80 datagrams a second 60 go up, and five of these are lost on end.
        pair.lose = |up, number| up && number % 80 < 7;
        pair.run(15_000);
        pair.told.used.clear();
        pair.run(5000);
        pair.told.used.iter().filter(|(_, how)| *how != Provenance::Fresh).count()
    };
    assert_eq!(made_up(Redundancy::Adapted), 0);
    let fixed = made_up(Redundancy::Fixed);
    assert!((10..40).contains(&fixed), "three ticks a message do not: {fixed}");
}

#[test]
fn a_lost_press_costs_one_correction() {
    let mut pair = Pair::playing();
    // Each message covers one tick, so a lost one is a tick made up.
    pair.client.set_settings(ClientSettings { repeats: 1, ..ClientSettings::DEFAULT });
    pair.walk();
    pair.run(1000);
    let mut hops = 0;
    for round in 0..40 {
        pair.told.corrections.clear();
        pair.lose = |up, _| up;
        pair.hop();
        // Until one tick is sampled and its message gone.
        let newest = pair.client.newest_tick();
        while pair.client.newest_tick() == newest {
            pair.step();
        }
        pair.lose = |_, _| false;
        pair.run(1200 + round * 7);
        hops += 1;
        assert!(pair.told.corrections.len() <= 1, "round {round}: {:?}", pair.told.corrections);
        // Walking on and off, so that not every round is alike.
        if round % 2 == 0 { pair.stand() } else { pair.walk() }
    }
    assert_eq!(pair.hops(), hops, "and every hop is hopped");
}

#[test]
fn a_silent_client_stands_where_its_keys_left_it_and_comes_back() {
    let mut pair = Pair::playing();
    pair.walk();
    pair.run(500);
    pair.lose = |up, _| up;
    let from = pair.server.state(OWN).map(|s| s.vec3(0).x).unwrap_or(0.0);
    pair.run(1000);
    let to = pair.server.state(OWN).map(|s| s.vec3(0).x).unwrap_or(0.0);
    assert!(to - from > 3.5, "held keys go on being held: {}", to - from);
    assert!(pair.told.used.last().is_some_and(|(_, p)| *p == Provenance::Repeated));
    pair.stand();
    pair.lose = |_, _| false;
    pair.run(1500);
    assert!(pair.told.used.last().is_some_and(|(_, p)| *p == Provenance::Fresh));
    let (own, truth) = (pair.client.own_state(OWN), pair.server.state(OWN).copied());
    assert_eq!(own, truth, "both stand, at the same place");
}

#[test]
fn latency_that_grows_is_met_by_more_lead_without_skipping_an_input() {
    let mut pair = Pair::playing();
    pair.run(1000);
    pair.latency = 90 * MS;
    pair.run(9000);
    let late = pair.told.used.iter().rev().take(120).filter(|(_, p)| *p != Provenance::Fresh).count();
    assert_eq!(late, 0, "after some seconds all inputs are in time again");
    assert_eq!((pair.told.dropped, pair.told.clock_sets), (0, 0), "slewed, not set");
}

#[test]
fn half_a_second_more_is_set_at_once_and_said() {
    let mut pair = Pair::playing();
    pair.latency = 500 * MS;
    pair.run(6000);
    assert!(pair.told.clock_sets > 0);
    let late = pair.told.used.iter().rev().take(60).filter(|(_, p)| *p != Provenance::Fresh).count();
    assert_eq!(late, 0);
}

#[test]
fn others_are_drawn_in_the_past_by_the_delay_asked_for() {
    let mut pair = Pair::playing();
    let remotes = RemoteSettings { view_delay: ViewDelay::Millis(150), ..RemoteSettings::DEFAULT };
    let settings = ClientSettings { remotes, ..ClientSettings::DEFAULT };
    pair.client.set_settings(settings);
    pair.run(6000);
    let drawn = pair.drawn(OTHER).expect("somebody else");
    assert_eq!(drawn.how, Drawn::Blended);
    let behind = (pair.now as f64 / 1e9 * 60.0 - drawn.tick.0 as f64 - f64::from(drawn.fraction)) / 60.0 * 1000.0;
    assert!((185.0..=200.0).contains(&behind), "{behind} ms: 40 on the way and 150 asked for");
    pair.client.set_settings(ClientSettings { remotes: RemoteSettings { interpolate: false, ..remotes }, ..settings });
    assert_eq!(pair.drawn(OTHER).map(|d| d.how), Some(Drawn::Newest));
}

#[test]
fn when_snapshots_stop_others_run_on_for_a_while_and_hold() {
    let mut pair = Pair::playing();
    pair.lose = |up, _| !up;
    pair.run(250);
    assert_eq!(pair.drawn(OTHER).map(|d| d.how), Some(Drawn::Extrapolated));
    pair.run(500);
    assert_eq!(pair.drawn(OTHER).map(|d| d.how), Some(Drawn::Held));
}

#[test]
fn an_honest_owner_is_believed_and_a_jump_is_pulled_back() {
    let mut pair = Pair::playing_as(Arrangement::CLAIMS);
    pair.walk();
    pair.run(2000);
    assert!(pair.told.verdicts.is_empty());
    let truth = pair.server.state(OWN).map(|s| s.vec3(0)).expect("it is there");
    assert!(truth.x > 5.0, "the server took what was claimed: {truth:?}");

    let mut there = pair.client.own_state(OWN).expect("playing");
    there.set_vec3(0, there.vec3(0) + vec3(9.0, 0.0, 0.0));
    pair.client.place(OWN, there);
    pair.run(800);
    assert_eq!(pair.told.verdicts.len(), 1, "{:?}", pair.told.verdicts);
    let verdict = pair.told.verdicts[0];
    assert_eq!(verdict.evidence.rule, Rule::Teleport);
    let exhibit = verdict.exhibit.expect("where it was");
    let corners = exhibit.path.corners();
    assert!(
        corners.len() == 2 && corners[1].x - corners[0].x > 9.0 && exhibit.put.x < corners[0].x + 0.01,
        "{exhibit:?}"
    );
    assert!(verdict.evidence.measured > 9.0 && verdict.evidence.limit < 7.1, "{verdict:?}");
    assert_eq!(pair.told.corrections.last().map(|c| c.why), Some(Restored::PulledBack));
    let own = pair.client.own_state(OWN).map(|s| s.vec3(0).x).unwrap_or(0.0);
    assert!((truth.x..truth.x + 6.0).contains(&own), "back, and walking on: {own}");
}

#[test]
fn who_may_not_play_on_is_told_why_and_does_not_come_again() {
    let mut policy = Policy::default();
    policy.responses[Rule::Teleport as usize] = Response::Disconnect;
    let mut pair = Pair::guarded(policy);
    let mut there = pair.client.own_state(OWN).expect("playing");
    there.set_vec3(0, there.vec3(0) + vec3(9.0, 0.0, 0.0));
    pair.client.place(OWN, there);
    pair.run(800);
    assert_eq!(pair.client.left_by(), Some(EndedBy::Verdict(Rule::Teleport)));
    assert!(pair.server.state(OWN).is_none(), "what came with it is gone");
    // By another life it is refused.
    pair.start_anew(Life(2));
    pair.run(1500);
    assert!(pair.client.refused_for().is_some() && pair.client.own_state(OWN).is_none());
}

#[test]
fn a_lost_pull_back_is_repeated_until_it_is_obeyed() {
    let mut pair = Pair::playing_as(Arrangement::CLAIMS);
    pair.run(500);
    let mut there = pair.client.own_state(OWN).expect("playing");
    there.set_vec3(0, vec3(30.0, 0.0, 0.0));
    pair.client.place(OWN, there);
    pair.lose = |up, _| !up;
    pair.run(600);
    assert_eq!(pair.told.verdicts.len(), 1, "claims of the older epoch are not judged again");
    assert!(pair.client.own_state(OWN).is_some_and(|s| s.vec3(0).x > 25.0), "it has not heard yet");
    pair.lose = |_, _| false;
    pair.run(300);
    assert!(pair.client.own_state(OWN).is_some_and(|s| s.vec3(0).x < 1.0));
    assert_eq!(pair.told.verdicts.len(), 1);
}

#[test]
fn strange_packets_are_counted_and_change_nothing() {
    let mut pair = Pair::playing();
    let before = pair.server.state(OWN).copied();
    for length in 0..64u8 {
        let junk: Vec<u8> = (0..length).map(|i| i.wrapping_mul(37) ^ length).collect();
        let now = HostNanos(pair.now);
        let _ = pair.server.handle_datagram(now, HOME, &junk, &mut Unwatched);
        let _ = pair.server.handle_datagram(now, Address(99), &junk, &mut Unwatched);
        let clock = pair.client_clock();
        let _ = pair.client.handle_datagram(clock, &junk, &mut Unwatched);
    }
    assert!(pair.server.refused() > 50 && pair.client.refused() > 50);
    assert_eq!(pair.server.state(OWN).copied(), before);
    pair.run(500);
    assert!(pair.told.corrections.is_empty());
}

/// A rule with a secret that only its owner may know, and a fault on demand.
#[derive(Debug)]
struct Secretive(Schema);

impl Secretive {
    fn new() -> Self {
        let field = |name, lane, shape, unit, seen_by| StateField {
            name,
            lane,
            shape,
            unit,
            wire: Quantiser::new(1.0 / 64.0, 16),
            agree: Agree::Within(0.01),
            blend: Blend::Linear,
            seen_by,
        };
        let state = vec![
            field("pos", 0, Shape::Point, "m", SeenBy::All),
            field("breath", 3, Shape::Number, "s", SeenBy::Owner),
        ];
        Self(Schema { state, input: vec![InputField { name: "break", lane: 0, kind: InputKind::Held }] })
    }
}

impl Motion for Secretive {
    fn name(&self) -> &'static str {
        "secretive"
    }
    fn schema(&self) -> &Schema {
        &self.0
    }
    fn body(&self) -> Body {
        Body { radius: 0.3, height: 1.0, step: 0.0 }
    }
    fn limits(&self, _: &[f32]) -> Limits {
        Limits::of_pace(1.0, 1.0, 1.0, 0.0)
    }
    fn spawn(&self, position: Vec3, _: f32) -> State {
        let mut state = State::default();
        state.set_vec3(0, position);
        state.set_real(3, 5.0);
        state
    }
    fn step(&self, _: &Scene<'_>, state: &State, input: &Input) -> Step {
        let mut next = *state;
        next.set_real(3, state.real(3) + 0.25);
        if input.flag(0) {
            next.set_real(0, f32::NAN);
        }
        Step { state: next, ..Step::default() }
    }
}

#[test]
fn what_only_the_owner_may_see_reaches_nobody_else() {
    let mut pair = Pair::of(
        Arc::new(Secretive::new()),
        Arrangement::SERVER,
        ClientSettings { predict: false, ..ClientSettings::DEFAULT },
    );
    pair.run(2000);
    let own = pair.drawn(OWN).expect("the own one").state;
    let other = pair.drawn(OTHER).expect("the other").state;
    assert!(own.real(3) > 5.0);
    assert_eq!(other.real(3), 0.0, "never sent");
    assert_eq!(other.real(0), 20.0, "what all may see was");
}

#[test]
fn a_step_that_is_not_a_number_is_rejected_whole_and_reported() {
    let mut pair = Pair::of(Arc::new(Secretive::new()), Arrangement::SERVER, ClientSettings::DEFAULT);
    pair.run(1500);
    pair.keys.set_flag(0, true);
    pair.run(300);
    assert!(pair.told.faults.iter().any(|(_, field)| *field == "pos"));
    assert!(pair.server.state(OWN).is_some_and(|s| s.vec3(0).is_finite()));
    assert!(pair.told.corrections.is_empty(), "both sides reject it alike: {:?}", pair.told.corrections);
    let rested = pair.server.state(OWN).map(|s| s.real(3));
    pair.run(300);
    assert_eq!(pair.server.state(OWN).map(|s| s.real(3)), rested, "rejected whole: its other fields stand too");
}

#[test]
fn a_cast_too_large_for_a_datagram_is_refused_when_it_is_made() {
    let mut pair = Pair::playing();
    let walker = Walker::new();
    let mut spawned = 2;
    let refused = loop {
        match pair.server.spawn(0, walker.spawn(Vec3::ZERO, 0.0)) {
            Ok(_) => spawned += 1,
            Err(error) => break error.to_string(),
        }
    };
    assert!((48..80).contains(&spawned), "{spawned}");
    assert!(refused.starts_with(&format!("a snapshot of {} entities takes", spawned + 1)), "{refused}");
    // And what was admitted really fits.
    pair.run(200);
}

#[test]
fn a_server_that_stalls_skips_numbers_and_keeps_to_the_clock() {
    let mut pair = Pair::playing();
    pair.run(1000);
    let before = pair.server.newest_tick();
    // For two seconds nobody looks after the server; its socket fills.
    pair.stall_server(2000);
    pair.run(20);
    assert_eq!(pair.server.newest_tick().since(before), 121, "numbers are tied to the clock");
    assert!(pair.told.verdicts.is_empty(), "what waited in the socket is nobody's crime");
    pair.run(3000);
    let recent = pair.told.used.iter().rev().take(60);
    assert!(recent.clone().all(|(_, p)| *p == Provenance::Fresh), "and everybody is in time again");
    assert_eq!(pair.client.own_state(OWN), pair.server.state(OWN).copied());
}

#[test]
fn every_datagram_twice_is_every_datagram_once() {
    let (mut once, mut twice) = (Pair::playing(), Pair::playing());
    twice.doubled = true;
    for pair in [&mut once, &mut twice] {
        pair.walk();
        for _ in 0..5 {
            pair.hop();
            pair.run(700);
        }
    }
    assert_eq!(once.hops(), 5);
    assert_eq!(once.server.state(OWN), twice.server.state(OWN));
    assert!(twice.told.verdicts.is_empty() && twice.told.corrections.is_empty());
}

#[test]
fn a_connection_of_another_epoch_is_not_heard() {
    let mut pair = Pair::playing();
    let before = pair.server.state(OWN).copied();
    let mut stranger = Pair::of(Arc::new(Walker::new()), Arrangement::SERVER, ClientSettings::DEFAULT);
    stranger.run(1500);
    stranger.walk();
    let heard = pair.told.used.len();
    for mut bytes in stranger.eavesdrop(300) {
        bytes[1] = bytes[1].wrapping_add(1);
        let done = pair.server.handle_datagram(HostNanos(pair.now), HOME, &bytes, &mut pair.told);
        assert_eq!(done, Ok(()), "well formed, and not for this connection");
    }
    assert_eq!((pair.server.state(OWN).copied(), pair.told.used.len()), (before, heard));
}

/// The walker with something more to remember, put in another order, and a finer stick: another layout.
fn wider() -> Altered {
    let mut schema = Walker::new().schema().clone();
    let more = StateField { name: "steps", lane: 8, shape: Shape::Counter, ..schema.state[3].clone() };
    schema.state.insert(1, more);
    schema.input[0].kind = InputKind::Stick { bits: 11 };
    schema.input.swap(1, 3);
    let after = |_: &Scene<'_>, state: &State, step: &mut Step| step.state.set_int(8, state.int(8) + 1);
    Altered { schema, after: Box::new(after), ..Altered::named("wider") }
}

#[test]
fn a_rule_with_another_layout_takes_over_at_one_tick_without_a_correction() {
    assert_ne!(wider().schema().fingerprint(), Walker::new().schema().fingerprint());
    for arrangement in [Arrangement::SERVER, Arrangement::CLAIMS] {
        let mut pair = Pair::playing_as(arrangement);
        // Datagrams of both layouts, late and twice, are under way as the rule changes.
        pair.doubled = true;
        pair.lose = |_, n| n % 5 == 0;
        pair.walk();
        pair.hop();
        pair.run(700);
        let (wider, walker): (Arc<dyn Motion>, Arc<dyn Motion>) = (Arc::new(wider()), Arc::new(Walker::new()));
        let from = pair.change_rule(&wider);
        pair.hop();
        pair.run(1500);
        let steps = pair.client.own_state(OWN).map(|s| s.int(8));
        let newest = pair.client.newest_tick().map(|t| t.0);
        assert_eq!(steps.map(u64::from), newest.map(|t| t - from.prev().0), "counted from the agreed tick on");
        pair.change_rule(&walker);
        pair.run(1500);
        assert_eq!(pair.client.own_state(OWN).map(|s| s.int(8)), Some(0), "what the rule does not know is gone");
        assert!(pair.told.corrections.is_empty(), "{arrangement:?}: {:?}", pair.told.corrections);
        assert!(pair.told.verdicts.is_empty() && pair.client.refused() + pair.server.refused() == 0);
    }
}

/// Ahead, for a walker that looks east.
fn ahead() -> Input {
    let mut input = Input::default();
    input.set_real(velocitas_core::walker::input_lane::MOVE + 1, 1.0);
    input
}

#[test]
fn who_owns_two_predicts_and_reconciles_each_for_itself() {
    let mut pair = Pair::playing_two(Arrangement::SERVER);
    pair.walk();
    pair.run(1000);
    let x = |pair: &Pair, id| pair.client.own_state(id).map_or(0.0, |s| s.vec3(0).x);
    assert!(x(&pair, OWN) > 3.0 && x(&pair, OTHER) == 20.0, "hands that drive the one leave the other alone");
    pair.stand();
    pair.other_keys = ahead();
    pair.run(1000);
    let stands = x(&pair, OWN);
    assert!(x(&pair, OTHER) > 23.0);
    assert!(pair.told.corrections.is_empty(), "{:?}", pair.told.corrections);
    pair.server.push(OTHER, vec3(0.0, 6.0, 0.0));
    pair.run(500);
    let [correction] = pair.told.corrections[..] else { panic!("{:?}", pair.told.corrections) };
    assert_eq!((correction.entity, correction.why), (OTHER, Restored::Diverged));
    pair.other_keys = Input::default();
    pair.run(1500);
    for id in [OWN, OTHER] {
        assert_eq!(pair.client.own_state(id), pair.server.state(id).copied(), "{id}");
    }
    assert_eq!(x(&pair, OWN), stands);
    assert_eq!(pair.client.refused() + pair.server.refused(), 0);
}

#[test]
fn who_claims_two_is_pulled_back_with_the_one_that_offended() {
    let mut pair = Pair::playing_two(Arrangement::CLAIMS);
    pair.other_keys = ahead();
    pair.run(500);
    let mut there = pair.client.own_state(OWN).expect("playing");
    there.set_vec3(0, vec3(0.0, 12.0, 0.0));
    pair.client.place(OWN, there);
    pair.run(1500);
    let [verdict] = pair.told.verdicts[..] else { panic!("{:?}", pair.told.verdicts) };
    assert_eq!((verdict.entity, verdict.evidence.rule), (OWN, Rule::Teleport));
    assert!(pair.client.own_state(OWN).is_some_and(|s| s.vec3(0).y < 0.5), "back where it was");
    let other = pair.client.own_state(OTHER).map_or(0.0, |s| s.vec3(0).x);
    assert!(other > 27.0, "the other walks on: {other}");
}

#[test]
fn a_terminal_waits_to_be_told_and_a_relay_is_believed() {
    let mut terminal = Pair::playing_as(Arrangement::TERMINAL);
    terminal.walk();
    terminal.run(70);
    let x = |pair: &Pair| pair.client.own_state(OWN).map_or(0.0, |s| s.vec3(0).x);
    assert_eq!(x(&terminal), 0.0, "nothing was heard of it yet");
    terminal.run(1000);
    assert!(x(&terminal) > 3.0 && terminal.told.predicted.is_empty() && terminal.told.corrections.is_empty());
    assert!(terminal.drawn(OWN).is_some_and(|d| d.how == Drawn::Blended), "drawn like everybody else");
    // Nothing that is turned makes it predict.
    terminal.client.set_settings(ClientSettings { predict: true, ..ClientSettings::DEFAULT });
    terminal.run(500);
    assert!(terminal.told.predicted.is_empty());

    let mut relay = Pair::playing_as(Arrangement::RELAY);
    let mut there = relay.client.own_state(OWN).expect("playing");
    there.set_vec3(0, vec3(30.0, 0.0, 0.0));
    relay.client.place(OWN, there);
    relay.run(500);
    assert!(relay.server.state(OWN).is_some_and(|s| s.vec3(0).x > 29.9), "whatever it says");
    assert!(relay.told.verdicts.is_empty() && relay.told.corrections.is_empty());
}
