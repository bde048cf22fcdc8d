//! The answers.

use velocitas_analysis::compare::{Parted, partings};
use velocitas_analysis::crossing::crossings;
use velocitas_analysis::fate::{Fate, fate};
use velocitas_analysis::follow::{Station, follow};
use velocitas_analysis::metrics::measure;
use velocitas_core::{Arrangement, InputFate, Made, Provenance, Rule};
use velocitas_record::LabTime;
use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::record::Record;

use crate::told::{Told, body, due, ms, player};

fn fate_of(record: &Record, tick: u32) -> Option<Fate> {
    let actor = body(record);
    let row = record.of(player()).own(actor)?.inputs.of_tick(RecordTick(tick))?;
    fate(record, player(), actor, &row, record.end)
}

/// Ticks 0 to 9 were made at the server, each when it was due.
fn made(told: &mut Told) {
    for tick in 0..10 {
        told.state(due(tick), Made::Authority, tick, (tick > 0).then_some(tick), tick as f32);
    }
}

#[test]
fn an_input_has_the_one_fate_that_was_told_of_it() {
    let mut told = Told::begin(Arrangement::SERVER);
    let sampled = |tick: u64| due(tick).minus(ms(15.0));
    for tick in 1..=7 {
        told.input(sampled(tick), tick, InputFate::Sampled);
    }
    // In time and used; in time, and the server made its tick with another's word.
    told.input(due(1).minus(ms(5.0)), 1, InputFate::Arrived(1));
    told.input(due(1), 1, InputFate::Used(Provenance::Fresh));
    told.input(due(2).minus(ms(5.0)), 2, InputFate::Arrived(1));
    // 30 ms after its tick was made.
    told.input(due(3).plus(ms(30.0)), 3, InputFate::Arrived(-6));
    told.input(due(4), 4, InputFate::Dropped);
    told.input(due(5), 5, InputFate::Outdated);
    // Two of which nobody tells that they arrived: both datagrams of the one left long ago, that of the other just now.
    told.sent(sampled(6), 0, (6, 1), None);
    made(&mut told);
    told.input(ms(9990.0), 40, InputFate::Sampled);
    told.sent(ms(9990.0), 1, (40, 1), None);
    // There is later word from the server.
    told.state(ms(9999.0), Made::Authority, 30, None, 0.0);
    let record = told.until(ms(10_000.0));
    let fates =
        [(1, Fate::Fresh), (2, Fate::Unused), (3, Fate::Late(30.0)), (4, Fate::PassedOver), (5, Fate::Outdated)];
    for (tick, wanted) in fates.into_iter().chain([(6, Fate::Lost), (40, Fate::UnderWay)]) {
        assert_eq!(fate_of(&record, tick), Some(wanted), "tick {tick}");
    }
    assert_eq!(fate_of(&record, 9), None, "nothing was sampled for it");
}

#[test]
fn fates_add_up_to_what_was_sampled() {
    let mut told = Told::begin(Arrangement::SERVER);
    made(&mut told);
    for tick in 1..=6 {
        told.input(due(tick).minus(ms(15.0)), tick, InputFate::Sampled);
        if tick % 2 == 0 {
            told.input(due(tick).minus(ms(3.0)), tick, InputFate::Arrived(0));
            told.input(due(tick), tick, InputFate::Used(Provenance::Fresh));
        } else {
            told.input(due(tick), tick, InputFate::Used(Provenance::Repeated));
        }
    }
    let record = told.until(ms(400.0));
    let inputs = measure(&record, player(), LabTime::ZERO, record.end).inputs;
    assert_eq!((inputs.sampled, inputs.fresh, inputs.repeated), (6, 3, 3), "{inputs:?}");
    let rest = inputs.late + inputs.passed_over + inputs.outdated + inputs.refused + inputs.unused;
    assert_eq!(inputs.fresh + rest + inputs.lost + inputs.unheard + inputs.under_way, inputs.sampled, "{inputs:?}");
}

#[test]
fn a_datagram_is_on_its_way_until_somebody_tells_that_it_came() {
    let mut told = Told::begin(Arrangement::SERVER);
    told.sent(ms(10.0), 0, (1, 1), Some(ms(50.0)));
    told.sent(ms(12.0), 1, (2, 2), None);
    told.state(ms(5000.0), Made::Authority, 200, None, 0.0);
    let record = told.until(ms(5000.0));
    let machines = [MachineId::SERVER, player()];
    let all = crossings(&record, &machines, LabTime::ZERO, record.end);
    let fates = |at: f64| -> Vec<_> { all.iter().map(|crossing| crossing.fate(&record, ms(at))).collect() };
    assert_eq!(fates(30.0), ["under way", "lost"], "that it is lost is known of the whole record");
    assert_eq!(fates(60.0), ["arrived", "lost"]);
    assert_eq!(all[1].words(&record), "inputs 502", "ticks are shown as they were counted");
    // Of another stretch only what was still on its way.
    assert_eq!(crossings(&record, &machines, ms(40.0), ms(60.0)).len(), 1);
    assert_eq!(crossings(&record, &machines[..1], LabTime::ZERO, record.end).len(), 0, "both ends are asked for");
}

#[test]
fn an_input_is_followed_from_its_sample_to_the_tick_it_was_used_in() {
    let mut told = Told::begin(Arrangement::SERVER);
    told.input(ms(5.0), 1, InputFate::Sampled);
    told.sent(ms(6.0), 0, (1, 1), Some(ms(14.0)));
    told.input(ms(16.0), 1, InputFate::Arrived(1));
    made(&mut told);
    told.input(due(1), 1, InputFate::Used(Provenance::Fresh));
    let record = told.until(ms(400.0));
    let way = follow(&record, (player(), body(&record), RecordTick(1)), player(), record.end).expect("it was sampled");
    let stop = |is: fn(&Station) -> bool| way.stops.iter().find(|stop| is(&stop.what)).expect("it came by");
    let (sent, arrived) = (stop(|s| matches!(s, Station::Sent { .. })), stop(|s| matches!(s, Station::Arrived(_))));
    let used = stop(|s| matches!(s, Station::Used { .. }));
    assert_eq!((sent.machine, sent.at), (player(), ms(6.0)));
    assert_eq!((used.machine, used.at), (MachineId::SERVER, due(1)));
    assert_eq!(way.leg(arrived).map(LabTime::millis), Some(arrived.at.minus(sent.at).millis()));
    assert_eq!(way.carried.len(), 1);
    assert!(follow(&record, (player(), body(&record), RecordTick(2)), player(), record.end).is_none());
}

#[test]
fn two_records_part_at_the_first_tick_that_differs_in_the_field_that_does() {
    let record = |east: f32| {
        let mut told = Told::begin(Arrangement::SERVER);
        made(&mut told);
        told.state(due(10), Made::Authority, 10, None, east);
        told.state(due(11), Made::Authority, 11, None, 0.0);
        told.until(due(12))
    };
    assert_eq!(partings(&record(4.0), &record(4.0)), []);
    let found = partings(&record(4.0), &record(4.5));
    let [parting] = &found[..] else { panic!("one entity parts: {found:?}") };
    assert_eq!((parting.entity.as_str(), parting.tick, parting.at), ("teal", RecordTick(10), due(10)));
    assert!(matches!(parting.what, Parted::Field { name: "pos", .. }), "{:?}", parting.what);
    assert!(parting.what.words().contains("pos"), "{}", parting.what.words());
}

#[test]
fn what_the_guard_measured_is_kept_with_who_claimed() {
    let mut told = Told::begin(Arrangement::CLAIMS);
    made(&mut told);
    for (tick, share) in [(2, 0.5), (3, 0.9), (4, 1.2)] {
        told.measured(due(tick), tick, Rule::Reach, share, 1.0);
    }
    let record = told.until(ms(400.0));
    let measures: Vec<_> = record.of(player()).measures.iter().map(|row| (row.tick, row.measured)).collect();
    assert_eq!(measures, [(RecordTick(2), 0.5), (RecordTick(3), 0.9), (RecordTick(4), 1.2)]);
    assert!(record.of(MachineId::SERVER).measures.iter().next().is_none());
}
