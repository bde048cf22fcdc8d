//! What a screen showed is kept only where it does not follow from what its client had received: it must be what the client drew.

use std::sync::Arc;

use crate::scenario::{Words, member, walker};
use velocitas_analysis::cause::{Findings, Found};
use velocitas_core::{Drawn, Event, vec3};
use velocitas_lab::{Course, Lab};
use velocitas_record::record::{Cast, Gallery, Record, Recorder, Travelled};
use velocitas_record::{
    Change, Coming, Command, DrawnFact, HappeningRow, Knob, KnobValue, LabTime, MachineId, MessageRow, Part, Screen,
    Watch,
};

/// A record, and beside it everything that was drawn.
struct Both {
    recorder: Recorder,
    drawn: Vec<(LabTime, MachineId, DrawnFact)>,
}

impl Watch for Both {
    const LOOKS: bool = true;

    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>) {
        self.recorder.event(at, machine, part, event);
    }
    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow) {
        self.recorder.message(from, to, row);
    }
    fn unread(&mut self, from: MachineId, to: MachineId, number: u64) {
        self.recorder.unread(from, to, number);
    }
    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        self.recorder.frame(at, viewer, screen);
        self.drawn.extend(screen.own.iter().chain(&screen.others).map(|drawn| (at, viewer, *drawn)));
    }
    fn happening(&mut self, machine: MachineId, row: HappeningRow) {
        self.recorder.happening(machine, row);
    }
    fn changed(&mut self, change: Change) {
        self.recorder.changed(change);
    }
}

/// Runs a course and holds every frame of the record against what was drawn. Says how often each way of drawing came.
#[track_caller]
fn held(course: Course, seconds: f64, commands: &[(f64, Command)]) -> [usize; 6] {
    let (record, seen) = told(course, seconds, commands);
    let otherwise = record.cast.players().map(|machine| record.of(machine).otherwise.len());
    assert_eq!(otherwise.sum::<usize>(), 0, "all of it follows from what was received");
    seen
}

/// The same of one whose clients may draw otherwise than they should, with its record.
#[track_caller]
fn told(course: Course, seconds: f64, commands: &[(f64, Command)]) -> (Record, [usize; 6]) {
    let mut lab = Lab::new(Arc::new(course));
    let mut both = Both { recorder: Recorder::new(Cast::new(lab.beginning())), drawn: Vec::new() };
    for (at, command) in commands {
        lab.advance(LabTime::from_secs(*at), &mut both);
        lab.command(*command, velocitas_lab::ReadLater::default(), &mut both);
    }
    lab.advance(LabTime::from_secs(seconds), &mut both);
    let record = both.recorder.record();
    let mut seen = [0; 6];
    for (at, viewer, drawn) in &both.drawn {
        let actor = record.cast.actor(drawn.entity).expect("it is in the record");
        let again = record.drawn(*viewer, actor, *at).unwrap_or_else(|| panic!("{viewer:?} drew at {at}: {drawn:?}"));
        seen[drawn.how as usize] += 1;
        let found = (again.at, again.how, again.tick, again.pos);
        let [x, y, z] = drawn.pos;
        assert_eq!(found, (*at, drawn.how, drawn.tick, vec3(x, y, z)), "{viewer:?} {:?}", drawn.entity);
        assert!((again.fraction - drawn.fraction).abs() < 2e-5);
    }
    // And nothing besides.
    let frames: Vec<_> = record.cast.players().map(|machine| (machine, record.of(machine).frames.len())).collect();
    let again = frames.iter().flat_map(|&(machine, frames)| (0..frames).map(move |n| (machine, n)));
    let count = again.map(|(machine, n)| record.cast.actors().filter_map(|a| record.drawn_in(machine, a, n)).count());
    assert_eq!(count.sum::<usize>(), both.drawn.len());
    // Looked at one after the other it is the same.
    let mut travelled = Travelled::default();
    for (machine, frames) in frames {
        let mut gallery = Gallery::of(record, machine, &mut travelled);
        for n in 0..frames {
            let mut all = Vec::new();
            gallery.frame(n, |actor, _, sight| all.push((actor, sight.tick, sight.fraction, sight.how, sight.pos)));
            all.sort_by_key(|(actor, ..)| *actor);
            let row = |a| record.drawn_in(machine, a, n).map(|r| (a, r.tick, r.fraction, r.how, r.pos));
            assert_eq!(all, record.cast.actors().filter_map(row).collect::<Vec<_>>(), "{machine:?} frame {n}");
        }
    }
    (both.recorder.into_record(), seen)
}

/// A course of `courses/faults`, and the same without its fault.
fn faulty(name: &str) -> [Course; 2] {
    let path = format!("{}/../../courses/faults/{name}.course.toml", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).expect("it ships");
    let read = |text: &str| Course::parse(&path, text, &[]).unwrap_or_else(|e| panic!("{e}"));
    [read(&text), read(&text.replace(&format!("faults = [\"{name}\"]"), ""))]
}

#[test]
fn an_error_in_decoding_or_in_the_buffer_of_remotes_is_seen_where_the_client_drew_it() {
    // Both show in the figures and are named, and nowhere else.
    for (name, most_m, words) in
        [("misread", 0.5, "plover draws heron 50 cm off"), ("stale", 0.2, "plover draws heron up to ")]
    {
        let [wrong, right] = faulty(name);
        let (record, _) = told(wrong, 12.0, &[]);
        let [heron, plover] = [0, 1].map(|m| crate::scenario::machine(&record, m));
        let body = crate::scenario::actor(&record, 0);
        assert!(record.of(plover).otherwise.len() > 200 && record.of(heron).otherwise.is_empty(), "{name}");
        let at = LabTime::from_secs(10.0);
        let all = velocitas_analysis::amiss::amiss(&record, at);
        assert!(
            all.len() == 1
                && all[0].fault().is_some_and(|fault| fault.key == name)
                && all[0].words(&record).starts_with(words),
            "{all:?}"
        );
        // The Field and what is taken from it draw it there, and so does every figure.
        let drawn = record.drawn(plover, body, at).expect("it is drawn");
        let number = record.of(plover).frames.until(at) - 1;
        let should = record.frame(plover, number).and_then(|frame| record.derived(plover, body, &frame));
        let off = drawn.pos.distance(should.expect("it was told of").pos);
        assert!(name == "stale" || (off - 0.5).abs() < 1e-3, "{off}");
        let findings = Findings::default();
        let moment = velocitas_analysis::moment::Moment { record: &record, findings: &findings, at };
        assert_eq!(moment.echoes(body, plover).drawn.map(|echo| echo.pos), Some(drawn.pos));
        let error = |record: &Record, m| {
            let figures = crate::scenario::measure(record, m, LabTime::from_secs(4.0), at);
            figures.others.drawn_error_m.p95.expect("it sees the other")
        };
        let (was, _) = told(right, 12.0, &[]);
        assert!(error(&record, 1) > most_m * 0.6 && error(&was, 1) < 0.1, "{name}: {}", error(&record, 1));
        assert!(error(&record, 0) < 0.1, "{name}");
        let reasons: Vec<String> = velocitas_analysis::trouble::troubles(
            Found { record: &record, findings: &findings },
            Some(plover),
            LabTime::from_secs(4.0),
            at,
        )
        .iter()
        .map(|trouble| trouble.reason.name())
        .collect();
        assert_eq!(reasons.first().is_some_and(|first| first == "drawn_otherwise"), name == "stale", "{reasons:?}");
        // It takes no room where nothing is wrong, and what was told is cut with the rest.
        let mut cut = record.clone();
        cut.truncate(LabTime::from_secs(5.0));
        assert!(cut.of(plover).otherwise.iter().all(|row| row.at <= LabTime::from_secs(5.0)));
        assert_eq!(was.of(plover).otherwise.len(), 0);
    }
}

#[test]
fn what_was_drawn_is_had_again_over_bad_links_and_whatever_is_turned() {
    let link = "latency = \"70 ms\"\njitter = \"30 ms\"\nloss = \"12 %\"\nreordering = \"15 %\"\nduplication = \"5 %\"";
    let rogue =
        walker("magpie", "arrangement = \"claims\"\ntrick = [{ jump = \"6 m\", at = \"3 s\", every = \"2 s\" }]")
            .replace("role = \"bot\"", "role = \"rogue\"");
    let rest = walker("heron", "settings = { view_delay = \"60 ms\", extrapolate = \"90 ms\" }")
        + &walker("plover", "host = { frame_rate = \"144 Hz\", hitches = \"12 /min\" }")
        + &walker("teal", "arrangement = \"terminal\"\nsettings = { snapshot_every = 1 }")
        + &rogue
        + "[[event]]\nat = \"7 s\"\nfreeze = { who = \"server\", lasts = \"800 ms\" }\n";
    let set = |m: usize, knob, on| Command::Set { member: member(m), knob, value: KnobValue::Switch(on) };
    let commands = [
        (4.0, set(0, Knob::Interpolation, false)),
        (6.0, set(1, Knob::Prediction, false)),
        (9.0, set(0, Knob::Interpolation, true)),
        (10.0, set(1, Knob::Prediction, true)),
    ];
    for (seed, first_tick) in [(1, 0), (2, 65_000)] {
        let course = Words { seed, first_tick, link, rest: rest.clone(), ..Words::default() }.course();
        let seen = held(course, 14.0, &commands);
        assert!(seen.iter().all(|count| *count > 20), "every way of drawing was met: {seen:?}");
    }
}

#[test]
fn the_demo_is_had_again() {
    let seen = held(Course::demo(), 12.0, &[]);
    assert!(seen[Drawn::Blended as usize] > 10_000, "{seen:?}");
}

#[test]
fn comings_and_goings_are_had_again() {
    let course = Course::parse("comings", velocitas_lab::COMINGS, &[]).unwrap_or_else(|e| panic!("{e}"));
    let moves = |at, m, coming| (at, Command::Moves(member(m), coming));
    // Besides what happens in it: the helm's own machine goes, by every way there is.
    let commands = [
        moves(6.0, 0, Coming::Crash),
        moves(6.5, 0, Coming::Return),
        moves(9.0, 1, Coming::Leave),
        moves(9.1, 3, Coming::Crash),
        moves(17.0, 1, Coming::Return),
        moves(18.0, 3, Coming::Return),
    ];
    let seen = held(course, 48.0, &commands);
    assert!(seen[Drawn::Blended as usize] > 30_000 && seen[Drawn::Predicted as usize] > 10_000, "{seen:?}");
}

#[test]
fn what_moves_evenly_on_its_own_screen_is_no_hop_though_the_server_stood_a_tick() {
    let mut rough = 0.0f64;
    for seed in 1..=4 {
        // Claims that come late let the server wait for a tick, or two.
        let rest = walker("heron", "arrangement = \"claims\"\nhost = { frame_rate = \"144 Hz\" }");
        let link = "latency = \"40 ms\"\njitter = \"12 ms\"";
        let run = Words { seed, link, rest, ..Words::default() }.run(40.0);
        let figures = crate::scenario::measure(run.record(), 0, LabTime::from_secs(4.0), LabTime::from_secs(39.0));
        assert!(crate::scenario::corrections(run.record(), 0, LabTime::ZERO).is_empty(), "nobody moves it but itself");
        assert_eq!(figures.own.hops_per_min, Some(0.0), "seed {seed}");
        rough = rough.max(figures.own.roughness_mps.p95.unwrap_or_default());
    }
    assert!(rough > 0.2, "the server did stand: {rough}");
}
