//! From hands to screens: when a press is seen, by who pressed and by the others.

use velocitas_core::Vec3;

use velocitas_record::ids::{ActorId, MachineId, RecordTick};
use velocitas_record::record::{DrawnRow, MachineRows, Record, StateTrack};
use velocitas_record::time::LabTime;
use velocitas_record::watch::Happening;

/// How long the effect of a press is looked for.
pub const LOOKED_FOR: LabTime = LabTime(3_000_000_000);
/// Frames before a press in which nothing may have moved: what moved before the press proves nothing about it.
const AT_REST: usize = 4;
/// A press moves something within this time, or has no effect.
const SOON: LabTime = LabTime(250_000_000);
/// What moved less has not moved.
const MOVED_M: f32 = 1e-3;

fn moved(a: Vec3, b: Vec3) -> bool {
    (b - a).dot(b - a) > MOVED_M * MOVED_M
}

/// Presses of a machine's hands at rest between two moments: when, with the entity that is theirs.
fn presses(record: &Record, machine: MachineId, from: LabTime, to: LabTime) -> Vec<(LabTime, LabTime, ActorId)> {
    let rows = &record.of(machine).happenings;
    let pressed = rows.span(from, to).filter_map(|row| match row.what {
        Happening::Pressed(by) => Some((row.at, by)),
        _ => None,
    });
    pressed.filter_map(|(at, by)| Some((at, by, record.cast.body(machine, at)?))).collect()
}

/// Presses with how long after each the first frame came in which the own character moves, in milliseconds. A press while it
/// still moved counts for nothing, nor does one by which the server did not move it: into a wall nobody sees a press.
pub(crate) fn responses(
    record: &Record,
    machine: MachineId,
    (from, to, end): (LabTime, LabTime, LabTime),
) -> Vec<(LabTime, f64)> {
    let frames = &record.of(machine).frames;
    let mut samples = Vec::new();
    for (at, pressed, actor) in presses(record, machine, from, to) {
        let drawn = |number: usize| record.drawn_in(machine, actor, number);
        let after = frames.before(at);
        let Some(rest) = after.checked_sub(1).and_then(drawn) else { continue };
        let stirs = |r: &DrawnRow| moved(rest.pos, r.pos);
        if after < AT_REST || drawn(after - AT_REST).as_ref().is_none_or(stirs) {
            continue;
        }
        let used = first_use(record, machine, actor, (at, end));
        if used.is_some_and(|first| !moves_soon(record.authority(actor), first)) {
            continue;
        }
        let last = frames.until(at.plus(LOOKED_FOR).min(end));
        let seen = (after..last).filter_map(drawn).find(stirs);
        samples.extend(seen.map(|r| (pressed, r.at.minus(pressed).millis())));
    }
    samples
}

/// The authority's first state that includes what hands gave first after a moment.
fn first_use(record: &Record, machine: MachineId, actor: ActorId, (at, end): (LabTime, LabTime)) -> Option<usize> {
    let own = record.of(machine).own(actor)?;
    let sampled = own.inputs.rows().span(at, at.plus(LOOKED_FOR)).find(|row| row.sampled_at().is_some())?;
    let track = record.authority(actor);
    let mut states = track.between(at.minus(LOOKED_FOR), at.plus(LOOKED_FOR).min(end));
    states.find(|i| track.head(*i).and_then(|h| h.used()).is_some_and(|used| used >= sampled.tick))
}

/// Whether something moves within a quarter of a second from a state on.
fn moves_soon(track: &StateTrack, first: usize) -> bool {
    let Some((rest, head)) = first.checked_sub(1).map(|i| track.pos(i)).zip(track.head(first)) else { return true };
    track.between(head.at, head.at.plus(SOON)).any(|i| moved(rest, track.pos(i)))
}

/// From presses to the first frame on each other screen whose drawn tick is at or after the tick that used the press, where
/// the entity had moved by that tick, in milliseconds.
pub(crate) fn seen(
    record: &Record,
    machine: MachineId,
    (from, to, end): (LabTime, LabTime, LabTime),
) -> Vec<(LabTime, f64)> {
    let mut samples = Vec::new();
    for (at, pressed, actor) in presses(record, machine, from, to) {
        let track = record.authority(actor);
        let Some(first) = first_use(record, machine, actor, (at, end)) else { continue };
        let Some((tick, rest)) = track.head(first).zip(first.checked_sub(1)).map(|(h, i)| (h.tick, track.pos(i)))
        else {
            continue;
        };
        for viewer in record.cast.players().filter(|viewer| *viewer != machine) {
            let frames = &record.of(viewer).frames;
            let range = frames.before(at)..frames.until(at.plus(LOOKED_FOR).min(end));
            let mut early = Early::of(record, viewer, actor, range.end);
            // Others are drawn at a moment of their own: most frames need no second look.
            let late_enough = |number: &usize| {
                if early.holds(*number, tick) {
                    return false;
                }
                let Some(frame) = record.frame(viewer, *number) else { return false };
                let placed = frame.placed(record.cast.rate);
                !record.is_older(actor, &frame) || placed.is_some_and(|(shown, ..)| shown >= tick)
            };
            let mut drawn = range.filter(late_enough).filter_map(|number| record.drawn_in(viewer, actor, number));
            let Some(row) = drawn.find(|row| row.tick >= tick) else { continue };
            if track.of_tick(row.tick).is_some_and(|i| moved(rest, track.pos(i))) {
                samples.push((pressed, row.at.minus(pressed).millis()));
            }
        }
    }
    samples
}

/// How many snapshots back one lies that is surely older than what is drawn.
const BEFORE: usize = 24;

/// Tells at little cost that what a viewer draws of others in a frame lies before a tick; frames are asked for in their order.
struct Early<'a> {
    rows: &'a MachineRows,
    /// When it last began to play, and when the entity came to be.
    joined: LabTime,
    born: RecordTick,
    /// How many snapshots it has received by the frame at hand.
    received: Option<usize>,
}

impl<'a> Early<'a> {
    /// Of an entity on a viewer's screen, in frames before one.
    fn of(record: &'a Record, viewer: MachineId, actor: ActorId, end: usize) -> Self {
        let rows = record.of(viewer);
        let last = end.checked_sub(1).and_then(|last| rows.frames.get(last));
        let joined = last.map_or(LabTime::ZERO, |row| rows.joined_by(row.at));
        Self { rows, joined, born: record.cast.actors[actor.index()].born.1, received: None }
    }

    /// Whether it surely does; where it does not it may all the same.
    fn holds(&mut self, number: usize, tick: RecordTick) -> bool {
        let Some(row) = self.rows.frames.get(number).filter(|row| row.blends && row.tick < tick) else { return false };
        let received = self.received.get_or_insert_with(|| self.rows.received.until(row.at));
        while self.rows.received.get(*received).is_some_and(|received| received.at <= row.at) {
            *received += 1;
        }
        // With it there is a snapshot not after the moment drawn: nothing later than that moment is shown.
        let known = received.checked_sub(BEFORE).and_then(|place| self.rows.received.get(place));
        known.is_some_and(|known| known.at >= self.joined && known.tick >= self.born && known.tick <= row.tick)
    }
}
