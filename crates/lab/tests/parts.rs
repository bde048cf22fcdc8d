//! A record is made of what each machine tells: in whatever order the machines are heard, and of what is there if some are not.

use std::collections::BTreeMap;
use std::path::Path;

use proptest::prelude::*;
use velocitas_analysis::crossing::crossings;
use velocitas_analysis::{Fate, fate};
use velocitas_core::{Event, Fact, StateEvent};
use velocitas_lab::{Course, Lab};
use velocitas_record::record::{Cast, Record, Recorder};
use velocitas_record::{Change, HappeningRow, LabTime, MachineId, MessageRow, Part, Screen, Watch};

/// Something told, to be told to a record later.
type Told = Box<dyn Fn(&mut Recorder)>;

/// All that was told: when, by which machine, whether it says who is there, and what.
#[derive(Default)]
struct Parts(Vec<(LabTime, MachineId, bool, Told)>);

impl Parts {
    fn add(&mut self, at: LabTime, machine: MachineId, told: impl Fn(&mut Recorder) + 'static) {
        self.0.push((at, machine, false, Box::new(told)));
    }
}

impl Watch for Parts {
    const LOOKS: bool = true;

    fn event(&mut self, at: LabTime, machine: MachineId, part: Part, event: &Event<'_>) {
        match *event {
            Event::State(told) => {
                let (state, contacts) = (*told.state, *told.contacts);
                let StateEvent { entity, tick, used, made, teleported, .. } = told;
                self.add(at, machine, move |recorder| {
                    let (state, contacts) = (&state, &contacts);
                    let told = StateEvent { entity, tick, used, made, state, input: None, contacts, teleported };
                    recorder.event(at, machine, part, &Event::State(told));
                });
            }
            Event::Input(fact, value) => {
                let value = value.copied();
                self.add(at, machine, move |recorder| {
                    recorder.event(at, machine, part, &Event::Input(fact, value.as_ref()));
                });
            }
            Event::Measure(measure) => {
                self.add(at, machine, move |recorder| recorder.event(at, machine, part, &Event::Measure(measure)));
            }
            Event::Fact(fact) => {
                let who =
                    matches!(fact, Fact::Born { .. } | Fact::Gone { .. } | Fact::Owner { .. } | Fact::Connected { .. });
                let told = move |recorder: &mut Recorder| recorder.event(at, machine, part, &Event::Fact(fact));
                self.0.push((at, machine, who, Box::new(told)));
            }
        }
    }

    /// Who sends knows that it does, and no more.
    fn message(&mut self, from: MachineId, to: MachineId, row: MessageRow) {
        let row = MessageRow { arrived: None, again: None, lost: false, ..row };
        self.add(row.at, from, move |recorder| recorder.message(from, to, row));
    }

    fn arrived(&mut self, at: LabTime, from: MachineId, to: MachineId, number: u64) {
        self.add(at, to, move |recorder| recorder.arrived(at, from, to, number));
    }

    fn unread(&mut self, _: MachineId, _: MachineId, _: u64) {}

    fn frame(&mut self, at: LabTime, viewer: MachineId, screen: &Screen) {
        let screen = screen.clone();
        self.add(at, viewer, move |recorder| recorder.frame(at, viewer, &screen));
    }

    fn happening(&mut self, machine: MachineId, row: HappeningRow) {
        self.add(row.at, machine, move |recorder| recorder.happening(machine, row));
    }

    fn changed(&mut self, change: Change) {
        let at = change.at;
        self.add(at, MachineId::SERVER, move |recorder| recorder.changed(change.clone()));
    }
}

/// The parts of a course, and a record of it by who knows everything.
fn played(name: &str, seed: u64, seconds: f64) -> (Cast, Parts, Record) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../courses").join(name);
    let text = std::fs::read_to_string(&path).expect("it ships");
    let course = Course::parse(&path.display().to_string(), &text, &[]).unwrap_or_else(|e| panic!("{e}"));
    let mut lab = Lab::new(std::sync::Arc::new(Course { seed, ..course }));
    let cast = Cast::new(lab.beginning());
    let (mut again, end) = (lab.clone(), LabTime::from_secs(seconds));
    let (mut parts, mut whole) = (Parts::default(), Recorder::new(cast.clone()));
    lab.advance(end, &mut parts);
    again.advance(end, &mut whole);
    (cast, parts, whole.into_record())
}

/// A record of what some machines told, each so much later than it happened.
fn heard(cast: &Cast, parts: &Parts, delays: &BTreeMap<MachineId, Option<u64>>) -> Record {
    let mut recorder = Recorder::new(cast.clone());
    let of = |machine: &MachineId| delays.get(machine).copied().unwrap_or(Some(0));
    let mut order: Vec<_> = parts
        .0
        .iter()
        .filter_map(|(at, machine, who, told)| {
            // Nothing can be put down of what nobody knows to be there.
            let delay = if *who { of(machine).map(|_| 0) } else { of(machine) }?;
            Some((at.plus(LabTime(delay * 1_000_000)), told))
        })
        .collect();
    order.sort_by_key(|(at, _)| *at);
    order.into_iter().for_each(|(_, told)| told(&mut recorder));
    recorder.into_record()
}

/// What becomes of each input, as the record holds it and as it is said.
fn inputs(record: &Record, end: LabTime) -> BTreeMap<(MachineId, usize), Vec<String>> {
    let mut all = BTreeMap::new();
    for machine in record.cast.players() {
        for own in &record.of(machine).own {
            let said = |row| {
                let (sampled, used) = (own.inputs.sampled(&row), own.inputs.used(&row));
                let times = (row.at, row.sampled_at(), row.arrived(), row.passed_over(), row.outdated(), row.used());
                let fate = fate(record, machine, own.actor, &row, end);
                format!("{:?} {:?} {times:?} {sampled:?} {used:?} {fate:?}", row.peer, row.tick)
            };
            let mut rows: Vec<String> = own.inputs.rows().iter().map(said).collect();
            rows.sort();
            all.insert((machine, own.actor.index()), rows);
        }
    }
    all
}

/// The ways of datagrams that left before a moment.
fn ways(record: &Record, until: LabTime) -> Vec<String> {
    let machines: Vec<MachineId> = record.cast.machines().collect();
    let all = crossings(record, &machines, LabTime::ZERO, until);
    all.iter()
        .map(|c| format!("{:?} {:?} {:?} {}", c.id(), c.row.arrived, c.row.again, c.fate(record, record.end)))
        .collect()
}

fn marks(record: &Record) -> Vec<String> {
    let mut all = Vec::new();
    for machine in record.cast.players() {
        let rows = &record.of(machine).marks;
        assert!(
            rows.iter().is_sorted_by_key(|row| row.at)
                && record.of(machine).happenings.iter().is_sorted_by_key(|row| row.at)
        );
        all.extend(
            rows.iter()
                .filter(|row| row.mark != velocitas_record::record::Mark::Lost)
                .map(|row| format!("{machine:?} {row:?}")),
        );
    }
    all.sort();
    all
}

/// Up to so long before the end everything has been told, however late machines are heard.
const SETTLED: LabTime = LabTime(5_000_000_000);

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    #[test]
    fn it_is_the_same_record_in_whatever_order_machines_are_heard(
        seed in 1u64..500, bad in any::<bool>(), delays in proptest::collection::vec(0u64..2500, 8),
    ) {
        let (cast, parts, whole) = played(if bad { "bad-evening.course.toml" } else { "lampwick-quay.course.toml" }, seed, 9.0);
        let delays = cast.machines().zip(delays.into_iter().map(Some)).collect();
        let paired = heard(&cast, &parts, &delays);
        let until = whole.end.minus(SETTLED);
        prop_assert_eq!(ways(&paired, until), ways(&whole, until));
        prop_assert_eq!(inputs(&paired, until), inputs(&whole, until));
        prop_assert_eq!(marks(&paired), marks(&whole));
    }
}

#[test]
fn where_a_machine_is_not_heard_what_only_it_knows_is_unknown() {
    let (cast, parts, whole) = played("bad-evening.course.toml", 7, 9.0);
    let (end, missing) = (whole.end.minus(SETTLED), cast.players().next().expect("somebody plays"));
    let paired = heard(&cast, &parts, &[(missing, None)].into());
    let mut is = inputs(&paired, end);
    for (whose, was) in inputs(&whole, end) {
        let is = is.remove(&whose).unwrap_or_default();
        if whose.0 == missing {
            assert!(!is.is_empty() && is.iter().all(|row| row.ends_with("None")), "nothing was sampled that is known");
        } else {
            assert_eq!(is, was);
        }
    }
    let machines: Vec<MachineId> = cast.machines().collect();
    let (mut others, mut down) = (0, 0);
    for c in crossings(&paired, &machines, LabTime::ZERO, end) {
        if c.to == missing {
            down += 1;
            assert_eq!(c.fate(&paired, paired.end), "unknown: nobody has told of its arrival");
        } else {
            others += 1;
            assert_ne!(c.from, missing);
            assert!(!c.fate(&paired, paired.end).starts_with("unknown"));
        }
    }
    assert!(down > 50 && others > 500, "{down} and {others}");

    let paired = heard(&cast, &parts, &[(MachineId::SERVER, None)].into());
    assert_eq!(paired.heard(MachineId::SERVER), None);
    for c in crossings(&paired, &machines, LabTime::ZERO, end) {
        assert!(c.row.kind.is_up() && !paired.is_lost(c.to, &c.row) && c.row.arrived.is_none());
    }
    let said = inputs(&paired, end);
    assert!(said.values().flatten().all(|row| !row.contains(&format!("{:?}", Fate::Lost))), "that nobody knows");
}
