//! What is kept is bounded, the oldest goes first, and nothing else is different for it.

use velocitas_analysis::metrics;
use velocitas_lab::{Course, Keep, LEAST_KEPT, Run};
use velocitas_record::{Command, KnobValue, LabTime, MachineId, MemberId, Part, RecordTick};

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

const BOUND: usize = 21_600_000;

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
            knob: velocitas_record::KNOBS[0].knob,
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

#[test]
fn what_was_let_go_is_had_again_as_it_was() {
    let mut bounded = run(Keep::Bytes(30_000_000), true, 60.0);
    let plover = MemberId::new(0);
    bounded.command(Command::Set {
        member: plover,
        knob: velocitas_record::Knob::Latency,
        value: KnobValue::Number(90.0),
    });
    bounded.advance(LabTime::from_secs(300.0));
    let mut whole = run(Keep::All, false, 60.0);
    whole.command(Command::Set {
        member: plover,
        knob: velocitas_record::Knob::Latency,
        value: KnobValue::Number(90.0),
    });
    whole.advance(LabTime::from_secs(300.0));
    let kept_from = bounded.record().kept_from;
    assert!(bounded.reach() == LabTime::ZERO && kept_from > LabTime::from_secs(80.0), "{kept_from}");
    for at in [0.0, 3.0, 21.5, 58.0, 62.0, 80.0] {
        let (at, to) = (LabTime::from_secs(at), LabTime::from_secs(at + 6.0));
        let mut recalled = bounded.recalled(at).expect("it can be had");
        recalled.advance(to);
        assert!(recalled.record().kept_from <= at && recalled.now() == to, "{at}");
        assert_eq!(recalled.parted(), None, "held against the digests on the way");
        let from = at.minus(LabTime::from_secs(10.0)).max(recalled.record().kept_from.minus(LabTime::from_secs(10.0)));
        for machine in whole.course().members().map(|m| whole.course().machine(m)) {
            let of = |run: &Run| metrics::measure(run.record(), machine, from, at);
            // The end of a run is seen by what was under way then: look up to a moment well before it.
            let up_to = |run: &Run| {
                let moment = run.moment(at);
                (
                    moment.tick(machine, Part::Client),
                    moment.last_correction(machine).map(|c| (c.at, c.finding.causes.clone())),
                )
            };
            assert_eq!(of(&recalled).corrections, of(&whole).corrections, "{at}");
            let (there, here) = (up_to(&whole), up_to(&recalled));
            assert_eq!(here.0, there.0, "{at}");
            let lately =
                |c: &Option<(LabTime, _)>| c.as_ref().is_some_and(|(when, _)| *when >= recalled.record().kept_from);
            assert!(!lately(&there.1) || here.1 == there.1, "{at}: {:?} {:?}", here.1, there.1);
        }
        // It goes on as it did, with what was commanded later.
        if at == LabTime::from_secs(58.0) {
            let mut on = recalled;
            on.advance(bounded.now());
            assert_eq!((on.digest(), on.parted()), (bounded.digest(), None), "{at}");
        }
    }
    assert!(bounded.recalled(LabTime::from_secs(301.0)).is_none());
}
