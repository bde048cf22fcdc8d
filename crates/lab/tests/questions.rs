//! Screens and reports ask the record; what it answers is held against what was set.

use crate::scenario::{Words, actor, machine, measure, walker};
use velocitas_analysis::metrics::ClientMetrics;
use velocitas_analysis::moment::Moment;
use velocitas_analysis::slices::slices;
use velocitas_core::Drawn;
use velocitas_lab::{Run, export};
use velocitas_record::record::{FrameRow, Mark, StateHead};
use velocitas_record::{Command, Knob, KnobValue, LabTime, MachineId, MemberId, MessageRow, Part};

fn secs(s: f64) -> LabTime {
    LabTime::from_secs(s)
}

/// Somebody on a clean link with this latency in milliseconds, seen by somebody on the same.
fn two(latency: u32, settings: &str) -> Run {
    let link = format!("latency = \"{latency} ms\"");
    let cast = walker("heron", settings) + &walker("plover", settings);
    Words { link: &link, rest: cast, ..Words::default() }.run(20.0)
}

fn figures(run: &Run, member: usize) -> ClientMetrics {
    measure(run.record(), member, secs(5.0), run.now())
}

fn link(run: &Run, from: MachineId, to: MachineId) -> impl Iterator<Item = MessageRow> {
    let rows = run.record().links().filter(move |(a, b, _)| (*a, *b) == (from, to));
    rows.flat_map(|(_, _, rows)| rows.iter())
}

#[test]
fn view_age_is_the_way_down_and_the_view_delay() {
    for (latency, delay) in [(20, 100), (90, 100), (20, 250)] {
        let run = two(latency, &format!("settings = {{ view_delay = \"{delay} ms\" }}"));
        let age = figures(&run, 0).view_age_ms.p50.unwrap_or(0.0);
        let expected = f64::from(latency + delay);
        // A datagram waits for the next frame of the viewer, a tick for the server's.
        assert!((expected - 3.0..=expected + 34.0).contains(&age), "{age} ms, about {expected} expected");
    }
}

#[test]
fn round_trip_and_loss_are_measured_as_they_were_set() {
    let link = "latency = \"60 ms\"\nloss = \"10 %\"";
    let run = Words { link, rest: walker("heron", ""), ..Words::default() }.run(60.0);
    let f = run.moment(run.now()).figures(machine(run.record(), 0), secs(50.0));
    let (rtt, lost) = (f.rtt_ms.unwrap_or(0.0), f.lost_share.unwrap_or(0.0));
    assert!((120.0..155.0).contains(&rtt), "{rtt}: two trips and a frame of each side");
    assert!((0.08..0.12).contains(&lost), "{lost}");
}

#[test]
fn bytes_are_those_of_the_messages() {
    let run = two(30, "");
    let whole = measure(run.record(), 0, LabTime::ZERO, run.now());
    let up: Vec<u64> = link(&run, machine(run.record(), 0), MachineId::SERVER).map(|m| u64::from(m.bytes)).collect();
    assert_eq!(whole.bytes_up, up.iter().sum::<u64>());
    assert_eq!(whole.bytes_up_udp - whole.bytes_up, 28 * up.len() as u64);
    // 54 bits of envelope, 30 of message, and a bit for each of three inputs that are the same; up to 29 and five for each that is not. A hello holds
    // three numbers and a fingerprint of each of the two rules.
    let hello = 3 * 8 + 1 + 2 * 8;
    let usual = up.iter().skip_while(|bytes| **bytes > hello);
    assert!(usual.clone().count() > 1000 && usual.clone().all(|bytes| (11..=24).contains(bytes)), "{up:?}");
    assert!(usual.filter(|bytes| **bytes == 11).count() > 300, "a key held costs next to nothing: {up:?}");
}

#[test]
fn fewer_snapshots_cost_fewer_bytes_and_a_longer_view_delay() {
    let (often, seldom) = (two(30, "settings = { snapshot_every = 2 }"), two(30, "settings = { snapshot_every = 12 }"));
    let (a, b) = (figures(&often, 0), figures(&seldom, 0));
    assert!(b.bytes_down * 5 < a.bytes_down, "{} and {}", b.bytes_down, a.bytes_down);
    let (age_a, age_b) = (a.view_age_ms.p50.unwrap_or(0.0), b.view_age_ms.p50.unwrap_or(0.0));
    // Two intervals of ten more ticks each.
    assert!((age_b - age_a - 333.0).abs() < 25.0, "{age_a} and {age_b} ms");
}

#[test]
fn a_view_delay_too_short_for_the_jitter_runs_on_past_what_it_has() {
    let link = "latency = \"60 ms\"\njitter = \"30 ms\"";
    let share = |delay: &str| {
        let cast = walker("heron", &format!("settings = {{ view_delay = \"{delay}\" }}")) + &walker("plover", "");
        let run = Words { link, rest: cast, ..Words::default() }.run(40.0);
        figures(&run, 0).extrapolated_share.unwrap_or(1.0)
    };
    let (short, auto) = (share("20 ms"), share("auto"));
    assert!(short > 0.3 && auto < 0.05, "{short} and {auto}");
}

#[test]
fn the_moment_tells_three_machines_apart() {
    let run = two(50, "");
    let moment = run.moment(secs(12.0));
    let (heron, plover) = (actor(run.record(), 0), machine(run.record(), 1));
    let e = moment.echoes(heron, plover);
    let (own, truth, drawn) = (e.predicted.expect("own"), e.authority.expect("truth"), e.drawn.expect("drawn"));
    assert!(own.tick > truth.tick && truth.tick > drawn.tick, "{own:?} {truth:?} {drawn:?}");
    assert_eq!(e.how, Some(Drawn::Blended));
    let (tick, a, b) = e.same_tick.expect("comparable");
    assert_eq!((tick, a), (truth.tick, b), "nothing disturbed them");
    assert_eq!(moment.tick(MachineId::SERVER, Part::Server), Some(truth.tick));
    let before = run.moment(LabTime::ZERO);
    assert!(before.echoes(heron, plover).authority.is_none());
    assert!(before.tick(MachineId::SERVER, Part::Server).is_none());
}

#[test]
fn steps_go_from_tick_to_tick_and_come_back() {
    let run = two(50, "");
    let mut moment = run.moment(secs(12.0));
    let machine = machine(run.record(), 1);
    let start = moment.tick(machine, Part::Client).expect("it plays");
    for _ in 0..20 {
        moment.at = moment.step(machine, Part::Client, false).expect("there is an earlier one");
    }
    assert_eq!(moment.tick(machine, Part::Client), Some(velocitas_record::RecordTick(start.0 - 20)));
    for _ in 0..20 {
        moment.at = moment.step(machine, Part::Client, true).expect("there is a later one");
    }
    assert_eq!(moment.tick(machine, Part::Client), Some(start));
    moment.at = run.now();
    assert_eq!(moment.step(machine, Part::Client, true), None);
}

#[test]
fn events_and_slices_show_the_same_trouble() {
    let event = "[[event]]\nat = \"5 s\"\npush = { who = \"heron\", east = \"6 m/s\" }\n";
    let run = Words { link: "latency = \"40 ms\"", rest: walker("heron", "") + event, ..Words::default() }.run(9.0);
    let moment = run.moment(secs(1.0));
    let heron = machine(run.record(), 0);
    let at = moment.event(heron, true).expect("the push is corrected");
    assert!(at > secs(5.0) && at < secs(5.2), "{at}");
    assert_eq!(Moment { at: run.now(), ..moment }.event(heron, false), Some(at));
    assert_eq!(Moment { at, ..moment }.event(heron, true), None);
    let s = slices(run.record(), LabTime::ZERO, LabTime::from_millis(100.0), 90, heron);
    let marked: Vec<usize> = (0..90).filter(|&c| s.worst[heron.index()][c] == Some(Mark::Corrected)).collect();
    assert_eq!(marked, [(at.millis() / 100.0) as usize]);
    let shown = s.jumps[marked[0]].expect("its size");
    let corrected = Moment { at: run.now(), ..moment }.last_correction(heron).expect("it was");
    assert_eq!(shown, corrected.correction.jump);
    assert!(s.snapshots.iter().filter(|b| **b).count() > 80);
}

#[test]
fn trails_lead_to_where_the_echoes_are() {
    let run = two(50, "");
    let moment = run.moment(secs(13.0));
    let (heron, plover) = (actor(run.record(), 0), machine(run.record(), 1));
    let e = moment.echoes(heron, plover);
    let last = |trail: Vec<velocitas_core::Vec3>| trail.last().copied();
    assert_eq!(last(moment.predicted_trail(heron, secs(1.0))), e.predicted.map(|p| p.pos));
    assert_eq!(moment.predicted_trail(heron, secs(1.0)).len(), 60);
    let drawn = moment.drawn_trail(heron, plover, secs(1.0));
    assert!((9..=11).contains(&drawn.len()), "{}: ten a second", drawn.len());
    let truth = moment.authority_trail(heron, secs(1.0), 3);
    assert!((19..=21).contains(&truth.len()), "{}: one each snapshot", truth.len());
}

#[test]
fn the_export_names_knobs_and_values_and_ends_with_the_digest() {
    let mut run = two(30, "");
    run.command(Command::Set { member: MemberId::new(1), knob: Knob::Loss, value: KnobValue::Number(7.5) });
    run.command(Command::Helm(Some(MemberId::new(0))));
    run.advance(secs(21.0));
    let mut out = Vec::new();
    let ending = export::Ending { digest: run.digest(), refused_datagrams: 0 };
    export::write(run.record(), &ending, &mut out).expect("a vector never fails");
    let text = String::from_utf8(out).expect("UTF-8");
    assert!(text.contains(r#""knob":"loss""#) && text.contains(r#""unit":"%","value":7.5"#));
    assert!(text.contains(r#""helm":"heron""#));
    let last = text.lines().last().expect("lines");
    assert!(last.contains(&format!("{:016x}", run.digest())), "{last}");
    // Nothing is written twice and nothing left out.
    let count = |kind: &str| text.matches(&format!("\"kind\":\"{kind}\"")).count();
    let record = run.record();
    assert_eq!(count("message"), record.links().map(|(_, _, rows)| rows.len()).sum::<usize>());
    let own = || record.cast.machines().flat_map(|m| &record.of(m).own);
    assert_eq!(count("predicted"), own().map(|own| own.predicted.len()).sum::<usize>());
    // Of each frame in which there was something to see, everybody; before that those who see themselves.
    let frames = record.cast.machines().flat_map(|m| record.of(m).frames.iter()).filter(|f| f.sees).count();
    assert_eq!(count("drawn"), frames * record.cast.actors.len());
    assert_eq!(text.matches("\"how\":\"predicted\"").count(), own().map(|own| own.drawn.len()).sum::<usize>());
}

#[test]
fn a_full_socket_keeps_the_newest_and_says_what_it_threw_away() {
    // Nine seconds without a frame at 60 messages a second: some more than a socket holds.
    let cast = walker("heron", "") + "[[event]]\nat = \"2 s\"\nfreeze = { who = \"server\", lasts = \"9 s\" }\n";
    let run = Words { link: "latency = \"20 ms\"", rest: cast, ..Words::default() }.run(20.0);
    // Each message leaves and arrives once; 512 of them were read, the newest.
    let record = run.record();
    let arrived = |m: &MessageRow| m.arrived.is_some_and(|a| a > secs(2.0) && a <= secs(11.0));
    let waiting: Vec<MessageRow> = link(&run, machine(record, 0), MachineId::SERVER).filter(arrived).collect();
    let thrown = waiting.iter().filter(|m| m.unread).count();
    assert!(waiting.len().abs_diff(512 + thrown) <= 2, "{} waited, {thrown} were thrown away", waiting.len());
    assert!(thrown > 20 && waiting.iter().is_sorted_by_key(|m| !m.unread), "the oldest make room");
    // The newest are what the server needs to go on at once.
    let m = measure(record, 0, secs(11.5), run.now());
    assert!(m.inputs.fresh_share().is_some_and(|s| s > 0.95), "{:?}", m.inputs);
}

/// The moment that a viewer draws never goes back, from the first frame on, however unevenly the first snapshots come.
#[test]
fn drawn_time_never_steps_back() {
    for seed in 1..=8 {
        let rest = walker("heron", "") + &walker("plover", "host = { frame_rate = \"144 Hz\" }");
        let run =
            Words { seed, link: "latency = \"90 ms\"\njitter = \"40 ms\"\nloss = \"10 %\"", rest, ..Words::default() };
        let run = run.run(20.0);
        for viewer in 0..2 {
            let rows: Vec<_> =
                run.record().of(machine(run.record(), viewer)).frames.iter().filter(|f| f.sees).collect();
            assert!(rows.len() > 900);
            for pair in rows.windows(2) {
                let at = |r: &FrameRow| f64::from(r.tick.0) + f64::from(r.fraction);
                assert!(at(&pair[1]) >= at(&pair[0]), "seed {seed}, viewer {viewer}: {:?} then {:?}", pair[0], pair[1]);
            }
        }
    }
}

/// `used` is not always the server's tick: of claims it is the newest that was accepted.
#[test]
fn heads_of_states_say_what_of_their_owner_they_include() {
    let link = "latency = \"50 ms\"\njitter = \"12 ms\"\nloss = \"10 %\"";
    let claims = "arrangement = \"claims\"\nsettings = { ticks_per_message = 1 }";
    let rest = walker("heron", "") + &walker("curlew", claims);
    let run = Words { link, rest, ..Words::default() }.run(20.0);
    let heads = |place| {
        let track = run.record().authority(actor(run.record(), place));
        (300..track.len()).filter_map(|i| track.head(i)).collect::<Vec<_>>()
    };
    assert!(heads(0).iter().all(|h| h.used() == Some(h.tick)), "an input, or one made up, for every tick");
    let (mut behind, mut at) = (0, 0);
    for pair in heads(1).windows(2) {
        let used = |h: &StateHead| h.used().expect("it claims");
        assert!(used(&pair[0]) <= used(&pair[1]) && used(&pair[1]) <= pair[1].tick, "{pair:?}");
        if used(&pair[1]) == pair[1].tick { at += 1 } else { behind += 1 }
    }
    assert!(at > 500 && behind > 50, "{at} up to date, {behind} behind: one claim in ten is lost");
}
