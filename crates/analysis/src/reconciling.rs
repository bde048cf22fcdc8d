//! What a client made of what it was told of its own: against which tick of its own it held a state, and what it left as it was.

use velocitas_core::{Correction, Restored, Schema, State};
use velocitas_record::ids::{MachineId, RecordTick};
use velocitas_record::record::{OwnRows, Record};
use velocitas_record::time::LabTime;

/// The tick that was compared, where the server had not made it by then: the state was of an older one.
pub(crate) fn untimely(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Option<RecordTick> {
    let (actor, compared) = (record.cast.actor(c.entity)?, record.cast.tick(c.tick));
    if !record.cast.sends_inputs(machine) || c.why != Restored::Diverged {
        return None;
    }
    let authority = record.authority(actor);
    let newest = authority.at(at).and_then(|i| authority.head(i))?;
    (newest.used().unwrap_or(newest.tick) < compared).then_some(compared)
}

/// What a machine had made of a tick of its own before a moment.
fn had(own: &OwnRows, tick: RecordTick, at: LabTime) -> Option<State> {
    let first = own.predicted.of_tick(tick)?;
    let (again, since) = (&own.rewritten, own.predicted.head(first)?.at);
    let mut rewritten = again.between(since, at).rev();
    let newest = rewritten.find(|&i| again.head(i).is_some_and(|head| head.tick == tick && head.at < at));
    Some(newest.map_or_else(|| own.predicted.state(first), |i| again.state(i)))
}

/// How far what a machine had of a tick of its own at a moment is from what the server made of it, in metres, where they differ by more than they may.
pub(crate) fn apart(
    (record, own): (&Record, &OwnRows),
    (tick, made): (RecordTick, usize),
    at: LabTime,
    schema: &Schema,
) -> Option<f32> {
    let (had, told) = (had(own, tick, at)?, record.authority(own.actor).state(made));
    (!schema.agrees(&had, &told)).then(|| had.vec3(0).distance(told.vec3(0)))
}

/// The tick of the last agreement before a correction, where the two were apart in it by more than they may be: that was left so.
pub(crate) fn left_so(record: &Record, machine: MachineId, at: LabTime, c: &Correction) -> Option<RecordTick> {
    let (actor, agreed) = (record.cast.actor(c.entity)?, record.cast.tick(c.agreed));
    let (own, made) = (record.of(machine).own(actor)?, record.answer(machine, actor, agreed)?);
    let layout = record.layout(actor, agreed);
    apart((record, own), (agreed, made), at, layout.schema()).map(|_| agreed)
}
