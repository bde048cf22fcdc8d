//! A member whose machine decides as well as it plays.

use crate::scenario::{
    Words, actor, corrections, first_predictions_are_exact, machine, measure, unexplained, verdicts, walker,
};
use velocitas_core::Drawn;
use velocitas_lab::Course;
use velocitas_record::record::Mark;
use velocitas_record::{LabTime, MachineId, Part};

const LINK: &str = "latency = \"60 ms\"\njitter = \"8 ms\"\nloss = \"3 %\"";

/// Three on a round; the second one hosts.
fn hosted(event: &str) -> Words<'static> {
    let rest = walker("heron", "") + &walker("curlew", "hosts = true") + &walker("dunlin", "arrangement = \"claims\"");
    Words { link: LINK, rest: rest + event, ..Words::default() }
}

#[test]
fn one_machine_holds_server_and_client() {
    let run = hosted("").run(60.0);
    let record = run.record();
    assert_eq!(record.cast.machines.len(), 3, "no fourth machine for a server");
    assert_eq!(machine(record, 0), MachineId::SERVER);
    let names: Vec<&str> = record.cast.machines.iter().map(|m| m.name.as_str()).collect();
    assert_eq!(names, ["curlew", "heron", "dunlin"]);
    let host = run.course().member("curlew").expect("it is there");
    assert_eq!((run.course().machine(host), run.course().player(MachineId::SERVER)), (MachineId::SERVER, Some(host)));
    for place in 0..3 {
        let m = measure(record, place, LabTime::from_secs(10.0), run.now());
        assert!(m.inputs.fresh_share().is_some_and(|s| s > 0.97), "{}: {:?}", m.name, m.inputs);
        assert_eq!((unexplained(record, place), verdicts(record, place)), (0, 0), "{}", m.name);
    }
    // The host's own way is none: nothing is ever lost or late, and everybody sees it nearer to now.
    let own = measure(record, 0, LabTime::from_secs(10.0), run.now());
    assert_eq!((own.name.as_str(), own.inputs.repeated, own.inputs.lost), ("curlew", 0, 0));
    assert!(corrections(record, 0, LabTime::ZERO).is_empty());
    assert!(first_predictions_are_exact(record, 0) > 3000);
    let age = |place| measure(record, place, LabTime::from_secs(10.0), run.now()).view_age_ms.p50.unwrap_or(0.0);
    assert!(age(0) + 45.0 < age(1), "{} and {} ms", age(0), age(1));
    let moment = run.moment(run.now());
    let lost = |place| moment.figures(machine(record, place), LabTime::from_secs(50.0)).lost_share;
    assert_eq!(lost(0), Some(0.0));
    assert!((0.02..0.04).contains(&lost(1).unwrap_or(0.0)), "{:?}", lost(1));
    // Its client's payload is that of one client, not what its server sends to all.
    let other = measure(record, 1, LabTime::from_secs(10.0), run.now());
    let near = |a: u64, b: u64| a.abs_diff(b) * 10 < b;
    assert!(near(own.bytes_up, other.bytes_up) && near(own.bytes_down, other.bytes_down), "{own:?} {other:?}");
    let marks = record.of(MachineId::SERVER).marks.iter().filter(|row| row.mark != Mark::Came).count();
    assert_eq!(marks, 0, "nothing happens to the host that happens to others");
    let (decides, plays) = (moment.tick(MachineId::SERVER, Part::Server), moment.tick(MachineId::SERVER, Part::Client));
    assert!(plays > decides && decides.is_some(), "its client runs ahead of its server all the same");
    let echoes = moment.echoes(actor(record, 1), MachineId::SERVER);
    assert_eq!(echoes.how, Some(Drawn::Blended), "the host draws the others in the past like everybody");
}

#[test]
fn a_host_that_stands_still_stops_the_world_for_all() {
    let run = hosted("[[event]]\nat = \"20 s\"\nfreeze = { who = \"curlew\", lasts = \"2 s\" }\n").run(40.0);
    let (_, totals) = run.figures();
    // Of 120 ticks a quarter of a second is made up for.
    assert!(totals.server_dropped.abs_diff(105) <= 2, "{}", totals.server_dropped);
    for place in 0..3 {
        assert_eq!((unexplained(run.record(), place), verdicts(run.record(), place)), (0, 0));
    }
    let after = LabTime::from_secs(25.0);
    let fresh = |place| measure(run.record(), place, after, run.now()).inputs.fresh_share().unwrap_or(0.0);
    assert!((0..3).all(|place| fresh(place) > 0.97), "and then it goes on: {:?}", [0, 1, 2].map(fresh));
}

#[test]
fn one_at_most_hosts_and_not_beside_a_server() {
    let refused = |words: &Words<'_>, more: &str| {
        let text = format!(
            "format = 1\nname = \"x\"\ntick_rate = \"60 Hz\"\nworld = {{ min = [-30, -30], max = [30, 30] }}\n{more}\n\
             [link.test]\n{}",
            words.rest
        );
        Course::parse("x.course.toml", &text, &[]).map(|_| ()).expect_err("it is wrong").message
    };
    let two = Words { rest: walker("heron", "hosts = true") + &walker("plover", "hosts = true"), ..Words::default() };
    assert!(refused(&two, "").contains("found a second beside `heron`"));
    assert!(refused(&hosted(""), "[server]\nphase = \"3 ms\"").contains("a `[server]` or a member who hosts"));
}
