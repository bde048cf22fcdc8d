//! Samples that the record has as they are: by tick, by message, by snapshot.

use velocitas_core::{Fact, MessageKind, Restored};
use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::record::{InputRow, Mark, OwnRows};
use velocitas_record::time::LabTime;
use velocitas_record::watch::{Happening, MessageRow};

use super::reading::Reading;
use crate::cause::Findings;
use crate::held::{HeldBack, held_back};
use crate::moment::Moment;

/// Told of each sample: of which series, when, how much.
type Tell<'t> = &'t mut dyn FnMut(usize, LabTime, f64);

/// The longest time between sampling an input and its arrival.
const UNDER_WAY: LabTime = LabTime(8_000_000_000);
/// Rates are of the second before, ten times a second.
const RATED: LabTime = LabTime(1_000_000_000);
const STEP: u64 = 100_000_000;
/// Messages that wait for longer are counted as soon as they are told of.
const HELD_FOR: LabTime = LabTime(5_000_000_000);
/// How often the lawful speed is asked for.
const LAWFUL: u64 = 250_000_000;

pub(super) fn error(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for (at, metres) in crate::metrics::prediction_errors(r.record, r.subject.machine, from, before(to)) {
        tell(0, at, metres);
    }
}

/// The moment before one.
const fn before(to: LabTime) -> LabTime {
    LabTime(to.0.saturating_sub(1))
}

/// Corrections that people are told of, or all.
fn corrections(
    r: &Reading<'_>,
    from: LabTime,
    to: LabTime,
    mut each: impl FnMut(LabTime, &velocitas_core::Correction),
) {
    for row in r.record.of(r.subject.machine).happenings.span(from, before(to)) {
        if let Happening::Fact(Fact::Corrected(c)) = &row.what {
            each(row.at, c);
        }
    }
}

pub(super) fn jump(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    corrections(r, from, to, |at, c| {
        if c.why != Restored::Settled {
            tell(0, at, f64::from(c.jump));
        }
    });
}

pub(super) fn replayed(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    corrections(r, from, to, |at, c| tell(0, at, f64::from(c.replayed)));
}

pub(super) fn round_trip(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for row in r.record.of(r.subject.machine).clocks.span(from, before(to)) {
        tell(0, row.at, f64::from(row.fact.rtt_us) / 1e3);
        tell(1, row.at, f64::from(row.fact.rtt_sigma_us) / 1e3);
    }
}

pub(super) fn offset(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let server = &r.record.cast.machines[MachineId::SERVER.index()].host;
    for row in r.record.of(r.subject.machine).clocks.span(from, before(to)) {
        if let Some(taken) = row.fact.server_us {
            let is = server.read(row.at).since(server.offset) as f64;
            tell(0, row.at, (taken as f64 * 1e3 - is) / 1e6);
        }
    }
}

pub(super) fn view_delay(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for row in r.record.of(r.subject.machine).clocks.span(from, before(to)) {
        tell(0, row.at, f64::from(row.fact.view_delay_us) / 1e3);
    }
}

pub(super) fn lead(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for own in &r.record.of(r.subject.machine).own {
        let authority = r.record.authority(own.actor);
        own.predicted.visit(own.predicted.between(from, before(to)), |head, _| {
            if let Some(made) = authority.at(head.at).and_then(|i| authority.head(i)) {
                tell(0, head.at, f64::from(head.tick.0) - f64::from(made.tick.0));
            }
        });
    }
}

/// An input that reached the server.
struct Arrival {
    at: LabTime,
    tick: RecordTick,
    margin: i16,
    /// When it was dropped while it waited.
    let_go: Option<LabTime>,
}

/// Inputs of an entity that had arrived by a moment, not long before.
fn arrivals(own: &OwnRows, from: LabTime, to: LabTime) -> Vec<Arrival> {
    let rows = own.inputs.rows().span(from.minus(UNDER_WAY), to);
    let arrival = |row: InputRow| {
        let (at, margin) = row.arrived()?;
        Some(Arrival { at, tick: row.tick, margin, let_go: row.outdated() })
    };
    rows.filter_map(arrival).collect()
}

pub(super) fn margin(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for own in &r.record.of(r.subject.machine).own {
        let arrived = arrivals(own, from, to);
        for arrival in arrived.into_iter().filter(|arrival| (from..to).contains(&arrival.at)) {
            tell(0, arrival.at, f64::from(arrival.margin) / 4.0);
        }
    }
}

pub(super) fn buffer(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let sends_inputs = r.record.cast.sends_inputs(r.subject.machine);
    for own in &r.record.of(r.subject.machine).own {
        let mut arrived = arrivals(own, from, to);
        arrived.sort_unstable_by_key(|arrival| arrival.tick);
        let authority = r.record.authority(own.actor);
        authority.visit(authority.between(from, before(to)), |head, _| {
            let waits = |arrival: &&Arrival| arrival.at <= head.at && arrival.let_go.is_none_or(|at| at > head.at);
            let done = head.used().filter(|_| sends_inputs).unwrap_or(head.tick);
            let ahead = arrived.iter().rev().take_while(|arrival| arrival.tick > done);
            tell(0, head.at, ahead.filter(waits).count() as f64);
        });
    }
}

pub(super) fn behind(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for own in &r.record.of(r.subject.machine).own {
        let authority = r.record.authority(own.actor);
        authority.visit(authority.between(from, before(to)), |head, _| {
            let behind = head.used().map(|used| head.tick.0.saturating_sub(used.0));
            behind.into_iter().for_each(|ticks| tell(0, head.at, f64::from(ticks)));
        });
    }
}

pub(super) fn apart(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for own in &r.record.of(r.subject.machine).own {
        let (authority, echo) = (r.record.authority(own.actor), r.record.echo(own.actor));
        authority.visit(authority.between(from, before(to)), |head, raw| {
            let sent = echo.of_tick(head.tick).map_or(raw, |i| echo.pos(i));
            tell(0, head.at, f64::from(raw.distance(sent)));
        });
    }
}

pub(super) fn covered(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let rows = r.record.datagrams(r.subject.machine, from, to);
    for row in rows.filter(|row| row.kind.is_word() && (from..to).contains(&row.at)) {
        tell(0, row.at, f64::from(row.ticks));
    }
}

pub(super) fn held(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    // It is told of once the turn has come.
    let all: Vec<HeldBack> = held_back(r.record, r.subject.machine, from, to.plus(HELD_FOR)).collect();
    for at in steps(from, to, STEP) {
        for (series, up) in [true, false].into_iter().enumerate() {
            let waits = |held: &&HeldBack| held.up == up && held.since <= at && at < held.until;
            tell(series, at, all.iter().filter(waits).count() as f64);
        }
    }
}

pub(super) fn messages(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let rows = r.record.datagrams(r.subject.machine, from.minus(RATED), to);
    let mut times: [Vec<LabTime>; 2] = [Vec::new(), Vec::new()];
    rows.for_each(|row| times[usize::from(!row.kind.is_up())].push(row.at));
    for (series, times) in times.iter_mut().enumerate() {
        times.sort_unstable();
        for at in steps(from, to, STEP).filter(|at| *at >= RATED) {
            let (first, next) = (at.minus(RATED), at);
            let count = times.partition_point(|t| *t <= next) - times.partition_point(|t| *t <= first);
            tell(series, at, count as f64);
        }
    }
}

pub(super) fn late(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    for row in r.record.of(r.subject.machine).marks.span(from, before(to)) {
        match row.mark {
            Mark::Late => tell(0, row.at, 1.0),
            Mark::MadeUp => tell(1, row.at, 1.0),
            _ => {}
        }
    }
}

pub(super) fn speed(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let Some(actor) = r.subject.actor else { return };
    let track = r.record.authority(actor);
    for i in track.between(from, before(to)) {
        let Some(head) = track.head(i) else { continue };
        let layout = r.record.layout(actor, head.tick);
        let Some(lane) = layout.schema().velocity_lane() else { return };
        tell(0, head.at, f64::from(track.vec3(i, lane).level().length()));
    }
    let findings = Findings::default();
    for at in steps(from, to, LAWFUL) {
        if r.record.cast.actors[actor.index()].is_there(at) {
            tell(1, at, f64::from(Moment { record: r.record, findings: &findings, at }.lawful_pace(actor)));
        }
    }
}

/// The moments of a stretch that are whole steps.
fn steps(from: LabTime, to: LabTime, step: u64) -> impl Iterator<Item = LabTime> {
    (from.0.div_ceil(step)..to.0.div_ceil(step)).map(move |n| LabTime(n * step))
}

/// Payload a second, by kind.
fn rates(r: &Reading<'_>, up: bool, from: LabTime, to: LabTime, series: impl Fn(MessageKind) -> usize, tell: Tell<'_>) {
    let rows = r.record.datagrams(r.subject.machine, from.minus(RATED), to);
    let mut rows: Vec<MessageRow> = rows.filter(|row| row.kind.is_up() == up).collect();
    rows.sort_by_key(|row| row.at);
    let count = 1 + MessageKind::ALL.into_iter().filter(|kind| kind.is_up() == up).map(&series).max().unwrap_or(0);
    let (mut sums, mut first, mut next) = ([0u64; super::MOST_SERIES], 0, 0);
    for at in steps(from, to, STEP) {
        while rows.get(next).is_some_and(|row| row.at <= at) {
            sums[series(rows[next].kind)] += u64::from(rows[next].bytes);
            next += 1;
        }
        while first < next && rows[first].at.plus(RATED) <= at {
            sums[series(rows[first].kind)] -= u64::from(rows[first].bytes);
            first += 1;
        }
        // The first second of a run is none.
        if at >= RATED {
            sums.iter().take(count).enumerate().for_each(|(series, sum)| tell(series, at, *sum as f64 / 1e3));
        }
    }
}

pub(super) fn bytes_up(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    let series = |kind| match kind {
        MessageKind::Inputs => 0,
        MessageKind::Claim | MessageKind::Account => 1,
        _ => 2,
    };
    rates(r, true, from, to, series, tell);
}

pub(super) fn bytes_down(r: &mut Reading<'_>, from: LabTime, to: LabTime, tell: Tell<'_>) {
    rates(r, false, from, to, |kind| usize::from(kind != MessageKind::Snapshot), tell);
}
