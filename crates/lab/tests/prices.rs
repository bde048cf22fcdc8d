//! What each value of a setting would have cost is what it does cost where it was so from the beginning of the stretch.

use std::collections::BTreeMap;

use velocitas_analysis::budget::Measure;
use velocitas_analysis::metrics::{ClientMetrics, measure_all};
use velocitas_lab::diagnose::{DiagnoseError, PriceCase, Turn};
use velocitas_lab::{Course, Run};
use velocitas_record::{Command, Knob, KnobValue, LabTime, MemberId};

const PLOVER: MemberId = MemberId::new(0);

fn secs(x: f64) -> LabTime {
    LabTime::from_secs(x)
}

fn ran(seconds: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("it fits");
    run.advance(secs(seconds));
    run
}

fn latency(run: &Run) -> Turn {
    Turn::Knob(Knob::Latency, Knob::Latency.get(run.lab().knobs(PLOVER)))
}

fn of(measure: &str, figures: &ClientMetrics) -> f64 {
    let measure = Measure::named(measure).expect("there is one");
    (measure.get)(figures).expect("it was measured")
}

#[test]
fn the_value_in_force_costs_what_was_measured_and_more_latency_costs_view_age() {
    let run = ran(24.3);
    let case = PriceCase::of(&run, PLOVER, latency(&run), (run.now(), secs(10.0))).expect("it is kept");
    assert_eq!(case.stretch, (secs(14.0), secs(24.0)));
    let words: Vec<String> = case.values.iter().map(Turn::words).collect();
    let wanted = ["10 ms", "15 ms", "20 ms", "25 ms", "30 ms", "40 ms", "50 ms", "60 ms", "75 ms", "100 ms", "125 ms"];
    assert_eq!(words, wanted);
    assert_eq!(words[case.in_force], "40 ms");
    let priced: Vec<(usize, ClientMetrics)> = case.prices(&run).collect();
    let order: Vec<usize> = priced.iter().map(|(place, _)| *place).collect();
    let priced: BTreeMap<usize, ClientMetrics> = priced.into_iter().collect();
    assert_eq!(priced.len(), words.len());
    assert_eq!(order[0], case.in_force);
    assert!(order[1..3].contains(&(case.in_force - 1)) && order[1..3].contains(&(case.in_force + 1)), "{order:?}");
    let machine = run.course().machine(PLOVER);
    let measured = measure_all(run.found(), machine, secs(14.0), LabTime(secs(24.0).0 - 1)).0;
    for measure in ["corrections", "roughness", "drawn_error", "view_age", "bytes_up", "bytes_down"] {
        assert_eq!(of(measure, &priced[&case.in_force]), of(measure, &measured), "{measure}");
    }
    let ages = [0, case.in_force, words.len() - 1].map(|place| of("view_age", &priced[&place]));
    assert!(ages[0] + 20.0 < ages[1] && ages[1] + 60.0 < ages[2], "10 ms, 40 ms, 125 ms: {ages:?}");
}

#[test]
fn a_value_holds_through_the_stretch_whatever_was_turned_in_it() {
    let mut run = ran(8.0);
    let before = PriceCase::of(&run, PLOVER, latency(&run), (run.now(), secs(4.0))).expect("it is kept");
    let mut turned = ran(6.0);
    turned.command(Command::Set { member: PLOVER, knob: Knob::Latency, value: KnobValue::Number(250.0) });
    turned.advance(secs(8.0));
    let place = before.in_force;
    let in_force = Turn::Knob(Knob::Latency, KnobValue::Number(40.0));
    let after = PriceCase::of(&turned, PLOVER, in_force, (turned.now(), secs(4.0))).expect("it is kept");
    let first = |case: &PriceCase, run: &Run| case.prices(run).next().filter(|(at, _)| *at == place).expect("in force");
    assert_eq!(first(&after, &turned), first(&before, &run), "the later turn never came");
    run.advance(secs(8.5));
    let kept = PriceCase::of(&run, PLOVER, in_force, (secs(0.9), secs(10.0)));
    assert!(matches!(kept, Err(DiagnoseError::Stretch(..))), "no whole second");
}

#[test]
fn switches_automatic_values_and_tunables_have_values_too() {
    let run = ran(5.0);
    let values = |turn: Turn| {
        let case = PriceCase::of(&run, PLOVER, turn, (run.now(), secs(3.0))).expect("it is kept");
        assert_eq!(case.values[case.in_force], turn);
        (case.values.iter().map(Turn::words).collect::<Vec<_>>(), case)
    };
    assert_eq!(values(Turn::Knob(Knob::Prediction, KnobValue::Switch(true))).0, ["off", "on"]);
    assert_eq!(values(Turn::Knob(Knob::Prediction, KnobValue::Switch(false))).0, ["off", "on"]);
    assert_eq!(values(Turn::Knob(Knob::Missing, KnobValue::Choice(1))).0, ["hold", "fade", "rest", "wait"]);
    let (delays, _) = values(Turn::Knob(Knob::ViewDelay, KnobValue::Auto));
    assert_eq!(delays[..4], ["auto", "0 ms", "10 ms", "20 ms"]);
    assert!(delays.contains(&"200 ms".to_owned()), "{delays:?}");
    let kind = run.course()[PLOVER].kind;
    let rule = run.course().kinds.motion(kind);
    let (place, spec) = rule.tunables().iter().enumerate().find(|(_, spec)| spec.name == "walk").expect("it walks");
    let value = run.lab().server_known().tunables[usize::from(kind)][place];
    let (walks, case) = values(Turn::Tunable { kind, spec: *spec, value });
    assert!(walks.len() == 11 && walks.iter().all(|walk| walk.ends_with(" m/s")), "{walks:?}");
    let (_, figures) = case.prices(&run).next().expect("the one in force");
    assert!(of("bytes_down", &figures) > 0.0);
}
