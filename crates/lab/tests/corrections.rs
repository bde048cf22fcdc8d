//! Corrections happen for a reason, or not at all.

use crate::scenario::{
    Words, causes, corrections, facts, first_predictions_are_exact, machine, measure, member, tracks, unexplained,
    verdicts, walker,
};
use velocitas_core::Fact;
use velocitas_record::{Command, Knob, KnobValue, LabTime};

#[test]
fn with_perfect_links_nothing_is_ever_corrected() {
    for hz in [10, 30, 60, 128] {
        let cast = walker("heron", "host = { clock_drift = \"100 ppm\" }")
            + &walker("dunlin", "host = { clock_drift = \"-100 ppm\" }");
        let run = Words { hz, rest: cast, ..Words::default() }.run(600.0);
        for member in 0..2 {
            let record = run.record();
            assert!(tracks(record, member).1.len() > 595 * hz as usize, "{hz} Hz: it did predict");
            let any = facts(record, machine(record, member)).any(|(_, fact)| matches!(fact, Fact::Corrected(_)));
            assert!(!any, "{hz} Hz: not even below the tolerance");
            let m = measure(record, member, LabTime::ZERO, run.now());
            let exact = first_predictions_are_exact(record, member);
            assert!(exact > 590 * hz as usize, "{hz} Hz: {exact} {m:?}");
        }
    }
}

#[test]
fn on_a_bad_link_every_correction_is_explained_and_predictions_are_exact_where_inputs_were_used() {
    for seed in 1..=3 {
        let link = "latency = \"75 ms\"\njitter = \"15 ms\"\nloss = \"5 %\"";
        // A single copy of each input, so that loss is felt.
        let cast = walker("dunlin", "settings = { ticks_per_message = 1 }\nhost = { clock_drift = \"60 ppm\" }")
            .replace(crate::scenario::ROUND, crate::scenario::ZIGZAG);
        let run = Words { seed, link, rest: cast, ..Words::default() }.run(180.0);
        let record = run.record();
        let count = corrections(record, 0, LabTime::ZERO).len();
        assert!(count > 20, "seed {seed}: only {count} corrections, the link is not bad");
        assert_eq!(unexplained(record, 0), 0, "seed {seed}: of {count}");
        assert!(first_predictions_are_exact(record, 0) > 2000, "seed {seed}");
    }
}

#[test]
fn what_is_predicted_again_touches_what_it_touches() {
    // It leans against a crate's east side and is pushed along it.
    let crates = "[[solid]]\nname = \"crate\"\nat = [4, 0]\nsize = [2, 12]\nheight = \"2 m\"\n";
    let event = "[[event]]\nat = \"3 s\"\nevery = \"1 s\"\npush = { who = \"heron\", north = \"2 m/s\" }\n";
    let walks = walker("heron", "").replace(crate::scenario::ROUND, "[{ at = [9, 0] }]");
    let run = Words { link: "latency = \"40 ms\"", rest: walks + crates + event, ..Words::default() }.run(8.0);
    let own = &run.record().of(machine(run.record(), 0)).own[0];
    let heads = (0..own.rewritten.len()).filter_map(|i| own.rewritten.head(i));
    let (touching, others): (Vec<_>, Vec<_>) = heads.partition(|head| head.touched().count() > 0);
    // The server's own state, with which each begins, says nothing of what it touched.
    assert!(touching.len() > 2 * others.len() && !others.is_empty(), "{} and {}", touching.len(), others.len());
}

#[test]
fn repeats_make_lost_packets_cost_nothing() {
    let made_up = |repeats| {
        let link = "latency = \"75 ms\"\njitter = \"3 ms\"\nloss = \"5 %\"";
        let cast = walker("dunlin", &format!("settings = {{ ticks_per_message = {repeats} }}"));
        let run = Words { link, rest: cast, ..Words::default() }.run(120.0);
        measure(run.record(), 0, LabTime::from_secs(10.0), run.now()).inputs.repeated
    };
    let (once, often) = (made_up(1), made_up(4));
    assert!(once > 200 && often < once / 20, "{once} made up with one copy, {often} with four");
}

#[test]
fn a_push_is_one_correction_and_then_peace() {
    let event = "[[event]]\nat = \"5 s\"\npush = { who = \"heron\", east = \"6 m/s\" }\n";
    let run = Words { link: "latency = \"40 ms\"", rest: walker("heron", "") + event, ..Words::default() }.run(9.0);
    let all = corrections(run.record(), 0, LabTime::ZERO);
    assert_eq!(all.len(), 1, "{all:?}");
    let words = causes(run.record(), 0, all[0].0, &all[0].1)[0].words(run.record());
    assert!(words.starts_with("a push at tick 29") || words.starts_with("a push at tick 30"), "{words}");
}

#[test]
fn what_one_side_knows_alone_is_named() {
    for (side, expected) in [("server", "crate: the server stops"), ("clients", "crate: the client stops")] {
        let solid = format!(
            "[[solid]]\nname = \"crate\"\nat = [4, 0]\nsize = [1, 3]\nheight = \"2 m\"\nknown_to = \"{side}\"\n"
        );
        let run =
            Words { link: "latency = \"50 ms\"", rest: solid + &walker("plover", ""), ..Words::default() }.run(8.0);
        let all = corrections(run.record(), 0, LabTime::ZERO);
        assert!(all.len() > 3, "{side}: {}", all.len());
        assert_eq!(unexplained(run.record(), 0), 0, "{side}");
        let (at, first) = all[0];
        let words = causes(run.record(), 0, at, &first)[0].words(run.record());
        assert!(words.starts_with(expected), "{words}");
    }
}

#[test]
fn without_reconciliation_a_push_is_never_made_good() {
    let event = "[[event]]\nat = \"5 s\"\npush = { who = \"heron\", east = \"6 m/s\" }\n";
    let mut run = Words { link: "latency = \"40 ms\"", rest: walker("heron", "") + event, ..Words::default() }.run(4.0);
    let switch = |on| Command::Set { member: member(0), knob: Knob::Reconciliation, value: KnobValue::Switch(on) };
    run.command(switch(false));
    run.advance(LabTime::from_secs(8.0));
    assert!(corrections(run.record(), 0, LabTime::ZERO).is_empty());
    // Turned on again, the first snapshot puts it right, and says why.
    run.command(switch(true));
    run.advance(LabTime::from_secs(8.5));
    assert_eq!(corrections(run.record(), 0, LabTime::ZERO).len(), 1);
    assert_eq!(unexplained(run.record(), 0), 0);
}

#[test]
fn without_prediction_the_own_character_answers_a_round_trip_later() {
    let response = |predict: bool| {
        let settings = format!("settings = {{ prediction = {predict} }}");
        let run = Words { link: "latency = \"80 ms\"", rest: walker("heron", &settings), ..Words::default() }.run(40.0);
        assert!(corrections(run.record(), 0, LabTime::ZERO).is_empty());
        measure(run.record(), 0, LabTime::ZERO, run.now()).response_ms.expect("it rests")
    };
    let (with, without) = (response(true), response(false));
    assert!(with < 34.0, "{with} ms with prediction");
    assert!(without > 200.0, "{without} ms without: round trip and view delay");
}

#[test]
fn forty_per_cent_loss_and_a_second_of_latency_are_survived() {
    let link = "latency = \"1 s\"\njitter = \"200 ms\"\nloss = \"40 %\"\nduplication = \"20 %\"\nreordering = \"20 %\"";
    let cast = walker("dunlin", "") + &walker("curlew", "arrangement = \"claims\"");
    let mut run = Words { hz: 128, link, rest: cast, ..Words::default() }.run(60.0);
    assert!(tracks(run.record(), 0).1.len() > 4000, "it plays all the same");
    assert_eq!(unexplained(run.record(), 0), 0);
    for member in 0..2 {
        for (knob, value) in [(Knob::Latency, 20.0), (Knob::Jitter, 0.0), (Knob::Loss, 0.0)] {
            run.command(Command::Set {
                member: crate::scenario::member(member),
                knob,
                value: KnobValue::Number(value),
            });
        }
    }
    run.advance(LabTime::from_secs(90.0));
    let late = LabTime::from_secs(75.0);
    for member in 0..2 {
        let all = corrections(run.record(), member, late);
        assert!(all.is_empty(), "it recovers: {all:?}");
        let m = measure(run.record(), member, late, run.now());
        assert!(m.inputs.repeated < 10 && m.margin_ticks.p50.is_some_and(|t| t < 20.0), "{m:?}");
    }
    assert_eq!(verdicts(run.record(), 1), 0);
}

#[test]
fn a_hitching_machine_drops_ticks_and_says_so() {
    let cast = walker("dunlin", "host = { hitches = \"20 /min\", hitch = \"400 ms\" }");
    let run = Words { link: "latency = \"40 ms\"", rest: cast, ..Words::default() }.run(60.0);
    let told = facts(run.record(), machine(run.record(), 0));
    assert!(told.filter(|(_, fact)| matches!(fact, Fact::Dropped { .. })).count() > 3);
    assert_eq!(unexplained(run.record(), 0), 0);
    first_predictions_are_exact(run.record(), 0);
}

#[test]
fn what_is_pressed_while_the_server_passes_over_ticks_is_its_doing_and_nobody_altered_it() {
    let mut skipped = 0;
    for seed in 1..=12 {
        let freeze = "[[event]]\nat = \"3 s\"\nevery = \"1.7 s\"\nfreeze = { who = \"server\", lasts = \"480 ms\" }\n";
        let hands = "[[cast]]\nname = \"plover\"\nrole = \"bot\"\ngait = \"courier.gait\"\nlink = \"test\"\nspawn = [0, 0]\nrandom = \"12 /s\"\n";
        let link = "latency = \"40 ms\"\njitter = \"5 ms\"";
        let run = Words { seed, link, rest: hands.to_owned() + freeze, ..Words::default() }.run(30.0);
        let record = run.record();
        for (at, c) in corrections(record, 0, LabTime::ZERO) {
            let names: Vec<&str> =
                causes(record, 0, at, &c).iter().map(velocitas_analysis::cause::Cause::name).collect();
            assert!(!names.contains(&"altered"), "seed {seed}, {at}: {names:?}");
            skipped += usize::from(names.contains(&"server_skipped"));
        }
    }
    assert!(skipped > 20, "{skipped}");
}
