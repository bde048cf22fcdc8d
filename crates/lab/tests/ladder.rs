//! What crossed the links: packets that are had again, and the way of an input held against what else the record says of it.

use velocitas_analysis::crossing::{Crossing, crossings, missed, ticks, was_late_for};
use velocitas_analysis::follow::{Station, Way, follow};
use velocitas_analysis::{Fate, fate};
use velocitas_core::{Fact, FieldValue, MessageKind, Provenance};
use velocitas_lab::packet::packet;
use velocitas_lab::{Course, Run};
use velocitas_record::{Happening, LabTime, MachineId, MemberId, Part, RecordTick};

const PLOVER: MemberId = MemberId::new(0);
const HERON: MemberId = MemberId::new(1);
const MAGPIE: MemberId = MemberId::new(4);

fn run(seconds: f64) -> Run {
    let mut run = Run::new(Course::demo()).expect("the demo fits");
    run.advance(LabTime::from_secs(seconds));
    run
}

fn between(run: &Run, member: MemberId, from: f64, to: f64) -> Vec<Crossing> {
    let machines = [run.course().machine(member), MachineId::SERVER];
    crossings(run.record(), &machines, LabTime::from_secs(from), LabTime::from_secs(to))
}

/// The ways of all inputs that plover sampled between two moments, to heron's screen.
fn ways(run: &Run, from: f64, to: f64) -> Vec<Way> {
    let (machine, viewer) = (run.course().machine(PLOVER), run.course().machine(HERON));
    let actor = run.record().cast.body(machine, run.now()).expect("it is there");
    let rows = run.record().of(machine).own(actor).expect("its own").inputs.rows();
    rows.span(LabTime::from_secs(from), LabTime::from_secs(to))
        .filter_map(|row| follow(run.record(), (machine, actor, row.tick), viewer, run.now()))
        .collect()
}

#[test]
fn a_packet_is_had_again_with_every_field_and_as_many_bytes_as_the_record_says() {
    let run = run(14.0);
    let mut kinds = Vec::new();
    for member in [PLOVER, MAGPIE] {
        for crossing in between(&run, member, 11.0, 11.4) {
            let packet = packet(&run, &crossing).expect("it can be had again");
            assert_eq!(packet.bytes.len(), usize::from(crossing.row.bytes));
            let bits: u32 = packet.fields.iter().map(|field| field.bits).sum();
            assert_eq!(bits.div_ceil(8), u32::from(crossing.row.bytes), "{:?}", crossing.row.kind);
            let says = |name: &str| packet.fields.iter().find(|f| f.name == name).map(|f| f.value.clone());
            assert_eq!(says("kind"), Some(FieldValue::Words(crossing.row.kind.name().to_owned())));
            let tick =
                packet.fields.iter().find_map(|f| if let FieldValue::Tick(t) = f.value { Some(t) } else { None });
            let shown = run.record().shown(crossing.row.tick.expect("these are about one")) as u16;
            assert_eq!(tick.map(|t| t.0), Some(shown));
            if let Some(answers) = packet.answers {
                assert_eq!((answers.from, answers.to), (crossing.to, crossing.from));
                assert!(answers.row.arrived.is_some_and(|at| at <= crossing.row.at));
            }
            kinds.push(crossing.row.kind);
        }
    }
    for kind in [MessageKind::Inputs, MessageKind::Claim, MessageKind::Snapshot, MessageKind::PullBack] {
        assert!(kinds.contains(&kind), "no {kind:?} was looked at");
    }
}

#[test]
fn a_packet_names_the_one_that_it_answers_by_its_own_number() {
    let run = run(10.0);
    let all = between(&run, PLOVER, 8.0, 8.5);
    let number = |c: &Crossing, name: &str| {
        let packet = packet(&run, c).expect("sound");
        packet.fields.iter().find_map(|f| match f.value {
            FieldValue::Number(n) if f.name == name => Some(n),
            _ => None,
        })
    };
    let mut answered = 0;
    for crossing in &all {
        let Some(answers) = packet(&run, crossing).expect("sound").answers else { continue };
        assert_eq!(number(crossing, "newest decoded"), number(&answers, "sequence"), "{crossing:?}");
        answered += 1;
    }
    assert_eq!(answered, all.len());
}

#[test]
fn what_is_told_of_a_moment_before_it_was_reached_is_an_error_in_words() {
    let long = run(10.0);
    let crossing = between(&long, PLOVER, 9.0, 9.1)[0];
    let short = run(5.0);
    let why = packet(&short, &crossing).expect_err("it is not there yet").to_string();
    assert!(why.contains("up to 0:05.00"), "{why}");
}

#[test]
fn every_way_is_in_the_order_of_cause_and_effect_and_agrees_with_the_inputs_fate() {
    let run = run(16.0);
    let (machine, record) = (run.course().machine(PLOVER), run.record());
    let ways = ways(&run, 6.0, 12.0);
    assert!(ways.len() > 300);
    let (mut whole, mut corrections) = (0, 0);
    for way in &ways {
        let at = |wanted: fn(&Station) -> bool| way.stops.iter().find(|s| wanted(&s.what)).map(|s| s.at);
        let chain = [
            at(|s| matches!(s, Station::Sampled)),
            at(|s| matches!(s, Station::Sent { .. })),
            at(|s| matches!(s, Station::Arrived(_))),
        ];
        let known: Vec<LabTime> = chain.into_iter().flatten().collect();
        assert!(known.is_sorted(), "{way:?}");
        let later = [
            at(|s| matches!(s, Station::Used { .. })),
            at(|s| matches!(s, Station::ToldThere(_))),
            at(|s| matches!(s, Station::TakenIn)),
            at(|s| matches!(s, Station::DrawnThere)),
        ];
        let later: Vec<LabTime> = later.into_iter().flatten().collect();
        assert!(later.is_sorted(), "{way:?}");
        whole += usize::from(later.len() == 4);
        for stop in &way.stops {
            if let Some(leg) = way.leg(stop) {
                assert!(leg <= way.lasts(), "{stop:?}");
            }
        }
        // What became of it.
        let row = record.of(machine).own(way.actor).and_then(|own| own.inputs.of_tick(way.tick)).expect("a row");
        let what = fate(record, machine, way.actor, &row, run.now());
        let with =
            way.stops.iter().find_map(|s| if let Station::Used { with, .. } = s.what { Some(with) } else { None });
        if what == Some(Fate::Fresh) {
            assert_eq!(with, Some(Some(Provenance::Fresh)), "{way:?}");
        }
        if matches!(what, Some(Fate::Lost | Fate::Late(_))) {
            assert_ne!(with, Some(Some(Provenance::Fresh)), "{way:?}");
        }
        // A correction that it names is one of the record.
        if let Some((stop, c)) =
            way.stops.iter().find_map(|s| if let Station::Compared(Some(c)) = s.what { Some((s, c)) } else { None })
        {
            corrections += 1;
            let rows = &record.of(machine).happenings;
            assert!(
                rows.span(stop.at, stop.at).any(|r| matches!(r.what, Happening::Fact(Fact::Corrected(d)) if d == c))
            );
        }
    }
    assert!(whole * 10 >= ways.len() * 9, "{whole} of {} came to heron's screen", ways.len());
    assert!(corrections > 0, "none of them was compared at a correction");
}

#[test]
fn a_press_is_followed_from_the_hand_and_as_long_as_the_figures_say() {
    let run = run(16.0);
    let (machine, viewer) = (run.course().machine(PLOVER), run.course().machine(HERON));
    let rows = &run.record().of(machine).happenings;
    let presses: Vec<LabTime> = rows
        .span(LabTime::from_secs(3.0), LabTime::from_secs(13.0))
        .filter_map(|row| if let Happening::Pressed(at) = row.what { Some(at) } else { None })
        .collect();
    assert!(!presses.is_empty());
    let ways = ways(&run, 3.0, 13.1);
    for pressed in presses {
        let starts = |way: &&Way| way.stops[0].what == Station::Pressed && way.stops[0].at == pressed;
        let way = ways.iter().find(starts).unwrap_or_else(|| panic!("no input has the press at {pressed}"));
        let drawn = way.stops.iter().find(|s| s.what == Station::DrawnThere).expect("heron saw it");
        // The first frame of heron's whose drawn tick is at or after the first that used it, searched for anew.
        let used =
            way.stops.iter().find_map(|s| if let Station::Used { tick, .. } = s.what { Some(tick) } else { None });
        let frames = &run.record().of(viewer).frames;
        let first = frames
            .span(pressed, run.now())
            .find(|row| run.record().drawn(viewer, way.actor, row.at).is_some_and(|drawn| Some(drawn.tick) >= used))
            .expect("a frame");
        assert_eq!(first.at, drawn.at);
    }
}

#[test]
fn what_missed_its_tick_is_told_at_the_moment_when_that_was_made() {
    let run = run(60.0);
    let machine = run.course().machine(MemberId::new(2));
    let all = between(&run, MemberId::new(2), 2.0, 58.0);
    let late: Vec<(LabTime, RecordTick)> = all.iter().filter_map(|c| was_late_for(run.record(), c)).collect();
    assert!(!late.is_empty(), "dunlin's link is bad enough");
    let server =
        ticks(run.record(), MachineId::SERVER, Part::Server, LabTime::from_secs(2.0), LabTime::from_secs(59.0));
    assert!(late.iter().all(|when| server.contains(when)), "it was made then");
    assert!(server.windows(2).all(|pair| pair[0].1 < pair[1].1 && pair[0].0 <= pair[1].0));
    for (at, tick) in missed(run.record(), machine, LabTime::from_secs(2.0), LabTime::from_secs(58.0)) {
        assert!(server.contains(&(at, tick)), "made up when it was made");
    }
}

#[test]
fn what_is_nobodys_is_followed_nowhere() {
    let run = run(5.0);
    let machine = run.course().machine(PLOVER);
    let actor = run.record().cast.body(machine, run.now()).expect("it is there");
    let viewer = run.course().machine(HERON);
    assert!(follow(run.record(), (viewer, actor, RecordTick(200)), viewer, run.now()).is_none());
    assert!(follow(run.record(), (machine, actor, RecordTick(999_999)), viewer, run.now()).is_none());
    // Cut off at a moment it goes as far as it had come.
    let early =
        follow(run.record(), (machine, actor, RecordTick(200)), viewer, LabTime::from_secs(3.45)).expect("sampled");
    let later = follow(run.record(), (machine, actor, RecordTick(200)), viewer, run.now()).expect("sampled");
    assert!(early.stops.len() < later.stops.len());
}

#[test]
fn a_piece_that_waits_is_known_by_what_was_lost_before_it_and_its_input_is_late_by_that() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/links/phone.course.toml");
    let text = std::fs::read_to_string(path).expect("it ships");
    let settings = "[defaults]\ninputs_over = \"stream\"\nsnapshots_over = \"stream\"\n\n[world]";
    let text = text.replacen("[world]", settings, 1);
    let mut run = Run::new(Course::parse(path, &text, &[]).unwrap_or_else(|e| panic!("{e}"))).expect("it fits");
    run.advance(LabTime::from_secs(24.0));
    let record = run.record();
    let (mut held, mut again) = (0, 0);
    for up in [true, false] {
        let all = between(&run, PLOVER, 0.0, 24.0);
        let way: Vec<&Crossing> = all.iter().filter(|c| c.row.kind.is_up() == up && c.row.piece.is_some()).collect();
        let number = |c: &Crossing| c.row.piece.map_or(0, |(number, _)| number);
        for c in &way {
            again += u32::from(c.row.piece.is_some_and(|(_, again)| again) && c.words(record).ends_with("sent again"));
            let Some((since, until)) = c.held_back(record) else { continue };
            held += 1;
            assert!(c.fate(record, since).starts_with("held back") && c.fate(record, until) == "arrived", "{c:?}");
            // Of those before it one came only when it had its turn.
            let earlier =
                way.iter().filter(|e| number(e) < number(c)).filter_map(|e| Some((number(e), e.row.arrived?)));
            let mut came = std::collections::BTreeMap::new();
            earlier.for_each(|(number, at)| {
                let first = came.entry(number).or_insert(at);
                *first = at.min(*first);
            });
            assert!(came.values().any(|at| *at > since && *at <= until), "{c:?}");
        }
    }
    assert!(held > 20 && again > 3, "{held}, {again}");
    // What is in a piece can be looked at like any other.
    let piece = between(&run, PLOVER, 10.0, 12.0).into_iter().find(|c| c.row.piece.is_some()).expect("there are some");
    let packet = packet(&run, &piece).expect("it can be had again");
    let bits: u32 = packet.fields.iter().map(|field| field.bits).sum();
    assert_eq!(bits.div_ceil(8), u32::from(piece.row.bytes));
    assert!(
        ["piece", "expects piece", "carries", "sent before"]
            .iter()
            .all(|name| packet.fields.iter().any(|f| f.name == *name))
    );
}
