//! Ground that changes: solids that come to be and go, for all or on one side.

use crate::scenario::{Words, causes, corrections, facts, machine, unexplained, verdicts, walker};
use velocitas_analysis::cause::Cause;
use velocitas_core::Fact;
use velocitas_lab::Run;
use velocitas_record::{Command, KnownTo, LabTime, Reach};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

/// Across the way of somebody who goes to and fro.
const GATE: &str = "[[solid]]\nname = \"gate\"\nat = [5, 0]\nsize = [0.6, 8]\nheight = \"2 m\"\nknown_to = \"KNOWN\"\n";

fn words(known_to: &str, events: &str, keys: &str) -> Words<'static> {
    let heron = walker("heron", keys).replace(crate::scenario::ROUND, "[{ at = [10, 0] }, { at = [0, 0] }]");
    let rest = GATE.replace("KNOWN", known_to)
        + &heron
        + &walker("teal", "").replace("spawn = [0, 0]", "spawn = [-9, -9]")
        + events;
    Words { link: "latency = \"60 ms\"\njitter = \"5 ms\"", rest, ..Words::default() }
}

fn event(at: &str, known_to: &str) -> String {
    format!("[[event]]\nat = \"{at}\"\nground = {{ solid = \"gate\", known_to = \"{known_to}\" }}\n")
}

/// The furthest east that the server ever had somebody.
fn furthest(run: &Run, from: f64, to: f64) -> f32 {
    let record = run.record();
    let track = record.authority(crate::scenario::actor(record, 0));
    track.between(secs(from), secs(to)).map(|i| track.pos(i).x).fold(f32::MIN, velocitas_core::max)
}

#[test]
fn a_gate_that_opens_for_all_lets_through_and_corrects_nobody() {
    let run = words("all", &event("6 s", "nobody"), "").run(14.0);
    assert!(furthest(&run, 0.0, 6.0) < 4.8 && furthest(&run, 6.0, 14.0) > 9.0);
    assert_eq!(corrections(run.record(), 0, LabTime::ZERO).len(), 0);
    // And one that closes again stops again: nobody is inside it then.
    let run = words("nobody", &(event("5 s", "all") + &event("9 s", "nobody")), "").run(14.0);
    assert!(furthest(&run, 0.0, 5.0) > 9.0 && furthest(&run, 9.5, 14.0) > 9.0);
    assert_eq!((corrections(run.record(), 0, LabTime::ZERO).len(), unexplained(run.record(), 0)), (0, 0));
}

#[test]
fn what_one_side_alone_knows_corrects_and_is_the_cause() {
    for (known_to, side) in [("server", KnownTo::Server), ("clients", KnownTo::Clients)] {
        let run = words("nobody", &event("5 s", known_to), "").run(14.0);
        let record = run.record();
        let corrected = corrections(record, 0, LabTime::ZERO);
        let found: Vec<Vec<Cause>> = corrected.iter().map(|(at, c)| causes(record, 0, *at, c)).collect();
        assert!(found.len() > 4, "{known_to}: {found:?}");
        let explained = |causes: &Vec<Cause>| causes.iter().any(|c| matches!(c, Cause::OneSided(_, of) if *of == side));
        assert!(found.iter().all(explained), "{known_to}: {found:?}");
        assert_eq!((unexplained(record, 0), corrections(record, 1, LabTime::ZERO).len()), (0, 0));
        assert!(corrections(record, 0, LabTime::ZERO).iter().all(|(at, _)| *at > secs(5.0)));
        // As the Field marks it, before and after.
        let seen = |at| run.moment(secs(at)).solids(machine(record, 0));
        assert_eq!((seen(4.0), seen(6.0)), (vec![KnownTo::Nobody], vec![side]));
        assert!(!facts(record, machine(record, 0)).any(|(_, f)| matches!(f, Fact::StepFault { .. })));
    }
}

#[test]
fn the_one_machine_that_forgets_is_the_one_that_is_corrected() {
    let mut run = Run::new(words("all", "", "").course()).expect("it fits");
    run.advance(secs(3.0));
    let heron = machine(run.record(), 0);
    let solid = run.course().world.solids[0].solid.id;
    run.command(Command::Solid { solid, there: false, reach: Reach::One(heron) });
    run.advance(secs(9.0));
    let before = run.digest();
    let count = corrections(run.record(), 0, LabTime::ZERO).len();
    assert!(count > 3 && unexplained(run.record(), 0) == 0);
    let seen = run.moment(run.now());
    assert_eq!(seen.solids(heron), [KnownTo::Server]);
    assert_eq!(seen.solids(machine(run.record(), 1)), [KnownTo::All]);
    // Going back and on gives the same again.
    run.resume_from(secs(5.0));
    run.advance(secs(9.0));
    assert_eq!(run.digest(), before);
    // Once it knows again, there is peace.
    run.command(Command::Solid { solid, there: true, reach: Reach::One(heron) });
    run.advance(secs(16.0));
    assert!(corrections(run.record(), 0, LabTime::ZERO).iter().all(|(at, _)| *at < secs(9.6)));
}

#[test]
fn whoever_claims_through_a_gate_that_closed_is_accused_and_the_honest_is_not() {
    let claims = "arrangement = \"claims\"";
    // A client that has not heard of it walks through: the server holds that to be a wall.
    let run = words("nobody", &event("5 s", "server"), claims).run(12.0);
    assert!(verdicts(run.record(), 0) > 0);
    let run = words("nobody", &(event("4 s", "all") + &event("8 s", "nobody")), claims).run(14.0);
    assert_eq!(verdicts(run.record(), 0), 0);
}
