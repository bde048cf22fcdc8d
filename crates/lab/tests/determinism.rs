//! The same course, seed and commands give the same run: again, after going back, and wherever the count starts.

use crate::scenario::{Words, corrections, machine, measure, member, tracks, unexplained, verdicts, walker};
use velocitas_lab::{Course, Run};
use velocitas_record::record::Record;
use velocitas_record::{Acts, Command, Controls, Knob, KnobValue, LabTime};

fn demo() -> Run {
    Run::new(Course::demo()).expect("it fits")
}

fn secs(s: f64) -> LabTime {
    LabTime::from_secs(s)
}

fn messages(run: &Run) -> usize {
    run.record().links().map(|(_, _, rows)| rows.len()).sum()
}

fn happenings(run: &Run) -> usize {
    run.record().cast.machines().map(|machine| run.record().of(machine).happenings.len()).sum()
}

/// If this breaks alone, the netcode, a link or a script changed; if the walker's breaks too, look there.
#[test]
fn the_golden_digest_of_a_whole_run() {
    let mut run = demo();
    run.advance(secs(20.0));
    assert_eq!(format!("{:016x}", run.digest()), "86472e4b1cbe5a44");
}

#[test]
fn how_time_is_sliced_changes_nothing() {
    let (mut whole, mut sliced) = (demo(), demo());
    whole.advance(secs(7.0));
    let mut at = 0;
    while at < 7_000_000_000u64 {
        at = (at + 3_333_333 + at % 7_000_001).min(7_000_000_000);
        sliced.advance(LabTime(at));
    }
    assert_eq!(whole.digest(), sliced.digest());
    assert_eq!(messages(&whole), messages(&sliced));
}

fn keys(stick: (f32, f32), facing: f32, sprint: bool, hops: usize) -> Controls {
    let course = Course::demo();
    let acts = Acts {
        press: vec!["hop".to_owned(); hops],
        hold: vec!["sprint".to_owned(); usize::from(sprint)],
        ..Acts::default()
    };
    let given = acts.given(course.kinds.motion(course[member(0)].kind).schema());
    Controls { stick, facing, given, ..Controls::default() }
}

/// Keys, helm and knobs at odd moments.
fn meddle(run: &mut Run, until: f64) {
    let commands = [
        (1.0, Command::Helm(Some(member(0)))),
        (1.203, Command::Keys(keys((0.0, 1.0), 1.5, true, 1))),
        (2.0, Command::Set { member: member(1), knob: Knob::Loss, value: KnobValue::Number(20.0) }),
        (3.5, Command::Set { member: member(0), knob: Knob::Latency, value: KnobValue::Number(150.0) }),
        (4.1, Command::Keys(keys((1.0, 0.0), 0.3, false, 0))),
        (6.0, Command::Helm(None)),
    ];
    for (at, command) in commands.into_iter().filter(|(at, _)| *at <= until) {
        run.advance(secs(at));
        run.command(command);
    }
    run.advance(secs(until));
}

#[test]
fn commands_are_part_of_the_run_and_repeat_it() {
    let (mut a, mut b, mut plain) = (demo(), demo(), demo());
    meddle(&mut a, 9.0);
    meddle(&mut b, 9.0);
    plain.advance(secs(9.0));
    assert_eq!(a.digest(), b.digest());
    assert_ne!(a.digest(), plain.digest());
}

#[test]
fn going_back_and_on_again_gives_the_same_run() {
    let (mut straight, mut detour) = (demo(), demo());
    meddle(&mut straight, 9.0);
    meddle(&mut detour, 9.0);
    for at in [8.99, 6.5, 4.1, 4.0, 2.0] {
        detour.resume_from(secs(at));
        assert_eq!(detour.now(), secs(at));
        assert!(detour.record().end <= secs(at));
        // What was commanded later is gone; do it again.
        let done = detour.commands().len();
        let again: Vec<(LabTime, Command)> = straight.commands()[done..].to_vec();
        for (when, command) in again {
            detour.advance(when);
            detour.command(command);
        }
        detour.advance(secs(9.0));
        assert_eq!(straight.digest(), detour.digest(), "back to {at} s");
        let (a, b) = (straight.record(), detour.record());
        assert_eq!(messages(&straight), messages(&detour));
        assert_eq!(happenings(&straight), happenings(&detour));
        assert_eq!(tracks(a, 0).1.len(), tracks(b, 0).1.len());
        let frames = |record: &Record| record.of(machine(record, 1)).frames.len();
        assert_eq!(frames(a), frames(b));
    }
}

#[test]
fn turning_one_knob_leaves_the_luck_of_the_others_as_it_was() {
    let lost = |latency: f64| {
        let mut run = demo();
        run.command(Command::Set { member: member(2), knob: Knob::Latency, value: KnobValue::Number(latency) });
        run.advance(secs(6.0));
        let heron = machine(run.record(), 0);
        let of_heron = run.record().links().filter(|(from, to, _)| [*from, *to].contains(&heron));
        let lost = of_heron.flat_map(|(from, _, rows)| rows.iter().map(move |m| (m.at, from, m.arrived)));
        lost.filter(|(_, _, arrived)| arrived.is_none()).collect::<Vec<_>>()
    };
    assert_eq!(lost(95.0), lost(300.0));
}

#[test]
fn starting_just_before_the_wire_wraps_changes_nothing() {
    let digest = |first_tick| {
        let link = "latency = \"60 ms\"\njitter = \"10 ms\"\nloss = \"4 %\"";
        let cast = walker("heron", "") + &walker("curlew", "arrangement = \"claims\"");
        let run = Words { first_tick, link, rest: cast, ..Words::default() }.run(30.0);
        (run.digest(), happenings(&run), messages(&run))
    };
    let plain = digest(0);
    assert_eq!(digest(65_536 - 300), plain);
    assert_eq!(digest((1 << 40) + 17), plain);
}

#[test]
fn a_freeze_longer_than_the_wires_reach_is_only_a_freeze() {
    for (who, lasts) in [("heron", 300), ("server", 300), ("curlew", 300), ("heron", 400), ("server", 512)] {
        let event = format!("[[event]]\nat = \"10 s\"\nfreeze = {{ who = \"{who}\", lasts = \"{lasts} s\" }}\n");
        let cast = walker("heron", "") + &walker("curlew", "arrangement = \"claims\"");
        let words =
            Words { hz: 128, link: "latency = \"40 ms\"\njitter = \"3 ms\"", rest: cast + &event, ..Words::default() };
        let end = 10.0 + f64::from(lasts) + 20.0;
        let run = words.run(end);
        let after = secs(end - 14.0);
        for member in 0..2 {
            let all = corrections(run.record(), member, after);
            assert!(all.is_empty(), "{who} frozen for {lasts} s: {} {:?}", all.len(), all[0]);
            assert_eq!(verdicts(run.record(), member), 0, "{who} frozen for {lasts} s");
            assert_eq!(unexplained(run.record(), member), 0, "{who} frozen for {lasts} s");
            let m = measure(run.record(), member, after, run.now());
            assert!(m.inputs.fresh > 12 * 128 && m.inputs.repeated == 0, "{who} frozen for {lasts} s: {m:?}");
            assert_eq!(m.held_share, Some(0.0), "{who} frozen for {lasts} s: the others are seen again");
        }
    }
}

#[test]
fn the_digest_sees_every_lane_in_use() {
    let digest = |rate: u32| {
        let text = velocitas_lab::shipped_gait("courier.gait").expect("it ships");
        let fields: String = (0..4).map(|i| format!("  spare{i} vector m/s\n")).collect();
        let text = text.replacen("  breath  number", &format!("{fields}  note number\n  breath  number"), 1).replacen(
            "  facing = look",
            &format!("  note = note + {rate} 1/s * dt\n  facing = look"),
            1,
        );
        let course = "format = 1\nname = \"lanes\"\ntick_rate = \"60 Hz\"\nworld = { min = [-9, -9], max = [9, 9] }\n\
                      [[cast]]\nname = \"teal\"\nrole = \"bot\"\ngait = \"x.gait\"\nspawn = [0, 0]\n";
        let read = |_: &str| Ok(text.clone());
        let course = Course::parse_with("lanes", course, velocitas_lab::Sources { own: &[], read: &read });
        let mut run = Run::new(course.unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
        let lane = run.course().kinds.motion(1).schema().state.iter().find(|f| f.name == "note").map(|f| f.lane);
        assert!(lane > Some(15), "{lane:?}");
        run.advance(LabTime::from_secs(2.0));
        run.digest()
    };
    let digests = [1, 2, 3].map(digest);
    assert!(digests[0] != digests[1] && digests[1] != digests[2] && digests[0] != digests[2], "{digests:?}");
}
