//! What is kept is bounded, the oldest goes first, and nothing else is different for it.

use velocitas_lab::{
    Command, Course, Keep, KnobValue, LEAST_KEPT, LabTime, MachineId, MemberId, Part, RecordTick, Run, metrics,
};

fn run(keep: Keep, metered: bool, seconds: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.set_keep(keep);
    if metered {
        run.meter();
    }
    // In slices, as an interface does.
    let mut at = 0.0;
    while at < seconds {
        at += 7.3;
        run.advance(LabTime::from_secs(at.min(seconds)));
    }
    run
}

const BOUND: usize = 15_000_000;

#[test]
fn memory_is_bounded_and_the_digest_and_all_figures_are_those_of_a_run_that_keeps_everything() {
    let bounded = run(Keep::Bytes(BOUND), true, 300.0);
    let whole = run(Keep::All, false, 300.0);
    assert_eq!(bounded.digest(), whole.digest());
    assert!(bounded.bytes() <= BOUND && whole.bytes() > 2 * BOUND, "{} {}", bounded.bytes(), whole.bytes());
    let kept_from = bounded.record().kept_from;
    assert!(kept_from > LabTime::from_secs(30.0) && kept_from <= bounded.now().minus(LEAST_KEPT), "{kept_from}");
    let (figures, totals) = bounded.figures();
    assert_eq!(totals, whole.figures().1);
    for (i, figures) in whole.course().members().map(|m| whole.course().machine(m)).zip(figures) {
        assert_eq!(figures, metrics::measure(whole.record(), i, LabTime::ZERO, whole.now()));
        // And of the kept part alone.
        let last = |run: &Run| metrics::measure(run.record(), i, run.now().minus(LabTime::from_secs(40.0)), run.now());
        assert_eq!(last(&bounded), last(&whole));
        // Of the ten seconds before the first moment kept as well.
        let first = |run: &Run| metrics::measure(run.record(), i, kept_from.minus(LabTime::from_secs(10.0)), kept_from);
        assert_eq!(first(&bounded), first(&whole));
    }
}

#[test]
fn a_time_is_kept_as_well_and_never_less_than_a_minute() {
    for (asked, kept) in [(90.0, 90.0), (1.0, LEAST_KEPT.secs())] {
        let run = run(Keep::Time(LabTime::from_secs(asked)), false, 200.0);
        assert_eq!(run.record().kept_from, LabTime::from_secs(200.0 - kept), "{asked}");
        assert!(
            run.record()
                .authority(run.record().cast.actors().next().expect("somebody"))
                .head(0)
                .is_some_and(|h| h.at.secs() <= 200.0 - kept)
        );
    }
}

#[test]
fn from_anywhere_in_what_is_kept_it_goes_on_as_it_did_and_memory_comes_back() {
    let mut bounded = run(Keep::Bytes(BOUND), false, 240.0);
    let before = bounded.bytes();
    let at = bounded.record().kept_from;
    bounded.resume_from(at.minus(LabTime(1)));
    assert_eq!(bounded.now(), LabTime::from_secs(240.0), "what is forgotten is no place to go on from");
    bounded.resume_from(at);
    assert_eq!(bounded.now(), at);
    assert!(bounded.bytes() < before / 2, "{} of {before} bytes are left", bounded.bytes());
    bounded.advance(LabTime::from_secs(240.0));
    assert_eq!(bounded.digest(), run(Keep::All, false, 240.0).digest());
}

#[test]
fn a_command_after_something_was_forgotten_is_part_of_the_run() {
    let go = |keep| {
        let mut run = run(keep, false, 150.0);
        run.command(Command::Set {
            member: MemberId::new(0),
            knob: velocitas_lab::KNOBS[0].knob,
            value: KnobValue::Number(120.0),
        });
        run.advance(LabTime::from_secs(170.0));
        run.resume_from(LabTime::from_secs(160.0));
        run.advance(LabTime::from_secs(170.0));
        assert!(run.record().known(MachineId::SERVER, Part::Server, RecordTick(0)).kinds.get(1).is_some());
        run.digest()
    };
    assert_eq!(go(Keep::Bytes(BOUND)), go(Keep::All));
}
