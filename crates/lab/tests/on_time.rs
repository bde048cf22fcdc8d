//! A client follows its link: on time soon after the way became longer, and no further ahead than it must be soon after it became
//! shorter again.

use crate::scenario::{Words, actor, causes, corrections, inputs, machine, walker};
use velocitas_core::{Drawn, Provenance};
use velocitas_record::record::{Gallery, Record, Travelled};
use velocitas_record::{LabTime, RecordTick};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

/// When the server made a tick.
fn made(record: &Record, tick: RecordTick) -> Option<LabTime> {
    let track = record.authority(actor(record, 0));
    track.of_tick(tick).and_then(|i| track.head(i)).map(|head| head.at)
}

/// How long before the server made them a member sampled the inputs of a stretch, in milliseconds: each, in order.
fn leads(record: &Record, from: f64, to: f64) -> Vec<f64> {
    let rows = inputs(record, 0);
    let rows = rows.iter().filter_map(|row| Some((row.sampled_at()?, made(record, row.tick)?)));
    rows.filter(|(sampled, _)| *sampled >= secs(from) && *sampled < secs(to))
        .map(|(sampled, made)| (made.secs() - sampled.secs()) * 1e3)
        .collect()
}

#[test]
fn a_correction_by_inputs_that_a_slower_link_made_late_says_so() {
    let event = "[[event]]\nat = \"8 s\"\nlink = { who = \"heron\", latency = \"120 ms\" }\n";
    let rest = walker("heron", "").replace(crate::scenario::ROUND, crate::scenario::ZIGZAG) + event;
    let run = Words { link: "latency = \"20 ms\"", rest, ..Words::default() }.run(12.0);
    let record = run.record();
    let words = |from| -> Vec<String> {
        let all = corrections(record, 0, secs(from));
        let found = all.iter().flat_map(|(at, c)| causes(record, 0, *at, c));
        found.map(|cause| cause.words(record)).collect()
    };
    let after = words(8.0);
    let named =
        after.iter().filter(|words| words.contains("s after its link turned to latency, one way 120 ms")).count();
    assert!(named > 0 && named == after.len(), "{after:?}");
    assert!(words(0.0).len() == after.len(), "nothing was late before");
}

#[test]
fn a_latency_step_of_a_tenth_of_a_second_is_made_up_for_and_given_back() {
    for (hz, latency, snapshot_every) in [(20, 20, 1), (30, 60, 2), (60, 20, 3), (60, 60, 3), (128, 40, 6)] {
        let event = |at, latency| {
            format!("[[event]]\nat = \"{at} s\"\nlink = {{ who = \"heron\", latency = \"{latency} ms\" }}\n")
        };
        let settings = format!("settings = {{ snapshot_every = {snapshot_every} }}");
        let rest = walker("heron", &settings) + &event(8, latency + 100) + &event(14, latency);
        let link = format!("latency = \"{latency} ms\"\njitter = \"2 ms\"");
        let run = Words { hz, link: &link, rest, ..Words::default() }.run(22.0);
        let record = run.record();
        let missed = |from: f64, to: f64| {
            let rows = inputs(record, 0);
            let within = |tick| made(record, tick).is_some_and(|at| at >= secs(from) && at < secs(to));
            rows.iter()
                .filter(|row| row.used().is_some_and(|(_, how)| how != Provenance::Fresh) && within(row.tick))
                .count()
        };
        let name = format!("{hz} Hz, {latency} ms");
        assert_eq!(missed(4.0, 8.0), 0, "{name}: all are on time before");
        assert!(missed(8.0, 9.6) > 2, "{name}: then they are not");
        assert_eq!(missed(9.6, 22.0), 0, "{name}: and are again after 1.6 s, and ever after");
        let mean = |of: Vec<f64>| of.iter().sum::<f64>() / of.len() as f64;
        let [before, longer, after] =
            [(5.0, 8.0), (12.0, 14.0), (17.0, 22.0)].map(|(from, to)| mean(leads(record, from, to)));
        assert!((longer - before - 100.0).abs() < 20.0 + 1000.0 / f64::from(hz), "{name}: {before} then {longer}");
        let off = after - before;
        assert!(off.abs() < 1000.0 / f64::from(hz), "{name}: {before} before, {after} three seconds after");
        // Ticks are at most a tenth shorter or longer.
        let at: Vec<LabTime> =
            inputs(record, 0).iter().filter_map(velocitas_record::record::InputRow::sampled_at).collect();
        let longest = leads(record, 8.0, 20.0).windows(2).map(|w| (w[1] - w[0]).abs()).fold(0.0, f64::max);
        assert!(at.len() > 20 * hz as usize && longest < 1000.0 / f64::from(hz) + 20.0, "{name}: {longest}");
    }
}

#[test]
fn after_its_freeze_a_client_draws_nobody_backwards() {
    for (seed, lasts) in [(1, 200), (2, 450), (3, 700), (4, 1500)] {
        let freeze = format!(
            "[[event]]\nat = \"6 s\"\nevery = \"4 s\"\nfreeze = {{ who = \"heron\", lasts = \"{lasts} ms\" }}\n"
        );
        let rest = walker("heron", "host = { frame_rate = \"144 Hz\" }") + &walker("dunlin", "") + &freeze;
        let link = "latency = \"40 ms\"\njitter = \"5 ms\"";
        let run = Words { seed, link, rest, ..Words::default() }.run(20.0);
        let record = run.record();
        let (viewer, other) = (machine(record, 0), actor(record, 1));
        let mut travelled = Travelled::default();
        let mut gallery = Gallery::of(record, viewer, &mut travelled);
        let frames = &record.of(viewer).frames;
        let (mut before, mut seen) = (None, 0);
        for number in frames.before(secs(3.0))..frames.before(secs(20.0)) {
            gallery.frame(number, |who, _, sight| {
                if who != other || sight.how == Drawn::First {
                    return;
                }
                let shown = f64::from(sight.tick.0) + f64::from(sight.fraction);
                let at = sight.at;
                assert!(
                    before.is_none_or(|before| shown >= before - 1e-3),
                    "{lasts} ms, at {at}: {before:?} then {shown}"
                );
                (before, seen) = (Some(shown), seen + 1);
            });
        }
        assert!(seen > 1000, "{seen}");
    }
}
