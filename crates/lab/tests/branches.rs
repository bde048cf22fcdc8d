//! Runs that branch off another, and stretches that are had again.

use crate::scenario::{machine, member};
use velocitas_lab::export::Ending;
use velocitas_lab::{AgainError, Course, Keep, LEAST_KEPT, Run};
use velocitas_record::record::{Record, Recorder};
use velocitas_record::{Command, Knob, KnobValue, LabTime, Sudden, Unrecorded};

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

fn latency(ms: f64) -> Command {
    Command::Set { member: member(0), knob: Knob::Latency, value: KnobValue::Number(ms) }
}

/// Commands at odd moments, some at that of a checkpoint.
const DONE: [(f64, f64); 4] = [(1.3, 120.0), (4.0, 20.0), (6.5, 90.0), (9.1, 45.0)];

fn meddled(until: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("it fits");
    for (at, ms) in DONE.into_iter().filter(|(at, _)| *at <= until) {
        run.advance(secs(at));
        run.command(latency(ms));
    }
    run.advance(secs(until));
    run
}

#[test]
fn who_goes_back_to_the_very_beginning_begins() {
    let rows = |run: &Run| {
        let mut rows = Vec::new();
        velocitas_lab::export::write(run.record(), &Ending::default(), &mut rows).expect("memory");
        String::from_utf8(rows).expect("text")
    };
    let fresh = || {
        let mut run = Run::new(Course::demo()).expect("it fits");
        run.command(latency(90.0));
        run
    };
    let mut back = fresh();
    for until in [0.001, 0.5, 5.0] {
        back.advance(secs(until));
        back.resume_from(LabTime::ZERO);
        assert_eq!((back.now(), back.digest()), (LabTime::ZERO, fresh().digest()), "{until}");
        assert!(rows(&back) == rows(&fresh()), "{until}");
    }
    let mut run = fresh();
    [&mut back, &mut run].into_iter().for_each(|run| run.advance(secs(3.0)));
    assert_eq!(back.digest(), run.digest());
    assert!(rows(&back) == rows(&run));
}

#[test]
fn a_branch_without_a_change_is_the_run() {
    let run = meddled(12.0);
    for at in [0.0, 1.3, 3.999, 4.0, 5.0, 9.1, 12.0] {
        let mut branch = run.branch(secs(at)).expect("it is kept");
        assert_eq!(branch.now(), secs(at));
        for step in [5.0, 9.1, 11.0, 12.0] {
            branch.advance(secs(step).max(branch.now()));
        }
        assert_eq!(branch.digest(), run.digest(), "from {at} s");
        let rows = |run: &Run| run.record().of(machine(run.record(), 0)).happenings.len();
        assert_eq!((branch.commands(), rows(&branch)), (run.commands(), rows(&run)));
    }
    assert!(run.branch(secs(12.1)).is_none());
    assert_eq!(run.now(), secs(12.0), "and the run is what it was");
}

#[test]
fn a_branch_that_is_kept_is_a_run_that_had_the_change_from_there() {
    let run = meddled(12.0);
    let push = Command::Happens(member(1), Sudden::Push(velocitas_core::vec3(5.0, 0.0, 0.0)));
    let mut branch = run.branch(secs(5.2)).expect("it is kept");
    branch.command(push);
    branch.advance(secs(12.0));
    let mut straight = meddled(5.2);
    straight.command(push);
    for (at, ms) in DONE.into_iter().filter(|(at, _)| *at > 5.2) {
        straight.advance(secs(at));
        straight.command(latency(ms));
    }
    straight.advance(secs(12.0));
    assert_eq!(branch.digest(), straight.digest());
    assert_ne!(branch.digest(), run.digest());
    // It can be gone back in, and branches off again.
    let again = branch.branch(secs(5.0)).expect("it is kept");
    branch.resume_from(secs(6.0));
    branch.advance(secs(12.0));
    assert_eq!(again.now(), secs(5.0));
    assert_ne!(branch.digest(), straight.digest(), "what was ahead is dropped with the later part");
}

#[test]
fn every_moment_is_had_again_as_it_was() {
    let run = meddled(14.0);
    for at in [0.5, 4.0, 6.5, 7.99, 8.0, 13.9, 14.0] {
        let lab = run.again(secs(at), secs(at), &mut Unrecorded).expect("it was there");
        let before = meddled(at);
        assert_eq!((lab.digest(), lab.now()), (before.digest(), secs(at)), "{at} s");
        assert_eq!(lab.server_state(member(0)), before.lab().server_state(member(0)));
    }
    let lab = run.again(secs(2.0), secs(13.0), &mut Unrecorded).expect("it was there");
    assert_eq!(lab.digest(), meddled(13.0).digest());
    let beyond = run.again(secs(13.0), secs(15.0), &mut Unrecorded);
    assert_eq!(beyond.map(|_| ()), Err(AgainError::NotReached(secs(14.0))));
}

#[test]
fn what_was_watched_again_is_what_the_record_has_and_what_it_let_go_is_there_as_well() {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(Keep::Time(LEAST_KEPT));
    run.advance(secs(100.0));
    assert!(run.record().kept_from > secs(30.0));
    let mut whole = Run::new(Course::demo()).expect("it fits");
    whole.set_keep(Keep::All);
    whole.advance(secs(100.0));
    for (from, to) in [(41.0, 43.5), (90.0, 96.2)] {
        let mut seen = Recorder::new(whole.record().cast.clone());
        run.again(secs(from), secs(to), &mut seen).expect("its checkpoint is kept");
        let seen = seen.record();
        let at = machine(whole.record(), 0);
        let rows = |record: &Record| {
            let rows = &record.of(at).happenings;
            rows.iter()
                .filter(|row| row.at > secs(from) && row.at <= secs(to))
                .map(|row| format!("{row:?}"))
                .collect::<Vec<_>>()
        };
        assert!(!rows(seen).is_empty());
        assert_eq!(rows(seen), rows(whole.record()), "{from} to {to} s");
        let sent = |record: &Record| {
            let rows = record.datagrams(at, LabTime(secs(from).0 + 1), secs(to));
            rows.map(|row| (row.at, row.bytes, row.kind)).collect::<Vec<_>>()
        };
        assert_eq!(sent(seen), sent(whole.record()));
    }
}
