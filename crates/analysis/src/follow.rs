//! The way of one input: from the hand to the other side's screen, leg by leg.

use velocitas_core::{Correction, Fact, MessageKind, Provenance, Restored};
use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::Record;
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

use crate::crossing::{Crossing, crossings};
use crate::held::delivered;

/// A station on the way.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Station {
    /// A hand that had rested moved something.
    Pressed,
    /// The input of a tick was sampled, and its owner predicted with it.
    Sampled,
    /// Its owner's screen shows the tick for the first time.
    DrawnHere,
    /// It was put on its way for the first time; how many datagrams carried it, and how many of those were lost.
    Sent {
        /// Datagrams that carried it.
        times: usize,
        /// Of these never arrived.
        lost: usize,
    },
    /// It reached the server; how long before it was needed, in quarter ticks.
    Arrived(i16),
    /// The server made the first tick that includes it.
    Used {
        /// That tick.
        tick: RecordTick,
        /// With what its own tick was made; `None` where nobody's input is read.
        with: Option<Provenance>,
    },
    /// The first snapshot that includes it left for its owner, of those that arrived.
    ToldHere(RecordTick),
    /// Its owner took that in and compared: a correction, or `None` where both agreed.
    Compared(Option<Correction>),
    /// The first snapshot that includes it left for the viewer, of those that arrived.
    ToldThere(RecordTick),
    /// That arrived at the viewer.
    TakenIn,
    /// The viewer's screen shows it for the first time.
    DrawnThere,
}

/// A station with its place and moment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Stop {
    /// What happened.
    pub what: Station,
    /// Where.
    pub machine: MachineId,
    /// When.
    pub at: LabTime,
}

/// The whole way.
#[derive(Clone, Debug)]
pub struct Way {
    /// The input's tick.
    pub tick: RecordTick,
    /// Whose it is.
    pub actor: ActorId,
    /// What hands gave otherwise than for the input before, by the rule's names.
    pub given: Vec<&'static str>,
    /// Station by station, in the order of cause and effect.
    pub stops: Vec<Stop>,
    /// Every datagram that carried it, there and back, in the order in which they left.
    pub carried: Vec<Crossing>,
}

impl Way {
    /// From the first station to the last.
    pub fn lasts(&self) -> LabTime {
        let last = self.stops.iter().map(|stop| stop.at).max();
        self.stops.first().zip(last).map_or(LabTime::ZERO, |(first, last)| last.minus(first.at))
    }

    /// How long a stop came after the one that it follows from.
    pub fn leg(&self, stop: &Stop) -> Option<LabTime> {
        let of = |wanted: fn(&Station) -> bool| self.stops.iter().find(|s| wanted(&s.what)).map(|s| s.at);
        let before = match stop.what {
            Station::Pressed => None,
            Station::Sampled => of(|s| matches!(s, Station::Pressed)),
            Station::DrawnHere | Station::Sent { .. } => of(|s| matches!(s, Station::Sampled)),
            Station::Arrived(_) => of(|s| matches!(s, Station::Sent { .. })),
            Station::Used { .. } => of(|s| matches!(s, Station::Arrived(_))).or(of(|s| matches!(s, Station::Sampled))),
            Station::ToldHere(_) | Station::ToldThere(_) => of(|s| matches!(s, Station::Used { .. })),
            Station::Compared(_) => of(|s| matches!(s, Station::ToldHere(_))),
            Station::TakenIn => of(|s| matches!(s, Station::ToldThere(_))),
            Station::DrawnThere => of(|s| matches!(s, Station::TakenIn)),
        };
        before.map(|before| stop.at.minus(before))
    }
}

/// The fields of an input that hands gave otherwise for a tick than for the one sampled before it, as the rule names them: what a
/// press was.
fn given(record: &Record, machine: MachineId, actor: ActorId, tick: RecordTick) -> Vec<&'static str> {
    let sampled = || {
        let own = record.of(machine).own(actor)?;
        let row = own.inputs.of_tick(tick)?;
        let (value, at) = (own.inputs.sampled(&row)?, row.sampled_at()?);
        let rows = own.inputs.rows().span(at.minus(SAMPLED_WITHIN), LabTime(at.0.saturating_sub(1)));
        let before = rows.filter(|row| row.tick < tick).filter_map(|row| own.inputs.sampled(&row)).last();
        Some((value, before.unwrap_or_default()))
    };
    let Some((value, before)) = sampled() else { return Vec::new() };
    let layout = record.layout(actor, tick);
    let otherwise = |f: &&velocitas_core::InputField| {
        let mut lanes = f.lane..f.lane + f.kind.lanes();
        lanes.any(|lane| value.int(lane) != before.int(lane))
    };
    layout.schema().input.iter().filter(otherwise).map(|f| f.name).collect()
}

/// How long the effects of an input are looked for.
const LOOKED_FOR: LabTime = LabTime(3_000_000_000);
/// A press is sampled within this time.
const SAMPLED_WITHIN: LabTime = LabTime(100_000_000);

/// The way of the input that an entity's owner sampled for a tick, to a viewer's screen, as far as it has come by a moment. `None`
/// where nothing was sampled for it.
pub fn follow(
    record: &Record,
    (machine, actor, tick): (MachineId, ActorId, RecordTick),
    viewer: MachineId,
    end: LabTime,
) -> Option<Way> {
    let own = record.of(machine).own(actor)?;
    let row = own.inputs.of_tick(tick)?;
    let sampled = row.sampled_at().filter(|at| *at <= end)?;
    let end = end.min(sampled.plus(LOOKED_FOR));
    let given = given(record, machine, actor, tick);
    let mut stops = Vec::new();
    let mut stop = |what, machine, at: Option<LabTime>| {
        let at = at.filter(|at| *at <= end);
        stops.extend(at.map(|at| Stop { what, machine, at }));
        at
    };
    stop(Station::Pressed, machine, pressed(record, machine, actor, sampled));
    stop(Station::Sampled, machine, Some(sampled));
    stop(Station::DrawnHere, machine, drawn(record, machine, actor, tick, (sampled, end)));
    let mut carried = carriers(record, machine, actor, tick, (sampled, end));
    let lost = carried.iter().filter(|c| record.is_lost(c.to, &c.row) || c.row.unread).count();
    let sent = Station::Sent { times: carried.len(), lost };
    stop(sent, machine, carried.first().map(|c| c.row.at));
    if let Some((at, margin)) = row.arrived() {
        stop(Station::Arrived(margin), MachineId::SERVER, Some(at));
    }
    let track = record.authority(actor);
    let mut states = track.between(sampled.minus(LOOKED_FOR), end);
    let includes = |i: &usize| track.head(*i).and_then(|head| head.used()).is_some_and(|used| used >= tick);
    let Some(used) = states.find(includes).and_then(|i| track.head(i)) else {
        return Some(Way { tick, actor, given, stops, carried });
    };
    let with = row.used().map(|(_, with)| with);
    stop(Station::Used { tick: used.tick, with }, MachineId::SERVER, Some(used.at));
    if let Some(told) = teller(record, machine, used.tick, (used.at, end)) {
        stop(Station::ToldHere(told.row.tick?), MachineId::SERVER, Some(told.row.at));
        let (at, correction) = compared(record, machine, actor, &told, end);
        stop(Station::Compared(correction), machine, at);
        carried.push(told);
    }
    if viewer != machine
        && let Some(told) = teller(record, viewer, used.tick, (used.at, end))
    {
        stop(Station::ToldThere(told.row.tick?), MachineId::SERVER, Some(told.row.at));
        stop(Station::TakenIn, viewer, delivered(record, (told.from, told.to), &told.row));
        stop(Station::DrawnThere, viewer, drawn(record, viewer, actor, used.tick, (used.at, end)));
        carried.push(told);
    }
    Some(Way { tick, actor, given, stops, carried })
}

/// The tick sampled with the newest press of a machine's hands by a moment.
pub fn newest_press(record: &Record, machine: MachineId, actor: ActorId, by: LabTime) -> Option<RecordTick> {
    let rows = &record.of(machine).happenings;
    let mut earlier = rows.range(0, rows.until(by)).rev();
    let pressed = earlier.find(|row| matches!(row.what, Happening::Pressed(_)))?.at;
    let inputs = record.of(machine).own(actor)?.inputs.rows();
    let mut sampled = inputs.span(pressed, pressed.plus(LOOKED_FOR)).filter(|row| row.sampled_at().is_some());
    sampled.next().map(|row| row.tick)
}

/// The press whose tick this is: after the one before was sampled.
fn pressed(record: &Record, machine: MachineId, actor: ActorId, sampled: LabTime) -> Option<LabTime> {
    let own = record.of(machine).own(actor)?;
    let before = own.inputs.rows().span(sampled.minus(SAMPLED_WITHIN), LabTime(sampled.0.saturating_sub(1)));
    let before = before.filter_map(|row| row.sampled_at()).filter(|at| *at < sampled).max();
    let rows = record.of(machine).happenings.span(sampled.minus(SAMPLED_WITHIN), sampled);
    let mut presses = rows.rev().filter_map(|row| match row.what {
        Happening::Pressed(at) if before.is_none_or(|before| row.at > before) => Some(at),
        _ => None,
    });
    presses.next()
}

/// The datagrams that carried an input.
fn carriers(
    record: &Record,
    machine: MachineId,
    actor: ActorId,
    tick: RecordTick,
    (from, to): (LabTime, LabTime),
) -> Vec<Crossing> {
    let entity = record.cast.actors[actor.index()].id;
    let all = crossings(record, &[machine, MachineId::SERVER], from, to);
    let carries = |c: &Crossing| c.from == machine && c.row.at >= from && c.row.tells_of(entity, tick);
    all.into_iter().filter(carries).collect()
}

/// The first snapshot of a tick or a later one that arrived at a machine, of those that left in a stretch.
fn teller(record: &Record, to: MachineId, tick: RecordTick, (from, end): (LabTime, LabTime)) -> Option<Crossing> {
    let all = crossings(record, &[MachineId::SERVER, to], from, end);
    let tells = |c: &Crossing| {
        c.to == to && c.row.kind == MessageKind::Snapshot && c.row.tick.is_some_and(|t| t >= tick) && !c.row.unread
    };
    let turn = |c: Crossing| Some((delivered(record, (c.from, c.to), &c.row)?, c));
    all.into_iter().filter(tells).filter_map(turn).min_by_key(|(turn, _)| *turn).map(|(_, c)| c)
}

/// When an owner took a snapshot in, and whether it then took the server's word.
fn compared(
    record: &Record,
    machine: MachineId,
    actor: ActorId,
    told: &Crossing,
    end: LabTime,
) -> (Option<LabTime>, Option<Correction>) {
    let Some(arrived) = told.row.arrived else { return (None, None) };
    let received = record.of(machine).received.span(arrived, end).find(|row| Some(row.tick) >= told.row.tick);
    let Some(at) = received.map(|row| row.at) else { return (None, None) };
    let id = record.cast.actors[actor.index()].id;
    let correction = record.of(machine).happenings.span(at, at).find_map(|row| match row.what {
        Happening::Fact(Fact::Corrected(c)) if c.entity == id && c.why != Restored::Settled => Some(c),
        _ => None,
    });
    (Some(at), correction)
}

/// The first frame in which a machine draws a tick of an entity, or a later one.
fn drawn(
    record: &Record,
    viewer: MachineId,
    actor: ActorId,
    tick: RecordTick,
    (from, end): (LabTime, LabTime),
) -> Option<LabTime> {
    let frames = &record.of(viewer).frames;
    let mut numbers = frames.before(from)..frames.until(end);
    numbers.find_map(|number| record.drawn_in(viewer, actor, number).filter(|row| row.tick >= tick)).map(|row| row.at)
}
